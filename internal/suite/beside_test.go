package suite

// This file takes random pairs of schemas through databases that hold what nobody
// declared: whatever is drafted there, it stays, and works, and its rows with it. Some of
// the models refer to a table outside, which others own.

import (
	"context"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/diff"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// byHand is something that a person made in the database; {table} in its SQL stands for a
// table that the models declare.
type byHand struct {
	name  string
	on    string // the only engine that has such a thing; "": all of them
	sql   []string
	check string // a query that works as long as it is there
}

var byHands = []byHand{
	{
		name: "a table with rows",
		sql: []string{
			"CREATE TABLE byhand_press (id integer PRIMARY KEY, note varchar(20))",
			"INSERT INTO byhand_press VALUES (1, 'kept')",
		},
		check: "SELECT 1 FROM byhand_press WHERE note = 'kept'",
	},
	{
		name:  "a table that refers to one of ours",
		sql:   []string{"CREATE TABLE byhand_loan (id integer PRIMARY KEY, of_id bigint REFERENCES {table} (id))"},
		check: "SELECT 1 FROM (SELECT count(*) AS n FROM byhand_loan) AS q",
	},
	{
		name: "a view over a table by hand",
		sql: []string{
			"CREATE TABLE byhand_shelf (id integer PRIMARY KEY)",
			"INSERT INTO byhand_shelf VALUES (4)",
			"CREATE VIEW byhand_seen AS SELECT id FROM byhand_shelf",
		},
		check: "SELECT 1 FROM byhand_seen WHERE id = 4",
	},
	{name: "an index", sql: []string{"CREATE INDEX byhand_{name} ON {table} (id)"}},
	{name: "a column", sql: []string{"ALTER TABLE {table} ADD COLUMN byhand integer"}},
	{
		name: "a trigger",
		on:   "sqlite",
		sql:  []string{"CREATE TRIGGER byhand_{name} AFTER INSERT ON {table} BEGIN SELECT 1; END"},
	},
	{
		name: "a trigger",
		on:   "mariadb",
		sql:  []string{"CREATE TRIGGER byhand_{name} AFTER INSERT ON {table} FOR EACH ROW SET @byhand = NEW.id"},
	},
	{
		name: "a trigger",
		on:   "postgres",
		sql: []string{
			"CREATE FUNCTION byhand_noted() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'",
			"CREATE TRIGGER byhand_{name} AFTER INSERT ON {table} FOR EACH ROW EXECUTE FUNCTION byhand_noted()",
		},
		check: "SELECT 1 FROM pg_proc WHERE proname = 'byhand_noted'",
	},
	{
		name: "a function, a type and a sequence",
		on:   "postgres",
		sql: []string{
			"CREATE TYPE byhand_kind AS ENUM ('a', 'b')", "CREATE SEQUENCE byhand_number START 7",
			"CREATE FUNCTION byhand_of(kind byhand_kind) RETURNS integer LANGUAGE sql AS 'SELECT 3'",
			"CREATE TABLE byhand_box (id bigint DEFAULT nextval('byhand_number'), kind byhand_kind)",
		},
		check: "SELECT 1 WHERE byhand_of('a') = 3 AND to_regclass('byhand_number') IS NOT NULL",
	},
	{
		name: "what takes a table's row",
		on:   "postgres",
		sql: []string{
			"CREATE FUNCTION byhand_row(r {table}) RETURNS integer LANGUAGE plpgsql AS 'BEGIN RETURN 1; END'",
		},
	},
	{
		name: "things in another schema",
		on:   "postgres",
		sql: []string{
			"CREATE SCHEMA byhand_aside",
			"CREATE TABLE byhand_aside.leaf (id integer)",
			"CREATE VIEW byhand_aside.leaves AS SELECT id FROM byhand_aside.leaf",
		},
		check: "SELECT 1 FROM (SELECT count(*) AS n FROM byhand_aside.leaves) AS q",
	},
	{
		name: "a procedure and a function",
		on:   "mariadb",
		sql: []string{
			"CREATE FUNCTION byhand_of() RETURNS int DETERMINISTIC RETURN 3",
			"CREATE PROCEDURE byhand_do() SELECT 1",
		},
		check: "SELECT 1 FROM dual WHERE byhand_of() = 3",
	},
}

// outsideTables make the table outside, by engine.
var outsideTables = map[string]string{
	"sqlite":   "CREATE TABLE herbariums (id INTEGER PRIMARY KEY, name TEXT NOT NULL)",
	"postgres": "CREATE TABLE herbariums (id bigint PRIMARY KEY, name varchar(20) NOT NULL)",
	"mariadb":  "CREATE TABLE herbariums (id bigint PRIMARY KEY, name varchar(20) NOT NULL)",
}

// undeclared are the differences that only what was made by hand, or is outside, makes.
func undeclared(c diff.Change) bool {
	return c.Kind.Sign() == "-" && (strings.HasPrefix(c.Table, "byhand") || strings.HasPrefix(c.Name, "byhand"))
}

// beside is a pair of schemas with things by hand.
func beside(t *rapid.T, p testserver.Place) bool {
	ctx, e := context.Background(), p.Engine
	a := derived(t, drawSchema(t))
	b := derived(t, evolve(t, a))
	outside := ""
	if rapid.Bool().Draw(t, "outside") {
		outside = "model Herbarium outside\n    id bigint key\n    name text(20)\n\n"
		if e.Name() == "sqlite" {
			outside = strings.Replace(outside, "bigint", "integer", 1)
		}
		refers := model{
			name: "Deposit",
			fields: []field{
				{name: "herbarium", typ: "references Herbarium", clauses: []string{"optional"}},
				{name: "count", typ: "integer"},
			},
		}
		a = append(a, refers)
		refers.fields = append(slices.Clone(refers.fields),
			field{name: "mark", typ: "text(8)", clauses: []string{"optional"}})
		b = append(b, refers)
	}
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 2))
	db := p.Open(t)
	defer db.Close()
	exec := func(sql string) {
		require.NoError(t, db.Exec(ctx, sql), sql)
	}
	if outside != "" {
		exec(outsideTables[e.Name()])
		exec("INSERT INTO herbariums VALUES (1, 'Altenau')")
	}
	_, files := step(t, ctx, e, db, outside+text(a), nil, r)
	if len(files) == 0 {
		return false
	}
	declared := wanted(t, e, outside+text(b))
	var checks []string
	for _, h := range byHands {
		table := declared.Tables[r.IntN(len(declared.Tables))]
		if table.Outside() {
			continue
		}
		if h.on != "" && h.on != e.Name() || rapid.IntRange(0, 2).Draw(t, h.name) > 0 {
			continue
		}
		if live, err := db.Inspect(ctx); err != nil || live.Table(table.Name) == nil {
			require.NoError(t, err)
			continue // it only comes with the change
		}
		for _, sql := range h.sql {
			exec(strings.NewReplacer("{table}", e.SQL().QuoteTable(table.Name), "{name}", table.Declared.Bare()).Replace(sql))
		}
		checks = append(checks, h.check)
	}
	works := func(when string) {
		for _, sql := range checks {
			if sql == "" {
				continue
			}
			n, err := db.Count(ctx, sql)
			require.NoError(t, err, "%s %s", sql, when)
			require.EqualValues(t, 1, n, "%s %s", sql, when)
		}
	}
	same := func(src, when string) {
		live, err := db.Inspect(ctx)
		require.NoError(t, err)
		w := wanted(t, e, outside+src)
		require.Empty(t, slices.DeleteFunc(differences(t, ctx, db, live, w), undeclared), "%s", when)
		if outside != "" {
			n, err := db.Count(ctx, "SELECT 1 FROM herbariums WHERE name = 'Altenau'")
			require.NoError(t, err)
			require.EqualValues(t, 1, n)
		}
	}
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	ours := &sqlschema.Schema{}
	for _, x := range live.Tables {
		if !strings.HasPrefix(x.Name, "byhand") && x.Name != "herbariums" {
			ours.Tables = append(ours.Tables, x)
		}
	}
	insert(t, ctx, e, db, ours, r, rapid.IntRange(0, 2).Draw(t, "rows"))
	before := dump(t, ctx, e, db)
	d, files := step(t, ctx, e, db, outside+text(b), files, r)
	if d.Migration == nil || len(d.InTheWay) > 0 || len(d.Plan.Questions) > 0 {
		require.Equal(t, before, dump(t, ctx, e, db), "a refused draft changes nothing")
		works("after a refused draft")
		return false
	}
	works("after\n" + d.Migration.Text)
	same(text(b), "the live schema is B after\n"+d.Migration.Text)
	after := dump(t, ctx, e, db)
	_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "undoing\n%s", d.Migration.Text)
	works("after the undo of\n" + d.Migration.Text)
	same(text(a), "the live schema is A again after the undo of\n"+d.Migration.Text)
	require.Equal(t, before, dump(t, ctx, e, db), "every row is as it was after the undo of\n%s", d.Migration.Text)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "applying again\n%s", d.Migration.Text)
	works("applied again\n" + d.Migration.Text)
	require.Equal(t, after, dump(t, ctx, e, db), "every row is as it was when applied first\n%s", d.Migration.Text)

	empty := p.Open(t) // where nobody made anything
	defer empty.Close()
	if outside != "" {
		require.NoError(t, empty.Exec(ctx, outsideTables[e.Name()]))
	}
	_, err = runner.Apply(ctx, empty, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "from nothing\n%s", d.Migration.Text)
	return true
}

// Random pairs beside what nobody declared: it stays, and nothing of it blocks a draft.
func TestBeside(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		fewer(t, p, os.Getenv("ERBARIO_BESIDE"))
		whole := 0
		rapid.Check(t, func(rt *rapid.T) {
			if beside(rt, p) {
				whole++
			}
		})
		require.Positive(t, whole, "no pair went all the way")
		t.Logf("%d pairs went all the way", whole)
	})
}
