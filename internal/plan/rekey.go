package plan

// This file lets references follow the rows they point at, where these get another key: a
// reference that stood on the old one finds the row by it, and takes its new key. Nobody
// has to say so, since no other value would be right.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// parentAlias is the name of the table that is referred to, in the query by which a row
// follows.
const parentAlias = "erbario_parent"

// following are the expressions by which the columns of a table's references follow their
// rows to another key: there for each new column, back for each old one.
type following struct {
	there, back map[string]string
}

// rekeying is a reference that takes the place of another.
type rekeying struct{ old, new *sqlschema.ForeignKey }

// rekeyedPairs are the references of a table to the same rows by another key.
func (p *planner) rekeyedPairs(table string, changes []diff.Change) []rekeying {
	if p.Stage != nil { // both applications write: a bridge would have to follow, too
		return nil
	}
	var out []rekeying
	var old, new []*sqlschema.ForeignKey
	for _, c := range changes {
		switch c.Kind {
		case diff.DropReference:
			old = append(old, c.Object.(*sqlschema.ForeignKey))
		case diff.AddReference:
			new = append(new, c.Object.(*sqlschema.ForeignKey))
		case diff.ChangeRef:
			old, new = append(old, c.Before.(*sqlschema.ForeignKey)), append(new, c.Object.(*sqlschema.ForeignKey))
		}
	}
	for _, k := range new {
		var from []*sqlschema.ForeignKey
		for _, o := range old {
			if p.rekeyed(table, o, k, changes) {
				from = append(from, o)
			}
		}
		if i := slices.IndexFunc(from, func(o *sqlschema.ForeignKey) bool {
			return slices.EqualFunc(o.Columns,
				k.Columns, strings.EqualFold)
		}); i >= 0 {
			from = from[i : i+1]
		} else if len(from) > 1 {
			from = slices.DeleteFunc(from, func(o *sqlschema.ForeignKey) bool { return stem(o) != stem(k) })
		}
		if len(from) == 1 &&
			!(strings.EqualFold(k.Table, table) &&
				p.ofKey(table, append(slices.Clone(from[0].Columns), k.Columns...))) {
			out = append(out, rekeying{from[0], k})
		}
	}
	return out
}

// ofKey tells whether one of some columns belongs to the key of a table, before or after the
// change.
func (p *planner) ofKey(table string, columns []string) bool {
	return slices.ContainsFunc([]*sqlschema.Table{p.Live.Table(table), p.Wanted.Table(table)},
		func(t *sqlschema.Table) bool {
			return t != nil && slices.ContainsFunc(t.Key(), func(k string) bool {
				return slices.ContainsFunc(columns, func(c string) bool { return strings.EqualFold(c, k) })
			})
		})
}

// followWithin are the changes by which references within one table follow their rows to another
// key: its rows are read while they change, so the key has to have come before.
func (p *planner) followWithin(table string, changes []diff.Change) (follow, rest []diff.Change) {
	var columns []string
	own := map[any]bool{}
	for _, pair := range p.rekeyedPairs(table, changes) {
		if strings.EqualFold(pair.new.Table, table) {
			columns = append(append(columns, pair.old.Columns...), pair.new.Columns...)
			own[pair.old], own[pair.new] = true, true
		}
	}
	named := func(list []string) bool {
		return slices.ContainsFunc(list, func(n string) bool {
			return slices.ContainsFunc(columns, func(c string) bool { return strings.EqualFold(c, n) })
		})
	}
	for _, c := range changes {
		mine := named([]string{c.Name}) &&
			(c.Kind == diff.AddColumn || c.Kind == diff.DropColumn || c.Kind == diff.ChangeType ||
				c.Kind == diff.MakeRequired || c.Kind == diff.MakeOptional)
		for _, o := range []any{c.Object, c.Before} {
			switch o := o.(type) {
			case *sqlschema.ForeignKey:
				mine = mine || own[o]
			case *sqlschema.Index:
				mine = mine || named(sqlschema.Names(o.Parts))
			case *sqlschema.Check:
				mine = mine || named([]string{o.Column}) || o.Column == "" && slices.ContainsFunc(p.Engine.SQL().Lex(o.SQL.Text), func(t sqltok.Token) bool { return t.Named() && named([]string{t.Name()}) })
			case *sqlschema.Trigger:
				mine = mine || named([]string{o.Column})
			}
		}
		if mine {
			follow = append(follow, c)
		} else {
			rest = append(rest, c)
		}
	}
	return follow, rest
}

