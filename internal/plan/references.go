package plan

// This file plans references on engines that hold them at every statement. A table
// comes with those references whose other end is there by then; what would close a
// circle, and what stands on a key or a type that changes, goes before all tables
// change and comes when they have.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// held is a reference that is dropped or made apart from its table.
type held struct {
	table *sqlschema.Table
	key   *sqlschema.ForeignKey
}

// renamedKey is a reference of which the name alone changes, where that can be done.
type renamedKey struct {
	table    *sqlschema.Table
	from, to string
}

// references sorts out which references come and go apart from their tables.
func (p *planner) references() {
	if !p.Engine.Caps().ImmediateReferences {
		return
	}
	var come, gone []*sqlschema.Table
	altered := map[string]bool{} // the tables whose keys or types change
	var changed []diff.Change    // of columns and uniquenesses
	without := map[string]bool{} // by table and reference: it goes for good or comes otherwise
	for _, c := range p.plan.Changes {
		switch c.Kind {
		case diff.AddTable:
			come = append(come, c.Object.(*sqlschema.Table))
		case diff.DropTable:
			gone = append(gone, c.Object.(*sqlschema.Table))
		case diff.ChangeType,
			diff.ChangeKey,
			diff.DropUnique,
			diff.ChangeUnique,
			diff.AddUnique,
			diff.DropColumn,
			diff.AddColumn:
			if c.NameAlone() {
				continue
			}
			altered[strings.ToLower(c.Table)] = true
			changed = append(changed, c)
		case diff.DropReference:
			without[referenceOf(c.Table, c.Object.(*sqlschema.ForeignKey))] = true
		case diff.ChangeRef:
			without[referenceOf(c.Table, c.Before.(*sqlschema.ForeignKey))] = true
		}
	}
	place := p.place
	for i, t := range parentsFirst(come) {
		place[t.Name] = i
	}
	comes := func(name string) bool {
		return slices.ContainsFunc(come, func(t *sqlschema.Table) bool { return strings.EqualFold(t.Name, name) })
	}
	for _, t := range come {
		for _, k := range t.ForeignKeys {
			parent := p.Wanted.Table(k.Table)
			switch {
			case parent == nil,
				strings.EqualFold(k.Table, t.Name),
				comes(k.Table) && place[parent.Name] < place[t.Name]:
			case comes(k.Table), altered[strings.ToLower(k.Table)]:
				p.apartFrom[k] = true
				p.comingKeys = append(p.comingKeys, held{t, k})
			}
		}
	}
	order := parentsFirst(gone)
	for i, t := range order {
		place[t.Name] = len(order) - i // children first
	}
	goes := func(name string) bool {
		return slices.ContainsFunc(gone, func(t *sqlschema.Table) bool { return strings.EqualFold(t.Name, name) })
	}
	for _, t := range gone {
		for _, k := range t.ForeignKeys {
			parent := p.Live.Table(k.Table)
			switch {
			case parent == nil, strings.EqualFold(k.Table, t.Name), goes(k.Table) && place[t.Name] < place[parent.Name]:
			case goes(k.Table), altered[strings.ToLower(k.Table)], p.rowsGo(k.Table):
				p.apartFrom[k] = true
				p.goingKeys = append(p.goingKeys, held{t, k})
			}
		}
	}
	p.renameReferences(without, changed)
	p.standingReferences(goes, without, changed)
	for _, c := range p.plan.Changes {
		if k, ok := c.Object.(*sqlschema.ForeignKey); ok && (c.Kind == diff.AddReference || c.Kind == diff.ChangeRef) &&
			!p.renames(c) {
			p.comingKeys = append(p.comingKeys, held{p.Wanted.Table(c.Table), k})
		}
	}
}

