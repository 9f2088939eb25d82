package runner_test

// Steps in batches that are stopped after any batch, and go on or back from there, as
// often as one likes: each row is gone over once.

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/testserver"
)

func TestBatchesGoOnAndBack(t *testing.T) {
	place := testserver.At(t, "postgres")
	e, db := openURL(t, place.URL(t))
	defer db.Close()
	for _, sql := range []string{
		"CREATE TABLE sheets (room text, number integer, runs integer NOT NULL DEFAULT 0, PRIMARY KEY (room, number))",
		"INSERT INTO sheets SELECT 'it''s ' || i % 7, i FROM generate_series(1, 20000) AS i",
	} {
		require.NoError(t, db.Exec(ctx, sql))
	}
	m, err := migration.Parse("m", `-- : 20260101T000000-count  postgres  form 1
-- : step 1  count  (in batches)
-- : batches sheets, room, number
-- : apply
UPDATE sheets SET runs = runs + 1 WHERE :batch;
-- : undo
UPDATE sheets SET runs = runs - 1 WHERE :batch;
`, e)
	require.NoError(t, err)
	files := []*migration.Migration{m}
	spread := func() []string {
		rows, err := db.Select(ctx, "SELECT min(runs), max(runs), count(*) FROM sheets")
		require.NoError(t, err)
		return rows[0]
	}
	turns, seed := 0, rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 0))
	for range 15 {
		for end := false; !end; {
			apply := r.IntN(2) == 0
			left := 1 + r.IntN(4)
			stopping, stop := context.WithCancel(ctx)
			o := runner.Options{Wait: 5 * time.Second, Progress: func(p engine.Progress) {
				if left--; left == 0 && p.Done < p.Total {
					stop()
				}
			}}
			run := runner.Apply
			if !apply {
				run = runner.Undo
			}
			_, err := run(stopping, db, e, files, o)
			stop()
			if err != nil {
				require.ErrorIs(t, err, context.Canceled, seed)
				turns++
				continue
			}
			end = true
			applied, err := runner.History(ctx, db)
			require.NoError(t, err)
			want := fmt.Sprint(len(applied))
			require.Equal(t, []string{want, want, "20000"}, spread(), "seed %d, applying %v", seed, apply)
		}
	}
	assert.Greater(t, turns, 5, "runs are stopped in the middle")

	bad, err := migration.Parse("m", `-- : 20260102T000000-stop  postgres  form 1
-- : follows 20260101T000000-count
-- : step 1  halve  (in batches)
-- : batches sheets, room, number
-- : apply
UPDATE sheets SET runs = 10 / (15000 - number) WHERE :batch;
-- : undo
UPDATE sheets SET runs = 1 WHERE :batch;
`, e)
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, append(files, bad), runner.Options{Wait: time.Second})
	assert.ErrorContains(t, err, "division by zero")
	half, err := runner.FindInterrupted(ctx, db)
	require.NoError(t, err)
	assert.Nil(t, half)
	assert.Equal(t, []string{"1", "1", "20000"}, spread(), "a batch that fails has those before it undone")
}

func TestBatchesOfFewRows(t *testing.T) {
	place := testserver.At(t, "postgres")
	e, db := openURL(t, place.URL(t))
	defer db.Close()
	for _, sql := range []string{
		"CREATE TABLE sheets (room text, number integer, label text, PRIMARY KEY (room, number))",
		"INSERT INTO sheets SELECT 'it''s ' || i % 7, i, CASE WHEN i % 3 > 0 THEN 'old' END FROM generate_series(1, 20000) AS i",
	} {
		require.NoError(t, db.Exec(ctx, sql))
	}
	m, err := migration.Parse("m", `-- : 20260101T000000-label  postgres  form 1
-- : step 1  label  (in batches)
-- : batches sheets, room, number
-- : only rows where label IS NULL
-- : apply
UPDATE sheets SET label = 'new ' || number WHERE label IS NULL AND :batch;
-- : undo
`, e)
	require.NoError(t, err)
	stopping, stop := context.WithCancel(ctx)
	var seen engine.Progress
	_, err = runner.Apply(
		stopping,
		db,
		e,
		[]*migration.Migration{m},
		runner.Options{Wait: 5 * time.Second, Progress: func(p engine.Progress) {
			if seen = p; p.Done >= 2000 {
				stop()
			}
		}},
	)
	stop()
	require.ErrorIs(t, err, context.Canceled)
	require.EqualValues(t, 6666, seen.Total, "only these rows are counted")
	rows := func() []string {
		out, err := db.Select(ctx,
			"SELECT count(*) FILTER (WHERE label IS NULL), count(*) FILTER (WHERE label = 'old'), count(*) FILTER (WHERE label = 'new ' || number) FROM sheets")
		require.NoError(t, err)
		return out[0]
	}
	require.Equal(t, []string{"4666", "13334", "2000"}, rows())
	// One that comes behind the place where it stopped is taken, and one before is passed over.
	require.NoError(t, db.Exec(ctx, "INSERT INTO sheets VALUES ('z', 1, NULL), ('a', 1, NULL)"))
	_, err = runner.Apply(ctx, db, e, []*migration.Migration{m}, runner.Options{Wait: 5 * time.Second})
	require.NoError(t, err)
	require.Equal(t, []string{"1", "13334", "6667"}, rows())

	bad, err := migration.Parse(
		"m",
		strings.NewReplacer("20260101", "20260102", "form 1", "form 1\n-- : follows "+m.ID, "where label IS",
			"where lable IS").
			Replace(m.Text),
		e,
	)
	require.NoError(t, err)
	_, err = runner.Apply(ctx, db, e, []*migration.Migration{m, bad}, runner.Options{Wait: 5 * time.Second})
	require.ErrorContains(t, err, "lable", "what the condition has wrong is said")
	half, err := runner.FindInterrupted(ctx, db)
	require.NoError(t, err)
	require.Nil(t, half)

	again, err := migration.Parse("m", migration.Write(m), e)
	require.NoError(t, err)
	require.Equal(t, m.Steps[0].Batches, again.Steps[0].Batches)
}
