package suite

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/adopt"
	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// TestDrift changes random databases outside of the migrations, by the steps of a random change, and
// adopts that: the models then declare what is there, nothing is left to draft, the migrations make
// the same from nothing, and an undo and an apply bring every row back.
func TestDrift(t *testing.T) {
	checks := map[string]int{"sqlite": 60, "mariadb": 8, "postgres": 12}
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		n := checks[p.Name]
		if s := os.Getenv("ERBARIO_DRIFTS"); s != "" {
			var err error
			n, err = strconv.Atoi(s)
			require.NoError(t, err)
		}
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa(n)))
		tried := 0
		rapid.Check(t, func(rt *rapid.T) {
			if driftCase(rt, p) {
				tried++
			}
		})
		require.Greater(t, tried, n/8, "too few cases have a change")
	})
}

// driftCase tells whether the case had something to adopt.
func driftCase(t *rapid.T, p testserver.Place) bool {
	ctx, e := context.Background(), p.Engine
	a := derived(t, drawSchema(t))
	b := derived(t, evolve(t, a))
	for i := 0; i < 5 && namesOf(a) != namesOf(b); i++ { // what is adopted so is no whole table
		b = derived(t, evolve(t, a))
	}
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	db := p.Open(t)
	defer db.Close()
	_, files := step(t, ctx, e, db, text(a), nil, r)
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, live, r, rapid.IntRange(0, 3).Draw(t, "rows"))

	d := drafted(t, ctx, e, db, text(b), files, r)
	if d.Migration == nil || len(d.InTheWay) > 0 || len(d.Plan.Questions) > 0 || whole(d.Plan.Changes) {
		return false
	}
	if _, err := runner.Apply(ctx, db, e, append(slices.Clone(files), d.Migration),
		runner.Options{Wait: time.Second}); err != nil {
		return false
	}
	require.NoError(t, db.Exec(ctx, "DELETE FROM erbario_history WHERE id = ?", d.Migration.ID)) // nobody knows of it

	look := func(src string) *draft.State {
		s, err := draft.Look(ctx, e, db,
			func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, src), files, nil })
		require.NoError(t, err)
		return s
	}
	s := look(text(a))
	drift, err := s.Drift(ctx)
	require.NoError(t, err)
	if len(drift) == 0 || whole(drift) {
		return false
	}
	made, err := s.Made(ctx)
	require.NoError(t, err)
	file, diags := lang.Parse("models/test.erbario", text(a))
	require.Empty(t, diags)
	declared, _ := declare.Resolve([]*lang.File{file}, rules(e), e.Name())
	in := adopt.Input{Engine: e, DB: db, Live: s.Live, Declared: declared, Rules: rules(e), Files: []*lang.File{file}}
	edited, err := in.Follow(ctx, made, s.Wanted, drift)
	if err != nil && strings.Contains(err.Error(), "nothing was written") { // soft deletion that spans tables
		if os.Getenv("ERBARIO_DRIFTS") != "" {
			fmt.Fprintf(os.Stderr, "%v\nfrom\n%s\nto\n%s\n", err, text(a), text(b))
		}
		return false
	}
	require.NoError(t, err, "from\n%s\nto\n%s", text(a), text(b))
	src := text(a)
	for _, f := range edited {
		src = f.Text
	}
	require.Empty(t, differences(t, ctx, db, s.Live, wanted(t, e, src)), "what is declared after\n%s\nis\n%s", text(a), src)

	d, err = s.Adopt(ctx, drift, draft.Request{Title: "adopted", Now: time.Now()})
	require.NoError(t, err)
	require.Empty(t, d.Plan.Questions)
	require.NotNil(t, d.Migration)
	require.Empty(t, d.Outcome.Differ, "the proof of\n%s", d.Migration.Text)
	files = append(files, d.Migration)
	require.NoError(t, runner.Record(ctx, db, e, files[len(files)-1:], adopt.Keeps(e, d.Outcome.After, s.Live)))
	s = look(src)
	drift, err = s.Drift(ctx)
	require.NoError(t, err)
	require.Empty(t, diff.Told(drift), "what is left changed outside after\n%s", d.Migration.Text)
	pl, err := s.Changes(ctx)
	require.NoError(t, err)
	require.Empty(t, pl.Changes)
	after := dump(t, ctx, e, db)

	empty := p.Open(t)
	defer empty.Close()
	_, err = runner.Apply(ctx, empty, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "from nothing\n%s", d.Migration.Text)
	end, err := empty.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, empty, end, wanted(t, e, src)), "from nothing, by\n%s", d.Migration.Text)

	if _, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second}); err != nil {
		require.True(t, refused(err), "undoing\n%s\n%v", d.Migration.Text, err)
		return true
	}
	if _, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second}); err != nil {
		require.True(t, refused(err), "applying again\n%s\n%v", d.Migration.Text, err)
		return true
	}
	require.Equal(t, after, dump(t, ctx, e, db), "every row is as it was before the undo of\n%s", d.Migration.Text)
	return true
}

// namesOf are those of models.
func namesOf(models []model) string {
	var out []string
	for _, m := range models {
		out = append(out, fmt.Sprint(m.name, m.away))
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

// whole tells whether one of some changes is about a whole table or a type.
func whole(list []diff.Change) bool {
	return slices.ContainsFunc(list, func(c diff.Change) bool {
		return slices.Contains([]string{"table", "enum", "view"}, c.Kind.Thing()) && c.Kind != diff.ChangeOptions
	})
}

// refused tells whether rows, which are those of another form of the table, block the migration.
func refused(err error) bool {
	var way *runner.InTheWay
	var needs *runner.NeedsAnswers
	return errors.As(err, &way) || errors.As(err, &needs)
}