// renameReferences notes the references of which the name alone changes, and which stay otherwise. without are
// those that go, by table and reference.
func (p *planner) renameReferences(without map[string]bool, changed []diff.Change) {
	if _, ok := p.Engine.DDL().(engine.ReferenceRenamer); !ok {
		return
	}
	for _, c := range p.plan.Changes {
		if c.Kind != diff.ChangeRef || !c.NameAlone() {
			continue
		}
		live, wanted := p.Live.Table(c.Table), p.Wanted.Table(c.Table)
		from, to := c.Before.(*sqlschema.ForeignKey), c.Object.(*sqlschema.ForeignKey)
		taken := slices.ContainsFunc(live.ForeignKeys, func(k *sqlschema.ForeignKey) bool { return k.Name == to.Name })
		if taken || p.rowsGo(from.Table) ||
			slices.ContainsFunc(changed, func(c diff.Change) bool { return stands(live, from, c) }) {
			continue
		}
		delete(without, referenceOf(c.Table, from))
		p.renamedKeys = append(p.renamedKeys, renamedKey{wanted, from.Name, to.Name})
	}
}

// renames tells whether a change of a reference is one of its name, and noted as that.
func (p *planner) renames(c diff.Change) bool {
	b, ok := c.Before.(*sqlschema.ForeignKey)
	return ok && slices.ContainsFunc(p.renamedKeys,
		func(r renamedKey) bool { return strings.EqualFold(r.table.Name, c.Table) && r.from == b.Name })
}

// referenceOf tells a reference from all others.
func referenceOf(table string, k *sqlschema.ForeignKey) string {
	return strings.ToLower(table) + " " + k.Name
}

// standingReferences takes references of tables that stay away while what they refer to
// changes; goes tells which tables go, and without which references do.
func (p *planner) standingReferences(goes func(name string) bool, without map[string]bool, changed []diff.Change) {
	for _, t := range p.Live.Tables {
		if goes(t.Name) || schema.Own(t.Name) || t.Options.Foreign {
			continue
		}
		for _, k := range t.ForeignKeys {
			if p.foreignKeyByHand(t, k) {
				continue // it does not exist on other databases
			}
			dropped := without[referenceOf(t.Name, k)]
			// A row that is taken out must take none along that refers to it.
			if !dropped && !p.rowsGo(k.Table) &&
				!slices.ContainsFunc(changed, func(c diff.Change) bool { return stands(t, k, c) }) {
				continue
			}
			p.goingKeys = append(p.goingKeys, held{t, k})
			if !dropped {
				p.comingKeys = append(p.comingKeys, held{t, k})
			}
		}
	}
}

// foreignKeyByHand tells whether a reference is neither declared nor made by a migration.
func (p *planner) foreignKeyByHand(t *sqlschema.Table, k *sqlschema.ForeignKey) bool {
	for _, s := range []*sqlschema.Schema{p.Made, p.Wanted} {
		if s == nil {
			continue
		}
		if o := s.Table(t.Name); o != nil && slices.ContainsFunc(o.ForeignKeys,
			func(x *sqlschema.ForeignKey) bool { return slices.EqualFunc(x.Columns, k.Columns, strings.EqualFold) }) {
			return false
		}
	}
	return true
}

// viewsAside lets the views of rows that are not deleted go while a column of their
// table goes or changes its type, and come again, where the server holds them.
func (p *planner) viewsAside() {
	if !p.Engine.Caps().ImmediateReferences {
		return
	}
	for _, v := range p.Live.Views {
		if v.LiveOf == "" || slices.ContainsFunc(p.plan.Changes,
			func(c diff.Change) bool { return strings.EqualFold(c.Table, v.Name) }) {
			continue
		}
		if slices.ContainsFunc(p.plan.Changes, func(c diff.Change) bool {
			return strings.EqualFold(c.Table, v.LiveOf) && !schema.Own(c.Name) &&
				(c.Kind == diff.ChangeType || c.Kind == diff.DropColumn || c.Kind == diff.ChangeColumn)
		}) {
			drop := []string{"DROP VIEW " + p.Engine.SQL().QuoteTable(v.Name)}
			p.spanGoes(v.Name, "view "+v.Name, drop, []string{v.SQL.Text})
			p.spanComes(v.Name, "view "+v.Name, drop, []string{v.SQL.Text})
		}
	}
}

