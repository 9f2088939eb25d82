package suite

// This file takes random blocks of reference rows from one to the next, with rows
// and changes of people between them: forward every declared row is as declared,
// back and forward again nothing that anybody wrote is lost.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// rowsModels are two models, one of which names rows of the other, with blocks of
// random rows.
func rowsModels(t *rapid.T, lines string) string {
	var b strings.Builder
	fmt.Fprintf(&b,
		"model Habitat\n    code text(8) unique\n    name text(40) optional\n    height integer optional\n    share decimal(4,1) default 1.5\n    note text optional\n%s\nmodel Plot\n    number integer key\n    habitat references Habitat optional\n    sunny boolean default true\n",
		lines)
	keys := rapid.SliceOfNDistinct(rapid.SampledFrom([]string{"alpine", "bog", "fen", "wood", "it's", `a \"b\"`}), 0,
		5, rapid.ID[string]).
		Draw(t, "habitats")
	if len(keys) > 0 {
		b.WriteString("\nrows Habitat by code\n    code  name  height  share\n")
		for _, k := range keys {
			fmt.Fprintf(&b, "    \"%s\"  %s  %s  %s\n", k,
				rapid.SampledFrom([]string{"null", `"one"`, `"it's two"`, `"a; b"`}).Draw(t, "name"),
				rapid.SampledFrom([]string{"null", "0", "-3", "2100"}).Draw(t, "height"),
				rapid.SampledFrom([]string{"0", "2.5", "10.0"}).Draw(t, "share"))
		}
	}
	if numbers := rapid.SliceOfNDistinct(rapid.IntRange(1, 5), 0, 3, rapid.ID[int]).Draw(t, "plots"); len(numbers) > 0 {
		b.WriteString("\nrows Plot by number\n    number  habitat\n")
		for _, n := range numbers {
			habitat := "null"
			if len(keys) > 0 && rapid.Bool().Draw(t, "linked") {
				habitat = `"` + rapid.SampledFrom(keys).Draw(t, "habitat") + `"`
			}
			fmt.Fprintf(&b, "    %d  %s\n", n, habitat)
		}
	}
	return b.String()
}

// people write into the tables what they like.
func people(t *rapid.T, ctx context.Context, db engine.Database, soft bool) {
	statements := []string{
		"UPDATE habitats SET height = 77 WHERE code = 'bog'", "UPDATE habitats SET note = 'seen' WHERE code <> 'fen'",
		"UPDATE habitats SET name = 'by hand', share = 3.5",
		"INSERT INTO habitats (code, name) VALUES ('fen', 'Fen by hand')",
		"INSERT INTO habitats (code, note) VALUES ('mine', 'own')",
		"INSERT INTO plots (number, habitat_id) SELECT 9, id FROM habitats WHERE code IN ('bog', 'alpine') LIMIT 1",
		"INSERT INTO plots (number, sunny) VALUES (3, 0)", "DELETE FROM plots WHERE number = 2",
		"UPDATE plots SET sunny = 0",
		"DELETE FROM habitats WHERE code = 'wood' AND id NOT IN (SELECT habitat_id FROM plots WHERE habitat_id IS NOT NULL)",
	}
	if soft {
		statements = append(statements, "UPDATE habitats SET deleted_at = '2026-05-01 10:00:00' WHERE code = 'alpine'")
	}
	for _, sql := range rapid.SliceOfN(rapid.SampledFrom(statements), 0, 4).Draw(t, "people") {
		db.Exec(ctx, sql) // some meet a row that is there
	}
}

func TestReferenceRows(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		cases(t, p, os.Getenv("ERBARIO_ROWS"))
		rapid.Check(t, func(t *rapid.T) { rowsCase(t, p.Engine) })
	})
}

// keptMade tells that a migration makes a table for old values of rows.
var keptMade = regexp.MustCompile("CREATE TABLE (IF NOT EXISTS )?`?erbario_kept")

func rowsCase(t *rapid.T, e engine.Engine) {
	ctx := context.Background()
	soft := rapid.Bool().Draw(t, "soft")
	lines := rapid.SampledFrom([]string{"", "    timestamps\n"}).Draw(t, "timestamps")
	if soft {
		lines += "    soft delete\n"
	}
	db, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	r := rand.New(rand.NewPCG(1, 2))
	var files []*migration.Migration
	for range 3 {
		src := rowsModels(t, lines)
		before := dump(t, ctx, e, db)
		var d *draft.Draft
		d, files = step(t, ctx, e, db, src, files, r)
		if len(d.InTheWay) > 0 {
			require.Equal(t, before, dump(t, ctx, e, db), "a refused draft changes nothing")
			return
		}
		s, err := draft.Look(ctx, e, db,
			func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, src), files, nil })
		require.NoError(t, err)
		left, err := s.Changes(ctx)
		require.NoError(t, err)
		require.Empty(t, left.Changes, "right after an apply nothing differs\n%s", src)
		if d.Migration == nil {
			people(t, ctx, db, soft)
			continue
		}
		text := d.Migration.Text
		after := dump(t, ctx, e, db)
		_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second})
		require.NoError(t, err, "undoing\n%s", text)
		require.Equal(t, before, dump(t, ctx, e, db), "every row is as it was after the undo of\n%s", text)
		_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
		require.NoError(t, err, "applying again\n%s", text)
		require.Equal(t, after, dump(t, ctx, e, db), "every row is as it was when applied first\n%s", text)
		people(t, ctx, db, soft)
		written := dump(t, ctx, e, db)
		if _, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second}); err != nil {
			require.Equal(t, written, dump(t, ctx, e, db), "a refused undo changes nothing")
			continue
		}
		if rapid.Bool().Draw(t, "meanwhile") { // where the tables are still there
			db.Exec(ctx, "INSERT INTO plots (number) VALUES (8)")
			db.Exec(ctx, "INSERT INTO habitats (code) VALUES ('new')")
		}
		_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
		require.NoError(t, err, "applying again what people wrote into\n%s", text)
		now := dump(t, ctx, e, db)
		// Rows that people wrote are there; declared cells that the step sets on rows
		// that were there before it may be set again.
		if !slices.ContainsFunc(d.Plan.Changes, func(c diff.Change) bool {
			return c.Kind == diff.ChangeRow || c.Kind == diff.AddRow && keptMade.MatchString(text)
		}) {
			for table, rows := range written { // a declared row that they deleted comes again
				require.Subset(t, now[table], rows, "what people wrote is there after an undo and an apply of\n%s",
					text)
			}
		} else {
			for table := range written {
				require.GreaterOrEqual(t, len(now[table]), len(written[table]),
					"no row is lost by an undo and an apply of\n%s", text)
			}
		}
	}
}
