package postgres_test

import (
	"context"
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/engine"
	"erbario/internal/engine/postgres"
	"erbario/internal/schema"
	"erbario/internal/testserver"
)

// TestBridge lets two applications write one table at random, each by its own name of a
// field, and holds what either reads against what was written last.
func TestBridge(t *testing.T) {
	ctx := context.Background()
	_, db := open(t, testserver.Postgres(t))
	for name, value := range map[string]string{"without a default": "", "with a default": "'d'"} {
		t.Run(name, func(t *testing.T) {
			col := func(n string) *schema.Column {
				c := &schema.Column{Name: n, SQLType: "text"}
				if value != "" {
					c.Default = &schema.SQL{Text: value}
				}
				return c
			}
			table := &schema.Table{Name: "sheets", Columns: []*schema.Column{{Name: "id", SQLType: "integer"}, col("before"), col("now")}}
			e := postgres.Engine{}
			table.Triggers = []*schema.Trigger{e.Stages().Bridge(table, []engine.Span{{Column: table.Columns[2], Old: table.Columns[1]}})}
			for _, sql := range slices.Concat(e.Foundation(), []string{"DROP TABLE IF EXISTS sheets", "DROP FUNCTION IF EXISTS erbario_bridge_sheets()"}, e.Create(table).Apply, e.Stages().Begin("sheets")) {
				require.NoError(t, db.Exec(ctx, sql))
			}
			rapid.Check(t, func(t *rapid.T) {
				require.NoError(t, db.Exec(ctx, "DELETE FROM sheets"))
				model := map[int]string{}
				literal := rapid.SampledFrom([]string{"'a'", "'b'", "'d'", "NULL"})
				for i := range rapid.IntRange(1, 12).Draw(t, "writes") {
					column := rapid.SampledFrom([]string{"before", "now"}).Draw(t, "application")
					v := literal.Draw(t, "value")
					id := rapid.IntRange(0, i).Draw(t, "row")
					if _, there := model[id]; there {
						require.NoError(t, db.Exec(ctx, fmt.Sprintf("UPDATE sheets SET %s = %s WHERE id = %d", column, v, id)))
						model[id] = v
						continue
					}
					if rapid.Bool().Draw(t, "written") {
						require.NoError(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO sheets (id, %s) VALUES (%d, %s)", column, id, v)))
						model[id] = v
					} else { // by its default
						require.NoError(t, db.Exec(ctx, fmt.Sprintf("INSERT INTO sheets (id) VALUES (%d)", id)))
						if model[id] = "NULL"; value != "" {
							model[id] = value
						}
					}
				}
				rows, err := db.Sample(ctx, "SELECT id, before, now FROM sheets", 0)
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
}
