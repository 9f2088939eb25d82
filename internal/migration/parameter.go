package migration

// This file holds parameters: values in a migration that one database may need
// otherwise than the next. They are in its SQL as :name, and are put in before
// it runs.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
)

// parameterLine is a parameter as the file has it.
func parameterLine(x engine.Parameter) string {
	s := fmt.Sprintf("parameter %s for %s a %s", x.Name, strconv.Quote(x.For), strconv.Quote(x.Type))
	if x.Undo {
		return "undo " + s
	}
	return s + " here " + strconv.Quote(x.Home)
}

// readParameter is the inverse of parameterLine.
func readParameter(words string) (x engine.Parameter, ok bool) {
	words, x.Undo = strings.CutPrefix(words, "undo ")
	rest, ok := strings.CutPrefix(words, "parameter ")
	if !ok {
		return x, false
	}
	x.Name, rest, ok = strings.Cut(rest, " for ")
	quoted := func() (s string) {
		q, err := strconv.QuotedPrefix(rest)
		if err != nil {
			ok = false
			return ""
		}
		rest = rest[len(q):]
		s, _ = strconv.Unquote(q)
		return s
	}
	word := func(w string) {
		var found bool
		rest, found = strings.CutPrefix(rest, w)
		ok = ok && found
	}
	x.For = quoted()
	word(" a ")
	x.Type = quoted()
	if !x.Undo {
		word(" here ")
		x.Home = quoted()
	}
	return x, ok && rest == "" && x.Name != ""
}

// Bound is the migration with values, as SQL by table.column, in the place of its
// parameters; one without a value has what it had at home.
func (m *Migration) Bound(e Engine, apply, undo map[string]string) *Migration {
	if len(m.Parameters) == 0 {
		return m
	}
	values := map[string]string{}
	for _, x := range m.Parameters {
		given := apply
		if x.Undo {
			given = undo
		}
		value, ok := given[x.For]
		if !ok {
			value = x.Home
		}
		if value == "" {
			value = "NULL"
		}
		values[x.Name] = value
	}
	out := *m
	needs := func(list []engine.Requirement) []engine.Requirement {
		var to []engine.Requirement
		for _, r := range list {
			for _, x := range m.Parameters {
				if _, given := undo[x.For]; x.Undo && !given &&
					e.SQL().Bind(r.Query, map[string]string{x.Name: "NULL"}) != r.Query {
					r.Ungiven = append(slices.Clone(r.Ungiven), x.For)
				}
			}
			r.Query = e.SQL().Bind(r.Query, values)
			to = append(to, r)
		}
		return to
	}
	statements := func(list []Statement) []Statement {
		var to []Statement
		for _, s := range list {
			s.SQL = e.SQL().Bind(s.SQL, values)
			to = append(to, s)
		}
		return to
	}
	out.Parameters = nil
	out.BeforeApply, out.BeforeUndo = needs(m.BeforeApply), needs(m.BeforeUndo)
	out.Steps = nil
	for _, s := range m.Steps {
		s.Here, s.HereUndo, s.Apply, s.Undo = needs(s.Here), needs(s.HereUndo), statements(s.Apply), statements(s.Undo)
		out.Steps = append(out.Steps, s)
	}
	return &out
}
