package sqlite

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// odd are statements that make tables with everything in them that people and
// programs write, well or badly.
var odd = []string{
	`CREATE TABLE plain (a, b INT, c "double precision", d varchar ( 30 ), e decimal(10 , 2))`,
	"CREATE TABLE [with spaces] (\"a b\" TEXT, `c``d` INTEGER, [e f] REAL, 'g' TEXT, \"x\"\"y\" BLOB)",
	`CREATE TABLE IF NOT EXISTS keyed(id INTEGER PRIMARY KEY AUTOINCREMENT, n TEXT NOT NULL ON CONFLICT REPLACE DEFAULT 'x', u TEXT UNIQUE ON CONFLICT IGNORE)`,
	`CREATE TABLE byname (code TEXT CONSTRAINT pk PRIMARY KEY ON CONFLICT REPLACE, "order" INTEGER CONSTRAINT positive CHECK ("order" > 0)) WITHOUT ROWID`,
	`CREATE TABLE strict_one (id INTEGER PRIMARY KEY DESC, t TEXT NOT NULL, a ANY) STRICT`,
	`CREATE TABLE both (a INT, b TEXT COLLATE NOCASE, PRIMARY KEY (a DESC, b COLLATE RTRIM) ON CONFLICT FAIL) STRICT, WITHOUT ROWID`,
	`CREATE TABLE big (id BIGINT PRIMARY KEY, x TEXT)`,
	"CREATE TABLE defaults (a INT DEFAULT -5, b REAL DEFAULT +1.5e-3, c TEXT DEFAULT 'it''s; -- not', d DEFAULT (1 + (2)), e DEFAULT CURRENT_TIMESTAMP, f DEFAULT NULL, g DEFAULT x'00ff', h DEFAULT true, i DEFAULT ident, j DEFAULT \"quoted\")",
	`CREATE TABLE generated (a INT, b INT GENERATED ALWAYS AS (a * 2) STORED, c INT AS (a || ')') VIRTUAL, d TEXT GENERATED ALWAYS AS (upper("a")))`,
	`CREATE TABLE children (
		id INTEGER PRIMARY KEY, -- the number
		parent INT REFERENCES keyed ON DELETE CASCADE ON UPDATE SET NULL DEFERRABLE INITIALLY DEFERRED /* a name of nothing */ CONSTRAINT unnamed,
		other TEXT CONSTRAINT named REFERENCES byname(code) MATCH FULL NOT DEFERRABLE INITIALLY IMMEDIATE,
		a INT, b TEXT,
		CONSTRAINT two FOREIGN KEY (a, b) REFERENCES both (a, b) ON DELETE SET DEFAULT ON UPDATE NO ACTION
		CHECK (a > 0) CONSTRAINT later CHECK (b <> ')') ON CONFLICT ROLLBACK
		UNIQUE (a, b COLLATE NOCASE) ON CONFLICT ABORT
	)`,
	`CREATE TABLE itself (id INTEGER PRIMARY KEY, up INT REFERENCES itself(id), down INT REFERENCES nowhere(x))`,
	`CREATE INDEX one ON plain (a)`,
	`CREATE UNIQUE INDEX two ON plain (b DESC, "c" COLLATE NOCASE ASC)`,
	`CREATE INDEX "three; four" ON plain (lower(a || 'x'), b + 1 DESC) WHERE a IS NOT NULL AND b > 3;`,
	`CREATE INDEX five ON [with spaces] ("a b") WHERE "a b" LIKE '%--%'`,
	`CREATE VIEW seen AS SELECT a, b FROM plain WHERE a > 1`,
	"CREATE VIEW broken AS SELECT gone FROM plain",
	"CREATE TRIGGER watch AFTER UPDATE OF a, b ON plain WHEN NEW.a > CASE WHEN OLD.a THEN 1 ELSE 2 END BEGIN\n  UPDATE plain SET b = CASE WHEN NEW.a THEN 1 ELSE 2 END; -- END;\n  DELETE FROM plain WHERE a = 'BEGIN; END;';\nEND",
	`CREATE TRIGGER instead INSTEAD OF DELETE ON seen BEGIN SELECT 1; END`,
	`CREATE VIRTUAL TABLE words USING fts5(title, body, tokenize = 'porter ascii')`,
	`CREATE TABLE "標本" ("größe" INTEGER CHECK ("größe" >= 0), "naïve" TEXT)`,
}

func scratch(t *testing.T, statements ...string) *database {
	db, err := Engine{}.Scratch(context.Background())
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for _, s := range statements {
		require.NoError(t, db.Exec(context.Background(), s), s)
	}
	return db.(*database)
}

func inspect(t *testing.T, db *database) *sqlschema.Schema {
	s, err := db.Inspect(context.Background())
	require.NoError(t, err)
	return s
}

// Everything odd is read, made again from what was read (not from the texts),
// and is the same again.
func TestOddFiles(t *testing.T) {
	first := inspect(t, scratch(t, odd...))
	again := scratch(t)
	copied := first.Clone()
	for _, table := range copied.Tables {
		table.Text = ""
	}
	require.NoError(t, engine.FillWhole(context.Background(), again, Engine{}.CreateAll(copied)))
	second := inspect(t, again)
	assert.Empty(t, diff.Schemas(first, second))
	assert.Empty(t, diff.Schemas(second, first))
	assert.Equal(t, sqlschema.Fingerprint(first), sqlschema.Fingerprint(second))
	for _, table := range first.Tables {
		o := second.Table(table.Name)
		require.NotNil(t, o, table.Name)
		table.Text, o.Text = "", ""
		var a, b []string
		for _, c := range table.Columns {
			a = append(a, columnDefinition(table, c))
		}
		for _, c := range o.Columns {
			b = append(b, columnDefinition(o, c))
		}
		assert.Equal(t, a, b, table.Name)
	}
	// And from the texts as well.
	third := scratch(t)
	require.NoError(t, engine.FillWhole(context.Background(), third, Engine{}.CreateAll(first)))
	assert.Empty(t, diff.Schemas(first, inspect(t, third)))
}