// rowOf is the name by which an expression over the rows of a table names it: that without its schema.
func (p *planner) rowOf(table string) string {
	if p.Engine.Caps().Schemas {
		_, table = schema.SplitName(table)
	}
	return table
}

// followed tells what follows in a table whose changes are given.
func (p *planner) followed(table string, changes []diff.Change) following {
	out := following{map[string]string{}, map[string]string{}}
	for _, pair := range p.rekeyedPairs(table, changes) {
		lookup := func(want string, by, columns []string) string {
			q, of := p.Engine.SQL().Quote, p.Engine.SQL().QuoteTable
			var where []string
			for i, c := range by {
				where = append(where, fmt.Sprintf("%s.%s = %s.%s", parentAlias, q(c), q(p.rowOf(table)), q(columns[i])))
			}
			return fmt.Sprintf("(SELECT %s.%s FROM %s %s WHERE %s)", parentAlias, q(want), of(pair.new.Table),
				parentAlias, strings.Join(where, " AND "))
		}
		for i, c := range pair.new.Columns {
			out.there[c] = lookup(pair.new.References[i], pair.old.References, pair.old.Columns)
		}
		for i, c := range pair.old.Columns {
			out.back[c] = lookup(pair.old.References[i], pair.new.References, pair.new.Columns)
		}
	}
	return out
}

// rekeyed tells whether a reference takes the place of another to the same table by another
// key, each of its columns new or of another type, and each of the other's dropped or so.
func (p *planner) rekeyed(table string, old, new *sqlschema.ForeignKey, changes []diff.Change) bool {
	if !strings.EqualFold(old.Table, new.Table) || slices.EqualFunc(old.References, new.References, strings.EqualFold) {
		return false
	}
	parent, wanted := p.Live.Table(old.Table), p.Wanted.Table(new.Table)
	if parent == nil || wanted == nil || len(new.Columns) != len(new.References) ||
		len(old.Columns) != len(old.References) {
		return false
	}
	changed := func(column string, kind diff.Kind) bool {
		return slices.ContainsFunc(changes, func(c diff.Change) bool {
			return (c.Kind == kind || c.Kind == diff.ChangeType) && strings.EqualFold(c.Name, column)
		})
	}
	for _, c := range new.Columns {
		if !changed(c, diff.AddColumn) &&
			!slices.ContainsFunc(old.Columns, func(o string) bool { return strings.EqualFold(o, c) }) {
			return false
		}
	}
	for _, c := range old.Columns {
		if !changed(c, diff.DropColumn) &&
			!slices.ContainsFunc(new.Columns, func(n string) bool { return strings.EqualFold(n, c) }) {
			return false
		}
	}
	return true
}

// stem is the name of a reference's first column without that of what it refers to.
func stem(k *sqlschema.ForeignKey) string {
	return strings.ToLower(strings.TrimSuffix(k.Columns[0], "_"+k.References[0]))
}

// rekey gives a column its values by what it follows, where it does and nobody said
// otherwise.
func (p *planner) rekey(a *engine.Alteration, c diff.Change, f following) bool {
	name := c.Name
	if k, ok := c.Object.(*sqlschema.ForeignKey); ok {
		name = k.Columns[0]
	}
	there, comes := f.there[name]
	back, goes := f.back[name]
	if _, said := p.Answers.Fill[c.Table+"."+name]; said || !comes && !goes {
		return false
	}
	if goes && c.Kind != diff.AddColumn && a.From.Column(name) != nil { // nothing is lost: it is found again
		p.answered("drop", c.Table+"."+p.oldColumn(c.Table, name))
		a.Back[name] = engine.Source{SQL: back}
	}
	if comes {
		if _, done := a.Forward[name]; !done {
			a.Forward[name] = engine.Source{SQL: there}
			p.reads[c.Table] = append(p.reads[c.Table], there)
		}
	}
	return true
}

