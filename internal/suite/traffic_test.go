package suite

// This file has two applications write while a staged pair that renames a field and changes
// the type of another goes forward and back, and holds every value against a plain model of
// what was written.

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// written is what an application knows to be in the table: what it was told is done.
type written struct {
	mu   sync.Mutex
	rows map[int]string
}

// writer is an application that writes rows of its own, told by their ids, again and again.
// write says how it writes the value n to row id, new or not.
func writer(t *testing.T, p testserver.Place, url string, done *written, ids []int, stop *atomic.Bool,
	refused *atomic.Int64, write func(id, n int, add bool) string) *sync.WaitGroup {
	var wg sync.WaitGroup
	wg.Add(1)
	go func() {
		defer wg.Done()
		ctx := context.Background()
		db, err := p.Engine.Open(ctx, url, engine.ReadWrite)
		if err != nil {
			t.Error(err)
			return
		}
		defer db.Close()
		have := map[int]bool{}
		for n := 1; !stop.Load(); n++ {
			id := ids[n%len(ids)]
			if err := db.Exec(ctx, write(id, n, !have[id])); err != nil {
				refused.Add(1)
				if strings.Contains(err.Error(), "connection") {
					t.Error(err)
					return
				}
				continue
			}
			have[id] = true
			done.mu.Lock()
			done.rows[id] = strconv.Itoa(n)
			done.mu.Unlock()
			time.Sleep(time.Millisecond)
		}
	}()
	return &wg
}

func idsFrom(first, n int) []int {
	out := make([]int, n)
	for i := range out {
		out[i] = first + i
	}
	return out
}

// Both applications write during all of a staged pair, and during its way back: nothing that
// either was told is written is lost, and nothing that the new one writes is refused.
func TestStagedTraffic(t *testing.T) {
	const from = "model Sheet\n    label text(40)\n    n integer\n"
	const to = "model Sheet\n    title text(40)\n    n text(12)\n"
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		if !p.Engine.Caps().Stages {
			return
		}
		ctx := context.Background()
		url := p.URL(t)
		db, err := p.Engine.Open(ctx, url, engine.Make)
		require.NoError(t, err)
		defer db.Close()
		e := p.Engine
		look := func(models string, files []*migration.Migration) *draft.State {
			s, err := draft.Look(ctx, e, db,
				func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, models), files, nil })
			require.NoError(t, err)
			s.InUse = true
			return s
		}
		start, err := look(from, nil).Make(ctx, draft.Request{Title: "first", Now: time.Now()})
		require.NoError(t, err)
		files := []*migration.Migration{start.Migration}
		apply := func(list []*migration.Migration) {
			_, err := runner.Apply(ctx, db, e, list, runner.Options{Wait: time.Minute})
			require.NoError(t, err)
		}
		apply(files)
		var rows []string
		for id := 1000; id < 5000; id++ {
			rows = append(rows, fmt.Sprintf("(%d, '%d', %d)", id, id, id))
		}
		require.NoError(t, db.Exec(ctx, "INSERT INTO sheets (id, label, n) VALUES "+strings.Join(rows, ", ")))
		s := look(to, files)
		first, second, err := s.Staged(
			ctx,
			draft.Request{
				Title:   "change",
				Now:     time.Now(),
				Answers: plan.Answers{Rename: []plan.Rename{{Table: "sheets", Column: "label", To: "title"}}},
			},
			time.Hour,
		)
		require.NoError(t, err)
		require.NotNil(t, second.Migration)
		one, both := append(files, first.Migration), append(files, first.Migration, second.Migration)

		done := &written{rows: map[int]string{}}
		var stopOld, stopNew atomic.Bool
		var oldRefused, newRefused atomic.Int64
		// The one of before: it writes label and a number.
		old := writer(t, p, url, done, idsFrom(1, 40), &stopOld, &oldRefused, func(id, n int, add bool) string {
			if add {
				return fmt.Sprintf("INSERT INTO sheets (id, label, n) VALUES (%d, '%d', %d)", id, n, n)
			}
			return fmt.Sprintf("UPDATE sheets SET label = '%d', n = %d WHERE id = %d", n, n, id)
		})
		time.Sleep(100 * time.Millisecond)
		apply(one)
		// The one that knows of the change writes title, and its number as a text. What it
		// writes is never refused.
		newer := func(id, n int, add bool) string {
			if add {
				return fmt.Sprintf("INSERT INTO sheets (id, title, n) VALUES (%d, '%d', '%d')", id, n, n)
			}
			return fmt.Sprintf("UPDATE sheets SET title = '%d', n = '%d' WHERE id = %d", n, n, id)
		}
		next := writer(t, p, url, done, idsFrom(100, 40), &stopNew, &newRefused, newer)
		time.Sleep(100 * time.Millisecond)
		// The old one is still at work when the second half comes, and is refused then.
		_, err = runner.Apply(ctx, db, e, both, runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		time.Sleep(50 * time.Millisecond)
		check := func(column string) {
			t.Helper()
			now, err := db.Select(ctx, "SELECT id, "+column+", n FROM sheets WHERE id < 1000")
			require.NoError(t, err)
			have := map[string]string{}
			for _, r := range now {
				require.Equal(t, r[1], r[2], "row %s has one value", r[0])
				have[r[0]] = r[1]
			}
			for id, n := range done.rows {
				require.Equal(t, n, have[strconv.Itoa(id)], "row %d", id)
			}
			others, err := db.Count(ctx,
				"SELECT 1 FROM sheets WHERE id >= 1000 AND "+column+" = CAST(id AS char(10)) AND CAST(n AS char(10)) = CAST(id AS char(10))")
			require.NoError(t, err)
			require.EqualValues(t, 4000, others)
		}
		stopOld.Store(true)
		old.Wait()
		stopNew.Store(true)
		next.Wait()
		require.Zero(t, newRefused.Load(), "what the new application writes is taken throughout")
		require.Positive(t, oldRefused.Load(), "the old one is told that its names are gone")
		check("title")

		// Back: the new application writes all the time, and the undo comes to its end.
		stopNew.Store(false)
		done.rows = map[int]string{}
		next = writer(t, p, url, done, idsFrom(200, 40), &stopNew, &newRefused, newer)
		time.Sleep(50 * time.Millisecond)
		_, err = runner.Undo(ctx, db, e, both, runner.Options{Wait: time.Minute})
		require.NoError(t, err)
		time.Sleep(50 * time.Millisecond)
		stopNew.Store(true)
		next.Wait()
		require.Zero(t, newRefused.Load(), "nor does the way back refuse it")
		differ, err := db.Count(ctx, "SELECT 1 FROM sheets WHERE title <> label")
		require.NoError(t, err)
		require.Zero(t, differ, "both names have the same value")
		check("label")
	})
}
