package plan

// This file plans what belongs to soft deletion: the view of the rows that are
// left and the trigger that takes children along, which span tables and so go
// before any table changes and come when all have; what an undo would bring
// back; and what becomes of deleted rows when soft deletion goes.

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

// isSpanning tells whether a trigger names other tables, or has a function that stays where a
// table goes without it: it goes before any table changes and comes when all have.
func isSpanning(g *sqlschema.Trigger) bool {
	switch g.Purpose {
	case schema.ForChildren, schema.ForGuard, schema.ForGuardMark, schema.ForGuardAll, schema.ForGuardChildren:
		return true
	}
	return false
}

// withoutSpanning is a table without the triggers that name other tables.
func withoutSpanning(t *sqlschema.Table) *sqlschema.Table {
	c := t.Clone()
	c.Triggers = slices.DeleteFunc(c.Triggers, isSpanning)
	return c
}

// spanGoes and spanComes plan a view or a trigger that names other tables. The
// undo is the mirror, so what goes first comes back last.
func (p *planner) spanGoes(name, title string, drop, create []string) {
	p.units = append(p.units, unit{
		rank:   rankSpanGoes,
		name:   name,
		change: engine.Change{Steps: []engine.Step{{Title: "drop " + title, Apply: drop, Undo: create}}},
	})
}

func (p *planner) spanComes(name, title string, drop, create []string) {
	p.units = append(p.units, unit{
		rank:   rankSpanComes,
		name:   name,
		change: engine.Change{Steps: []engine.Step{{Title: "create " + title, Apply: create, Undo: drop}}},
	})
}

// spanning plans the triggers that name other tables.
func (p *planner) spanning() {
	title := func(t string, g *sqlschema.Trigger) string {
		switch g.Purpose {
		case schema.ForGuard:
			return fmt.Sprintf("the trigger that guards the rows of %s", t)
		case schema.ForGuardMark:
			return fmt.Sprintf("the trigger that guards the marks of %s", t)
		case schema.ForGuardAll:
			return fmt.Sprintf("the trigger that guards %s from being emptied", t)
		case schema.ForGuardChildren:
			return fmt.Sprintf("the trigger that guards rows deleted with a row of %s", t)
		}
		return fmt.Sprintf("the trigger that deletes children with a row of %s", t)
	}
	goes := func(t *sqlschema.Table, g *sqlschema.Trigger) {
		create, drop := p.Engine.DDL().Trigger(t, g)
		p.spanGoes(t.Name, title(t.Name, g), drop, create)
	}
	comes := func(t *sqlschema.Table, g *sqlschema.Trigger) {
		create, drop := p.Engine.DDL().Trigger(t, g)
		p.spanComes(t.Name, title(t.Name, g), drop, create)
	}
	for _, c := range p.plan.Changes {
		switch o := c.Object.(type) {
		case *sqlschema.Table:
			for _, g := range o.Triggers {
				if isSpanning(g) && c.Kind == diff.AddTable {
					comes(o, g)
				} else if isSpanning(g) {
					goes(o, g)
				}
			}
		case *sqlschema.Trigger:
			if !isSpanning(o) {
				continue
			}
			switch c.Kind {
			case diff.AddTrigger:
				comes(p.Wanted.Table(c.Table), o)
			case diff.DropTrigger:
				goes(p.Live.Table(c.Table), o)
			default:
				goes(p.Live.Table(c.Table), c.Before.(*sqlschema.Trigger))
				comes(p.Wanted.Table(c.Table), o)
			}
		}
	}
}

// apart plans the views among the changes of one name, and leaves out the
// triggers that spanning has planned.
func (p *planner) apart(list []diff.Change) []diff.Change {
	var out []diff.Change
	for _, c := range list {
		switch o := c.Object.(type) {
		case *sqlschema.View:
			drop := []string{"DROP VIEW " + p.Engine.SQL().QuoteTable(o.Name)}
			title := "view " + o.Name
			if c.Kind == diff.DropView {
				p.spanGoes(o.Name, title, drop, []string{o.SQL.Text})
				continue
			}
			if old, ok := c.Before.(*sqlschema.View); ok && c.Kind == diff.ChangeView {
				step := engine.Step{Title: "create " + title + " again, with the present columns", Apply: append(slices.Clone(drop), o.SQL.Text), Undo: append(slices.Clone(drop), old.SQL.Text)}
				if p.viewLets(o) { // go of columns, before they do
					step.Title = "create " + title + " again, without the dropped columns"
					p.units = append(p.units,
						unit{rank: rankSpanGoes, name: o.Name, change: engine.Change{Steps: []engine.Step{step}}})
					continue
				}
				if p.viewStays(o) {
					p.units = append(p.units,
						unit{rank: rankSpanComes, name: o.Name, change: engine.Change{Steps: []engine.Step{step}}})
					continue
				}
			}
			if c.Kind == diff.ChangeView {
				p.spanGoes(o.Name, title, drop, []string{c.Before.(*sqlschema.View).SQL.Text})
			}
			p.spanComes(o.Name, title, drop, []string{o.SQL.Text})
		case *sqlschema.Trigger:
			if !isSpanning(o) {
				out = append(out, c)
			}
		default:
			out = append(out, c)
		}
	}
	return out
}

