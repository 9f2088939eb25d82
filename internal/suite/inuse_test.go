package suite

// This file changes a table while others write to it: rows come without what the change
// adds, and go on being written while it is undone. Nobody's row is lost, and each has
// its values.

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// writers write to the table of sheets, as an application does that knows of no change,
// until the function that is returned is called, which tells how many rows came.
func writers(t *testing.T, e engine.Engine, url string) (stop func() int64) {
	ctx := context.Background()
	var came, failed atomic.Int64
	done, ended := make(chan struct{}), make(chan error, 2)
	for w := range 2 {
		db, err := e.Open(ctx, url, engine.ReadWrite)
		require.NoError(t, err)
		go func() {
			defer db.Close()
			for i := 0; ; i++ {
				select {
				case <-done:
					ended <- nil
					return
				default:
				}
				// What is refused is refused by what is declared now: others wait, and go on.
				if db.Exec(ctx, fmt.Sprintf("INSERT INTO sheets (number) VALUES ('w%d-%d')", w, i)) == nil {
					came.Add(1)
				} else {
					failed.Add(1)
				}
				_ = db.Exec(ctx, fmt.Sprintf("UPDATE sheets SET place = 'moved' WHERE id = %d", 1+i%3000))
				time.Sleep(time.Millisecond)
			}
		}()
	}
	return func() int64 {
		close(done)
		for range 2 {
			require.NoError(t, <-ended)
		}
		t.Logf("%d rows came meanwhile, %d were refused", came.Load(), failed.Load())
		return came.Load()
	}
}

func TestFilledWhileInUse(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		e, ctx := p.Engine, context.Background()
		if !e.Caps().Stages { // nobody writes while a migration is under way
			return
		}
		url := p.URL(t)
		db, err := e.Open(ctx, url, engine.Make)
		require.NoError(t, err)
		defer db.Close()
		before := "model Sheet\n    number text(20)\n    note text(20) optional\n    place text(20) optional\n"
		after := "model Sheet\n    number text(20)\n    note text(20)\n    place text(20) optional\n    title text(60)\n"
		look := func(src string, files []*migration.Migration) *draft.State {
			s, err := draft.Look(ctx, e, db,
				func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, src), files, nil })
			require.NoError(t, err)
			return s
		}
		first, err := look(before, nil).Make(ctx, draft.Request{Title: "first", Now: time.Now().Add(-time.Hour)})
		require.NoError(t, err)
		files := []*migration.Migration{first.Migration}
		o := runner.Options{Wait: time.Minute}
		_, err = runner.Apply(ctx, db, e, files, o)
		require.NoError(t, err)
		for i := range 30 {
			sql := "INSERT INTO sheets (number, note) VALUES "
			for k := range 100 {
				note := "NULL"
				if k%2 == 0 {
					note = "'kept'"
				}
				sql += fmt.Sprintf("('s%d', %s), ", i*100+k, note)
			}
			require.NoError(t, db.Exec(ctx, sql[:len(sql)-2]))
		}
		s := look(after, files)
		s.InUse = true
		d, err := s.Make(
			ctx,
			draft.Request{Title: "more", Now: time.Now(), Answers: plan.Answers{Fill: map[string]plan.Fill{
				"sheets.note": {SQL: "'none'", Literal: true}, "sheets.title": {SQL: "upper(number)"}}}},
		)
		require.NoError(t, err)
		require.NotNil(t, d.Migration, "%v %v", d.Plan.Questions, d.Outcome)
		files = append(files, d.Migration)

		stop := writers(t, e, url)
		_, err = runner.Apply(ctx, db, e, files, o)
		came := stop()
		require.NoError(t, err, d.Migration.Text)
		count := func(where string) int64 {
			n, err := db.Count(ctx, "SELECT 1 FROM sheets WHERE "+where)
			require.NoError(t, err)
			return n
		}
		assert.Equal(t, 3000+came, count("1 = 1"))
		assert.Equal(t, int64(1500), count("note = 'kept'"))
		assert.Equal(t, 1500+came, count("note = 'none'"))
		assert.Zero(t, count("title <> upper(number)"))

		stop = writers(t, e, url)
		_, err = runner.Undo(ctx, db, e, files, o)
		came += stop()
		require.NoError(t, err, d.Migration.Text)
		assert.Equal(t, 3000+came, count("1 = 1"))
		assert.Equal(t, int64(1500), count("note = 'kept'"))
		assert.GreaterOrEqual(t, count("note IS NULL"), int64(1500))
	})
}