// stands tells whether a reference has to be away while something is changed: a
// type at either end, or the key or uniqueness that it points at.
func stands(t *sqlschema.Table, k *sqlschema.ForeignKey, c diff.Change) bool {
	own, other := strings.EqualFold(c.Table, t.Name), strings.EqualFold(c.Table, k.Table)
	has := func(list []string) bool {
		return slices.ContainsFunc(list, func(n string) bool { return strings.EqualFold(n, c.Name) })
	}
	switch c.Kind {
	case diff.ChangeType:
		return own && has(k.Columns) || other && has(k.References)
	case diff.ChangeKey:
		return other
	case diff.DropUnique, diff.ChangeUnique:
		x, _ := c.Before.(*sqlschema.Index)
		if x == nil {
			x = c.Object.(*sqlschema.Index)
		}
		return other && slices.Equal(sqlschema.Names(x.Parts), k.References)
	}
	return false
}

// inline is a table with those of its references that it comes and goes with.
func (p *planner) inline(t *sqlschema.Table) *sqlschema.Table {
	if len(p.apartFrom) == 0 {
		return t
	}
	c := t.Clone()
	c.ForeignKeys = nil
	for _, k := range t.ForeignKeys {
		if !p.apartFrom[k] {
			c.ForeignKeys = append(c.ForeignKeys, k)
		}
	}
	return c
}

// online gives the words for references that are held at every statement.
func (p *planner) online() engine.Online {
	o, _ := engine.OnlineOf(p.Engine)
	return o
}

// referenceUnits plan what comes and goes apart.
func (p *planner) referenceUnits() {
	title := func(h held) string {
		return fmt.Sprintf("%s (%s) references %s", h.table.Name, strings.Join(h.key.Columns, ", "), h.key.Table)
	}
	unitOf := func(h held, rank int, step engine.Step) {
		p.units = append(p.units,
			unit{rank: rank, name: h.table.Name + " " + h.key.Name, change: engine.Change{Steps: []engine.Step{step}}})
	}
	for _, h := range p.goingKeys {
		unitOf(h, rankReferenceGoes, engine.Step{
			Title: "drop the reference: " + title(h),
			Apply: p.online().DropReference(h.table, h.key),
			Undo:  p.online().AddReference(h.table, h.key),
		})
	}
	for _, r := range p.renamedKeys {
		name := p.Engine.DDL().(engine.ReferenceRenamer).RenameReference
		unitOf(held{r.table, &sqlschema.ForeignKey{Name: r.to}}, rankReferenceComes, engine.Step{
			Title: fmt.Sprintf("rename the reference %s of %s to %s", r.from, r.table.Name, r.to),
			Work:  engine.Keeps,
			Apply: name(r.table, r.from, r.to),
			Undo:  name(r.table, r.to, r.from),
		})
	}
	for _, h := range p.comingKeys {
		if p.foundKeys[h.key] {
			continue
		}
		if p.inUse(h.table.Name) && p.Live.Table(h.key.Table) != nil {
			p.units = append(p.units, unit{
				rank:   rankReferenceComes,
				name:   h.table.Name + " " + h.key.Name,
				change: engine.Change{Steps: p.online().ReferenceInUse(h.table, h.key)},
			})
			continue
		}
		unitOf(h, rankReferenceComes, engine.Step{
			Title: title(h),
			Work:  engine.Reads,
			Apply: p.online().AddReference(h.table, h.key),
			Undo:  p.online().DropReference(h.table, h.key),
		})
	}
}

// foundReferences gives the statements for the references of columns that were found,
// which then are not made once more.
func (p *planner) foundReferences(t *sqlschema.Table, of func(k *sqlschema.ForeignKey) bool) []string {
	var out []string
	if p.Engine.Caps().ImmediateReferences {
		for _, k := range t.ForeignKeys {
			if of(k) {
				p.foundKeys[k] = true
				out = append(out, p.online().AddReference(t, k)...)
			}
		}
	}
	return out
}

// parentsFirst orders tables so that one comes behind those it refers to, as far as
// circles let it.
func parentsFirst(list []*sqlschema.Table) []*sqlschema.Table {
	return sqlschema.ParentsFirst(&sqlschema.Schema{Tables: list})
}
