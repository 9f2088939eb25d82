package proof_test

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/migration"
	"erbario/internal/proof"
)

var ctx = context.Background()

func sqlite(t *testing.T) engine.Engine {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	return e
}

// prove proves a migration of one step from what the statements make.
func prove(t *testing.T, start string, apply, undo string, live ...engine.Rows) *proof.Outcome {
	return proveText(
		t,
		start,
		"-- : 20260101T000000-x  sqlite  form 1\n\n-- : step 1  x\n-- : apply\n"+apply+"\n-- : undo\n"+undo+"\n",
		live...)
}

func proveText(t *testing.T, start, text string, live ...engine.Rows) *proof.Outcome {
	e := sqlite(t)
	db, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	for _, p := range e.SQL().Split(start) {
		require.NoError(t, db.Exec(ctx, p.Text), p.Text)
	}
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	m, err := migration.Parse("x", text, e)
	require.NoError(t, err)
	in := proof.Input{Engine: e, Start: s, Migration: m}
	if len(live) > 0 {
		in.Live = func(table string, limit int) (engine.Rows, error) { return live[0], nil }
	}
	o, err := proof.Prove(ctx, in)
	require.NoError(t, err)
	return o
}

const taxa = "CREATE TABLE taxa (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(20) NOT NULL, rank TEXT CHECK (rank IN ('genus', 'species')), up INT REFERENCES taxa (id));"

func TestHolds(t *testing.T) {
	o := prove(t, taxa, "ALTER TABLE taxa ADD COLUMN note TEXT;", "ALTER TABLE taxa DROP COLUMN note;")
	assert.Empty(t, o.Differ)
	assert.GreaterOrEqual(t, o.Rows, int64(2), "an empty table takes what a full one refuses")
	assert.Contains(t, o.Sentence(), "proved forward, back and forward again with")
}

// What goes wrong in a migration that a person wrote is found, each in its own
// words.
func TestFinds(t *testing.T) {
	for _, c := range []struct{ name, apply, undo, want string }{
		{"an undo that is missing a part", "ALTER TABLE taxa ADD COLUMN note TEXT;\nCREATE INDEX i ON taxa (name);", "ALTER TABLE taxa DROP COLUMN note;", "after the undo the schema differs: drop index"},
		{"an undo that does not go", "ALTER TABLE taxa ADD COLUMN note TEXT;", "ALTER TABLE taxa DROP COLUMN nothing;", "it cannot be undone"},
		{"an undo that leaves another type", "ALTER TABLE taxa DROP COLUMN rank;", "ALTER TABLE taxa ADD COLUMN rank TEXT;", "after the undo"},
		{"values that are gone", "UPDATE taxa SET name = upper(name);", "UPDATE taxa SET name = lower(name);", "after the undo a row of taxa differs"},
		{"rows that are gone", "DELETE FROM taxa;", "", "after the undo taxa has 0 rows, not"},
		{"an apply that fails on rows alone", "CREATE UNIQUE INDEX u ON taxa (rank);", "DROP INDEX u;", "it cannot be applied"},
		{"references left without a row", "DELETE FROM taxa WHERE up IS NULL;", "", "references would point to no row"},
		{"an apply that goes once alone", "CREATE TABLE IF NOT EXISTS log (n);\nINSERT INTO log VALUES (1);\nCREATE TABLE once (n);", "DROP TABLE once;\nDELETE FROM log WHERE n > 1;", "after the undo the schema differs"},
	} {
		t.Run(c.name, func(t *testing.T) {
			undo := c.undo
			if undo == "" {
				undo = "SELECT 1;"
			}
			o := prove(t, taxa, c.apply, undo)
			require.NotEmpty(t, o.Differ)
			assert.Contains(t, strings.Join(o.Differ, "\n"), c.want)
			assert.Contains(t, o.Sentence(), "not proved: ")
		})
	}
}

