package plan

// This file plans changes of the values of choices.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// renameChoices gives the rows of a renamed value of a choice its new name.
func (p *planner) renameChoices(a *engine.Alteration, c diff.Change) {
	k, ok := c.Object.(*sqlschema.Check)
	if !ok || k.Purpose != schema.ForChoice {
		return
	}
	old := c.Before.(*sqlschema.Check).Choices
	now := k.Choices
	var there, back, merged []string
	when := func(v, value string) string { return fmt.Sprintf("WHEN %s THEN %s", p.Engine.SQL().Text(v), value) }
	settled, renames := map[string]bool{}, p.valueRenames(c.Table, k.Column)
	among := func(value func(r Rename) string, v string) bool {
		return slices.ContainsFunc(renames, func(r Rename) bool { return value(r) == v })
	}
	for _, r := range renames {
		takes := among(func(r Rename) string { return r.To }, r.Value)
		if !slices.Contains(old, r.Value) || slices.Contains(now, r.Value) && !takes || !slices.Contains(now, r.To) {
			p.fail("--rename %s: %s.%s has to lose the value %q and to have %q", r, c.Table, k.Column, r.Value, r.To)
			return
		}
		p.used["rename "+r.String()] = true
		settled[r.Value] = true
		if slices.Contains(old, r.To) && !among(func(r Rename) string { return r.Value },
			r.To) { // nobody could tell afterwards which rows had which
			merged = append(merged, when(r.Value, p.Engine.SQL().Text(r.To)))
			continue
		}
		there = append(there, when(r.Value, p.Engine.SQL().Text(r.To)))
		back = append(back, when(r.To, p.Engine.SQL().Text(r.Value)))
	}
	column := p.Engine.SQL().Quote(k.Column)
	gone := slices.DeleteFunc(slices.Clone(old), func(v string) bool { return slices.Contains(now, v) || settled[v] })
	if len(gone) > 0 {
		if f, ok := p.choiceFill(c.Table, k.Column, old, now, settled); ok {
			for _, v := range gone {
				settled[v] = true
				merged = append(merged, when(v, "("+f.SQL+")"))
			}
		}
	}
	of := func(cases []string) string {
		if len(cases) == 0 {
			return column
		}
		return fmt.Sprintf("CASE %s %s ELSE %s END", column, strings.Join(cases, " "), column)
	}
	switch {
	case len(merged) > 0:
		a.Forward[k.Column] = engine.Source{SQL: of(append(there, merged...))}
		p.lose(a, a.From.Column(k.Column))
	case len(there) > 0:
		a.Forward[k.Column] = engine.Source{SQL: of(there)}
		a.Back[k.Column] = engine.Source{SQL: of(back)}
	}
	p.valuesGone(c.Table, k.Column, old, now, settled)
}

// choiceFill is the value that a person gave for the rows of values that a choice loses,
// those aside that are settled.
func (p *planner) choiceFill(table, column string, old, now []string, settled map[string]bool) (Fill, bool) {
	var texts []string
	for _, v := range added(now, old) {
		if !settled[v] {
			texts = append(texts, p.Engine.SQL().Text(v))
		}
	}
	if len(texts) == 0 {
		return Fill{}, false
	}
	return p.fill(table, column, p.Engine.SQL().Quote(p.oldColumn(table, column))+" IN ("+strings.Join(texts, ", ")+")")
}

// valueRenames are the renames of values of a column.
func (p *planner) valueRenames(table, column string) []Rename {
	return slices.DeleteFunc(slices.Clone(p.Answers.Rename), func(r Rename) bool {
		return r.Value == "" || !strings.EqualFold(r.Table, p.oldTable(table)) && !strings.EqualFold(r.Table, table) ||
			!strings.EqualFold(r.Column, column) && !strings.EqualFold(r.Column, p.oldColumn(table, column))
	})
}

// valuesSwap notes changes of choices that declare the same values as before, where
// answers give these other names.
func (p *planner) valuesSwap() {
	for _, t := range p.Live.Tables {
		w := p.Wanted.Table(t.Name)
		for _, k := range t.Checks {
			if k.Purpose != schema.ForChoice || w == nil || len(p.valueRenames(t.Name, k.Column)) == 0 {
				continue
			}
			known := slices.ContainsFunc(p.plan.Changes,
				func(c diff.Change) bool {
					return c.Kind == diff.ChangeCheck && c.Table == t.Name &&
						c.Before == any(k)
				})
			for _, o := range w.Checks {
				if !known && o.Purpose == schema.ForChoice && strings.EqualFold(o.Column, k.Column) &&
					o.SQL.Same(k.SQL) {
					p.plan.Changes = append(p.plan.Changes, diff.Change{
						Kind:   diff.ChangeCheck,
						Table:  t.Name,
						Name:   k.Name,
						From:   k.SQL.Text,
						To:     k.SQL.Text,
						What:   k.Column + ": its values are renamed",
						Object: k,
						Before: k,
					})
				}
			}
		}
	}
}

// valuesGone asks about the rows of values that a choice loses, and tells whether there
// are any. settled are the values that an answer is for.
func (p *planner) valuesGone(table, column string, old, now []string, settled map[string]bool) (asked bool) {
	for _, v := range old {
		if slices.Contains(now, v) || settled[v] {
			continue
		}
		where := fmt.Sprintf("%s = %s", p.Engine.SQL().Quote(p.oldColumn(table, column)), p.Engine.SQL().Text(v))
		n := p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s", p.Engine.SQL().QuoteTable(p.oldTable(table)), where))
		if n == 0 {
			continue
		}
		q := Question{
			About: table + "." + column,
			Rows:  n,
			Text: fmt.Sprintf("the value %s of %s.%s is no longer declared, and %s it", v, table, column,
				words.Have(n)),
		}
		for _, w := range now {
			if !slices.Contains(old, w) {
				q.Choices = append(q.Choices,
					choice("renamed to "+w, fmt.Sprintf("--rename %s.%s.%s=%s", table, column, v, w)))
			}
		}
		for _, w := range now {
			if slices.Contains(old, w) {
				q.Choices = append(
					q.Choices,
					choice("its rows become "+w+"; their values are kept",
						fmt.Sprintf("--rename %s.%s.%s=%s", table, column, v, w)),
				)
			}
		}
		q.Choices = append(
			q.Choices,
			choice("an expression over the row, for all dropped values; the old ones are kept",
				fmt.Sprintf("--fill %s.%s=sql:EXPRESSION", table, column)),
		)
		q.Query = p.shown(table, column, where)
		q.Other = "or change those rows first, or declare the value again"
		p.ask(q)
		asked = true
	}
	return asked
}
