package suite

// This file holds what MariaDB is to keep for random models against what it says that it
// keeps. The engine does not take part in the other tests yet: nothing is written to it.

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/engine/mariadb"
	"erbario/internal/lang"
	"erbario/internal/testserver"
)

// Right after tables are made, they differ in nothing from what was declared.
func TestMariaDBKeepsWhatIsDeclared(t *testing.T) {
	ctx := context.Background()
	d, err := mariadb.Open(ctx, testserver.MariaDB(t))
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, flagSet("rapid.checks", "60"))
	rapid.Check(t, func(rt *rapid.T) {
		src := text(drawSchema(rt))
		f, diags := lang.Parse("models/test.erbario", src)
		require.Empty(rt, diags, src)
		declared, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, "mariadb")
		require.False(rt, lang.Errors(diags), "%v\n%s", diags, src)
		wanted, _ := mariadb.Engine{}.Realize(declared.Schema)
		statements := mariadb.Recreate(wanted)
		defer func() {
			for _, v := range wanted.Views {
				require.NoError(rt, d.Exec(ctx, "DROP VIEW IF EXISTS `"+v.Name+"`"))
			}
			require.NoError(rt, d.Exec(ctx, "SET foreign_key_checks = 0"))
			for _, table := range wanted.Tables {
				require.NoError(rt, d.Exec(ctx, "DROP TABLE IF EXISTS `"+table.Name+"`"))
			}
		}()
		for _, sql := range statements {
			require.NoError(rt, d.Exec(ctx, sql), "%s\n%s", sql, src)
		}
		live, err := d.Inspect(ctx)
		require.NoError(rt, err)
		require.NoError(rt, d.Restate(ctx, wanted, live), src)
		require.Empty(rt, diff.Schemas(live, wanted), src)
	})
}