// A view or a trigger that the migration leaves broken is named.
func TestBreaksAView(t *testing.T) {
	start := taxa + "CREATE VIEW ranks AS SELECT rank FROM taxa;"
	copied := "CREATE TABLE t2 (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(20) NOT NULL, up INT);\nDROP TABLE taxa;\nCREATE TABLE taxa (id INTEGER PRIMARY KEY AUTOINCREMENT, name VARCHAR(20) NOT NULL, up INT);\nDROP TABLE t2;"
	o := prove(t, start, copied, "SELECT 1;")
	require.NotEmpty(t, o.Differ)
	assert.Contains(t, o.Differ[0], "this no longer works: view ranks")
	// One that was broken before is not held against it.
	o = prove(t, taxa+"CREATE VIEW bad AS SELECT nowhere FROM taxa;", "CREATE INDEX i ON taxa (name);", "DROP INDEX i;")
	assert.Empty(t, o.Differ)
}

// Rows stand against no requirement; a table for which none is left is named
// with the reason, and so is one whose check no candidate passes.
func TestRowsAndRequirements(t *testing.T) {
	text := `-- : 20260101T000000-x  sqlite  form 1

-- : before apply, none of these may exist  "{n} rows of taxa have no rank"
SELECT id FROM taxa WHERE rank IS NULL;

-- : step 1  x
-- : apply
CREATE INDEX i ON taxa (rank) WHERE rank IS NOT NULL;
-- : undo
DROP INDEX i;
`
	o := proveText(t, taxa, text)
	assert.Empty(t, o.Differ)
	assert.Positive(t, o.Rows)
	o = proveText(t, taxa, strings.Replace(text, "WHERE rank IS NULL", "", 1))
	assert.Empty(t, o.Differ)
	assert.Contains(t, o.Sentence(), "without rows in taxa (a requirement: 1 row of taxa has no rank)")
	// Such a check no generated row passes, and a row of the live database does.
	odd := "CREATE TABLE taxa (id INTEGER PRIMARY KEY, code TEXT CHECK (code IS NOT NULL AND hex(code) = '484230303031'));"
	o = prove(t, odd, "ALTER TABLE taxa ADD COLUMN n INT;", "ALTER TABLE taxa DROP COLUMN n;")
	assert.Empty(t, o.Differ)
	assert.Contains(t, o.Sentence(), "without rows in taxa (CHECK constraint failed")
	o = prove(t, odd, "ALTER TABLE taxa ADD COLUMN n INT;", "ALTER TABLE taxa DROP COLUMN n;",
		engine.Rows{Columns: []string{"id", "code"}, Values: [][]string{{"1", "'HB0001'"}}})
	assert.Empty(t, o.Differ)
	assert.EqualValues(t, 1, o.Rows)
	assert.NotContains(t, o.Sentence(), "without")
}

// Values that are given again each time are compared only where they have to be
// the same.
func TestVolatile(t *testing.T) {
	o := prove(t, "CREATE TABLE taxa (id INTEGER PRIMARY KEY, name TEXT);",
		"ALTER TABLE taxa ADD COLUMN seen TEXT;\nUPDATE taxa SET seen = hex(randomblob(8));",
		"ALTER TABLE taxa DROP COLUMN seen;")
	assert.Empty(t, o.Differ)
}

// A proof works on a database of its own.
func TestScratchIsNotLive(t *testing.T) {
	e := sqlite(t)
	live, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer live.Close()
	require.NoError(t, live.Exec(ctx, taxa))
	require.NoError(t, live.Exec(ctx, "INSERT INTO taxa (name) VALUES ('Bellis')"))
	s, err := live.Inspect(ctx)
	require.NoError(t, err)
	db, _, err := proof.Scratch(ctx, e, s)
	require.NoError(t, err)
	require.NoError(t, db.Exec(ctx, "DROP TABLE main.taxa"))
	db.Close()
	n, err := live.Count(ctx, "SELECT 1 FROM taxa")
	require.NoError(t, err)
	assert.EqualValues(t, 1, n)
}
