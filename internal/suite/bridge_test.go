package suite

// This file holds bridges against a model of what two applications write that know one
// field by different names.

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/engine"
	"erbario/internal/testserver"
)

// TestBridge lets two applications write one table at random, each by its own name of a
// field, and holds what either reads against what was written last.
func TestBridge(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		e, ctx := p.Engine, context.Background()
		if !e.Caps().Stages {
			return
		}
		for name, value := range map[string]string{"without a default": "", "with a default": "'d'"} {
			t.Run(name, func(t *testing.T) {
				clause := ""
				if value != "" {
					clause = ` default "d"`
				}
				db := p.Open(t)
				defer db.Close()
				table := wanted(t, e, "model Sheet\n    number integer\n    before text(20) optional"+clause+"\n    now text(20) optional"+clause+"\n").Tables[0]
				table.Triggers = engine.StagesOf(e).
					SyncTriggers(table, []engine.Span{{Column: table.Column("now"), Old: table.Column("before")}})
				made := e.DDL().Create(table).Apply
				for _, sql := range slices.Concat(e.OwnTables().History, engine.StagesOf(e).Begin(table.Name)[:len(engine.StagesOf(e).Begin(table.Name))-1], made) {
					require.NoError(t, db.Exec(ctx, sql))
				}
				number, before := e.SQL().Quote("number"), e.SQL().Quote("before")
				rapid.Check(t, func(t *rapid.T) {
					require.NoError(t, db.Exec(ctx, "DELETE FROM sheets"))
					model := map[int]string{}
					literal := rapid.SampledFrom([]string{"'a'", "'b'", "'d'", "'A'", "NULL"})
					for i := range rapid.IntRange(1, 12).Draw(t, "writes") {
						column := rapid.SampledFrom([]string{before, e.SQL().Quote("now")}).Draw(t, "application")
						v := literal.Draw(t, "value")
						id := rapid.IntRange(0, i).Draw(t, "row")
						if _, there := model[id]; there {
							require.NoError(
								t,
								db.Exec(ctx,
									fmt.Sprintf("UPDATE sheets SET %s = %s WHERE %s = %d", column, v, number, id)),
							)
							model[id] = v
							continue
						}
						if rapid.Bool().Draw(t, "written") {
							require.NoError(
								t,
								db.Exec(ctx,
									fmt.Sprintf("INSERT INTO sheets (%s, %s) VALUES (%d, %s)", number, column, id, v)),
							)
							model[id] = v
						} else { // by its default
							require.NoError(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO sheets (%s) VALUES (%d)", number, id)))
							if model[id] = "NULL"; value != "" {
								model[id] = value
							}
						}
					}
					rows, err := db.Sample(ctx,
						fmt.Sprintf("SELECT %s, %s, %s FROM sheets", number, before, e.SQL().Quote("now")), 0)
					require.NoError(t, err)
					require.Len(t, rows.Values, len(model))
					for _, r := range rows.Values {
						var id int
						fmt.Sscan(r[0], &id)
						require.Equal(t, []string{model[id], model[id]}, r[1:], "row %d", id)
					}
				})
			})
		}
	})
}
