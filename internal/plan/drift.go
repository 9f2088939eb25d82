package plan

// This file plans for databases that people have changed by hand. A migration
// runs on those that were not, too: so what is to be there is made where it is
// missing, and what is to go is made first where it never was.

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// restore plans the columns of a table that migrations made and somebody dropped
// here by hand. It returns the table with them, and what is left to change; ok is
// false where a question is open.
func (p *planner) restore(live *sqlschema.Table, changes []diff.Change) (*sqlschema.Table, []diff.Change, bool) {
	if p.Made == nil || p.Made.Table(live.Name) == nil {
		return live, changes, true
	}
	made := p.Made.Table(live.Name)
	gone := map[string]bool{}
	for _, c := range changes {
		if c.Kind == diff.AddColumn && made.Column(c.Name) != nil {
			gone[c.Name] = true
		}
	}
	live, changes = p.beside(live, made, changes)
	if len(gone) == 0 {
		return live, changes, true
	}
	var back, rest []diff.Change
	for _, c := range changes {
		belongs := false
		switch o := c.Object.(type) {
		case *sqlschema.Column:
			belongs = c.Kind == diff.AddColumn && gone[c.Name]
		case *sqlschema.Check:
			belongs = c.Kind == diff.AddCheck && gone[o.Column]
		case *sqlschema.Trigger:
			belongs = c.Kind == diff.AddTrigger && gone[o.Column] && !isSpanning(o)
		case *sqlschema.ForeignKey:
			belongs = c.Kind == diff.AddReference &&
				slices.ContainsFunc(o.Columns, func(n string) bool { return gone[n] })
		case *sqlschema.Index:
			belongs = (c.Kind == diff.AddIndex || c.Kind == diff.AddUnique) &&
				slices.ContainsFunc(sqlschema.Names(o.Parts), func(n string) bool { return gone[n] })
		}
		if belongs {
			back = append(back, c)
		} else {
			rest = append(rest, c)
		}
	}
	with := target(live, back)
	a := engine.Between(live, with)
	n := p.count("SELECT 1 FROM " + p.Engine.SQL().QuoteTable(p.oldTable(live.Name)))
	asked := len(p.plan.Questions)
	first := ""
	for _, c := range back {
		if c.Kind == diff.AddColumn {
			p.addColumn(&a, c, changes, func() int64 { return n })
			if first == "" {
				first = c.Name
			}
		}
	}
	if len(p.plan.Questions) > asked {
		p.plan.Effects[live.Name] = words.Rows(n) + ", after a question"
		p.skipped[live.Name] = true
		return live, nil, false
	}
	var list []string
	for _, step := range p.Engine.DDL().Alter(a).Steps {
		list = append(list, step.Apply...)
	}
	list = append(list, p.foundReferences(with, func(k *sqlschema.ForeignKey) bool {
		return slices.ContainsFunc(back, func(c diff.Change) bool { return c.Object == any(k) })
	})...)
	p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Column: first, Make: list})
	p.plan.Effects[live.Name] = "keeps every row; what was dropped outside Erbario is created again"
	return with, rest, true
}

// restoreTables plans the tables that migrations made and somebody dropped here: each
// comes back empty, as the migrations made it, where it is missing, and is changed from
// there. It returns the changes that tell of it.
func (p *planner) restoreTables() []diff.Change {
	if p.Made == nil {
		return nil
	}
	missing := &sqlschema.Schema{}
	for _, t := range p.Made.Tables {
		w := p.Wanted.Table(t.Name)
		if w != nil && !w.Elsewhere() && !schema.Own(t.Name) && p.Live.Table(t.Name) == nil &&
			p.Live.View(t.Name) == nil &&
			p.oldTable(t.Name) == t.Name {
			missing.Tables = append(missing.Tables, t)
		}
	}
	if len(missing.Tables) == 0 {
		return nil
	}
	live := *p.Live
	live.Tables = slices.Clone(live.Tables)
	var out []diff.Change
	for _, t := range sqlschema.ParentsFirst(missing) {
		p.plan.Found = append(p.plan.Found, Found{Table: t.Name, Make: p.Engine.DDL().Create(withoutSpanning(t)).Apply})
		p.dropped = append(p.dropped, t.Name)
		live.Tables = append(live.Tables, withoutSpanning(t))
		p.looked[t.Name] = true
		p.plan.Effects[t.Name] = "was dropped outside Erbario; it is created again, without rows"
		out = append(out, diff.Change{Kind: diff.AddTable, Table: t.Name, Object: t})
	}
	p.Live = &live
	return out
}