// viewStays tells whether a view can stay until what it is to show is there: others
// read it meanwhile, and no column that it shows goes or gets another type.
func (p *planner) viewStays(v *sqlschema.View) bool {
	live, wanted := p.Live.Table(v.LiveOf), p.Wanted.Table(v.LiveOf)
	if live == nil || wanted == nil || !p.inUse(v.LiveOf) {
		return false
	}
	return !slices.ContainsFunc(live.Columns, func(c *sqlschema.Column) bool {
		return !hidden(c) && !shownAlike(c, wanted.Column(c.Name))
	})
}

// shownAlike tells whether a view that shows one column can show the other as it is.
func shownAlike(c, o *sqlschema.Column) bool {
	return o != nil && sqlschema.SameForm(o.SQLType, c.SQLType) && (o.Generated == nil) == (c.Generated == nil) &&
		(o.Generated == nil || o.Generated.SQL.Same(c.Generated.SQL))
}

// viewLets tells whether all that a view is to show is there already, so that it can be
// made again before anything of its table goes.
func (p *planner) viewLets(v *sqlschema.View) bool {
	live, wanted := p.Live.Table(v.LiveOf), p.Wanted.Table(v.LiveOf)
	if live == nil || wanted == nil || !p.inUse(v.LiveOf) {
		return false
	}
	return !slices.ContainsFunc(wanted.Columns, func(w *sqlschema.Column) bool {
		return !hidden(w) && !shownAlike(w, live.Column(w.Name))
	})
}

// settled is a live table without the spanning triggers that have gone before
// it is changed.
func (p *planner) settled(t *sqlschema.Table) *sqlschema.Table {
	c := t.Clone()
	c.Triggers = slices.DeleteFunc(c.Triggers, func(g *sqlschema.Trigger) bool {
		return isSpanning(g) && slices.ContainsFunc(p.plan.Changes, func(d diff.Change) bool {
			if o, ok := d.Object.(*sqlschema.Trigger); !ok || d.Table != t.Name || d.Kind == diff.AddTrigger ||
				!strings.EqualFold(o.Name, g.Name) {
				return false
			}
			return true
		})
	})
	return c
}

// deletedRows selects the rows of a table that are marked as deleted.
func (p *planner) deletedRows(t *sqlschema.Table, table, column string) string {
	shown := slices.Clone(t.Key())
	for _, x := range t.Indexes { // what people know a row by
		if names := sqlschema.Names(x.Parts); x.Unique && len(names) > 0 && len(shown) < 4 {
			for _, n := range names {
				if !slices.Contains(shown, n) {
					shown = append(shown, n)
				}
			}
		}
	}
	shown = append(slices.DeleteFunc(shown, func(n string) bool { return n == column }), column)
	for i, n := range shown {
		shown[i] = p.Engine.SQL().Quote(n)
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s IS NOT NULL", strings.Join(shown, ", "),
		p.Engine.SQL().QuoteTable(table), p.Engine.SQL().Quote(column))
}

// revived is what must hold before an undo takes soft deletion away: deleted
// rows would be rows like any other.
func (p *planner) revived(change *engine.Change, live, wanted *sqlschema.Table) {
	if wanted.SoftDelete == "" || live.SoftDelete != "" || live.Column(wanted.SoftDelete) != nil {
		return
	}
	deleted := engine.Requirement{
		Sentence: fmt.Sprintf("{n} rows of %s are deleted and would be restored", wanted.Name),
		Revives:  true,
		Query:    p.deletedRows(wanted, wanted.Name, wanted.SoftDelete),
	}
	change.BeforeUndo = append(change.BeforeUndo, deleted)
	for i := range change.Steps {
		if s := &change.Steps[i]; engine.Loses(s.UndoLoses, wanted.Name, wanted.SoftDelete) {
			s.HereUndo = append(s.HereUndo, deleted)
		}
	}
}