// notLost takes out of what an undo loses what following finds again: the columns of
// references that follow, and the keys that the database gives by itself, to which they
// follow. They may be others once the migration is applied again, and together.
func (p *planner) notLost(table string, change *engine.Change, f following) {
	for i := range change.Steps {
		s := &change.Steps[i]
		s.UndoLoses = slices.DeleteFunc(s.UndoLoses, func(l engine.Loss) bool {
			return l.Table == table && (f.there[l.Column] != "" || slices.Contains(p.again[table], l.Column))
		})
	}
}

// askedWithin has what must hold of values that follow be asked at the steps themselves:
// the key that they follow to is there only by then, and on the way back the one from
// which they came.
func (p *planner) askedWithin(change *engine.Change) {
	if len(change.Steps) == 0 {
		return
	}
	// Asked under the locks of one table, no other can be read: the reference that holds
	// tells the same.
	first, last := &change.Steps[0], &change.Steps[len(change.Steps)-1]
	if p.Engine.Caps().CommitsChanges {
		first, last = &engine.Step{}, &engine.Step{}
	}
	mentions := func(r engine.Requirement) bool {
		return !r.Shape && strings.Contains(r.Query, parentAlias+".")
	}
	for _, r := range change.BeforeApply {
		if mentions(r) {
			first.Here = append(first.Here, r)
		}
	}
	for _, r := range change.BeforeUndo {
		if mentions(r) {
			last.HereUndo = append(last.HereUndo, r)
		}
	}
	change.BeforeApply = slices.DeleteFunc(change.BeforeApply, mentions)
	change.BeforeUndo = slices.DeleteFunc(change.BeforeUndo, mentions)
}

// part finds the tables whose key is another, and whose old key others read while it goes:
// they change in two parts, before and after those others.
func (p *planner) part(byTable map[string][]diff.Change) {
	for table, changes := range byTable {
		for _, pair := range p.rekeyedPairs(table, changes) {
			parent := pair.new.Table
			var gone []string
			comes := false
			for _, c := range byTable[parent] {
				switch {
				case c.Kind == diff.DropColumn && slices.Contains(pair.old.References, c.Name):
					gone = append(gone, c.Name)
				case c.Kind == diff.AddColumn && slices.Contains(pair.new.References, c.Name):
					comes = true
					if col := c.Object.(*sqlschema.Column); col.Identity || col.Default != nil {
						p.again[parent] = append(p.again[parent], c.Name)
					}
				}
			}
			if (comes || strings.EqualFold(parent, table)) && len(gone) > 0 {
				p.parted[parent] = gone
			}
		}
	}
}

// join makes the unit of a table at i, and the one at j that comes behind it, one. What is
// asked for before the other is asked there.
func (p *planner) join(i, j int) {
	if i >= j || j >= len(p.units) {
		return
	}
	u, o := &p.units[i], p.units[j]
	p.units = slices.Delete(p.units, j, j+1)
	if n := len(u.change.Steps); n > 0 && len(o.change.Steps) > 0 {
		first, last := &o.change.Steps[0], &u.change.Steps[n-1]
		first.Here = append(first.Here, slices.DeleteFunc(o.change.BeforeApply, first.AsksHere)...)
		last.HereUndo = append(last.HereUndo, u.change.BeforeUndo...)
		u.change.BeforeUndo = o.change.BeforeUndo
	} else {
		u.change.BeforeApply = append(u.change.BeforeApply, o.change.BeforeApply...)
		u.change.BeforeUndo = append(u.change.BeforeUndo, o.change.BeforeUndo...)
	}
	u.change.Steps = append(u.change.Steps, o.change.Steps...)
	u.change.Copies, u.change.CopiesBack = u.change.Copies || o.change.Copies, u.change.CopiesBack ||
		o.change.CopiesBack
	u.frees, u.takes = append(u.frees, o.frees...), append(u.takes, o.takes...)
}

