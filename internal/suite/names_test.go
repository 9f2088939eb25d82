package suite

// This file gives the fields and models of random schemas each other's names: in circles, in
// chains, and where one gives up its name to another.

import (
	"context"
	"math/rand/v2"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/draft"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

var word = regexp.MustCompile(`\w+`)

// reworded is a text with other names in it, all at once.
func reworded(text string, to map[string]string) string {
	return word.ReplaceAllStringFunc(text, func(w string) string {
		if n, ok := to[w]; ok {
			return n
		}
		return w
	})
}

// shuffled gives some names other ones, among themselves and among others.
func shuffled(t *rapid.T, label string, names, pool []string) map[string]string {
	left := slices.Clone(names)
	for _, n := range pool {
		if len(left) < len(names)+2 && !slices.Contains(left, n) {
			left = append(left, n)
		}
	}
	out := map[string]string{}
	for i, n := range rapid.Permutation(left).Draw(t, label)[:len(names)] {
		out[names[i]] = n
	}
	return out
}

// exchange gives models and fields other names. fields are those of each model by their old
// names, models the same of these; gone are fields that go, as Model.field.
func exchange(t *rapid.T,
	from []model) (out []model, fields map[string]map[string]string, models map[string]string, gone []string) {
	fields, models = map[string]map[string]string{}, map[string]string{}
	var names []string
	for _, m := range from {
		names = append(names, m.name)
		models[m.name] = m.name
	}
	if rapid.Bool().Draw(t, "models too") {
		models = shuffled(t, "models", names, modelNames)
	}
	enums := slices.ContainsFunc(from, func(m model) bool {
		return slices.ContainsFunc(m.fields, func(f field) bool { return f.typ == "Rarity" })
	})
	for _, m := range from {
		var names []string
		for _, f := range m.fields {
			names = append(names, f.name)
		}
		to := shuffled(t, "fields of "+m.name, names, fieldNames)
		lost := ""
		if f := rapid.SampledFrom(m.fields).Draw(t, "goes"); !enums && len(m.fields) > 1 &&
			rapid.Bool().Draw(t, "one goes") &&
			!slices.ContainsFunc(m.fields, func(o field) bool { return o.source() == f.name }) {
			lost = f.name
			delete(to, lost)
			gone = append(gone, m.name+"."+lost)
		}
		fields[m.name] = to
		n := model{name: models[m.name], away: m.away != (rapid.IntRange(0, 4).Draw(t, m.name+" moves") == 0)}
		for _, f := range m.fields {
			if f.name == lost {
				continue
			}
			g := field{name: to[f.name], typ: f.typ}
			if target, is := strings.CutPrefix(f.typ, "references "); is {
				g.typ = "references " + models[target]
			}
			for _, c := range f.clauses {
				g.clauses = append(g.clauses, reworded(c, to))
			}
			n.fields = append(n.fields, g)
		}
		for _, l := range m.lines {
			if lost == "" || !slices.Contains(word.FindAllString(l, -1), lost) {
				n.lines = append(n.lines, reworded(l, to))
			}
		}
		out = append(out, n)
	}
	return out, fields, models, gone
}

// names takes a database to other names and back, with rows.
func names(t *rapid.T, p testserver.Place) {
	ctx := context.Background()
	a := derived(t, drawSchema(t))
	b, fields, models, gone := exchange(t, a)
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	e := p.Engine
	db := p.Open(t)
	defer db.Close()

	_, files := step(t, ctx, e, db, text(a), nil, r)
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, live, r, rapid.IntRange(0, 3).Draw(t, "rows"))
	before := dump(t, ctx, e, db)

	declared := wanted(t, e, text(a))
	now := wanted(t, e, text(b))
	table := func(s *sqlschema.Schema, model string) *sqlschema.Table {
		return s.Tables[slices.IndexFunc(s.Tables, func(t *sqlschema.Table) bool { return t.Model() == model })]
	}
	answers := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{},
		Deleted: map[string]plan.DeletedRows{}}
	old, renamed := map[string][]string{}, map[string][]string{} // by table, the same columns in the same order
	for _, m := range a {
		was, is := table(declared, m.name), table(now, models[m.name])
		if was.Name != is.Name {
			answers.Rename = append(answers.Rename, plan.Rename{Table: was.Name, To: is.Name})
		}
		old[was.Name], renamed[is.Name] = []string{"id"}, []string{"id"}
		for _, c := range was.Columns {
			to, stays := fields[m.name][c.Field()]
			if !stays {
				continue
			}
			i := slices.IndexFunc(is.Columns, func(o *sqlschema.Column) bool { return o.Field() == to })
			if c.Name != is.Columns[i].Name {
				answers.Rename = append(answers.Rename,
					plan.Rename{Table: was.Name, Column: c.Name, To: is.Columns[i].Name})
			}
			old[was.Name], renamed[is.Name] = append(old[was.Name], c.Name), append(renamed[is.Name],
				is.Columns[i].Name)
		}
	}
	for _, f := range gone {
		m, name, _ := strings.Cut(f, ".")
		was := table(declared, m)
		i := slices.IndexFunc(was.Columns, func(c *sqlschema.Column) bool { return c.Field() == name })
		if was.Columns[i].Generated == nil {
			answers.Drop[table(now, models[m]).Name+"."+was.Columns[i].Name] = true
		}
	}
	values := map[string][][]string{}
	for table, list := range selected(t, ctx, e, db, old) {
		values[strings.Join(old[table], " ")+" of "+table] = list
	}
	s, err := draft.Look(ctx, e, db,
		func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, text(b)), files, nil })
	require.NoError(t, err)
	s.InUse = e.Caps().Journal && r.IntN(2) == 0
	d, err := s.Make(ctx, draft.Request{Title: "names", Answers: answers, Now: time.Now(), Rows: true})
	require.NoError(t, err, "%v %v", answers.Rename, answers.Drop)
	require.Empty(t, d.Plan.Questions, "%v %v", answers.Rename, answers.Drop)
	require.Empty(t, d.InTheWay)
	if d.Migration == nil {
		return
	}
	require.Empty(t, d.Outcome.Differ, "the proof of\n%s", d.Migration.Text)
	files = append(files, d.Migration)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "applying\n%s", d.Migration.Text)
	live, err = db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, text(b))), "the live schema is B after\n%s",
		d.Migration.Text)
	got := selected(t, ctx, e, db, renamed)
	for _, m := range a {
		was, is := table(declared, m.name), table(now, models[m.name])
		require.Equal(t, values[strings.Join(old[was.Name], " ")+" of "+was.Name], got[is.Name], "%s is %s after\n%s",
			was.Name, is.Name, d.Migration.Text)
	}
	after := dump(t, ctx, e, db)

	_, err = runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "undoing\n%s", d.Migration.Text)
	require.Equal(t, before, dump(t, ctx, e, db), "every row is as it was after the undo of\n%s", d.Migration.Text)
	_, err = runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
	require.NoError(t, err, "applying again\n%s", d.Migration.Text)
	require.Equal(t, after, dump(t, ctx, e, db))
}

// Models and fields of random schemas change names, all in one draft, by flags alone:
// each has the values of the one that had its name, and an undo makes them as they were.
func TestNames(t *testing.T) {
	cases := 24
	if s := os.Getenv("ERBARIO_NAMES"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		cases = n
	}
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa(cases)))
		rapid.Check(t, func(rt *rapid.T) { names(rt, p) })
	})
}
