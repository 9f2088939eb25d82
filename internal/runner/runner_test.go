package runner_test

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	_ "erbario/internal/engine/sqlite"
	"erbario/internal/migration"
	"erbario/internal/runner"
)

var ctx = context.Background()

// line writes n migrations that follow each other: each makes a table and puts
// rows into it, so that one that was done in half would show.
func line(t testing.TB, n, rows int) []*migration.Migration {
	e, err := engine.ByName("sqlite")
	require.NoError(t, err)
	var out []*migration.Migration
	follows := ""
	for i := range n {
		m := &migration.Migration{ID: fmt.Sprintf("20260101T0000%02d-sheet", i), Engine: "sqlite", Follows: follows}
		follows = m.ID
		table := fmt.Sprintf("sheet_%02d", i)
		m.Steps = []migration.Step{
			{Title: "create " + table, Apply: []migration.Statement{{SQL: "CREATE TABLE " + table + " (id INTEGER PRIMARY KEY, note TEXT)"}}, Undo: []migration.Statement{{SQL: "DROP TABLE " + table}}},
			{Title: "fill it", Apply: []migration.Statement{
				{SQL: fmt.Sprintf("WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO %s SELECT i, hex(randomblob(50)) FROM n", rows, table)},
			}},
			{Title: "index it", Apply: []migration.Statement{{SQL: "CREATE INDEX " + table + "_idx ON " + table + " (note)"}}, Undo: []migration.Statement{{SQL: "DROP INDEX " + table + "_idx"}}},
		}
		m, err := migration.Parse("m", migration.Write(m), e)
		require.NoError(t, err)
		out = append(out, m)
	}
	return out
}

func open(t testing.TB, path string) (engine.Engine, engine.Database) {
	e, err := engine.ByName("sqlite")
	require.NoError(t, err)
	db, err := e.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	return e, db
}

// TestMain lets the test binary stand in for the program that is killed.
func TestMain(m *testing.M) {
	if path := os.Getenv("APPLY_TO"); path != "" {
		t := &testing.T{}
		e, db := open(t, path)
		_, err := runner.Apply(ctx, db, e, line(t, 10, 400), runner.Options{Wait: time.Minute})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	os.Exit(m.Run())
}

// whole checks that the database stands at the boundary of a migration: each
// that is in the history is there with all it makes, and nothing else is.
func whole(t *testing.T, db engine.Database) int {
	applied, err := runner.History(ctx, db)
	require.NoError(t, err)
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	n := 0
	for _, table := range s.Tables {
		if strings.HasPrefix(table.Name, "sheet_") {
			n++
			count, err := db.Count(ctx, "SELECT 1 FROM "+table.Name)
			require.NoError(t, err)
			require.EqualValues(t, 400, count, table.Name)
			require.Len(t, table.Indexes, 1, table.Name)
		}
	}
	require.Equal(t, len(applied), n)
	return n
}

// Killed at random moments, a run leaves the database at the boundary of a
// migration, and the next run finishes.
func TestKilled(t *testing.T) {
	dir := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	// How long an undisturbed run takes, to spread the moments over it.
	began := time.Now()
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), "APPLY_TO="+filepath.Join(dir, "whole.db"))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	span := time.Since(began)
	stopped := 0
	for i := range 100 {
		path := filepath.Join(dir, fmt.Sprintf("killed-%d.db", i))
		cmd := exec.Command(self)
		cmd.Env = append(os.Environ(), "APPLY_TO="+path)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(span))))
		cmd.Process.Signal(syscall.SIGKILL)
		cmd.Wait()
		e, db := open(t, path)
		if n := whole(t, db); n > 0 && n < 10 {
			stopped++
		}
		_, err := runner.Apply(ctx, db, e, line(t, 10, 400), runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		require.Equal(t, 10, whole(t, db))
		require.NoError(t, db.Close())
	}
	t.Logf("%d of 100 were stopped between the first and the last migration", stopped)
	assert.Positive(t, stopped)
}

// Of several that apply at once, one works and the others wait and find nothing
// to do: every migration is applied once.
func TestSeveralAtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	var wg sync.WaitGroup
	var mu sync.Mutex
	done := map[string]int{}
	for range 4 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			e, db := open(t, path)
			defer db.Close()
			list, err := runner.Apply(ctx, db, e, line(t, 10, 400), runner.Options{Wait: time.Minute})
			assert.NoError(t, err)
			mu.Lock()
			defer mu.Unlock()
			for _, m := range list {
				done[m.ID]++
			}
		}()
	}
	wg.Wait()
	assert.Len(t, done, 10)
	for id, n := range done {
		assert.Equal(t, 1, n, id)
	}
	_, db := open(t, path)
	defer db.Close()
	assert.Equal(t, 10, whole(t, db))
}

// A run that is cancelled in the middle of a step leaves the file as it was.
func TestCancelled(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	e, db := open(t, path)
	defer db.Close()
	files := line(t, 2, 400)
	_, err := runner.Apply(ctx, db, e, files[:1], runner.Options{})
	require.NoError(t, err)
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	slow := *files[1]
	slow.Steps = append([]migration.Step{}, slow.Steps...)
	slow.Steps[1].Apply = []migration.Statement{{SQL: "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50000000) INSERT INTO sheet_01 SELECT i, '' FROM n"}}
	stop, cancel := context.WithTimeout(ctx, 300*time.Millisecond)
	defer cancel()
	_, err = runner.Apply(stop, db, e, []*migration.Migration{files[0], &slow}, runner.Options{})
	require.Error(t, err)
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after, "byte for byte")
}

// A full disk is said, and the file is as it was.
func TestFullDisk(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	e, db := open(t, path)
	defer db.Close()
	files := line(t, 3, 400)
	_, err := runner.Apply(ctx, db, e, files[:1], runner.Options{})
	require.NoError(t, err)
	before, err := os.ReadFile(path)
	require.NoError(t, err)
	// SQLite's own limit on the size of the file fails in the same way.
	pages, err := db.Select(ctx, "PRAGMA page_count")
	require.NoError(t, err)
	_, err = db.Select(ctx, "PRAGMA max_page_count = "+pages[0][0])
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{})
	assert.ErrorContains(t, err, "the disk is full")
	after, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.Equal(t, before, after)
	_, err = db.Select(ctx, "PRAGMA max_page_count = 1000000")
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{})
	assert.NoError(t, err)
}
