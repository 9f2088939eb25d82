package suite

// This file gives models to which others refer another key: the references follow the rows
// that they point at, there and back, whatever is changed in between.

import (
	"context"
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

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/testserver"
)

// keyed is a model that others refer to, with its key, and whether the word that tells its
// rows is one of its fields beside it.
type keyed struct{ column, lines string }

var keyKinds = []keyed{
	{"id", "    word text(20) unique\n"},
	{"word", "    word text(20) key\n"},
	{"id", "    id uuid key default new uuid\n    word text(20) unique\n"},
	{"uid", "    uid uuid key default new uuid\n    word text(20) unique\n"},
}

// referring is a model with references to the keyed one.
type referring struct {
	name  string
	refs  []string // fields
	lines string   // their clauses, and other fields
}

// keys takes references to another key and back, with rows.
func keys(t *rapid.T, p testserver.Place) {
	ctx := context.Background()
	kinds := rapid.Permutation([]int{0, 1, 2, 3}).Draw(t, "keys")
	from, to := keyKinds[kinds[0]], keyKinds[kinds[1]]
	extra := rapid.SampledFrom([]string{"", "    timestamps\n", "    noted text optional\n", "    soft delete\n",
		"    soft delete with view with children\n"}).
		Draw(t, "beside")
	inner := rapid.SampledFrom([]string{"", "", "    under references Taxon optional\n",
		"    under references Taxon optional on delete set null\n    index under\n"}).
		Draw(t, "within")
	shapes := []string{"", " optional", " optional on delete set null", " on delete cascade", " unique optional"}
	var list []referring
	for _, name := range []string{"Sheet", "Loan"}[:rapid.IntRange(1, 2).Draw(t, "referring")] {
		r := referring{name: name}
		for _, f := range []string{"first", "other"}[:rapid.IntRange(1, 2).Draw(t, "references")] {
			clauses := rapid.SampledFrom(shapes).Draw(t, f)
			r.refs = append(r.refs, f)
			r.lines += "    " + f + " references Taxon" + clauses + "\n"
		}
		r.lines += rapid.SampledFrom([]string{"", "    count integer default 1\n", "    soft delete\n",
			"    index first\n"}).
			Draw(t, "lines")
		list = append(list, r)
	}
	models := func(k keyed) string {
		text := "model Taxon\n" + k.lines + inner + extra
		for _, r := range list {
			text += "model " + r.name + "\n    mark text(9)\n" + r.lines
		}
		return text
	}
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
	e := p.Engine
	db := p.Open(t)
	defer db.Close()
	_, files := step(t, ctx, e, db, models(from), nil, r)

	run := func(format string, args ...any) { require.NoError(t, db.Exec(ctx, fmt.Sprintf(format, args...))) }
	words, marks := 0, 0
	word := func(k keyed) {
		words++
		run("INSERT INTO taxons (word) VALUES ('w%d')", words)
		if inner != "" && r.IntN(3) > 0 {
			above, err := db.Sample(ctx,
				fmt.Sprintf("SELECT %s FROM taxons WHERE word = 'w%d'", k.column, 1+r.IntN(words)), 1)
			require.NoError(t, err)
			run("UPDATE taxons SET under_%s = %s WHERE word = 'w%d'", k.column, above.Values[0][0], words)
		}
	}
	table := func(m string) string { return strings.ToLower(m) + "s" }
	var free []string // of the words, those that no unique reference has
	row := func(m referring, k keyed) {
		if words == 0 || strings.Contains(m.lines, "unique") && len(free) < len(m.refs) {
			return
		}
		marks++
		columns, values := []string{"mark"}, []string{fmt.Sprintf("'m%d'", marks)}
		for _, f := range m.refs {
			w := fmt.Sprintf("w%d", 1+r.IntN(words))
			if strings.Contains(m.lines, "unique") {
				w, free = free[0], free[1:]
			}
			columns = append(columns, f+"_"+k.column)
			value := fmt.Sprintf("(SELECT %s FROM taxons WHERE word = '%s')", k.column, w)
			if strings.Contains(m.lines, f+" references Taxon optional") && r.IntN(3) == 0 {
				value = "NULL"
			}
			values = append(values, value)
		}
		run("INSERT INTO %s (%s) VALUES (%s)", table(m.name), strings.Join(columns, ", "), strings.Join(values, ", "))
	}
	points := func(k keyed) []string {
		out, err := db.Select(ctx, "SELECT word FROM taxons ORDER BY word")
		require.NoError(t, err)
		all := []string{fmt.Sprint(out)}
		if inner != "" {
			rows, err := db.Select(
				ctx,
				fmt.Sprintf(
					"SELECT m.word, coalesce(t.word, 'none') FROM taxons m LEFT JOIN taxons t ON t.%s = m.under_%s ORDER BY m.word",
					k.column, k.column),
			)
			require.NoError(t, err)
			all = append(all, fmt.Sprint(rows))
		}
		for _, m := range list {
			for _, f := range m.refs {
				rows, err := db.Select(
					ctx,
					fmt.Sprintf(
						"SELECT m.mark, coalesce(t.word, 'none') FROM %s m LEFT JOIN taxons t ON t.%s = m.%s_%s ORDER BY m.mark",
						table(m.name), k.column, f, k.column),
				)
				require.NoError(t, err)
				all = append(all, fmt.Sprint(m.name, f, rows))
			}
		}
		return all
	}
	for range 1 + r.IntN(6) { // without any, the old key blocks the rows that others have
		word(from)
		free = append(free, fmt.Sprintf("w%d", words))
	}
	for _, m := range list {
		for range r.IntN(4) {
			row(m, from)
		}
	}
	before, dumped := points(from), dump(t, ctx, e, db)

	answers := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{},
		Deleted: map[string]plan.DeletedRows{}}
	if from.column != "word" { // the old key goes; it is asked about where there are rows
		answers.Drop["taxons."+from.column] = true
	}
	look := func() *draft.State {
		s, err := draft.Look(ctx, e, db,
			func() (*sqlschema.Schema, []*migration.Migration, error) { return wanted(t, e, models(to)), files, nil })
		require.NoError(t, err)
		return s
	}
	s := look()
	s.InUse = e.Caps().Journal && r.IntN(2) == 0
	d, err := s.Make(ctx, draft.Request{Title: "keys", Answers: answers, Now: time.Now(), Rows: true})
	require.NoError(t, err, "%s", models(to))
	require.Empty(t, d.Plan.Questions, "%s\n%s", models(from), models(to))
	require.Empty(t, d.InTheWay)
	require.NotNil(t, d.Migration)
	require.Empty(t, d.Outcome.Differ, "the proof of\n%s", d.Migration.Text)
	files = append(files, d.Migration)
	apply := func() {
		_, err := runner.Apply(ctx, db, e, files, runner.Options{Wait: time.Second})
		require.NoError(t, err, "applying\n%s", d.Migration.Text)
	}
	told := map[string]string{} // for rows that came since
	undo := func() {
		_, err := runner.Undo(ctx, db, e, files, runner.Options{Wait: time.Second, Answers: told})
		require.NoError(t, err, "undoing\n%s", d.Migration.Text)
	}
	apply()
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	require.Empty(t, differences(t, ctx, db, live, wanted(t, e, models(to))), "the live schema after\n%s",
		d.Migration.Text)
	require.Equal(t, before, points(to), "after\n%s", d.Migration.Text)
	undo()
	require.Equal(t, before, points(from), "undone\n%s", d.Migration.Text)
	require.Equal(t, dumped, dump(t, ctx, e, db), "undone\n%s", d.Migration.Text)
	apply()
	require.Equal(t, before, points(to), "applied again\n%s", d.Migration.Text)
	word(to)
	if !strings.Contains(from.lines, "uuid") &&
		slices.ContainsFunc(d.Migration.Parameters, func(x engine.Parameter) bool { return x.For == "taxons.id" }) {
		told["taxons.id"] = "9000" // which the database does not number by itself
	}
	for _, m := range list {
		if !strings.Contains(m.lines, "unique") {
			row(m, to)
			if words > 0 {
				run("UPDATE %s SET %s_%s = (SELECT %s FROM taxons WHERE word = 'w%d')", table(m.name), m.refs[0],
					to.column, to.column, 1+r.IntN(words))
			}
		}
	}
	changed := points(to)
	undo()
	require.Equal(t, changed, points(from), "undone after changes\n%s", d.Migration.Text)
	apply()
	require.Equal(t, changed, points(to), "applied after changes\n%s", d.Migration.Text)
}

// References follow their rows to another key, and back.
func TestKeys(t *testing.T) {
	cases := 12
	if s := os.Getenv("ERBARIO_KEYS"); s != "" {
		n, err := strconv.Atoi(s)
		require.NoError(t, err)
		cases = n
	}
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		require.NoError(t, flagSet("rapid.checks", strconv.Itoa(cases)))
		rapid.Check(t, func(rt *rapid.T) { keys(rt, p) })
	})
}
