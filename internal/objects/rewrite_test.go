package objects_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/engine/mariadb"
	"erbario/internal/engine/postgres"
	"erbario/internal/objects"
	"erbario/internal/sqlschema"
)

// A name is rewritten where it is beyond doubt, and the whole statement stays as it is elsewhere.
func TestRewrite(t *testing.T) {
	live := &sqlschema.Schema{
		Tables: []*sqlschema.Table{
			{Name: "loans", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "sheet"}, {Name: "box_id"}}},
			{Name: "boxes", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "label"}}},
			{Name: "loans_25", PartOf: "loans", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "sheet"}}},
			{Name: "loans_a", PartOf: "loans_25", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "sheet"}}},
			{Name: "sheets", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "sheet"}}},
		},
		Views: []*sqlschema.View{{Name: "open_loans"}},
	}
	column, table := objects.Renamed{Table: "loans", Column: "sheet", To: "number"},
		objects.Renamed{Table: "loans", To: "lendings"}
	swapped := "CREATE VIEW v AS SELECT sheet, l.box_id AS b FROM loans l WHERE box_id > 1;\n"
	swap := []objects.Renamed{{Table: "loans", Column: "sheet", To: "box_id"}, {Table: "loans", Column: "box_id", To: "sheet"},
		{Table: "loans", To: "lendings"}}
	assert.Equal(t, "CREATE VIEW v AS SELECT box_id AS sheet, l.sheet AS b FROM lendings l WHERE sheet > 1;\n",
		objects.Rewrite(postgres.Engine{}, live, swapped, swap), "names that swap")
	for _, c := range []struct {
		by       objects.Renamed
		was, now string // now is empty: it stays
	}{
		{column, "CREATE VIEW v AS SELECT sheet FROM loans;", "CREATE VIEW v AS SELECT number AS sheet FROM loans;"},
		{column, "CREATE VIEW v AS SELECT l.id, l.sheet, upper(l.sheet) AS u FROM loans l WHERE sheet > 'a' ORDER BY sheet, id",
			"CREATE VIEW v AS SELECT l.id, l.number AS sheet, upper(l.number) AS u FROM loans l WHERE number > 'a' ORDER BY number, id"},
		{column, "CREATE VIEW v AS SELECT l.sheet s, b.label FROM loans l JOIN boxes b ON b.id = l.box_id",
			"CREATE VIEW v AS SELECT l.number s, b.label FROM loans l JOIN boxes b ON b.id = l.box_id"},
		{column, "CREATE VIEW v AS SELECT l.sheet FROM loans l JOIN sheets s ON s.id = l.id", ""},
		{column, "CREATE VIEW v AS SELECT l.sheet FROM loans l JOIN open_loans o ON o.id = l.id", ""},
		{column, "CREATE VIEW v AS SELECT id AS sheet FROM loans", ""},
		{column, "CREATE VIEW v AS SELECT sheet(id) FROM loans", ""},
		{column, "CREATE VIEW v AS SELECT id FROM loans WHERE note = 'sheet'", ""},
		{column, "CREATE VIEW v AS SELECT sheet FROM sheets", ""},
		{column, "CREATE FUNCTION f() RETURNS text LANGUAGE sql AS $$ SELECT sheet FROM loans $$",
			"CREATE FUNCTION f() RETURNS text LANGUAGE sql AS $$ SELECT number AS sheet FROM loans $$"},
		{column, "CREATE FUNCTION f() RETURNS TABLE (sheet text) LANGUAGE sql AS $$ SELECT sheet FROM loans $$", ""},
		{column, "CREATE FUNCTION f(sheet text) RETURNS text LANGUAGE sql AS $$ SELECT sheet FROM loans $$", ""},
		{column, "CREATE FUNCTION f() RETURNS void LANGUAGE sql AS $b$ UPDATE loans SET sheet = 'x' WHERE sheet IS NULL; DELETE FROM loans WHERE sheet = 'y' $b$",
			"CREATE FUNCTION f() RETURNS void LANGUAGE sql AS $b$ UPDATE loans SET number = 'x' WHERE number IS NULL; DELETE FROM loans WHERE number = 'y' $b$"},
		{column, "CREATE FUNCTION f() RETURNS void LANGUAGE sql AS $$ UPDATE loans SET sheet = 'the sheet' $$", ""},
		{column, "CREATE FUNCTION f() RETURNS text LANGUAGE sql RETURN (SELECT max(sheet) FROM loans)",
			"CREATE FUNCTION f() RETURNS text LANGUAGE sql RETURN (SELECT max(number) FROM loans)"},
		{column, "CREATE FUNCTION f() RETURNS void LANGUAGE plpgsql AS $$ BEGIN UPDATE loans SET sheet = 'x'; END $$", ""},
		{column, "CREATE FUNCTION f() RETURNS void AS $$ SELECT sheet FROM loans JOIN sheets USING (id) $$ LANGUAGE sql", ""},
		{column, "CREATE VIEW v AS SELECT {Loan.sheet} FROM {Loan}", ""},
		{column, "-- sheet\nCREATE POLICY p ON loans USING (sheet <> 'x');\nGRANT SELECT ON loans TO PUBLIC;",
			"-- sheet\nCREATE POLICY p ON loans USING (number <> 'x');\nGRANT SELECT ON loans TO PUBLIC;"},
		{column, "CREATE TRIGGER g BEFORE UPDATE OF sheet ON loans FOR EACH ROW WHEN (NEW.sheet <> OLD.sheet) EXECUTE FUNCTION f()",
			"CREATE TRIGGER g BEFORE UPDATE OF number ON loans FOR EACH ROW WHEN (NEW.number <> OLD.number) EXECUTE FUNCTION f()"},
		{column, "CREATE PUBLICATION p FOR TABLE loans (id, sheet)", "CREATE PUBLICATION p FOR TABLE loans (id, number)"},
		{table, "CREATE VIEW v AS SELECT loans.id FROM loans JOIN boxes b ON b.id = loans.box_id",
			"CREATE VIEW v AS SELECT lendings.id FROM lendings JOIN boxes b ON b.id = lendings.box_id"},
		{table, "CREATE VIEW v AS SELECT loans.id FROM boxes loans", ""},
		{table, "CREATE TABLE loans_26 PARTITION OF loans DEFAULT", "CREATE TABLE loans_26 PARTITION OF lendings DEFAULT"},
		{table, "CREATE TABLE odd (a int) INHERITS (loans)", "CREATE TABLE odd (a int) INHERITS (lendings)"},
		{table, "CREATE TABLE odd (loans int)", ""},
		{column, "CREATE TABLE x PARTITION OF loans (CHECK (sheet > 'a')) DEFAULT", "CREATE TABLE x PARTITION OF loans (CHECK (number > 'a')) DEFAULT"},
		{column, "CREATE INDEX ON loans_a (sheet)", "CREATE INDEX ON loans_a (number)"},
		{column, "CREATE TABLE x (sheet int) INHERITS (sheets)", ""},
		{table, "CREATE VIEW v AS SELECT x.id FROM boxes AS x, loans", "CREATE VIEW v AS SELECT x.id FROM boxes AS x, lendings"},
	} {
		now := c.now
		if now == "" {
			now = c.was
		}
		end := func(s string) string { return strings.TrimSuffix(s, ";") + ";\n" }
		assert.Equal(t, end(now), objects.Rewrite(postgres.Engine{}, live, end(c.was), []objects.Renamed{c.by}))
	}
}

