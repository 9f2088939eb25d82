package suite

// This file holds the proof against mistakes that are planted in real migrations: undos
// that leave something out, and statements that destroy rows of tables which the migration
// has nothing to do with. None may pass without a word.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/testserver"
)

const herbarium = `model Family
    name text(40) unique

model Taxon
    name text(60)
    family references Family
    rank text(20) optional
    height decimal(8,2) optional

model Sheet
    code text(20) unique
    taxon references Taxon on delete cascade
    notes text(200) optional
    weight integer default 5
    seen_on date optional

model Visitor
    name text(40)
    day date optional
    unread text(20) optional
`

// evolutions of the herbarium, of the kinds that a person writes on with.
var herbariumAfter = []struct{ name, find, replace string }{
	{"a field goes", "    rank text(20) optional\n", ""},
	{
		"a field comes",
		"    rank text(20) optional\n",
		"    rank text(20) optional\n    label text(9) default \"plain\"\n",
	},
	{"a type changes", "    weight integer default 5\n", "    weight text(12) default \"5\"\n"},
	{"a model goes", herbarium[strings.Index(herbarium, "model Visitor"):], ""},
	{
		"a model comes",
		"model Visitor",
		"model Drawer\n    number integer unique\n    sheet references Sheet optional\n\nmodel Visitor",
	},
	{"a field is required", "    notes text(200) optional\n", "    notes text(200)\n"},
	{
		"an index and a check",
		"    seen_on date optional\n",
		"    seen_on date optional\n    index weight, seen_on\n    check light: {weight} is not null or 1 = 1\n",
	},
	{"deleted softly", "    seen_on date optional\n", "    seen_on date optional\n    soft delete with view\n"},
}

// mistake is something that was planted; true: it may be none, as where what an undo
// leaves out goes in another way too.
type mistake struct {
	what  string
	maybe bool
	text  string
}

// destroying are statements that destroy rows of tables, written in many ways.
func destroying(e engine.Engine) []string {
	q := e.SQL().Quote
	list := []string{
		"DELETE FROM visitors",
		"UPDATE visitors SET day = NULL WHERE name IS NOT NULL",
		"UPDATE visitors SET name = 'gone' WHERE unread = 'never said'",
		"DELETE FROM sheets WHERE weight > 0",
		"DELETE FROM taxons",
		"UPDATE taxons SET height = NULL WHERE height IS NOT NULL",
		"DELETE FROM sheets WHERE taxon_id IN (SELECT id FROM taxons)",
		"DELETE FROM " + q("visitors") + " WHERE EXISTS (SELECT 1 FROM families)",
		"INSERT INTO families (name) VALUES ('planted')",
		"DELETE FROM visitors WHERE id IN (SELECT max(id) FROM visitors)",
		"UPDATE sheets SET seen_on = '2026-01-31', code = code WHERE id > 0",
	}
	switch {
	case e.Caps().CommitsChanges:
		list = append(list, "DELETE v FROM visitors AS v JOIN visitors AS w ON w.id = v.id",
			"UPDATE sheets AS s JOIN taxons AS t ON t.id = s.taxon_id SET s.notes = NULL, t.height = NULL",
			"REPLACE INTO visitors (id, name) SELECT id, 'gone' FROM (SELECT id FROM visitors) AS v")
	case e.Caps().Journal:
		list = append(list, "TRUNCATE visitors", "TRUNCATE TABLE ONLY visitors", "DELETE FROM public.visitors",
			"DO $$ BEGIN DELETE FROM visitors; END $$", "DO $$ BEGIN EXECUTE 'DELETE FROM ' || 'visitors'; END $$",
			"WITH gone AS (DELETE FROM visitors RETURNING id) SELECT count(*) FROM gone",
			"UPDATE visitors AS v SET name = 'gone' FROM families AS f WHERE v.id > 0")
	default:
		list = append(list, "DELETE FROM main.visitors",
			"REPLACE INTO visitors (id, name) SELECT id, 'gone' FROM visitors", "DELETE FROM \"VISITORS\"",
			"WITH few AS (SELECT id FROM visitors) DELETE FROM visitors WHERE id IN few",
			"UPDATE OR IGNORE visitors SET name = 'gone'")
	}
	return list
}

