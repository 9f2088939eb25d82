package suite

// This file holds random changes as staged pairs against the same change in one piece:
// between the two migrations rows come from an application of before and from one that
// knows of the change, and nothing that either wrote is lost on any way.

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// retyped are types that become others, some of them not for every value.
var retyped = map[string][]string{
	"text": {
		"integer",
		"text(8)",
		"date",
	}, "text(20)": {"text(8)", "text", "bigint"}, "smallint": {"bigint", "text"},
	"integer": {"bigint", "smallint", "decimal(8,2)"}, "bigint": {"integer", "text(20)"},
	"decimal(8,2)": {
		"decimal(20,4)",
		"integer",
	}, "decimal(20,4)": {"decimal(8,2)"}, "timestamp": {"datetime"}, "datetime": {"timestamp"}, "date": {"text"},
}

// staged changes one model in ways of which a pair of migrations can be made, and gives
// the answers.
func staged(t *rapid.T, from []model) ([]model, func(table string) plan.Answers, string) {
	out := slices.Clone(from)
	at := rapid.IntRange(0, len(from)-1).Draw(t, "changed")
	m := model{name: from[at].name, away: from[at].away, lines: from[at].lines}
	var given plan.Answers
	type move struct{ from, to string }
	var renames []move
	var drops, requires []string
	bound := func(name string) bool {
		return slices.ContainsFunc(m.lines, func(l string) bool { return strings.Contains(l, name) })
	}
	for _, f := range from[at].fields {
		kinds := retyped[f.typ]
		checked := slices.ContainsFunc(f.clauses, func(c string) bool { return strings.HasPrefix(c, "check") })
		switch n := rapid.IntRange(0, 5).Draw(t, "stage "+f.name); {
		case n == 0 && !bound(f.name) && !checked && !strings.HasPrefix(f.typ, "references"):
			renames = append(renames, move{f.name, f.name + "_now"})
			f.name += "_now"
		case n == 1 && len(kinds) > 0 && !bound(f.name):
			g := field{name: f.name, typ: rapid.SampledFrom(kinds).Draw(t, "type of "+f.name)}
			if !f.required() {
				g.clauses = []string{"optional"}
			}
			f = g
		case n == 2 && !bound(f.name) && len(from[at].fields) > 1 && !strings.HasPrefix(f.typ, "references"):
			drops = append(drops, f.name)
			continue
		case n == 3 && !f.required() && !bound(f.name) && !strings.HasPrefix(f.typ, "references") &&
			!slices.Contains(f.clauses, "unique"):
			f.clauses = slices.DeleteFunc(slices.Clone(f.clauses), func(c string) bool { return c == "optional" })
			requires = append(requires, f.name)
		}
		m.fields = append(m.fields, f)
	}
	if rapid.Bool().Draw(t, "required") || len(m.fields) == 0 {
		m.fields = append(m.fields,
			field{name: "given", typ: rapid.SampledFrom([]string{"text(20)", "integer", "date"}).Draw(t, "given")})
	}
	out[at] = m
	if fmt.Sprint(m) == fmt.Sprint(from[at]) {
		t.Skip("nothing was drawn")
	}
	return out, func(table string) plan.Answers {
		given = plan.Answers{Drop: map[string]bool{}, Fill: map[string]plan.Fill{}}
		for _, r := range renames {
			given.Rename = append(given.Rename, plan.Rename{Table: table, Column: r.from, To: r.to})
		}
		for _, d := range drops {
			given.Drop[table+"."+d] = true
		}
		for _, f := range requires { // the value is the test's to say
			given.Fill[table+"."+f] = plan.Fill{}
		}
		return given
	}, m.name
}

