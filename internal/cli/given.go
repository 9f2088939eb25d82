package cli

// This file asks for the values of parameters, and tells what became of them.

import (
	"context"
	"maps"
	"slices"
	"strings"

	"charm.land/huh/v2"

	"erbario/internal/runner"
	"erbario/internal/schema"
)

// askNeeds asks at the terminal for the values that a migration leaves to each
// database.
func (a *app) askNeeds(ctx context.Context, open *runner.NeedsAnswers,
	given map[string]string) (map[string]string, error) {
	out := maps.Clone(given)
	if out == nil {
		out = map[string]string{}
	}
	for _, n := range open.Needs {
		a.err.printf("%s %s asks each database for %s: %s need a value (drafted with %s)",
			a.err.paint(styleWarn, "question:"), open.Migration, cell(n.For), rows(n.Rows), cell(n.Home))
		text := ""
		field := huh.NewInput().
			Title("value for " + n.For + ", " + n.Type + ":").
			Value(&text).
			Validate(func(v string) error {
				_, err := schema.ReadValue(v, schema.ParseType(n.Type))
				return err
			})
		if err := a.form(ctx, field); err != nil {
			return nil, err
		}
		a.err.line(a.err.paint(styleDim, "    "+shellFlag("--fill "+n.For+"="+text)))
		out[n.For] = text
	}
	return out, nil
}

// given follows what becomes of the values that were given for columns.
type given struct {
	names  []string
	needed map[string]int64  // rows that the value was for
	why    map[string]string // why it was of no use; "": it was of use
}

func newGiven(answers map[string]string) *given {
	g := &given{names: slices.Sorted(maps.Keys(answers)), needed: map[string]int64{}, why: map[string]string{}}
	for _, name := range g.names {
		g.why[name] = "the migration that asks for it was not applied in this run"
	}
	return g
}

func (g *given) rows(column string, n int64) { g.needed[column] = n }

// done looks which values a migration had a use for.
func (g *given) done(r runner.Run) {
	for _, x := range r.Parameters {
		if x.Undo {
			continue
		}
		g.why[x.For] = ""
		i := slices.IndexFunc(r.Restored, func(b runner.Restored) bool { return strings.HasPrefix(x.For, b.Table+".") })
		switch n := g.needed[x.For]; {
		case n == 0:
			g.why[x.For] = "no row needs a value"
		case i >= 0 && r.Restored[i].Rows >= n:
			g.why[x.For] = "every row has its kept value back"
		}
	}
}

type jsonUnused struct {
	For string `json:"for"`
	Why string `json:"why"`
}

func (g *given) unused() []jsonUnused {
	var out []jsonUnused
	for _, name := range g.names {
		if g.why[name] != "" {
			out = append(out, jsonUnused{name, g.why[name]})
		}
	}
	return out
}
