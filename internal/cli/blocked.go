package cli

// This file shows the rows that block a change, and how to look at them.

import (
	"slices"
	"strings"

	"erbario/internal/plan"
	"erbario/internal/runner"
)

type jsonWay struct {
	Sentence string     `json:"sentence"`
	Rows     int64      `json:"rows"`
	Columns  []string   `json:"columns"`
	Values   [][]string `json:"values"`
	Flags    []string   `json:"flags,omitempty"`
}

func jsonWays(list []plan.InTheWay) []jsonWay {
	out := []jsonWay{}
	for _, w := range list {
		j := jsonWay{
			Sentence: runner.Sentence(w.Requirement.Sentence, w.Rows),
			Rows:     w.Rows,
			Columns:  w.Sample.Columns,
			Values:   w.Sample.Values,
		}
		for _, c := range w.Choices {
			j.Flags = append(j.Flags, shellFlags(c.Flags))
		}
		out = append(out, j)
	}
	return out
}

// way is what is in a plan's way in the words of a run.
func way(w plan.InTheWay) *runner.InTheWay {
	return &runner.InTheWay{
		Sentence: runner.Sentence(w.Requirement.Sentence, w.Rows),
		Query:    w.Requirement.Query,
		Count:    w.Rows,
		Sample:   w.Sample,
	}
}

// lookFor is the command that shows the rows which have the same values, those of the
// sample; "" where it is not about such.
func lookFor(w plan.InTheWay) string {
	r := w.Requirement
	field := func(name string) string {
		if r.Folded {
			return "lower({" + name + "})"
		}
		return "{" + name + "}"
	}
	value := func(row []string, name string) string {
		i := slices.IndexFunc(w.Sample.Columns, func(c string) bool { return strings.EqualFold(c, name) })
		switch {
		case i < 0 || row[i] == "NULL":
			return ""
		case r.Folded:
			return "lower(" + row[i] + ")"
		}
		return row[i]
	}
	if len(r.Repeats) == 0 || len(w.Sample.Values) == 0 {
		return ""
	}
	var where []string
	if len(r.Repeats) == 1 {
		for _, row := range w.Sample.Values {
			if v := value(row, r.Repeats[0]); v != "" {
				where = append(where, v)
			}
		}
		if len(where) == 0 {
			return ""
		}
		where = []string{field(r.Repeats[0]) + " IN (" + strings.Join(where, ", ") + ")"}
	} else {
		for _, name := range r.Repeats {
			v := value(w.Sample.Values[0], name)
			if v == "" {
				return ""
			}
			where = append(where, field(name)+" = "+v)
		}
	}
	return "erbario look " + r.Among + " --where " + shellWord(strings.Join(where, " AND "))
}

// shellWord is a text as one would type it as one word.
func shellWord(s string) string {
	if !strings.ContainsAny(s, "\"$`\\!") {
		return `"` + s + `"`
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// typed is a text as one would type it, in quotes only where the shell needs them.
func typed(s string) string {
	if s == "" || strings.ContainsAny(s, " *?'\"$`\\!;&|<>()[]{}~#") {
		return shellWord(s)
	}
	return s
}

// ways shows the rows in a plan's way, and the flags by which they would fit.
func (a *app) ways(list []plan.InTheWay) {
	for _, w := range list {
		a.inTheWay(way(w))
		if look := lookFor(w); look != "" {
			a.err.printf("    %s  shows the rows", cell(look))
		}
		a.choices(w.Choices)
	}
}

// inTheWay shows rows that stand against a requirement.
func (a *app) inTheWay(w *runner.InTheWay) {
	a.err.line(a.err.paint(styleBad, "blocked: ") + clean(w.Sentence))
	for _, line := range sample(w.Sample, "    ") {
		a.err.line(line)
	}
	a.more(w.Count, w.Sample)
	var list []plan.Choice
	for _, flag := range fillFlags(w) {
		list = append(list, plan.Choice{Words: "the value that these rows get", Flags: []string{flag}})
	}
	a.choices(list)
}

// fillFlags are the flags that give a value to the rows that block an undo.
func fillFlags(w *runner.InTheWay) []string {
	out := []string{}
	for _, name := range w.Ungiven {
		out = append(out, "--fill "+name+"=VALUE")
	}
	return out
}