// Bodies that are SQL of the server itself follow, too, unless a variable has the name.
func TestRewriteRoutines(t *testing.T) {
	live := &sqlschema.Schema{Tables: []*sqlschema.Table{
		{Name: "loans", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "sheet"}}},
		{Name: "boxes", Columns: []*sqlschema.Column{{Name: "id"}, {Name: "label"}}},
	}}
	renames := []objects.Renamed{{Table: "loans", Column: "sheet", To: "number"}, {Table: "boxes", To: "crates"}}
	for _, c := range [][2]string{
		{"CREATE PROCEDURE p(IN n int)\nBEGIN\n  DECLARE m int DEFAULT 2;\n  UPDATE loans SET sheet = 'x' WHERE id = n + m;\n  DELETE FROM boxes WHERE id = n;\nEND;\n",
			"CREATE PROCEDURE p(IN n int)\nBEGIN\n  DECLARE m int DEFAULT 2;\n  UPDATE loans SET `number` = 'x' WHERE id = n + m;\n  DELETE FROM `crates` WHERE id = n;\nEND;\n"},
		{"CREATE PROCEDURE p() BEGIN DECLARE sheet varchar(9); SELECT max(sheet) INTO sheet FROM loans; END;\n", ""},
		{"CREATE PROCEDURE p(OUT sheet int) SELECT max(sheet) INTO sheet FROM loans;\n", ""},
		{"CREATE FUNCTION f() RETURNS text RETURN (SELECT max(l.sheet) FROM loans l);\n",
			"CREATE FUNCTION f() RETURNS text RETURN (SELECT max(l.`number`) FROM loans l);\n"},
		{"CREATE EVENT e ON SCHEDULE EVERY 1 HOUR DO UPDATE loans SET sheet = NULL;\n",
			"CREATE EVENT e ON SCHEDULE EVERY 1 HOUR DO UPDATE loans SET `number` = NULL;\n"},
		{"CREATE PROCEDURE p() BEGIN SET @sheet = 1; UPDATE loans SET sheet = @sheet; END;\n", ""},
		{"CREATE PROCEDURE p() EXECUTE IMMEDIATE 'UPDATE loans SET sheet = 1';\n", ""},
	} {
		now := c[1]
		if now == "" {
			now = c[0]
		}
		assert.Equal(t, now, objects.Rewrite(mariadb.Engine{}, live, c[0], renames), c[0])
	}
}
