package suite

// This file takes one database of each engine over that holds one of everything, and asks the
// server's own client whether the first migration creates the same again.

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/testserver"
)

// ownDump is what a server's own client, or SQLite's file, says of a database.
func ownDump(t *testing.T, p testserver.Place, db engine.Database, url string) string {
	switch p.Name {
	case "mariadb":
		return strings.ReplaceAll(serverDump(t, db, url, "--routines"), url[strings.LastIndexByte(url, '/')+1:], "here")
	case "postgres":
		c := exec.Command("pg_dump", "--schema-only", "--exclude-table="+schema.OwnPrefix+"*", url)
		c.Stderr = os.Stderr
		out, err := c.Output()
		require.NoError(t, err)
		var b strings.Builder
		for part := range strings.SplitSeq(string(out), "\n--\n-- Name: ") {
			for line := range strings.Lines(part) {
				// A word that is another each time, and a setting that stands where the first table does.
				if line != "\n" && !strings.HasPrefix(line, `\`) && !strings.HasPrefix(line, "SET default_table") {
					b.WriteString(line)
				}
			}
		}
		return b.String()
	}
	rows, err := db.Select(context.Background(), "SELECT type, name, tbl_name, sql FROM sqlite_schema ORDER BY type, name")
	require.NoError(t, err)
	var b strings.Builder
	for _, r := range rows {
		if !schema.Own(r[1]) && !strings.HasPrefix(r[1], "sqlite_") {
			b.WriteString(strings.Join(r, "\t") + "\n")
		}
	}
	return b.String()
}

// A database with one of everything is created again to the letter, and is not touched.
func TestAdoptWhole(t *testing.T) {
	inSQL := map[string][]string{
		"sqlite": {"hasty: [label on conflict IGNORE -> abort]",
			"long_column: [the name of a column has 1 to 63 bytes]", "words: []",
			"sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets: []"},
		"mariadb": {"long_column: [the name of a column has 1 to 63 bytes]",
			"sheets_of_old_sheets_of_old_sheets_of_old_sheets_of_old_sheets_o: []"},
		"postgres": {"no_columns: []"},
	}
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		ctx, e := context.Background(), p.Engine
		src, err := os.ReadFile(filepath.Join("testdata", "adopted", p.Name+".sql"))
		require.NoError(t, err)
		url, freshURL := p.URL(t), p.URL(t)
		db, err := e.Open(ctx, url, engine.Make)
		require.NoError(t, err)
		defer db.Close()
		for sql := range strings.SplitSeq(string(src), ";\n\n") {
			if sql != "" {
				require.NoError(t, db.Exec(ctx, sql), sql)
			}
		}
		before := ownDump(t, p, db, url)
		a := adoptAll(t, ctx, e, db, "")
		assert.ElementsMatch(t, inSQL[p.Name], a.inSQL)
		assert.Empty(t, a.outside)
		fresh, err := e.Open(ctx, freshURL, engine.Make)
		require.NoError(t, err)
		defer fresh.Close()
		_, err = runner.Apply(ctx, fresh, e, []*migration.Migration{a.first}, runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		assert.Equal(t, before, ownDump(t, p, fresh, freshURL), "from nothing")
		require.NoError(t, runner.Record(ctx, db, e, []*migration.Migration{a.first}, nil))
		assert.Equal(t, before, ownDump(t, p, db, url), "nothing was changed")
	})
}

// Tables that differ in case alone are not taken for each other, where a server tells them apart.
func TestAdoptAlike(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		if p.Name == "sqlite" {
			return
		}
		ctx, e, db := context.Background(), p.Engine, p.Open(t)
		defer db.Close()
		quote := map[string]string{"postgres": `"`, "mariadb": "`"}[p.Name]
		for _, name := range []string{"Sheet", "sheet", "alone"} {
			require.NoError(t, db.Exec(ctx, "CREATE TABLE "+quote+name+quote+" (id INT PRIMARY KEY, n INT)"))
		}
		live, err := db.Inspect(ctx)
		require.NoError(t, err)
		require.Equal(t, "sheet", live.Table("sheet").Name)
		require.Equal(t, "Sheet", live.Table("Sheet").Name)
		require.Equal(t, "alone", live.Table("ALONE").Name)
		a := adoptAll(t, ctx, e, db, "")
		require.Len(t, a.tables, 1, "the two are left undeclared")
		before := everything(t, ctx, e, db)
		fresh := p.Open(t)
		defer fresh.Close()
		_, err = runner.Apply(ctx, fresh, e, []*migration.Migration{a.first}, runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		require.Equal(t, before, everything(t, ctx, e, fresh), "both are created from nothing")
	})
}
