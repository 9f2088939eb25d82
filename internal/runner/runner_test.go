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
	"erbario/internal/engines"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/testserver"
)

var ctx = context.Background()

// line writes n migrations that follow each other: each makes a table and puts
// rows into it, so that one that was done in half would show.
func line(t testing.TB, n, rows int) []*migration.Migration {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	var out []*migration.Migration
	follows := ""
	for i := range n {
		m := &migration.Migration{ID: fmt.Sprintf("20260101T0000%02d-sheet", i), Engine: "sqlite", Follows: follows}
		follows = m.ID
		table := fmt.Sprintf("sheet_%02d", i)
		m.Steps = []migration.Step{
			{
				Title: "create " + table,
				Apply: []migration.Statement{{SQL: "CREATE TABLE " + table + " (id INTEGER PRIMARY KEY, note TEXT)"}},
				Undo:  []migration.Statement{{SQL: "DROP TABLE " + table}},
			},
			{Title: "fill it", Apply: []migration.Statement{
				{
					SQL: fmt.Sprintf(
						"WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < %d) INSERT INTO %s SELECT i, hex(randomblob(50)) FROM n",
						rows, table),
				},
			}},
			{
				Title: "index it",
				Apply: []migration.Statement{{SQL: "CREATE INDEX " + table + "_idx ON " + table + " (note)"}},
				Undo:  []migration.Statement{{SQL: "DROP INDEX " + table + "_idx"}},
			},
		}
		m, err := migration.Parse("m", migration.Write(m), e)
		require.NoError(t, err)
		out = append(out, m)
	}
	return out
}

func open(t testing.TB, path string) (engine.Engine, engine.Database) {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	db, err := e.Open(ctx, "sqlite:"+path, engine.Make)
	require.NoError(t, err)
	return e, db
}

