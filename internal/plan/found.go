package plan

// This file takes over what was made by hand and is declared now, and leaves alone what nobody declared.

import (
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// letGo tells whether a person said that a table or a column that no migration
// made may go.
func (p *planner) letGo(c diff.Change) bool {
	return (c.Kind == diff.DropTable || c.Kind == diff.DropColumn) && p.Answers.Drop[c.Target()]
}

// made tells whether the applied migrations made what a change would drop.
func (p *planner) made(c diff.Change) bool {
	if p.Made == nil {
		return false
	}
	t := p.Made.Table(c.Table)
	if c.Kind == diff.DropView { // one written by hand stays: no model could declare it
		v := p.Made.View(c.Table)
		return v != nil && v.LiveOf != ""
	}
	if t == nil {
		return false
	}
	switch c.Kind {
	case diff.DropTable: // a part of another, or one of a module, no model could declare
		return !t.Undeclarable() || p.InSQL[strings.ToLower(t.Name)]
	case diff.DropColumn:
		return t.Column(c.Name) != nil
	case diff.DropIndex, diff.DropUnique:
		return slices.ContainsFunc(t.Indexes,
			func(x *sqlschema.Index) bool { return strings.EqualFold(x.Name, c.Object.(*sqlschema.Index).Name) })
	case diff.DropReference:
		k := c.Object.(*sqlschema.ForeignKey)
		return slices.ContainsFunc(t.ForeignKeys,
			func(o *sqlschema.ForeignKey) bool { return slices.Equal(o.Columns, k.Columns) })
	case diff.DropCheck:
		k := c.Object.(*sqlschema.Check)
		return slices.ContainsFunc(t.Checks,
			func(o *sqlschema.Check) bool { return o.Name == k.Name && (o.Name != "" || o.SQL.Same(k.SQL)) })
	case diff.DropComment:
		if c.Name == "" {
			return t.Comment != ""
		}
		o := t.Column(c.Name)
		return o != nil && o.Comment != ""
	case diff.DropTrigger:
		if c.Object.(*sqlschema.Trigger).Purpose == "" && p.FoundTriggers[strings.ToLower(c.Name)] {
			return false // no model could declare it
		}
		return slices.ContainsFunc(t.Triggers,
			func(o *sqlschema.Trigger) bool { return strings.EqualFold(o.Name, c.Name) })
	}
	return false
}

// found notes what of a table no migration made and a model declares now: other
// databases may have it not.
func (p *planner) found(live *sqlschema.Table) {
	if p.Made == nil {
		return
	}
	known := target(live, p.undeclared(live.Name))
	made := p.Made.Table(live.Name)
	if made == nil && p.renamed(live.Name) {
		p.fail(
			"%s was not created by a migration, and cannot be taken over and renamed at once: declare it under its present name first",
			p.oldTable(live.Name),
		)
		return
	}
	if made == nil {
		p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Make: p.Engine.DDL().Create(known).Apply})
		return
	}
	var missing []*sqlschema.Column
	for _, c := range known.Columns {
		if made.Column(c.Name) == nil {
			missing = append(missing, c)
		}
	}
	for i, c := range missing {
		// Each comes behind those before it, and last, so that it can be added in
		// place to a table that has or has not the others.
		without := known.Clone()
		for _, o := range missing[i:] {
			without = target(without, []diff.Change{{Kind: diff.DropColumn, Table: live.Name, Name: o.Name, Object: o}})
			without.Indexes = slices.DeleteFunc(without.Indexes,
				func(x *sqlschema.Index) bool { return slices.Contains(sqlschema.Names(x.Parts), o.Name) })
			without.ForeignKeys = slices.DeleteFunc(without.ForeignKeys,
				func(k *sqlschema.ForeignKey) bool { return slices.Contains(k.Columns, o.Name) })
			without.Triggers = slices.DeleteFunc(without.Triggers,
				func(g *sqlschema.Trigger) bool { return g.Column == o.Name })
		}
		with := without.Clone()
		with.Columns = append(with.Columns, c)
		add := func(n string) bool { return n == c.Name || without.Column(n) != nil }
		with.Checks, with.Indexes, with.ForeignKeys, with.Triggers = nil, nil, nil, nil
		for _, k := range known.Checks {
			if k.Column == "" || add(k.Column) {
				with.Checks = append(with.Checks, k)
			}
		}
		for _, x := range known.Indexes {
			if !slices.ContainsFunc(sqlschema.Names(x.Parts), func(n string) bool { return !add(n) }) {
				with.Indexes = append(with.Indexes, x)
			}
		}
		for _, k := range known.ForeignKeys {
			if !slices.ContainsFunc(k.Columns, func(n string) bool { return !add(n) }) {
				with.ForeignKeys = append(with.ForeignKeys, k)
			}
		}
		for _, g := range known.Triggers {
			if g.Column == "" || add(g.Column) {
				with.Triggers = append(with.Triggers, g)
			}
		}
		var list []string
		for _, step := range p.Engine.DDL().Alter(engine.Between(without, with)).Steps {
			list = append(list, step.Apply...)
		}
		list = append(
			list,
			p.foundReferences(with, func(
				k *sqlschema.ForeignKey) bool {
				return slices.Contains(k.Columns, c.Name)
			})...)
		p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Column: c.Name, Make: list})
	}
}

// undeclared are the changes that would take what no migration made from a table.
func (p *planner) undeclared(table string) []diff.Change {
	return slices.DeleteFunc(slices.Clone(p.plan.Undeclared),
		func(c diff.Change) bool { return !strings.EqualFold(c.Table, table) })
}

// byHand names what no migration made of a table and a copy cannot carry along:
// indexes and triggers it can, since they stand beside the table.
func (p *planner) byHand(table string) []string {
	var out []string
	for _, c := range p.undeclared(table) {
		switch c.Kind {
		case diff.DropColumn, diff.DropCheck, diff.DropReference:
			out = append(out, c.Kind.Thing()+" "+c.Name)
		}
	}
	return out
}

// without is the table without the indexes and triggers that no migration made:
// the engine carries them along wherever it finds them.
func (p *planner) without(t *sqlschema.Table) *sqlschema.Table {
	var aside []diff.Change
	for _, c := range p.undeclared(t.Name) {
		switch c.Kind {
		case diff.DropIndex, diff.DropTrigger:
			aside = append(aside, c)
		case diff.DropUnique:
			if !c.Object.(*sqlschema.Index).Constraint {
				aside = append(aside, c)
			}
		}
	}
	out := target(t, aside)
	if !slices.ContainsFunc(aside, func(c diff.Change) bool { return c.Kind != diff.DropTrigger }) {
		out.Text = t.Text // the statement of a table has no triggers
	}
	return out
}