func TestInspectDetails(t *testing.T) {
	s := inspect(t, scratch(t, odd...))
	keyed := s.Table("keyed")
	assert.True(t, keyed.PrimaryKey.Autoincrement)
	assert.Equal(t, "REPLACE", keyed.Column("n").Conflict)
	assert.Equal(t, "IGNORE", keyed.Indexes[0].Conflict)
	children := s.Table("children")
	require.Len(t, children.ForeignKeys, 3)
	assert.Equal(t, "DEFERRABLE INITIALLY DEFERRED", children.ForeignKeys[0].Deferrable)
	assert.Equal(t, []string{"id"}, children.ForeignKeys[0].References, "the key that was meant")
	assert.Equal(t, "named", children.ForeignKeys[1].Name)
	assert.Len(t, children.Checks, 2)
	assert.Len(t, children.Columns, 5)
	assert.True(t, s.Table("both").Options.Strict)
	assert.True(t, s.Table("both").Options.WithoutRowid)
	assert.Equal(t, "", rowidKey(s.Table("big")), "BIGINT is not the row number")
	assert.Equal(t, "", rowidKey(s.Table("strict_one")), "DESC is not the row number")
	assert.NotNil(t, s.Table("words"))
	assert.Nil(t, s.Table("words_data"), "the tables of a virtual table are its own")
	assert.Equal(t, "double precision", s.Table("plain").Column("c").SQLType)
	assert.Equal(t, "decimal(10,2)", s.Table("plain").Column("e").SQLType)
	generated := s.Table("generated")
	assert.True(t, generated.Column("b").Generated.Stored)
	assert.False(t, generated.Column("c").Generated.Stored)
	assert.Len(t, s.Table("plain").Triggers, 1)
	assert.Len(t, s.View("seen").Triggers, 1)
}

// Two spellings of one thing are the same; two things are not.
func TestCanonical(t *testing.T) {
	for _, pair := range [][2]string{
		{`a > 0`, `( "A" >0 )`}, {"a != 1", "[a] <> 1"}, {"a == 'x'", "`a` = 'x'"}, {"lower(a)", "LOWER ( a )"},
		{"((a))", "a"}, {"a /* c */ + 1 -- d", "a + 1"},
	} {
		assert.Equal(t, canonical(pair[0]), canonical(pair[1]), "%v", pair)
	}
	for _, pair := range [][2]string{
		{"a > 0", "a >= 0"}, {"a = 'x'", "a = 'X'"}, {`a = "x"`, "a = 'x'"}, {"(a) + (b)", "a + b"}, {"a", "b"},
		{`"a b"`, "a b"}, {"1.0", "1"},
	} {
		assert.NotEqual(t, canonical(pair[0]), canonical(pair[1]), "%v", pair)
	}
}

func TestSplit(t *testing.T) {
	src := "-- one\nCREATE TABLE a (b TEXT DEFAULT ';');\n/* two; */ CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT CASE WHEN 1 THEN 2 END; SELECT 'END;'; END;\nSELECT '\n-- : undo\n';;\n-- three\n"
	var got []string
	for _, p := range (Engine{}).Split(src) {
		assert.Empty(t, p.Bad)
		got = append(got, fmt.Sprintf("%t %d %.20q", p.Comment, p.Line, p.Text))
	}
	assert.Equal(t, []string{
		`true 1 "-- one"`, `false 2 "CREATE TABLE a (b TE"`, `true 3 "/* two; */"`, `false 3 "CREATE TRIGGER t AFT"`,
		`false 4 "SELECT '\n-- : undo\n'"`, `true 7 "-- three"`,
	}, got)
	for _, bad := range []string{"SELECT 1", "SELECT 'a", "SELECT \"a;", "/* open",
		"CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1;"} {
		list := (Engine{}).Split(bad)
		require.NotEmpty(t, list, bad)
		assert.NotEmpty(t, list[len(list)-1].Bad, bad)
	}
}

func TestRefuse(t *testing.T) {
	for _, s := range []string{"COMMIT", "begin immediate", "/* x */ END", "ROLLBACK TO a", "SAVEPOINT a",
		"ATTACH 'x' AS y", "PRAGMA foreign_keys = ON", "VACUUM", "-- x\nRELEASE a"} {
		var refused *engine.RefusedError
		assert.ErrorAs(t, Engine{}.Validate(s), &refused, s)
	}
	for _, s := range []string{"SELECT 'COMMIT'", "CREATE TRIGGER t AFTER INSERT ON a BEGIN SELECT 1; END",
		"UPDATE a SET b = 1"} {
		assert.NoError(t, Engine{}.Validate(s), s)
	}
}

func FuzzTable(f *testing.F) {
	for _, s := range odd {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, src string) {
		// Whatever SQLite takes is read; nothing makes the reader crash.
		_, err := parseTable("t", src)
		_, _ = parseIndex("i", src)
		Engine{}.Split(src)
		_ = err
	})
}