// TestMain lets the test binary stand in for the program that is killed.
func TestMain(m *testing.M) {
	if path := os.Getenv("APPLY_TO"); path != "" {
		t := &testing.T{}
		e, db, files := engine.Engine(nil), engine.Database(nil), []*migration.Migration(nil)
		if strings.Contains(path, "://") {
			e, db = openURL(t, path)
			files = serverLine(t, e, 6, 2000)
		} else {
			e, db = open(t, path)
			files = line(t, 10, 400)
		}
		_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		os.Exit(0)
	}
	testserver.Main(m)
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
	slow.Steps[1].Apply = []migration.Statement{
		{
			SQL: "WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 50000000) INSERT INTO sheet_01 SELECT i, '' FROM n",
		},
	}
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

// How a database stands against the files, in every way that they can differ.
func TestStand(t *testing.T) {
	e, err := engines.All().ByName("sqlite")
	require.NoError(t, err)
	files := line(t, 4, 1)
	applied := func(list ...*migration.Migration) []runner.Applied {
		var out []runner.Applied
		for _, m := range list {
			out = append(out, runner.Applied{ID: m.ID, Checksum: m.Checksum(), Text: m.Text})
		}
		return out
	}
	ids := func(list []*migration.Migration) (out []string) {
		for _, m := range list {
			out = append(out, m.ID)
		}
		return out
	}
	s := runner.StatusOf(files, nil, e)
	assert.Len(t, s.Pending, 4)
	assert.Equal(t, "", s.At())
	assert.NoError(t, s.Problem())

	s = runner.StatusOf(files, applied(files[:2]...), e)
	assert.Equal(t, ids(files[2:]), ids(s.Pending))
	assert.Equal(t, files[1].ID, s.At())

	s = runner.StatusOf(files[1:], applied(files[:2]...), e)
	assert.Equal(t, []string{files[0].ID}, s.Missing)
	assert.ErrorContains(t, s.Problem(), files[0].ID)

	s = runner.StatusOf(files[:2], applied(files...), e)
	assert.Equal(t, ids(files[2:]), s.Newer)
	assert.Empty(t, s.Pending)
	assert.NoError(t, s.Problem(), "an older checkout is warned, not refused")

	edited := applied(files...)
	edited[1].Checksum = "another"
	s = runner.StatusOf(files, edited, e)
	assert.Equal(t, []string{files[1].ID}, s.Edited)
	assert.ErrorContains(t, s.Problem(), "edited")

	// One that comes in between, as after a merge, waits and may be applied.
	s = runner.StatusOf(files, applied(files[0], files[1], files[3]), e)
	assert.Equal(t, ids(files[2:3]), ids(s.Pending))
	assert.NoError(t, s.Problem())
}

// Sentences are right for one row as for many.
func TestSentence(t *testing.T) {
	for _, c := range []struct {
		n    int64
		want string
	}{{1, "1 row of taxa has no name"}, {0, "0 rows of taxa have no name"}, {12345, "12,345 rows of taxa have no name"}} {
		assert.Equal(t, c.want, runner.Sentence("{n} rows of taxa have no name", c.n))
	}
	assert.Equal(t, "1 row of taxa would have no name", runner.Sentence("{n} rows of taxa would have no name", 1))
	assert.Equal(t, "1 value of taxa.name occurs in more than one row",
		runner.Sentence("{n} values of taxa.name occur in more than one row", 1))
}

// An undo needs no file: the database has the text. What the undo of a file
// would be is asked about when only the database knows it.
func TestUndoWithoutFiles(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	e, db := open(t, path)
	defer db.Close()
	files := line(t, 3, 400)
	_, err := runner.Apply(ctx, db, e, files, runner.Options{})
	require.NoError(t, err)
	asked := 0
	_, err = runner.Undo(ctx, db, e, files[:2],
		runner.Options{Confirm: func(a runner.Applied) error { asked++; return fmt.Errorf("no") }})
	require.Error(t, err)
	assert.Equal(t, 1, asked)
	assert.Equal(t, 3, whole(t, db))
	done, err := runner.Undo(ctx, db, e, nil, runner.Options{Count: 2})
	require.NoError(t, err)
	assert.Len(t, done, 2)
	assert.Equal(t, 1, whole(t, db))
	done, err = runner.Undo(ctx, db, e, nil, runner.Options{Start: true})
	require.NoError(t, err)
	assert.Len(t, done, 1)
	done, err = runner.Undo(ctx, db, e, nil, runner.Options{})
	require.NoError(t, err)
	assert.Empty(t, done)
}

// To stops where it is told, by any part of a name.
func TestTo(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	e, db := open(t, path)
	defer db.Close()
	files := line(t, 5, 400)
	done, err := runner.Apply(ctx, db, e, files, runner.Options{To: "000002"})
	require.NoError(t, err)
	assert.Len(t, done, 3)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{To: "sheet"})
	assert.ErrorContains(t, err, "write more of the name")
	done, err = runner.Undo(ctx, db, e, files, runner.Options{To: "000000"})
	require.NoError(t, err)
	assert.Len(t, done, 2)
	assert.Equal(t, 1, whole(t, db))
	_, err = runner.Undo(ctx, db, e, files, runner.Options{To: "000004"})
	assert.ErrorContains(t, err, "among the applied")
}

// A migration that is not proved, or leaves its transaction, does not run where
// it may not.
func TestRefusedBeforeAnything(t *testing.T) {
	path := filepath.Join(t.TempDir(), "herbarium.db")
	e, db := open(t, path)
	defer db.Close()
	files := line(t, 2, 1)
	_, err := runner.Apply(ctx, db, e, files, runner.Options{Proved: true})
	assert.ErrorContains(t, err, "is not proved")
	own := *files[1]
	own.Steps = append([]migration.Step{}, own.Steps...)
	own.Steps[0].Kind = engine.OwnTransaction
	_, err = runner.Apply(ctx, db, e, []*migration.Migration{files[0], &own}, runner.Options{})
	assert.ErrorContains(t, err, "outside the migration's transaction")
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	assert.Empty(t, s.Tables, "not even the first of them ran")
}
