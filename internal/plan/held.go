package plan

// This file is about the columns of virtual tables: they have no types, and nothing tells a change of one from
// another column.

import (
	"fmt"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/words"
)

// held plans what becomes of the columns whose values a virtual table holds: those that go are asked for, and those
// that come have what an answer gives them, or nothing.
func (p *planner) held(x *altering) {
	if x.live.Options.Virtual == "" || len(x.live.Held) == 0 {
		return
	}
	for _, c := range x.wanted.Held {
		if slices.Contains(x.live.Held, c) {
			continue
		}
		if f, ok := p.fill(x.name, c, ""); ok {
			x.Forward[c] = engine.Source{SQL: "(" + f.SQL + ")"}
		}
	}
	for _, c := range x.live.Held {
		if slices.Contains(x.wanted.Held, c) {
			continue
		}
		x.Lost = append(x.Lost, c)
		name := x.name + "." + c
		if p.answered("drop", name) || x.rows() == 0 {
			continue
		}
		q := Question{
			About: name, Rows: x.rows(),
			Text:    fmt.Sprintf("%s is no longer declared; %s has %s", name, x.name, words.Rows(x.rows())),
			Choices: []Choice{choice("drop it; its values are kept", "--drop "+name)},
		}
		for _, to := range x.wanted.Held {
			if !slices.Contains(x.live.Held, to) {
				q.Other = fmt.Sprintf("and --fill %s.%s=sql:%s gives its values to %s", x.name, to, c, to)
				break
			}
		}
		p.ask(q)
	}
}
