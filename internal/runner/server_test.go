package runner_test

// Migrations that are not one transaction, on a real server: killed at random
// moments, with the server killed under them, many at once, and with steps that fail.
// Whatever happens, the next run knows where the database stands, no row is lost, and
// no step is done twice.

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"strconv"
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

func openURL(t testing.TB, url string) (engine.Engine, engine.Database) {
	e, err := engines.All().ForURL(url)
	require.NoError(t, err)
	db, err := e.Open(ctx, url, engine.Make)
	require.NoError(t, err)
	return e, db
}

// serverLine writes n migrations that follow each other. Each makes a table with rows,
// notes in a log that each of its steps ran, and builds an index and a check while
// others could work: some steps in a transaction of their own, some in batches, some in
// none. A batch that was done twice, or not, would be told by the count of runs.
func serverLine(t testing.TB, e engine.Engine, n, rows int) []*migration.Migration {
	var out []*migration.Migration
	follows := ""
	for i := range n {
		m := &migration.Migration{ID: fmt.Sprintf("20260101T0000%02d-sheet", i), Engine: e.Name(), Follows: follows}
		follows = m.ID
		table := fmt.Sprintf("sheet_%02d", i)
		step := func(kind engine.StepKind, title, apply, undo string) {
			s := migration.Step{
				Title: title,
				Kind:  kind,
				Apply: []migration.Statement{{SQL: apply}},
				Undo:  []migration.Statement{{SQL: undo}},
			}
			if kind == engine.InBatches {
				s.Batches = &engine.Batches{Table: table, Key: []string{"id"}}
			}
			m.Steps = append(m.Steps, s)
		}
		if e.Caps().CommitsChanges {
			alter := "ALTER TABLE " + table
			step(engine.OutsideTransaction, "create "+table,
				"CREATE TABLE "+table+" (id integer PRIMARY KEY, note varchar(40), runs integer NOT NULL DEFAULT 0)",
				"DROP TABLE "+table)
			step(engine.OwnTransaction, "fill it",
				fmt.Sprintf("INSERT INTO %s SELECT seq, concat('sheet ', seq), 0 FROM seq_1_to_%d", table, rows),
				"DELETE FROM "+table)
			step(engine.OutsideTransaction, "index it", alter+" ADD INDEX "+table+"_idx (note)",
				alter+" DROP INDEX "+table+"_idx")
			step(engine.InBatches, "count its runs", "UPDATE "+table+" SET runs = runs + 1 WHERE :batch",
				"UPDATE "+table+" SET runs = runs - 1 WHERE :batch")
			step(engine.OutsideTransaction, "unique", alter+" ADD UNIQUE INDEX "+table+"_key (note, id)",
				alter+" DROP INDEX "+table+"_key")
			step(engine.OutsideTransaction, "check", alter+" ADD CONSTRAINT "+table+"_check CHECK (id > 0)",
				alter+" DROP CONSTRAINT "+table+"_check")
			step(engine.OwnTransaction, "nothing", "SELECT 1", "SELECT 1")
			m, err := migration.Parse("m", migration.Write(m), e)
			require.NoError(t, err)
			out = append(out, m)
			continue
		}
		step(engine.InTransaction, "create "+table,
			"CREATE TABLE "+table+" (id integer PRIMARY KEY, note text, runs integer NOT NULL DEFAULT 0)",
			"DROP TABLE "+table)
		step(engine.InTransaction, "fill it",
			fmt.Sprintf("INSERT INTO %s SELECT i, 'sheet ' || i FROM generate_series(1, %d) AS i", table, rows),
			"DELETE FROM "+table)
		step(engine.OutsideTransaction, "index it", "CREATE INDEX CONCURRENTLY "+table+"_idx ON "+table+" (note)",
			"DROP INDEX CONCURRENTLY IF EXISTS "+table+"_idx")
		step(engine.InBatches, "count its runs", "UPDATE "+table+" SET runs = runs + 1 WHERE :batch",
			"UPDATE "+table+" SET runs = runs - 1 WHERE :batch")
		step(engine.OutsideTransaction, "unique",
			"CREATE UNIQUE INDEX CONCURRENTLY "+table+"_key ON "+table+" (note, id)",
			"DROP INDEX CONCURRENTLY IF EXISTS "+table+"_key")
		step(engine.OwnTransaction, "check what comes",
			"ALTER TABLE "+table+" ADD CONSTRAINT "+table+"_check CHECK (id > 0) NOT VALID",
			"ALTER TABLE "+table+" DROP CONSTRAINT "+table+"_check")
		step(engine.OwnTransaction, "check every row", "ALTER TABLE "+table+" VALIDATE CONSTRAINT "+table+"_check",
			"SELECT 1")
		m, err := migration.Parse("m", migration.Write(m), e)
		require.NoError(t, err)
		out = append(out, m)
	}
	return out
}

