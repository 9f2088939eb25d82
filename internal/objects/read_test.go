package objects

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"erbario/internal/engines"
	"erbario/internal/schema"
)

// What a statement declares, or why it cannot be declared; by engine, or for all.
func TestParse(t *testing.T) {
	declared := &schema.Schema{Tables: []*schema.Table{{Name: "loans", Model: "Loan", Columns: []*schema.Column{
		{Field: "sheet", Name: "sheet_no"}, {Field: "order", Name: "order"},
	}}, {Name: "notes", Model: "Note", Outside: true, InSQL: true}, {Name: "far", Model: "Far", Outside: true}}}
	for _, c := range []struct{ engine, sql, want string }{
		{"", "CREATE VIEW v AS SELECT 1;", "view v"},
		{"", "CREATE OR REPLACE VIEW v AS SELECT 1;", "view v"},
		{"sqlite", "CREATE VIEW IF NOT EXISTS \"odd name\" AS SELECT {Loan.sheet} FROM {Loan};", "view odd name: sheet_no FROM loans"},
		{"sqlite", "CREATE VIEW v AS SELECT {Loan.order} FROM loans;", "view v: \"order\""},
		{"sqlite", "CREATE TRIGGER g AFTER INSERT ON loans BEGIN SELECT 1; SELECT 2; END;", "trigger g of loans"},
		{"sqlite", "CREATE VIRTUAL TABLE w USING fts5(a);", "table w"},
		{"", "CREATE TABLE x (a int); CREATE INDEX i ON x (a); ALTER TABLE x ADD COLUMN b int;", "table x, index i of x, more  of x"},
		{"", "CREATE TABLE loans (a int);", "loans is the table of the model Loan"},
		{"", "CREATE TABLE notes (a int);", "table notes"},
		{"", "CREATE TABLE far (a int);", "far is the table of the model Far"},
		{"", "CREATE TABLE x AS SELECT 1;", "a table that a query fills has rows"},
		{"mariadb", "CREATE OR REPLACE TABLE x (a int);", "OR REPLACE would drop the rows of the table"},
		{"mariadb", "CREATE TABLE x LIKE loans;", "table x"},
		{"postgres", "CREATE UNLOGGED TABLE x (a int, b int GENERATED ALWAYS AS (a + 1) STORED);", "table x"},
		{"postgres", "CREATE TABLE x PARTITION OF y DEFAULT; CREATE INDEX ON x (a);", "part x of y, index  of x"},
		{"postgres", "CREATE TABLE x PARTITION OF s.y (CHECK (a > 1)) FOR VALUES IN (2);", "part x of s.y"},
		{"postgres", "CREATE TABLE x (a int) INHERITS (y, z);", "part x of y"},
		{"postgres", "CREATE TABLE inherits (a int);", "table inherits"},
		{"postgres", "ALTER TABLE loans ATTACH PARTITION x DEFAULT;", "ATTACH PARTITION declares nothing"},
		{"postgres", "CREATE SCHEMA IF NOT EXISTS \"Odd one\"; CREATE SCHEMA s;", "schema Odd one, schema s"},
		{"postgres", "CREATE SCHEMA s AUTHORIZATION a;", "a schema is declared with its name alone"},
		{"mariadb", "CREATE SCHEMA s;", "a migration works on one database alone"},
		{"", "CREATE INDEX i ON loans (due);", "loans is a table of a model"},
		{"", "DELETE FROM loans;", "DELETE FROM declares nothing"},
		{"", "CREATE VIEW erbario_v AS SELECT 1;", "names that begin so are reserved"},
		{"", "CREATE VIEW v AS SELECT {Loan.shet} FROM loans;", "Loan has no field shet"},
		{"", "CREATE VIEW v AS SELECT 'a", "not closed"},
		{"", "CREATE VIEW v AS SELECT 1", "does not end with ;"},
		{"", "CREATE TEMPORARY VIEW v AS SELECT 1;", "belongs to a session"},
		{"", "CREATE;", "CREATE is not whole"},
		{"", "ALTER TABLE loans ADD COLUMN a int;", "declares nothing"},
		{"mariadb", "CREATE ALGORITHM=MERGE DEFINER=`a`@`b` SQL SECURITY INVOKER VIEW v AS SELECT 1;", "view v"},
		{"mariadb", "DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; END//\nDELIMITER ;\nCREATE VIEW v AS SELECT 1;", "procedure p, view v"},
		{"mariadb", "DELIMITER $$\nCREATE TRIGGER g BEFORE INSERT ON loans FOR EACH ROW\nBEGIN SET @a = 1; END;\n$$\nDELIMITER ;\n", "trigger g of loans"},
		{"mariadb", "CREATE FUNCTION f(n int) RETURNS int DETERMINISTIC BEGIN RETURN n; END;", "function f"},
		{"mariadb", "SET STATEMENT sql_mode = 'ANSI' FOR CREATE FUNCTION f() RETURNS int BEGIN RETURN 1; END;", "function f"},
		{"mariadb", "CREATE EVENT e ON SCHEDULE EVERY 1 DAY DO DELETE FROM loans;", "event e"},
		{"mariadb", "GRANT SELECT ON loans TO 'a';", "GRANT is not allowed in a step"},
		{"postgres", "CREATE MATERIALIZED VIEW m AS SELECT 1; CREATE UNIQUE INDEX CONCURRENTLY i ON m (a);", "materialised view m, index i of m"},
		{"postgres", "CREATE FUNCTION f() RETURNS int LANGUAGE sql AS $$ SELECT {Loan.sheet} FROM loans; $$;", "function f: sheet_no FROM"},
		{"postgres", "CREATE FUNCTION f() RETURNS int LANGUAGE sql BEGIN ATOMIC SELECT 1; SELECT 2; END;", "function f"},
		{"postgres", "CREATE CONSTRAINT TRIGGER g AFTER INSERT ON loans FOR EACH ROW EXECUTE FUNCTION f();", "trigger g of loans"},
		{"postgres", "CREATE RULE r AS ON DELETE TO loans DO NOTHING;", "rule r of loans"},
		{"postgres", "CREATE POLICY p ON loans USING (true); ALTER TABLE ONLY loans ENABLE ROW LEVEL SECURITY;", "policy p of loans, row security  of loans"},
		{"postgres", "CREATE TEXT SEARCH CONFIGURATION c (COPY = simple);", "text search configuration c"},
		{"postgres", "CREATE OPERATOR ~~~ (LEFTARG = int, RIGHTARG = int, FUNCTION = near);", "operator ~~~"},
		{"postgres", "ALTER DEFAULT PRIVILEGES GRANT SELECT ON TABLES TO a;", "concern the whole database"},
		{"postgres", "ALTER DEFAULT PRIVILEGES IN SCHEMA public GRANT SELECT ON TABLES TO a;", "rights "},
		{"postgres", "COMMENT ON VIEW v IS 'x'; GRANT SELECT ON v TO PUBLIC;", "comment  of v, rights  of v"},
		{"postgres", "CREATE EVENT TRIGGER e ON ddl_command_end EXECUTE FUNCTION f(); ALTER EVENT TRIGGER e DISABLE;", "event trigger e, more "},
		{"postgres", "CREATE SUBSCRIPTION p CONNECTION '' PUBLICATION q;", "subscription cannot be declared in SQL"},
		{"postgres", "CREATE DOMAIN d AS text; CREATE TYPE w AS (a int); CREATE SEQUENCE s; CREATE EXTENSION citext;", "domain d, type w, sequence s, extension citext"},
	} {
		for _, e := range engines.All() {
			if c.engine != "" && c.engine != e.Name() {
				continue
			}
			list, diags := Parse(e.SQL(), "models/x.sql", c.sql, declared)
			var got []string
			for _, d := range diags {
				got = append(got, d.Message)
			}
			for _, o := range list {
				s := o.Kind + " " + o.Name
				if o.On != "" {
					s += " of " + o.On
				}
				got = append(got, s)
			}
			words, inSQL, _ := strings.Cut(c.want, ": ")
			if len(diags) > 0 {
				require.Contains(t, strings.Join(got, "\n"), c.want, "%s: %s", e.Name(), c.sql)
				continue
			}
			require.Equal(t, words, strings.Join(got, ", "), "%s: %s", e.Name(), c.sql)
			require.Contains(t, list[0].SQL, inSQL)
		}
	}
}

// Where an error is, in characters from 1, also behind a changed delimiter.
func TestParsePlaces(t *testing.T) {
	e, err := engines.All().ByName("mariadb")
	require.NoError(t, err)
	_, diags := Parse(e.SQL(), "x.sql", "DELIMITER //\nCREATE PROCEDURE p() BEGIN SELECT 1; END//\nDELIMITER ;\n  DROP VIEW v;\n", nil)
	require.Len(t, diags, 1)
	require.Equal(t, 4, diags[0].Pos.Line)
	require.Equal(t, 3, diags[0].Pos.Col)
	list, _ := Parse(e.SQL(), "x.sql", "CREATE VIEW v AS SELECT 1;\nCREATE VIEW V AS SELECT 2;\n", nil)
	twice := Twice(list)
	require.Len(t, twice, 1)
	require.Equal(t, 2, twice[0].Pos.Line)
	require.Equal(t, "the view V is declared twice, also at x.sql:1", twice[0].Message)
}
