package rows_test

// The cases of testdata are models with reference rows, what a database has of them, and what is
// found there, on a database in memory. UPDATE_ROWS=1 writes what is found.

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/rows"
	"erbario/internal/sqlschema"
)

func TestCompare(t *testing.T) {
	paths, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		t.Run(strings.TrimSuffix(filepath.Base(path), ".txtar"), func(t *testing.T) {
			archive, err := txtar.ParseFile(path)
			require.NoError(t, err)
			part := map[string]*txtar.File{}
			for i := range archive.Files {
				part[archive.Files[i].Name] = &archive.Files[i]
			}
			got := compared(t, string(part["models"].Data), string(part["rows"].Data), string(part["known"].Data))
			if os.Getenv("UPDATE_ROWS") != "" {
				part["found"].Data = []byte(got)
				require.NoError(t, os.WriteFile(path, txtar.Format(archive), 0o644))
				return
			}
			assert.Equal(t, string(part["found"].Data), got)
		})
	}
}

// compared tells of the reference rows of every table. known are those that a migration
// inserted once, as "table key".
func compared(t *testing.T, models, sql, known string) string {
	ctx := context.Background()
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	f, diags := lang.Parse("models/test.erbario", models)
	require.Empty(t, diags, models)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, e.Name())
	require.False(t, lang.Errors(diags), "%v", diags)
	wanted, _ := e.DDL().Lower(d.Schema)
	db, err := e.Scratch(ctx)
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, engine.FillWhole(ctx, db, e.DDL().CreateAll(wanted)))
	for _, s := range e.SQL().Split(sql) {
		require.NoError(t, db.Exec(ctx, s.Text), s.Text)
	}
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	once := map[string]rows.Known{}
	for _, w := range wanted.Tables {
		if w.Rows() != nil {
			once[w.Name] = rows.Known{By: w.Rows().KeyParts()}
		}
	}
	for line := range strings.Lines(known) {
		table, key, _ := strings.Cut(strings.TrimSpace(line), " ")
		k := once[table]
		k.Keys = append(k.Keys, key)
		once[table] = k
	}
	var b strings.Builder
	for _, w := range wanted.Tables {
		if w.Rows() == nil {
			continue
		}
		b.WriteString(told(t, ctx, rows.In{DB: db, Schema: live}, e, wanted, w.Name, once))
	}
	return b.String()
}

func told(t *testing.T, ctx context.Context, in rows.In, e engine.Engine, wanted *sqlschema.Schema, table string,
	known map[string]rows.Known) string {
	list, err := in.Compare(ctx, e.SQL(), wanted, table, known)
	require.NoError(t, err)
	var b strings.Builder
	for _, r := range list {
		how := "missing"
		if r.There {
			how = "there"
		}
		if !r.Declared {
			how += ", no longer declared"
		}
		fmt.Fprintf(&b, "%s %s: %s\n", table, r.Key, how)
		for _, c := range r.Cells {
			if r.There && !c.Same {
				fmt.Fprintf(&b, "    %s is %s\n", c.Column, c.Now)
			}
		}
		for _, p := range r.Pointing {
			fmt.Fprintf(&b, "    %d rows of %s refer to it\n", p.Rows, p.Table)
		}
	}
	return b.String()
}