// mistakes are those that can be made in a migration.
func mistakes(t *testing.T, e engine.Engine, m *migration.Migration) []mistake {
	var out []mistake
	plant := func(what string, maybe bool, edit func(m *migration.Migration)) {
		c, err := migration.Parse(m.FileName(), m.Text, e)
		require.NoError(t, err)
		edit(c)
		c.Proof, c.ProofOf = "", ""
		out = append(out, mistake{what, maybe, migration.Write(c)})
	}
	for i, s := range m.Steps {
		plant(fmt.Sprintf("step %d: the undo does nothing", i+1), true, func(m *migration.Migration) {
			m.Steps[i].Undo = []migration.Statement{{SQL: "SELECT 1"}}
		})
		for j, st := range s.Undo {
			if slices.Contains([]string{"SET", "LOCK", "UNLOCK"}, e.SQL().Lex(st.SQL)[0].Word()) {
				continue
			}
			tables := sqltext.Touches(e.SQL().Lex(st.SQL), nil).Tables
			if len(s.Undo) == 1 ||
				len(tables) > 0 && !slices.ContainsFunc(tables, func(n string) bool { return !schema.Own(n) }) {
				continue
			}
			plant(fmt.Sprintf("step %d: the undo leaves out %s", i+1, st.SQL), true, func(m *migration.Migration) {
				m.Steps[i].Undo = slices.Delete(m.Steps[i].Undo, j, j+1)
			})
		}
	}
	last := len(m.Steps) - 1
	for _, sql := range destroying(e) {
		plant("apply: "+sql, false, func(m *migration.Migration) {
			m.Steps[last].Apply = append(m.Steps[last].Apply, migration.Statement{SQL: sql})
		})
		plant("undo: "+sql, false, func(m *migration.Migration) {
			m.Steps[last].Undo = append(m.Steps[last].Undo, migration.Statement{SQL: sql})
		})
	}
	return out
}

// harmless tells whether a mistake is none: with rows in every table, what is there after
// the undo is what was there before.
func harmless(t *testing.T, p testserver.Place, before []*migration.Migration, text string) bool {
	ctx, e := context.Background(), p.Engine
	db := p.Open(t)
	defer db.Close()
	_, err := runner.Apply(ctx, db, e, before, runner.Options{Wait: time.Second})
	require.NoError(t, err)
	start, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, start, rand.New(rand.NewPCG(7, 7)), 2)
	rows := dump(t, ctx, e, db)
	m, err := migration.Parse(before[0].Path, text, e)
	require.NoError(t, err)
	m.ID = before[0].ID + "z"
	for range 2 {
		if err := proof.Run(ctx, db, e, m, false); err != nil {
			return false
		}
		if err := proof.Run(ctx, db, e, m, true); err != nil {
			return false
		}
	}
	end, err := db.Inspect(ctx)
	require.NoError(t, err)
	return assert.ObjectsAreEqual(rows, dump(t, ctx, e, db)) && len(differences(t, ctx, db, end, start)) == 0
}

// Mistakes that are planted in migrations are noticed by their proof; ERBARIO_PLANTED=1
// plants all of them on the servers too.
func TestPlanted(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx, e := context.Background(), p.Engine
		every := 1
		if e.Caps().Journal && os.Getenv("ERBARIO_PLANTED") == "" { // several round trips each
			every = 8
		}
		planted, wrong := 0, 0
		for n, c := range herbariumAfter {
			db := p.Open(t)
			r := rand.New(rand.NewPCG(1, uint64(n)))
			_, before := step(t, ctx, e, db, herbarium, nil, r)
			start, err := db.Inspect(ctx)
			require.NoError(t, err)
			insert(t, ctx, e, db, start, r, 2)
			after := strings.Replace(herbarium, c.find, c.replace, 1)
			require.NotEqual(t, herbarium, after)
			d := drafted(t, ctx, e, db, after, before, r)
			db.Close()
			require.NotNil(t, d.Migration, c.name)
			try := func(text string) string { // what is said against it
				m, err := migration.Parse(d.Migration.FileName(), text, e)
				if err != nil {
					return err.Error()
				}
				o, err := proof.Prove(ctx, proof.Input{Engine: e, Start: start, Migration: m})
				if err != nil {
					return err.Error()
				}
				m.SetProof(o.Sentence())
				if !m.Proved() {
					return o.Sentence()
				}
				return m.Doubts()
			}
			said := try(d.Migration.Text)
			require.Empty(t, said, "%s: as it was drafted\n%s", c.name, d.Migration.Text)
			if d.Migration.Atomic() {
				m, err := migration.Parse(d.Migration.FileName(), d.Migration.Text, e)
				require.NoError(t, err)
				for i := range m.Steps {
					m.Steps[i].Apply = append(m.Steps[i].Apply, migration.Statement{SQL: "SELECT 1"})
				}
				said := try(migration.Write(m))
				require.Empty(t, said, "%s: edited without harm\n%s", c.name, d.Migration.Text)
			}
			for i, x := range mistakes(t, e, d.Migration) {
				if (i+n)%every > 0 {
					continue
				}
				planted++
				if try(x.text) != "" {
					wrong++
				} else if !x.maybe || !harmless(t, p, before, x.text) {
					assert.Fail(t, "nobody would notice", "%s: %s\n%s", c.name, x.what, x.text)
				}
			}
		}
		t.Logf("%d planted, %d of them noticed, the others change nothing", planted, wrong)
		if every == 1 {
			require.Greater(t, wrong, 150)
		}
	})
}