// softDeleteGoes plans what becomes of deleted rows when their mark goes. It
// returns true where it has seen to the column.
func (p *planner) softDeleteGoes(a *engine.Alteration, c diff.Change, wanted *sqlschema.Table) bool {
	if wanted.SoftDelete != "" || a.From.SoftDelete != c.Name {
		return false
	}
	oldTable, oldColumn := p.oldTable(c.Table), p.oldColumn(c.Table, c.Name)
	n := p.count(
		fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", p.Engine.SQL().QuoteTable(oldTable),
			p.Engine.SQL().Quote(oldColumn)),
	)
	fate, ok := p.Answers.Deleted[c.Table]
	if !ok && n > 0 {
		q := Question{
			About: c.Table,
			Rows:  n,
			Text:  fmt.Sprintf("soft delete is removed from %s, and %s deleted", c.Table, are(n)),
		}
		for _, f := range []struct {
			fate DeletedRows
			what string
		}{{Keep, "set them aside until an undo"}, {Restore, "restore them as ordinary rows"},
			{Purge, "delete them permanently"}} {
			q.Choices = append(q.Choices, choice(f.what, fmt.Sprintf("--deleted %s=%s", c.Table, f.fate)))
		}
		p.ask(q)
		return true
	}
	p.used["deleted "+c.Table] = true
	where := p.Engine.SQL().Quote(c.Name) + " IS NOT NULL"
	switch fate {
	case Restore:
		return false // a column like any other: what it holds is kept
	case Keep, Purge:
		keep := ""
		if fate == Keep {
			keep = schema.Cut(p.Kept + "deleted_" + c.Table)
		}
		loss := engine.Loss{Table: c.Table, Deleted: true}
		step := p.Engine.DDL().DeleteRows(
			engine.RowDeletion{Table: withoutSpanning(a.From), Where: where, Keep: keep, What: loss.String()})
		step.Loses = []engine.Loss{loss}
		a.Only = p.Engine.SQL().Quote(c.Name) + " IS NULL"
		for _, t := range p.Live.Tables {
			for _, k := range t.ForeignKeys {
				switch {
				case !strings.EqualFold(k.Table, c.Table) || len(k.References) != len(k.Columns) ||
					p.foreignKeyByHand(t, k) || p.goes(t.Name):
				case p.renamed(t.Name) || p.renamed(c.Table): // asked when the new names are there
					step.Here = append(step.Here, p.leftBehind(a.From, t, k))
				default:
					p.needs[c.Table] = append(p.needs[c.Table], p.leftBehind(a.From, t, k))
				}
			}
		}
		// Before anything else, so that a fill elsewhere sees only the rows that stay.
		p.units = append(p.units, unit{
			rank:   rankRowsGo,
			place:  p.childrenFirst(c.Table),
			name:   c.Table,
			change: engine.Change{Steps: []engine.Step{step}},
		})
	default: // there is none here, and elsewhere nobody has said
		p.needs[c.Table] = append(p.needs[c.Table], engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s are deleted, and no answer says what to do with them", c.Table),
			Query:    p.deletedRows(a.From, c.Table, c.Name),
		})
	}
	return true
}

// rowsGo tells whether the rows of a table that are marked as deleted are taken out.
func (p *planner) rowsGo(table string) bool {
	live, wanted := p.Live.Table(table), p.Wanted.Table(table)
	if live == nil || wanted == nil || live.SoftDelete == "" || wanted.SoftDelete != "" {
		return false
	}
	fate := p.Answers.Deleted[wanted.Name]
	return fate == Keep || fate == Purge
}

// childrenFirst is the place of a table among those whose rows go: where references
// are held, rows go before those they refer to.
func (p *planner) childrenFirst(table string) int {
	if !p.Engine.Caps().ImmediateReferences {
		return 0
	}
	return 1 - slices.IndexFunc(parentsFirst(p.Live.Tables),
		func(t *sqlschema.Table) bool { return strings.EqualFold(t.Name, table) })
}

// leftBehind requires that no row refers to a deleted one that is to go, unless
// it goes too.
func (p *planner) leftBehind(parent, t *sqlschema.Table, k *sqlschema.ForeignKey) engine.Requirement {
	q, of := p.Engine.SQL().Quote, p.Engine.SQL().QuoteTable
	var match []string
	for i, col := range k.Columns {
		match = append(match, fmt.Sprintf("parent.%s = child.%s", q(k.References[i]), q(col)))
	}
	goes := ""
	if w := p.Wanted.Table(t.Name); t.SoftDelete != "" && w != nil && w.SoftDelete == "" &&
		(p.Answers.Deleted[t.Name] == Keep || p.Answers.Deleted[t.Name] == Purge) {
		goes = fmt.Sprintf(" AND child.%s IS NULL", q(t.SoftDelete))
	}
	var shown []string
	for _, n := range append(slices.Clone(t.Key()), k.Columns...) {
		if n = "child." + q(n); !slices.Contains(shown, n) {
			shown = append(shown, n)
		}
	}
	return engine.Requirement{
		Sentence: fmt.Sprintf("{n} rows of %s refer to deleted rows of %s", t.Name, parent.Name),
		Query: fmt.Sprintf(
			"SELECT %s FROM %s AS child WHERE EXISTS (SELECT 1 FROM %s AS parent WHERE %s AND parent.%s IS NOT NULL)%s",
			strings.Join(shown, ", "), of(t.Name), of(parent.Name), strings.Join(match, " AND "), q(parent.SoftDelete),
			goes),
	}
}

func are(n int64) string {
	if n == 1 {
		return "1 row is"
	}
	return words.Rows(n) + " are"
}
