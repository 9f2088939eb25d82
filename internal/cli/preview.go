package cli

// This file shows what rows a seed would make.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/project"
	"erbario/internal/seed"
)

// wrapTail breaks the list at the end of a line that is too wide, at commas.
func wrapTail(line, tail string, width int) string {
	if len([]rune(line)) <= width {
		return line
	}
	out, indent := strings.TrimSuffix(line, tail), "\n    "
	at := width + 1
	for i, part := range strings.Split(tail, ", ") {
		if i > 0 {
			out += ","
		}
		if at+len(part)+2 > width {
			out = strings.TrimRight(out, " ") + indent
			at = 4
		} else {
			out += " "
			at++
		}
		out += part
		at += len(part) + 1
	}
	return out
}

func (a *app) previewSeed(ctx context.Context, p *project.Project, name string, f *seedFlags) error {
	e, err := a.anyEngine(p)
	if err != nil {
		return err
	}
	d, s, err := a.seeds(p, e, name)
	if err != nil {
		return err
	}
	plan, mistakes := seed.New(d, s, f.options(&seed.Existing{Unknown: true}))
	if len(mistakes) > 0 {
		return a.mistaken(p, mistakes, fmt.Sprintf("the seed %s cannot be run", name))
	}
	_, tables := plan.Rows()
	made := map[string]*previewed{}
	for _, l := range plan.Lines {
		t := made[l.Table.Name]
		if t == nil {
			t = &previewed{names: l.Columns, sources: make([][]seed.Source, len(l.Columns))}
			made[l.Table.Name] = t
		}
		for i, s := range plan.Sources(l) { // each line of the seed may fill a column otherwise
			if !slices.Contains(t.sources[i], s) {
				t.sources[i] = append(t.sources[i], s)
			}
		}
		err := plan.Make(ctx, l, max(f.preview, sampled), func(b *seed.Batch) error {
			plan.FillFromExisting(b)
			for i := range b.Rows() {
				if int64(len(t.rows)) < max(f.preview, sampled) {
					t.rows = append(t.rows, slices.Clone(b.Row(i)))
				}
			}
			return nil
		})
		var problem *seed.Problem
		if errors.As(err, &problem) {
			return a.mistaken(p, []lang.Diagnostic{problem.Diagnostic}, fmt.Sprintf("the seed %s cannot be run", name))
		}
		if err != nil {
			return err
		}
	}
	if a.json {
		docs := []map[string]any{}
		for _, t := range tables {
			m := made[t.Table.Name]
			docs = append(docs, map[string]any{
				"model":   t.Table.Model,
				"table":   t.Table.Name,
				"rows":    t.Rows,
				"columns": m.names,
				"filled":  m.filled(),
				"first":   append([][]any{}, m.first(f.preview)...),
			})
		}
		return a.document(map[string]any{"seed": name, "random": f.random, "tables": docs})
	}
	for i, t := range tables {
		if i > 0 {
			a.out.line("")
		}
		m := made[t.Table.Name]
		a.out.line(a.out.paint(styleHead, t.Table.Name) + "  " + rows(t.Rows))
		a.fillings(m)
		shown := engine.Rows{Columns: m.names}
		for _, row := range m.first(f.preview) {
			values := make([]string, len(row))
			for j, v := range row {
				values[j] = shownValue(v)
			}
			shown.Values = append(shown.Values, values)
		}
		a.out.line("")
		a.grid(shown)
	}
	return nil
}

// sampled is of how many rows of a table the samples of a preview are.
const sampled = 200

// previewed is what a preview made of one table.
type previewed struct {
	names   []string
	sources [][]seed.Source // by column: of the lines of the seed that make such rows
	rows    [][]any
}

func (t *previewed) first(n int64) [][]any { return t.rows[:min(n, int64(len(t.rows)))] }