// inParts plans the changes of a table that are not the whole of it, in two parts where it
// is parted.
func (p *planner) inParts(name string, changes []diff.Change) {
	gone := p.parted[name]
	follow, changes := p.followWithin(name, changes)
	if gone == nil && follow == nil {
		p.alter(name, changes)
		return
	}
	late := func(c diff.Change) bool { return c.Kind == diff.DropColumn && slices.Contains(gone, c.Name) }
	var first, second []diff.Change
	for _, c := range changes {
		if late(c) {
			second = append(second, c)
			if old := c.Object.(*sqlschema.Column); old.Identity { // which may need a key
				plain := *old
				plain.Identity, plain.IdentityAlways, plain.NotNull = false, false, true
				first = append(first,
					diff.Change{Kind: diff.ChangeColumn, Table: name, Name: c.Name, Object: &plain, Before: old})
				second[len(second)-1].Object = &plain
			}
		} else {
			first = append(first, c)
		}
	}
	asked := len(p.plan.Questions)
	within := func(from int, late bool) { // what is asked is there only by then
		for i := from; i < len(p.units); i++ {
			u := &p.units[i]
			if u.rank != rankAlter || len(u.change.Steps) == 0 {
				continue
			}
			u.late = late
			first, last := &u.change.Steps[0], &u.change.Steps[len(u.change.Steps)-1]
			if late {
				first.Here = append(first.Here, slices.DeleteFunc(u.change.BeforeApply, first.AsksHere)...)
				u.change.BeforeApply = nil
			}
			last.HereUndo = append(last.HereUndo, u.change.BeforeUndo...)
			u.change.BeforeUndo = nil
		}
	}
	units, live := len(p.units), p.Live
	done := func(list []diff.Change) {
		p.Live = p.Live.Clone()
		for i, t := range p.Live.Tables {
			if t.Name == name {
				p.Live.Tables[i] = target(t, list)
			}
		}
	}
	p.alter(name, first)
	if follow != nil {
		done(first)
		at := len(p.units)
		p.alter(name, follow)
		p.join(units, at)
		done(follow)
	} else {
		done(first)
	}
	if gone != nil {
		within(units, false)
	}
	effect := p.plan.Effects[name]
	if gone != nil {
		units = len(p.units)
		p.alter(name, second)
		within(units, true)
	}
	p.Live = live
	if len(p.plan.Questions) == asked {
		p.plan.Effects[name] = effect
	}
}

// followsLater tells whether a column of a table refers to a key whose change of type is
// asked about: with the answer that it is a new key, the column follows.
func (p *planner) followsLater(t *sqlschema.Table, changes []diff.Change) bool {
	if p.Stage != nil {
		return false
	}
	changes = slices.DeleteFunc(slices.Clone(changes), func(c diff.Change) bool { return c.Kind != diff.ChangeType })
	for _, k := range t.ForeignKeys {
		if len(k.Columns) != 1 || strings.EqualFold(k.Table, t.Name) ||
			!slices.ContainsFunc(changes, func(c diff.Change) bool {
				_, said := p.Answers.Fill[c.Target()]
				return strings.EqualFold(c.Name, k.Columns[0]) && !said
			}) {
			continue
		}
		for _, c := range p.plan.Changes {
			if c.Kind != diff.ChangeType || !strings.EqualFold(c.Table, k.Table) ||
				!strings.EqualFold(c.Name, k.References[0]) {
				continue
			}
			_, ok := p.Engine.DDL().Convert(c.Before.(*sqlschema.Column), c.Object.(*sqlschema.Column))
			_, back := p.Engine.DDL().Convert(c.Object.(*sqlschema.Column), c.Before.(*sqlschema.Column))
			_, said := p.Answers.Fill[c.Target()]
			if (!ok || !back) && !said && p.count("SELECT 1 FROM "+p.Engine.SQL().QuoteTable(p.oldTable(k.Table))) > 0 {
				return true
			}
		}
	}
	return false
}