// wholeOnServer checks that every migration of the history is there with all it makes,
// each step done once, and that nothing else is but for one that the journal tells of.
func wholeOnServer(t *testing.T, db engine.Database, rows int) (n int, half *runner.Interrupted) {
	applied, err := runner.History(ctx, db)
	require.NoError(t, err)
	half, err = runner.FindInterrupted(ctx, db)
	require.NoError(t, err)
	s, err := db.Inspect(ctx)
	require.NoError(t, err)
	tables := 0
	for _, table := range s.Tables {
		if !strings.HasPrefix(table.Name, "sheet_") {
			continue
		}
		if half != nil && strings.HasSuffix(strings.SplitN(half.ID, "-", 2)[0], table.Name[len("sheet_"):]) {
			continue
		}
		tables++
		got, err := db.Select(ctx, "SELECT count(*), min(runs), max(runs) FROM "+table.Name)
		require.NoError(t, err)
		require.Equal(t, []string{strconv.Itoa(rows), "1", "1"}, got[0], table.Name)
		require.Len(t, table.Indexes, 2, table.Name)
		for _, x := range table.Indexes {
			require.False(t, x.Invalid, x.Name)
		}
		require.Len(t, table.Checks, 1, table.Name)
	}
	require.Equal(t, len(applied), tables)
	return tables, half
}

func kills(otherwise int) int {
	if n, err := strconv.Atoi(os.Getenv("ERBARIO_KILLS")); err == nil {
		return n
	}
	return otherwise
}

// Killed at random moments, the program leaves a state that the next run tells, and
// finishes or undoes.
func TestKilledOnServer(t *testing.T) { onServers(t, killedOnServer) }

// onServers runs a test on every engine whose migrations need not be one transaction.
func onServers(t *testing.T, f func(t *testing.T, place testserver.Place)) {
	testserver.Each(t, func(t *testing.T, place testserver.Place) {
		if place.Engine.Caps().Journal {
			f(t, place)
		}
	})
}

func killedOnServer(t *testing.T, place testserver.Place) {
	self, err := os.Executable()
	require.NoError(t, err)
	began := time.Now()
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), "APPLY_TO="+place.URL(t))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	span := time.Since(began)
	halves := 0
	for i := range kills(map[bool]int{true: 10, false: 80}[place.Engine.Caps().CommitsChanges]) {
		url := place.URL(t)
		cmd := exec.Command(self)
		cmd.Env = append(os.Environ(), "APPLY_TO="+url)
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(rand.Int64N(int64(span))))
		_ = cmd.Process.Signal(syscall.SIGKILL)
		_ = cmd.Wait()
		e, db := openURL(t, url)
		waitGone(t, place, db)
		_, half := wholeOnServer(t, db, 2000)
		if half != nil {
			halves++
		}
		if half != nil && i%2 == 0 { // every other time, back
			_, err := runner.Undo(ctx, db, e, nil, runner.Options{Wait: time.Minute})
			require.NoError(t, err)
			_, half = wholeOnServer(t, db, 2000)
			require.Nil(t, half)
		}
		_, err := runner.Apply(ctx, db, e, serverLine(t, e, 6, 2000), runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		n, half := wholeOnServer(t, db, 2000)
		require.Nil(t, half)
		require.Equal(t, 6, n)
		require.NoError(t, db.Close())
	}
	t.Logf("%d were stopped within a migration", halves)
	assert.Positive(t, halves)
}

// waitGone waits until the server has noticed that the program was killed: what still
// ran of it could commit while the test looks.
func waitGone(t *testing.T, place testserver.Place, db engine.Database) {
	others := "SELECT 1 FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
	if place.Name == "mariadb" {
		others = "SELECT 1 FROM information_schema.processlist WHERE db = database() AND id <> connection_id()"
	}
	for range 200 {
		rows, err := db.Select(ctx, others)
		require.NoError(t, err)
		if len(rows) == 0 {
			return
		}
		time.Sleep(20 * time.Millisecond)
	}
	t.Fatal("the killed program's session stays")
}

