package plan_test

// The cases of testdata are pairs of models, and the answers of a person: what is asked, and
// in which order which steps are taken, on a compiler of each engine that needs no database.
// UPDATE_PLANS=1 writes what comes out.

import (
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/engines"
	"erbario/internal/lang"
	"erbario/internal/plan"
	"erbario/internal/sqlschema"
)

func TestPlans(t *testing.T) {
	paths, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, paths)
	for _, path := range paths {
		archive, err := txtar.ParseFile(path)
		require.NoError(t, err)
		part := func(name string) string {
			for _, f := range archive.Files {
				if f.Name == name {
					return string(f.Data)
				}
			}
			return ""
		}
		var out []txtar.File
		for _, f := range archive.Files {
			if f.Name == "before" || f.Name == "after" || f.Name == "answers" || f.Name == "rows" {
				out = append(out, f)
			}
		}
		for _, e := range engines.All() {
			t.Run(strings.TrimSuffix(filepath.Base(path), ".txtar")+"/"+e.Name(), func(t *testing.T) {
				got := planned(t, e, part("before"), part("after"), part("answers"), part("rows"))
				out = append(out, txtar.File{Name: e.Name(), Data: []byte(got)})
				if os.Getenv("UPDATE_PLANS") == "" {
					assert.Equal(t, part(e.Name()), got)
				}
			})
		}
		if os.Getenv("UPDATE_PLANS") != "" {
			archive.Files = out
			require.NoError(t, os.WriteFile(path, txtar.Format(archive), 0o644))
		}
	}
}

// planned is a plan as text.
func planned(t *testing.T, e engine.Engine, before, after, said, rows string) string {
	in := plan.Input{
		Engine: e, Kept: "erbario_kept_20261123t093000_7bc6_", Live: stored(t, e, before), Wanted: stored(t, e, after),
		Answers: plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{},
			Deleted: map[string]plan.DeletedRows{}},
		Renames: map[plan.Rename][]engine.Step{},
	}
	n, _ := strconv.ParseInt(strings.TrimSpace(rows), 10, 64)
	in.Count = func(string) (int64, error) { return n, nil }
	in.Look = func(string) (int64, engine.Rows, error) { return n, engine.Rows{}, nil }
	in.Size = func(string) (int64, error) { return 0, nil }
	for line := range strings.Lines(said) {
		answer(t, &in, strings.TrimSpace(line))
	}
	in.Made = in.Live
	p, err := plan.Make(in)
	if err != nil {
		return "error: " + err.Error() + "\n"
	}
	return text(p)
}

// stored is what an engine keeps for models.
func stored(t *testing.T, e engine.Engine, models string) *sqlschema.Schema {
	f, diags := lang.Parse("models/test.erbario", models)
	require.Empty(t, diags, models)
	d, diags := declare.Resolve([]*lang.File{f}, declare.Rules{}, e.Name())
	require.Empty(t, diags, models)
	s, _ := e.DDL().Lower(d.Schema)
	return s
}

// answer takes one answer, such as "rename sheets.note=remark".
func answer(t *testing.T, in *plan.Input, line string) {
	word, rest, _ := strings.Cut(line, " ")
	name, value, _ := strings.Cut(rest, "=")
	switch word {
	case "rename":
		table, column, _ := strings.Cut(name, ".")
		r := plan.Rename{Table: table, Column: column, To: value}
		in.Answers.Rename = append(in.Answers.Rename, r)
		in.Renames[r], in.Live = in.Engine.DDL().Rename(in.Live, table, column, value)
	case "fill":
		in.Answers.Fill[name] = plan.Fill{SQL: value, Literal: true}
	case "drop":
		in.Answers.Drop[name] = true
	case "deleted":
		in.Answers.Deleted[name] = plan.DeletedRows(value)
	case "in": // use
		in.InUse = func(string) bool { return true }
	case "":
	default:
		require.Fail(t, "there is no such answer", line)
	}
}

func text(p *plan.Plan) string {
	var b strings.Builder
	for _, q := range p.Questions {
		fmt.Fprintf(&b, "? %s\n", q.Text)
		for _, c := range q.Choices {
			fmt.Fprintf(&b, "    %s: %s\n", c.Words, strings.Join(c.Flags, " "))
		}
	}
	needs := func(when string, list []engine.Requirement) {
		for _, r := range list {
			fmt.Fprintf(&b, "%s: %s\n", when, r.Sentence)
		}
	}
	needs("before apply", p.BeforeApply)
	needs("before undo", p.BeforeUndo)
	for i, s := range p.Steps {
		fmt.Fprintf(&b, "%d %s\n", i+1, s.Title)
		if s.Kind != engine.InTransaction {
			fmt.Fprintf(&b, "    (%s)\n", s.Kind)
		}
		for _, l := range s.Loses {
			fmt.Fprintf(&b, "    loses %s\n", l)
		}
		for _, sql := range s.Apply {
			fmt.Fprintf(&b, "    > %s\n", oneLine(sql))
		}
		for _, sql := range s.Undo {
			fmt.Fprintf(&b, "    < %s\n", oneLine(sql))
		}
	}
	if b.Len() == 0 {
		return "nothing\n"
	}
	return b.String()
}

func oneLine(sql string) string { return strings.Join(strings.Fields(sql), " ") }
