package sqlite

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
)

// What comes back from a kept table of many rows is looked up by an index, which is there
// only so long.
func TestKeptIsLookedUpByIndex(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	opened, err := Engine{}.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	defer opened.Close()
	d := opened.(*database)
	for _, sql := range []string{
		"CREATE TABLE lamps (id INTEGER PRIMARY KEY, a TEXT)",
		"CREATE TABLE erbario_kept_x_lamps (key_id INTEGER, a TEXT)",
		"WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 1000) INSERT INTO lamps (id) SELECT i FROM n",
		"INSERT INTO erbario_kept_x_lamps SELECT id, 'lamp ' || id FROM lamps",
	} {
		require.NoError(t, d.Exec(ctx, sql))
	}
	const value = "(SELECT a FROM erbario_kept_x_lamps WHERE erbario_kept_x_lamps.key_id IS lamps.id ORDER BY rowid DESC LIMIT 1)"
	const byIndex = "SEARCH erbario_kept_x_lamps USING INDEX erbario_kept_x_lamps_key_index"
	indexes := func() string {
		rows, err := d.Select(ctx, "SELECT count(*) FROM sqlite_schema WHERE type = 'index'")
		require.NoError(t, err)
		return rows[0][0]
	}

	require.NoError(t, d.Begin(ctx, time.Second))
	update, used := "UPDATE lamps SET a = "+value, ""
	require.NoError(t, d.stepIndexed(ctx, update, func(ctx context.Context, sql string, args ...any) error {
		used = planOf(t, d, sql)
		return d.Exec(ctx, sql, args...)
	}))
	require.Contains(t, used, byIndex)
	require.Equal(t, "0", indexes())
	rows, err := d.Select(ctx, "SELECT count(*) FROM lamps WHERE a = 'lamp ' || id")
	require.NoError(t, err)
	require.Equal(t, "1000", rows[0][0])

	question := "SELECT id, " + value + " AS a FROM lamps"
	require.NoError(t, d.askIndexed(ctx, question, func() error { used = planOf(t, d, question); return nil }))
	require.Contains(t, used, byIndex)
	require.Equal(t, "0", indexes())
	n, err := d.Count(ctx, question)
	require.NoError(t, err)
	require.EqualValues(t, 1000, n)
	require.Equal(t, "0", indexes())

	// A few rows are read through.
	require.NoError(t, d.Exec(ctx, "DELETE FROM erbario_kept_x_lamps WHERE key_id > 10"))
	require.NoError(t, d.askIndexed(ctx, question, func() error { used = planOf(t, d, question); return nil }))
	require.NotContains(t, used, "key_index")
	require.NoError(t, d.Rollback())

	// ExecAutocommit of a transaction, and where nothing can be written, a copy has the index.
	ask := func(d *database) {
		t.Helper()
		require.NoError(t, d.askIndexed(ctx, question, func() error { used = planOf(t, d, question); return nil }))
		require.Contains(t, used, byIndex)
		require.ErrorContains(t, d.askIndexed(ctx, question, func() error { return errors.New("no") }), "no")
		stopped, stop := context.WithCancel(ctx)
		require.Error(t, d.askIndexed(stopped, question, func() error { stop(); return stopped.Err() }))
		left, err := d.Select(ctx, "SELECT name FROM temp.sqlite_schema")
		require.NoError(t, err)
		require.Empty(t, left, "no copy is left that could be taken for the table")
	}
	ask(d)
	require.Equal(t, "0", indexes())
	reading, err := Engine{}.Open(ctx, "sqlite:"+path, engine.ReadOnly)
	require.NoError(t, err)
	defer reading.Close()
	ask(reading.(*database))
}

func planOf(t *testing.T, d *database, sql string) string {
	t.Helper()
	rows, err := d.Select(ctx, "EXPLAIN QUERY PLAN "+sql)
	require.NoError(t, err)
	var out []string
	for _, r := range rows {
		out = append(out, r[len(r)-1])
	}
	return strings.Join(out, "\n")
}
