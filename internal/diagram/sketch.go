package diagram

// This file makes a sketch of a graph for the terminal.

import "strings"

// Item is one line of a sketch: a model with its key, or below it a reference, a field that changed, or a list
// of what refers to it.
type Item struct {
	Sign  string
	Cells []string
	Model bool
}

// Sketch gives the lines of a sketch.
func (g *Graph) Sketch() (out []Item) {
	for _, b := range g.Boxes {
		var keys []string
		for _, f := range b.Fields {
			if f.Key {
				keys = append(keys, f.Name)
			}
		}
		about := ""
		if len(keys) > 0 {
			about = "key " + strings.Join(keys, ", ")
		}
		if b.Outside {
			about = strings.TrimPrefix(about+", outside", ", ")
		}
		out = append(out, Item{Sign: b.Sign, Cells: []string{b.Name, about}, Model: true})
		for _, f := range b.Fields {
			if b.Sign == "~" && f.Sign != "" && f.Refers == "" {
				out = append(out, Item{Sign: f.Sign, Cells: []string{f.Name, f.about()}})
			}
		}
		for _, n := range b.Notes {
			sign, rest, _ := strings.Cut(n, " ")
			out = append(out, Item{Sign: sign, Cells: []string{rest}})
		}
		for _, l := range g.Lines {
			if l.From == b {
				out = append(out, Item{Sign: l.Sign, Cells: []string{l.label(), "→ " + l.To.Name, l.kind()}})
			}
		}
		var by []string
		for _, l := range g.Lines {
			if l.To == b && l.From != b {
				by = append(by, l.From.Name+"."+l.label())
			}
		}
		if len(by) > 0 {
			out = append(out, Item{Cells: []string{"← " + strings.Join(by, ", ")}})
		}
	}
	return out
}

// label is the name of the fields that refer.
func (l *Line) label() string {
	var names []string
	for _, c := range l.Columns {
		if f := l.From.field(c); f != nil {
			names = append(names, f.Name)
		}
	}
	return strings.Join(names, ", ")
}

// kind says what is not so of most references: many rows refer to just one.
func (l *Line) kind() string {
	var out []string
	if l.Optional {
		out = append(out, "optional")
	}
	if l.One {
		out = append(out, "one to one")
	}
	if l.OnDelete != "" && l.OnDelete != "NO ACTION" && l.OnDelete != "RESTRICT" {
		out = append(out, "on delete "+strings.ToLower(string(l.OnDelete)))
	}
	return strings.Join(out, ", ")
}