// The server is killed under a run: what it acknowledged is there when it is back, and
// the next run goes on.
func TestServerKilled(t *testing.T) {
	for name, start := range map[string]func() (*testserver.Server, error){
		"postgres": func() (*testserver.Server, error) {
			return testserver.StartPostgres("-c", "fsync=off", "-c", "synchronous_commit=on")
		},
		"mariadb": func() (*testserver.Server, error) {
			return testserver.StartMariaDB("--innodb-flush-log-at-trx-commit=1")
		},
	} {
		if only := os.Getenv(testserver.EnginesVariable); only == "" || strings.Contains(only, name) {
			t.Run(name, func(t *testing.T) { serverKilled(t, start) })
		}
	}
}

func serverKilled(t *testing.T, start func() (*testserver.Server, error)) {
	s, err := start()
	require.NoError(t, err)
	defer s.Stop()
	halves := 0
	for i := range kills(6) {
		url := testserver.In(s.URL, fmt.Sprintf("killed_%d", i))
		e, db := openURL(t, url)
		files := serverLine(t, e, 4, 2000)
		failed := make(chan error, 1)
		go func() {
			_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: 10 * time.Second})
			failed <- err
		}()
		time.Sleep(time.Duration(rand.Int64N(int64(150 * time.Millisecond))))
		s.Kill()
		err := <-failed
		db.Close()
		require.NoError(t, s.Start())
		if err != nil {
			require.ErrorIs(t, err, engine.ErrLost)
			var half *runner.InterruptedError
			if errors.As(err, &half) {
				halves++
			}
		}
		e, db = openURL(t, url)
		wholeOnServer(t, db, 2000)
		_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		n, left := wholeOnServer(t, db, 2000)
		require.Nil(t, left)
		require.Equal(t, 4, n)
		require.NoError(t, db.Close())
	}
	t.Logf("%d were stopped within a migration", halves)
}

// Of twenty that apply at once one works, and the others wait and find nothing to do.
func TestTwentyAtOnce(t *testing.T) { onServers(t, twentyAtOnce) }

func twentyAtOnce(t *testing.T, place testserver.Place) {
	for range min(kills(2), 20) {
		url := place.URL(t)
		_, db := openURL(t, url)
		var wg sync.WaitGroup
		var mu sync.Mutex
		done := map[string]int{}
		for range 20 {
			wg.Add(1)
			go func() {
				defer wg.Done()
				e, db := openURL(t, url)
				defer db.Close()
				list, err := runner.Apply(ctx, db, e, serverLine(t, e, 4, 200), runner.Options{Wait: 2 * time.Minute})
				assert.NoError(t, err)
				mu.Lock()
				defer mu.Unlock()
				for _, m := range list {
					done[m.ID]++
				}
			}()
		}
		wg.Wait()
		assert.Len(t, done, 4)
		for id, n := range done {
			assert.Equal(t, 1, n, id)
		}
		n, half := wholeOnServer(t, db, 200)
		assert.Nil(t, half)
		assert.Equal(t, 4, n)
		require.NoError(t, db.Close())
	}
}

// A step that fails has the finished ones undone, and what it left half built is
// gone; with Stop they stay, and the next run takes them back or goes on.
func TestStepFails(t *testing.T) { onServers(t, stepFails) }

func stepFails(t *testing.T, place testserver.Place) {
	e, db := openURL(t, place.URL(t))
	defer db.Close()
	files := serverLine(t, e, 2, 50)
	_, err := runner.Apply(ctx, db, e, files[:1], runner.Options{Wait: time.Second})
	require.NoError(t, err)
	broken := *files[1]
	broken.Steps = append([]migration.Step{}, broken.Steps...)
	// Every row has the same value: the index is half built when that shows.
	broken.Steps[4].Apply = []migration.Statement{
		{SQL: "CREATE UNIQUE INDEX CONCURRENTLY sheet_01_key ON sheet_01 (runs)"},
	}
	if e.Caps().CommitsChanges {
		broken.Steps[4].Apply = []migration.Statement{
			{SQL: "ALTER TABLE sheet_01 ADD UNIQUE INDEX sheet_01_key (runs)"},
		}
	}
	bad, err := migration.Parse("m", migration.Write(&broken), e)
	require.NoError(t, err)
	list := []*migration.Migration{files[0], bad}

	_, err = runner.Apply(ctx, db, e, list, runner.Options{Wait: time.Second})
	var step *runner.StepError
	require.ErrorAs(t, err, &step)
	assert.Equal(t, 5, step.Step)
	var stopped *runner.InterruptedError
	assert.NotErrorAs(t, err, &stopped)
	n, half := wholeOnServer(t, db, 50)
	assert.Nil(t, half)
	assert.Equal(t, 1, n, "nothing of it is left")

	_, err = runner.Apply(ctx, db, e, list, runner.Options{Wait: time.Second, Stop: true})
	require.ErrorAs(t, err, &stopped)
	assert.Equal(t, []int{1, 2, 3, 4}, stopped.Half.Done)
	assert.Equal(t, 5, stopped.Half.Cut)
	_, err = db.Select(ctx, "DELETE FROM sheet_01 WHERE id > 1") // now it can be built
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, list, runner.Options{Wait: time.Second})
	require.NoError(t, err)
	_, half = wholeHalf(t, db)
	assert.Nil(t, half)
	done, err := runner.Undo(ctx, db, e, list, runner.Options{Wait: time.Second})
	require.NoError(t, err)
	assert.Len(t, done, 1)
	n, _ = wholeOnServer(t, db, 50)
	assert.Equal(t, 1, n)
}

