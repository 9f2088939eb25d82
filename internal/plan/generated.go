package plan

// This file plans columns that become generated, or are generated otherwise: such a one is
// dropped and added again. The values of a plain one go with it, like those of a column
// that is dropped; where one becomes plain, its values stay, and the engine sees to it.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// generatedAgain are the columns that are dropped and added again, and asks about the
// values of those that were plain.
func (p *planner) generatedAgain(a *engine.Alteration, changes []diff.Change, rows func() int64) map[string]bool {
	again := map[string]bool{}
	for _, c := range changes {
		col, ok := c.Object.(*sqlschema.Column)
		old, was := c.Before.(*sqlschema.Column)
		if !ok || !was || col.Generated == nil || again[c.Name] {
			continue
		}
		switch {
		case old.Generated != nil && old.Generated.Stored != col.Generated.Stored:
			again[c.Name] = true
		case old.Generated == nil:
			again[c.Name] = true
			if n := rows(); n > 0 && !p.answered("drop", c.Target()) {
				p.ask(Question{
					About: c.Target(),
					Rows:  n,
					Text: fmt.Sprintf("%s becomes generated, which replaces its values; %s has %s", c.Target(), c.Table,
						words.Rows(n)),
					Choices: []Choice{choice("replace its values; they are kept", "--drop "+c.Target())},
					Query: p.shown(c.Table, c.Name,
						p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))+" IS NOT NULL"),
					Other: "or give the generated field a new name",
				})
				continue
			}
			p.lose(a, old)
			if src, ok := a.Back[c.Name]; ok && src.Unconvertible { // it is dropped first
				delete(a.Back, c.Name)
			}
		}
	}
	return again
}

// alterTable gives the steps that make one table another: in two turns where columns are
// dropped and added again.
func (p *planner) alterTable(a engine.Alteration, again map[string]bool) engine.Change {
	if _, ok := p.follow[a.From.Name]; ok && len(again) == 0 {
		return p.inTwo(a)
	}
	if len(again) == 0 && p.asideApart(a) {
		return p.inTwo(a)
	}
	if len(again) == 0 {
		return p.Engine.DDL().Alter(a)
	}
	stands := func(sql sqlschema.SQL) bool {
		list, _ := wordsOf(p.Engine.SQL().Lex(sql.Text))
		return slices.ContainsFunc(list, func(w word) bool { return again[w.name] })
	}
	mid := a.To.Clone()
	mid.Text = ""
	mid.Columns = slices.DeleteFunc(mid.Columns, func(c *sqlschema.Column) bool {
		return again[c.Name] || c.Generated != nil && stands(c.Generated.SQL)
	})
	missing := func(n string) bool { return a.To.Column(n) != nil && mid.Column(n) == nil }
	mid.Indexes = slices.DeleteFunc(mid.Indexes, func(x *sqlschema.Index) bool {
		return slices.ContainsFunc(sqlschema.Names(x.Parts), missing) || x.Where != nil && stands(*x.Where) ||
			slices.ContainsFunc(x.Parts, func(part sqlschema.Part) bool {
				return part.Expr != nil &&
					stands(*part.Expr)
			})
	})
	mid.Checks = slices.DeleteFunc(mid.Checks,
		func(k *sqlschema.Check) bool { return missing(k.Column) || stands(k.SQL) })
	mid.Triggers = slices.DeleteFunc(mid.Triggers, func(g *sqlschema.Trigger) bool { return missing(g.Column) })
	mid.ForeignKeys = slices.DeleteFunc(mid.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return slices.ContainsFunc(k.Columns, missing) })

	second := a
	second.From, second.To = mid, a.To
	second.Forward, second.Back = map[string]engine.Source{}, map[string]engine.Source{}
	second.Lost, second.Only = nil, ""
	second.Summary = fmt.Sprintf("generate %s of %s", strings.Join(slices.Sorted(maps.Keys(again)), ", "), a.To.Name)
	a.To = mid
	out, add := p.Engine.DDL().Alter(a), p.Engine.DDL().Alter(second)
	// What asks for the table between the two is asked there.
	shape := func(r engine.Requirement) bool { return r.Shape }
	if n := len(out.Steps); n > 0 && len(add.Steps) > 0 {
		for _, r := range add.BeforeApply {
			if r.Shape {
				add.Steps[0].Here = append(add.Steps[0].Here, r)
			}
		}
		for _, r := range out.BeforeUndo {
			if r.Shape {
				out.Steps[n-1].HereUndo = append(out.Steps[n-1].HereUndo, r)
			}
		}
	}
	out.Steps = append(out.Steps, add.Steps...)
	out.BeforeApply = append(out.BeforeApply, slices.DeleteFunc(add.BeforeApply, shape)...)
	out.BeforeUndo = append(slices.DeleteFunc(out.BeforeUndo, shape), add.BeforeUndo...)
	out.Copies, out.CopiesBack = out.Copies || add.Copies, out.CopiesBack || add.CopiesBack
	return out
}