// stagedCase tells whether a pair was made and went all the way.
func stagedCase(t *rapid.T, p testserver.Place) bool {
	ctx := context.Background()
	a := drawSchema(t)
	b, answers, changed := staged(t, a)
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 2))
	e, db := p.Engine, p.Open(t)
	defer db.Close()
	_, files := step(t, ctx, e, db, text(a), nil, r)
	if len(files) == 0 {
		return false
	}
	before, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, before, r, rapid.IntRange(0, 3).Draw(t, "rows"))

	look := func() *draft.State {
		s, err := draft.Look(ctx, e, db,
			func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, text(b)), files, nil })
		require.NoError(t, err)
		return s
	}
	s := look()
	s.InUse = r.IntN(2) == 0
	table := ""
	for _, w := range s.Wanted.Tables {
		if w.Model() == changed {
			table = w.Name
		}
	}
	said := answers(table)
	filled := map[string]bool{} // and null again after the undo
	for _, c := range s.Wanted.Table(table).Columns {
		if _, ok := said.Fill[table+"."+c.Name]; ok || c.Name == "given" {
			said.Fill[table+"."+c.Name] = fill(t, s, s.Wanted.Table(table), c, r, said)
			filled[c.Name] = true
		}
	}
	first, second, err := s.Staged(ctx, draft.Request{Title: "change", Answers: said, Now: time.Now(), Rows: true},
		time.Hour)
	if err != nil && strings.Contains(err.Error(), "--staged: ") {
		return false // of the key, referred to, a random default: refused by name
	}
	require.NoError(t, err, "from\n%s\nto\n%s", text(a), text(b))
	if len(first.Plan.Questions) > 0 || len(first.InTheWay) > 0 {
		return false
	}
	if len(first.Plan.Changes) == 0 {
		return false // two types that are one on this engine
	}
	require.NotNil(t, first.Migration, "from\n%s\nto\n%s", text(a), text(b))
	require.Empty(t, first.Outcome.Differ, "the proof of\n%s", first.Migration.Text)
	require.Empty(t, second.Plan.Questions)
	require.NotNil(t, second.Migration, "%v", second.Outcome)
	require.Empty(t, second.Outcome.Differ, "the proof of\n%s", second.Migration.Text)
	apply := func(list []*migration.Migration) error {
		_, err := runner.Apply(ctx, db, e, list, runner.Options{Wait: time.Second})
		return err
	}
	one, both := append(slices.Clone(files), first.Migration), append(slices.Clone(files), first.Migration,
		second.Migration)
	require.NoError(t, apply(one), "applying\n%s", first.Migration.Text)

	// Either application writes what it knows of.
	insert(t, ctx, e, db, before, r, 2)
	insert(t, ctx, e, db, wanted(t, e, text(b)), r, 2)
	between := dump(t, ctx, e, db)
	of := func(s *sqlschema.Schema) map[string][]string {
		out := map[string][]string{}
		for _, t := range s.Tables {
			if schema.Own(t.Name) {
				continue
			}
			for _, c := range t.Columns {
				if t.Name != table || !filled[c.Name] {
					out[t.Name] = append(out[t.Name], c.Name)
				}
			}
			slices.Sort(out[t.Name])
		}
		return out
	}
	old := selectedSorted(t, ctx, e, db, of(before))
	for _, r := range said.Rename {
		n, err := db.Count(
			ctx,
			fmt.Sprintf("SELECT 1 FROM %s WHERE %s", e.SQL().QuoteTable(table),
				engine.StagesOf(e).Differ(e.SQL().Quote(r.Column), e.SQL().Quote(r.To))),
		)
		require.NoError(t, err)
		require.Zero(t, n, "%s and %s are one field", r.Column, r.To)
	}
	if err := apply(both); err != nil {
		var way *runner.InTheWay
		require.True(t, errors.As(err, &way), "applying\n%s: %v", second.Migration.Text, err)
		require.Equal(t, between, dump(t, ctx, e, db), "what is refused changes nothing")
		return false
	}
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(b))), "the live schema is B after\n%s",
		second.Migration.Text)
	after := dump(t, ctx, e, db)

	told := map[string]string{} // what the undo was told of rows that came without a value
	undo := func() {
		_, err := runner.Undo(ctx, db, e, both, runner.Options{Wait: time.Second})
		var way *runner.InTheWay
		for i := 0; errors.As(err, &way) && len(way.Ungiven) > 0 && i < 9; i++ {
			for _, name := range way.Ungiven {
				t, c := cutTable(name)
				list := e.SQL().Candidates(before.Table(t), before.Table(t).Column(c))
				told[name] = "sql:" + list[i%len(list)]
			}
			way = nil
			_, err = runner.Undo(ctx, db, e, both, runner.Options{Wait: time.Second, Answers: told})
		}
		if errors.As(err, &way) {
			t.Skip("a row in the way back: " + way.Sentence)
		}
		require.NoError(t, err, "undoing\n%s\n%s", second.Migration.Text, first.Migration.Text)
	}
	undo()
	require.Equal(t, between, dump(t, ctx, e, db), "after the undo of\n%s", second.Migration.Text)
	undo()
	live, err = db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(a))),
		"the live schema is A again after the undo of\n%s", first.Migration.Text)
	if len(told) > 0 {
		require.NoError(t, apply(both), "applying again")
		return true
	}
	require.Equal(t, old, selectedSorted(t, ctx, e, db, of(before)), "what the application of before sees")
	require.NoError(t, apply(both), "applying again")
	require.Equal(t, after, dump(t, ctx, e, db), "applied again\n%s\n%s", first.Migration.Text, second.Migration.Text)
	return true
}

// selectedSorted are the values of some columns for existing rows, in an order that tells
// nothing of where the rows lie.
func selectedSorted(t require.TestingT, ctx context.Context, e engine.Engine, db engine.Database,
	columns map[string][]string) map[string][]string {
	out := map[string][]string{}
	for table, rows := range selected(t, ctx, e, db, columns) {
		list := []string{}
		for _, row := range rows {
			list = append(list, strings.Join(row, ", "))
		}
		slices.Sort(list)
		out[table] = list
	}
	return out
}

// Random staged pairs: rows of two applications between the halves, forward, back, and
// forward again.
func TestStagedPairs(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		if !p.Engine.Caps().Stages {
			return
		}
		cases(t, p, os.Getenv("ERBARIO_STAGED"))
		whole := 0
		rapid.Check(t, func(rt *rapid.T) {
			if stagedCase(rt, p) {
				whole++
			}
		})
		require.Positive(t, whole, "no pair went all the way")
		t.Logf("%d pairs went all the way", whole)
	})
}