func wholeHalf(t *testing.T, db engine.Database) (int, *runner.Interrupted) {
	half, err := runner.FindInterrupted(ctx, db)
	require.NoError(t, err)
	return 0, half
}

// What comes next cannot take away what is done: the end of a migration may be written
// with the beginning of the one behind it, which is refused, fails, or is stopped.
func TestNextFails(t *testing.T) { onServers(t, nextFails) }

func nextFails(t *testing.T, place testserver.Place) {
	question := func(m *migration.Migration) {
		m.BeforeApply = []engine.Requirement{
			{Sentence: "{n} rows of sheet_00 are there", Query: "SELECT id FROM sheet_00"},
		}
	}
	step := func(m *migration.Migration) {
		m.Steps[0].Apply = []migration.Statement{{SQL: "CREATE TABLE sheet_00 (id integer)"}}
	}
	for what, spoil := range map[string]func(m *migration.Migration){"a question": question, "the first step": step} {
		t.Run(what, func(t *testing.T) {
			e, db := openURL(t, place.URL(t))
			defer db.Close()
			files := serverLine(t, e, 3, 20)
			spoil(files[1])
			_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
			require.Error(t, err)
			n, half := wholeOnServer(t, db, 20)
			require.Nil(t, half)
			require.Equal(t, 1, n)
			good := serverLine(t, e, 3, 20)
			done, err := runner.Apply(ctx, db, e, good, runner.Options{Wait: time.Second})
			require.NoError(t, err)
			require.Len(t, done, 2)
			n, half = wholeOnServer(t, db, 20)
			require.Nil(t, half)
			require.Equal(t, 3, n)
		})
	}
	t.Run("stopped", func(t *testing.T) {
		for at := 1; ; at++ {
			e, db := openURL(t, place.URL(t))
			stopped, stop := context.WithCancel(ctx)
			var told []string
			done, err := runner.Apply(stopped, &stopping{Database: db, left: at, stop: stop}, e, serverLine(t, e, 3, 5),
				runner.Options{Wait: time.Second, Done: func(r runner.Run) { told = append(told, r.ID) }})
			ended := stopped.Err() == nil
			stop()
			n, half := wholeOnServer(t, db, 5)
			if half == nil {
				require.Equal(t, n, len(done), "stopped at statement %d", at)
			}
			require.Len(t, told, len(done))
			_, again := runner.Apply(ctx, db, e, serverLine(t, e, 3, 5), runner.Options{Wait: time.Second})
			require.NoError(t, again, "stopped at statement %d, which gave %v", at, err)
			n, half = wholeOnServer(t, db, 5)
			require.Nil(t, half)
			require.Equal(t, 3, n)
			db.Close()
			if ended {
				return
			}
		}
	})
}

// stopping stops the run before one of its statements.
type stopping struct {
	engine.Database
	left int
	stop func()
}

func (s *stopping) Unwrap() engine.Database { return s.Database }

func (s *stopping) count() {
	if s.left--; s.left == 0 {
		s.stop()
	}
}

func (s *stopping) Exec(ctx context.Context, sql string, args ...any) error {
	s.count()
	return s.Database.Exec(ctx, sql, args...)
}

func (s *stopping) Step(ctx context.Context, sql string) error {
	s.count()
	return s.Database.Step(ctx, sql)
}

func (s *stopping) ExecAutocommit(ctx context.Context, sql string) error {
	s.count()
	return s.Database.(engine.Autocommitter).ExecAutocommit(ctx, sql)
}

func (s *stopping) Commit(ctx context.Context) error {
	s.count()
	return s.Database.Commit(ctx)
}