// beside plans the indexes, triggers and references of a table that migrations made and
// somebody dropped here by hand, but those of columns that went too.
func (p *planner) beside(live, made *sqlschema.Table, changes []diff.Change) (*sqlschema.Table, []diff.Change) {
	var rest []diff.Change
	for _, c := range changes {
		name := ""
		switch o := c.Object.(type) {
		case *sqlschema.Index:
			called := func(x *sqlschema.Index) bool { return strings.EqualFold(x.Name, o.Name) }
			same := slices.ContainsFunc(made.Indexes, called) && !slices.ContainsFunc(live.Indexes, called)
			whole := !slices.ContainsFunc(sqlschema.Names(o.Parts),
				func(n string) bool { return live.Column(n) == nil })
			if c.Kind.Sign() == "+" && same && whole && !o.Constraint {
				name = o.Name
			}
		case *sqlschema.ForeignKey:
			called := func(k *sqlschema.ForeignKey) bool {
				return strings.EqualFold(k.Name, o.Name) && strings.EqualFold(k.Table, o.Table)
			}
			same := slices.ContainsFunc(made.ForeignKeys, called) && !slices.ContainsFunc(live.ForeignKeys, called)
			whole := !slices.ContainsFunc(o.Columns, func(n string) bool { return live.Column(n) == nil })
			if c.Kind == diff.AddReference && same && whole && p.Engine.Caps().ImmediateReferences {
				name = o.Name
			}
		case *sqlschema.Trigger:
			called := func(g *sqlschema.Trigger) bool { return strings.EqualFold(g.Name, o.Name) }
			same := slices.ContainsFunc(made.Triggers, called) && !slices.ContainsFunc(live.Triggers, called)
			if c.Kind.Sign() == "+" && same && live.Column(o.Column) != nil && !isSpanning(o) {
				name = o.Name
			}
		}
		if name == "" {
			rest = append(rest, c)
			continue
		}
		with := target(live, []diff.Change{c})
		var list []string
		for _, step := range p.Engine.DDL().Alter(engine.Between(live, with)).Steps {
			list = append(list, step.Apply...)
		}
		list = append(list, p.foundReferences(with,
			func(k *sqlschema.ForeignKey) bool { return c.Object == any(k) })...)
		p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Beside: name, Make: list})
		p.plan.Effects[live.Name] = "keeps every row; what was dropped outside Erbario is created again"
		live = with
	}
	return live, rest
}

// takeOver notes what of the tables that do not change was made by hand and is
// declared now, so that the line has it. Without any other step the migration has
// one that does nothing where it is there.
func (p *planner) takeOver() {
	if p.Made == nil || !p.TakeOver || len(p.plan.Questions) > 0 {
		return
	}
	for _, w := range p.Wanted.Tables {
		if live := p.Live.Table(w.Name); live != nil && !w.Elsewhere() && !p.renamed(w.Name) &&
			!p.Lacks[strings.ToLower(w.Name)] {
			p.foundOnce(p.without(live))
		}
	}
	if len(p.plan.Found) == 0 || len(p.plan.Steps) > 0 ||
		slices.ContainsFunc(p.units, func(u unit) bool { return len(u.change.Steps) > 0 }) {
		return
	}
	var names []string
	for _, f := range p.plan.Found {
		names = append(names, cmp.Or(f.Beside, strings.TrimSuffix(f.Table+"."+f.Column, ".")))
	}
	p.plan.Steps = append(p.plan.Steps, engine.Step{
		Title: "have " + strings.Join(names, ", "),
		Note:  "created above if it is missing; nothing else to do",
	})
}

// foundOnce is found for tables that were not looked at yet.
func (p *planner) foundOnce(live *sqlschema.Table) {
	if !p.looked[live.Name] {
		p.looked[live.Name] = true
		p.found(live)
	}
}

// letGoes offers that the columns that were added to a table by hand may go, where there
// are any.
func (p *planner) letGoes(table string) []Choice {
	var flags []string
	for _, c := range p.undeclared(table) {
		if c.Kind == diff.DropColumn {
			flags = append(flags, "--drop "+c.Target())
		}
	}
	if flags == nil {
		return nil
	}
	return []Choice{choice("drop it; its values are kept", flags...)}
}
