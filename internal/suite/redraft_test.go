package suite

// This file changes people's minds: a random first migration is applied, rows come, and it
// is drafted again from models that have changed. What rows held in fields that stay is as
// it was, and whatever is asked has an answer.

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"erbario/internal/cli"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/testserver"
)

// project is a project in a folder of its own, driven by the command line.
type project struct {
	t   *rapid.T
	dir string
}

func (p project) run(args ...string) (string, int) {
	var out bytes.Buffer
	code := cli.Main(engines.All(), append([]string{"erbario", "-C", p.dir}, args...), strings.NewReader(""), &out,
		&out)
	return out.String(), code
}

func (p project) must(args ...string) string {
	out, code := p.run(args...)
	require.Zero(p.t, code, "%v\n%s", args, out)
	return out
}

func (p project) models(src string) {
	require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, "models", "all.erbario"), []byte(src), 0o644))
}

// asked are the answers that are offered to the first question; asked is "" where there
// is none.
func (p project) asked(args ...string) (asked string, answers []string, code int) {
	var out bytes.Buffer
	code = cli.Main(engines.All(), append([]string{"erbario", "-C", p.dir, "--format", "json"}, args...),
		strings.NewReader(""), &out, &bytes.Buffer{})
	type open struct {
		About, Text, Sentence string
		Flags                 []string
	}
	var doc struct {
		Questions []open `json:"questions"`
	}
	if json.Unmarshal(out.Bytes(), &doc) != nil {
		return "", nil, code // such as the rows that block an undo
	}
	for _, q := range doc.Questions {
		return q.Text, q.Flags, code
	}
	return "", nil, code
}

// redrafted drafts a first migration again; whole: it came through.
func redrafted(t *rapid.T, p testserver.Place, dir, url string) (whole bool) {
	ctx, e := context.Background(), p.Engine
	a := derived(t, drawSchema(t))
	b := derived(t, evolve(t, a))
	r := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 3))
	at := project{t, dir}
	at.must("init", "--url", url)
	at.models(text(a))
	at.must("draft", "first", "--apply")
	db, err := e.Open(ctx, url, engine.ReadWrite)
	require.NoError(t, err)
	defer func() { db.Close() }()
	live, err := db.Inspect(ctx)
	require.NoError(t, err)
	insert(t, ctx, e, db, live, r, rapid.IntRange(1, 3).Draw(t, "rows"))
	same := untouched(live, wanted(t, e, text(a)), wanted(t, e, text(b)))
	values, before := selected(t, ctx, e, db, same), dump(t, ctx, e, db)
	parents := map[string]string{}
	for _, x := range live.Tables {
		if key := x.Key(); len(key) == 1 {
			rows, err := db.Sample(ctx, "SELECT min("+e.SQL().Quote(key[0])+") FROM "+e.SQL().QuoteTable(x.Name), 1)
			require.NoError(t, err)
			parents[x.Name] = rows.Values[0][0]
		}
	}
	reopen := func() { // the tables are others
		db.Close()
		db, err = e.Open(ctx, url, engine.ReadWrite)
		require.NoError(t, err)
	}
	db.Close()

	at.models(text(b))
	args, said := []string{"redraft"}, ""
	var out string
	for n := 0; ; n++ {
		asked, answers, code := at.asked(args...)
		reopen()
		if code == 0 {
			break
		}
		if asked == "" || n == 14 {
			out, _ = at.run(args...)
			require.Equal(t, before, dump(t, ctx, e, db), "what is refused changes nothing: %v\n%s", args, out)
			refused := []string{
				"more than one row", "would point to no row", "foreign key constraint",
				"do not fit what the models declare now", "cannot be restored", "would have no",
				"not among the choices", "out of range", "are blank", "break the check", "refer to no row",
				"matches no", "that are restored cannot be given",
			} // values that were given break what is declared
			require.True(t, slices.ContainsFunc(refused, func(s string) bool { return strings.Contains(out, s) }),
				"from\n%s\nto\n%s\n%s%v\n%s", text(a), text(b), said, args, out)
			return false
		}
		require.NotEmpty(t, answers, "%s has an answer", asked)
		answers = slices.DeleteFunc(answers,
			func(f string) bool { return strings.HasPrefix(f, "--default") || strings.HasPrefix(f, "--optional") })
		said += asked + "\n"
		args = append(args, asArguments(t, p, text(b), answers[r.IntN(len(answers))], parents, r)...)
	}
	for table := range same { // renamed, it holds what it held
		if slices.ContainsFunc(args, func(s string) bool {
			return strings.HasPrefix(s, table) || strings.HasSuffix(s, "="+table) || strings.Contains(s, "="+table+"=")
		}) {
			delete(same, table)
			delete(values, table)
		}
	}
	require.Equal(t, values, selected(t, ctx, e, db, same), "what did not change is as it was: %v", args)
	require.Contains(t, at.must("diff"), "matches the models")
	after := dump(t, ctx, e, db)
	db.Close()
	at.must("undo")
	at.must("apply")
	reopen()
	require.Equal(t, after, dump(t, ctx, e, db), "undone and applied again after %v", args)
	return true
}

// asArguments is an answer as arguments, with a value that its field takes: a reference, the key
// of one of its parents.
func asArguments(t require.TestingT, p testserver.Place, src, answer string, parents map[string]string,
	r *rand.Rand) []string {
	var out []string
	for _, flag := range strings.Split(strings.TrimPrefix(answer, "--"), " --") {
		name, value, _ := strings.Cut(flag, " ")
		value = strings.ReplaceAll(strings.Trim(value, "'"), `'\''`, "'")
		if key, of, is := strings.Cut(value, "="); is && (of == "VALUE" || of == "sql:EXPRESSION") {
			table, column := cutTable(key)
			x := wanted(t, p.Engine, src).Table(table)
			list := p.Engine.SQL().Candidates(x, x.Column(column))
			value = key + "=sql:" + list[r.IntN(min(3, len(list)))]
			for _, k := range x.ForeignKeys {
				if k.Columns[0] == column {
					value = key + "=sql:" + cmp.Or(parents[k.Table], "1")
				}
			}
		}
		out = append(out, "--"+name, value)
	}
	return out
}

// Random first migrations that are drafted again, with rows.
func TestRedrafts(t *testing.T) {
	testserver.Each(t, func(t *testing.T, p testserver.Place) {
		fewer(t, p, os.Getenv("ERBARIO_REDRAFTS"))
		whole := 0
		rapid.Check(t, func(rt *rapid.T) {
			dir, err := os.MkdirTemp(t.TempDir(), "redraft")
			require.NoError(rt, err)
			if redrafted(rt, p, dir, p.URL(t)) {
				whole++
			}
		})
		require.Positive(t, whole, "none came through")
		t.Logf("%d came through", whole)
	})
}
