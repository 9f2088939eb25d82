package plan

// This file puts renames in an order in which each name is free before it is taken: those
// of a chain from its end, those that change places by way of a name between. What loses
// its name to another, or to something new, has a name aside until it is dropped.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Names tells which tables and columns exist, and which are declared; column is "" for the
// table itself.
type Names struct {
	There, Declared func(table, column string) bool
}

// InOrder gives renames in an order in which they can be made one after the other: columns
// before tables, since a column is renamed under its table's old name, and values, which
// change all at once, last. A rename that is Aside needs no new name.
func InOrder(renames []Rename, names Names) []Rename {
	of := map[string][]Rename{} // of columns, by table
	var scopes []string
	var tables, values []Rename
	for _, r := range renames {
		switch scope := strings.ToLower(r.Table); {
		case r.Value != "":
			values = append(values, r)
		case r.Column == "":
			tables = append(tables, r)
		default:
			if of[scope] == nil {
				scopes = append(scopes, scope)
			}
			of[scope] = append(of[scope], r)
		}
	}
	var out []Rename
	for _, scope := range scopes {
		out = append(out, names.inOrder(of[scope])...)
	}
	return append(append(out, names.inOrder(tables)...), values...)
}

// inOrder orders renames of one space of names.
func (n Names) inOrder(list []Rename) []Rename {
	if len(list) == 0 {
		return nil
	}
	left := slices.Clone(list)
	renamed := func(name string) bool {
		return slices.ContainsFunc(left, func(r Rename) bool { return strings.EqualFold(r.Old(), name) })
	}
	for _, r := range list {
		if r.To != "" && !renamed(r.To) && n.There(r.named(r.To)) {
			left = append(left, r.from(r.To))
		}
	}
	for i, r := range left {
		if r.To == "" {
			left[i].To = n.free(r, "aside", left)
		}
	}
	var moves []schema.Move
	for _, r := range left {
		moves = append(moves, schema.Move{From: r.Old(), To: r.To})
	}
	var out []Rename
	for _, m := range schema.InOrder(moves,
		func(from string) string { return n.free(list[0].from(from), "between", left) }) {
		r := list[0].from(m.From)
		r.To = m.To
		r.Aside = slices.ContainsFunc(left, func(o Rename) bool { return o.Aside && o.To == m.To })
		out = append(out, r)
	}
	return out
}

// ValuesInOrder gives renames of values of one enum type in an order in which they can be
// made one after the other; old are all values before them, now those that are declared.
func ValuesInOrder(values []Rename, old, now []string) []Rename {
	of := values[0]
	list := make([]Rename, len(values)) // as if they were tables
	for i, r := range values {
		list[i] = Rename{Table: r.Value, To: r.To}
	}
	list = Names{
		There:    func(value, _ string) bool { return slices.Contains(old, value) },
		Declared: func(value, _ string) bool { return slices.Contains(now, value) },
	}.inOrder(list)
	for i, r := range list {
		list[i] = Rename{Table: of.Table, Column: of.Column, Value: r.Table, To: r.To}
	}
	return list
}

// Old is the name that changes.
func (r Rename) Old() string {
	if r.Column != "" {
		return r.Column
	}
	return r.Table
}

// named are table and column, were the old name another one.
func (r Rename) named(name string) (table, column string) {
	if r.Column != "" {
		return r.Table, name
	}
	return name, ""
}

// from has what is called name lose it, in the same table.
func (r Rename) from(name string) Rename {
	r.Table, r.Column = r.named(name)
	r.To, r.Aside = "", true
	return r
}

// free is a name for the time of a migration that nothing has or gets.
func (n Names) free(r Rename, why string, beside []Rename) string {
	for i := 1; ; i++ {
		name := schema.Cut(fmt.Sprintf("%s_%s", r.Old(), why))
		if i > 1 {
			name = schema.Cut(fmt.Sprintf("%s%d_%s", r.Old(), i, why))
		}
		table, column := r.named(name)
		if !n.There(table, column) && !n.Declared(table, column) &&
			!slices.ContainsFunc(beside, func(o Rename) bool { return strings.EqualFold(o.To, name) }) {
			return name
		}
	}
}

// before is the name that the renames gave another: that of a table, or of a column of a
// table that is called so after them.
func (a Answers) before(table, column string) string {
	name := table
	if column != "" {
		name, table = column, a.before(table, "")
	}
	for _, r := range slices.Backward(a.Rename) {
		if r.Value == "" && (r.Column != "") == (column != "") && strings.EqualFold(r.To, name) &&
			(column == "" || strings.EqualFold(r.Table, table)) {
			name = r.Old()
		}
	}
	return name
}

// After are the names that a table and a column of it have after the renames.
func (a Answers) After(table, column string) (string, string) {
	old := table
	for _, r := range a.Rename {
		switch {
		case r.Value != "":
		case r.Column == "" && strings.EqualFold(r.Table, table):
			table = r.To
		case r.Column != "" && strings.EqualFold(r.Table, old) && strings.EqualFold(r.Column, column):
			column = r.To
		}
	}
	return table, column
}

// aside tells whether what is called so after the renames only has that name until it is
// dropped, since another has its name, or something new.
func (a Answers) aside(table, column string) bool {
	if column != "" {
		table = a.before(table, "")
	}
	return slices.ContainsFunc(a.Rename, func(r Rename) bool {
		return r.Aside &&
			(column != "" && strings.EqualFold(r.Table, table) && r.Column != "" && strings.EqualFold(r.To, column) ||
				column == "" && r.Column == "" && strings.EqualFold(r.To, table))
	})
}

// namesGo lets, where tables change places, the indexes and triggers of one go whose names
// those of another get; they come again under their own new names.
func (p *planner) namesGo(live *sqlschema.Table, changes []diff.Change) (*sqlschema.Table, []diff.Change) {
	moves := func(table string) bool { return p.oldTable(table) != table }
	circle := slices.ContainsFunc(p.Answers.Rename,
		func(r Rename) bool { return r.Column == "" && !r.Aside && p.Wanted.Table(r.To) == nil })
	if !circle || !moves(live.Name) {
		return live, changes
	}
	taken := map[string]bool{}
	for _, t := range p.Wanted.Tables {
		for _, n := range names(t, false) {
			taken[n] = taken[n] || moves(t.Name) && !strings.EqualFold(t.Name, live.Name)
		}
	}
	bare, gone := live.Clone(), map[string]bool{}
	goes := func(name string) bool {
		if taken[strings.ToLower(name)] {
			gone[name] = true
		}
		return gone[name]
	}
	bare.Indexes = slices.DeleteFunc(bare.Indexes,
		func(x *sqlschema.Index) bool { return x.Name != "" && goes(x.Name) })
	bare.Triggers = slices.DeleteFunc(bare.Triggers,
		func(g *sqlschema.Trigger) bool { return !isSpanning(g) && goes(g.Name) })
	if len(gone) == 0 {
		return live, changes
	}
	bare.Text = ""
	a := engine.Between(live, bare)
	a.Summary = fmt.Sprintf("change %s: drop what has a name that others get, and create it again", live.Name)
	p.units = append(p.units, unit{rank: rankNamesGo, name: live.Name, change: p.Engine.DDL().Alter(a)})
	changes = slices.Clone(changes)
	for i, c := range changes {
		if x, ok := c.Before.(*sqlschema.Index); ok && gone[x.Name] {
			changes[i].Before, changes[i].What = nil, c.Object.(*sqlschema.Index).Name
			changes[i].Kind = map[diff.Kind]diff.Kind{diff.ChangeIndex: diff.AddIndex,
				diff.ChangeUnique: diff.AddUnique}[c.Kind]
		}
	}
	return bare, changes
}

// places offers that a column which is no longer declared has the name of another: of one
// that may be dropped, or that is renamed itself.
func (p *planner) places(q *Question, table, column string, come []string) {
	p.tablesSwap(q, table)
	live, wanted := p.Live.Table(table), p.Wanted.Table(table)
	var stay []*sqlschema.Column
	for _, c := range live.Columns {
		w := wanted.Column(c.Name)
		if w != nil && w.SQLType == c.SQLType && c.Generated == nil && p.oldColumn(table, c.Name) == c.Name &&
			!slices.Contains(live.Key(), c.Name) && strings.EqualFold(c.SQLType, p.typeOf(live, table, column)) &&
			!slices.ContainsFunc(live.ForeignKeys,
				func(k *sqlschema.ForeignKey) bool { return slices.Contains(k.Columns, c.Name) }) {
			stay = append(stay, c)
		}
	}
	if len(stay) > 3 { // nobody would read them
		q.Other = fmt.Sprintf(
			"or it takes the name of another column: --rename %s.%s=NAME, with --drop or --rename %s.NAME", table,
			column, table)
		return
	}
	for _, c := range stay {
		taken := fmt.Sprintf("--rename %s.%s=%s", table, column, c.Name)
		for _, n := range come {
			q.Choices = append(
				q.Choices,
				choice(fmt.Sprintf("renamed to %s, and %s renamed to %s", c.Name, c.Name, n), taken,
					fmt.Sprintf("--rename %s.%s=%s", table, c.Name, n)),
			)
		}
		q.Choices = append(
			q.Choices,
			choice(fmt.Sprintf("renamed to %s; drop %s, its values are kept", c.Name, c.Name), taken,
				fmt.Sprintf("--drop %s.%s", table, c.Name)),
		)
	}
}

// typeOf is the type of a live column, by the name that it had before the renames.
func (p *planner) typeOf(live *sqlschema.Table, table, column string) string {
	for _, c := range live.Columns {
		if p.oldColumn(table, c.Name) == column {
			return c.SQLType
		}
	}
	return ""
}

// columnsSwap offers that two columns change names, where each has the type now that the other
// had.
func (p *planner) columnsSwap(c diff.Change) []Choice {
	from, to := c.Before.(*sqlschema.Column), c.Object.(*sqlschema.Column)
	renamed := func(c diff.Change) bool { return p.oldColumn(c.Table, c.Name) != c.Name }
	for _, o := range p.plan.Changes {
		if o.Kind != diff.ChangeType || o.Table != c.Table || o.Name == c.Name || renamed(o) || renamed(c) {
			continue
		}
		if was, now := o.Before.(*sqlschema.Column), o.Object.(*sqlschema.Column); was.SQLType == to.SQLType &&
			now.SQLType == from.SQLType {
			return []Choice{
				choice(fmt.Sprintf("swap the names of %s and %s", c.Name, o.Name),
					fmt.Sprintf("--rename %s.%s=%s", c.Table, c.Name, o.Name),
					fmt.Sprintf("--rename %s.%s=%s", c.Table, o.Name, c.Name)),
			}
		}
	}
	return nil
}

// tablesSwap offers that two tables change names, where each is declared now as the
// other was.
func (p *planner) tablesSwap(q *Question, table string) {
	was, now := p.Live.Table(table), p.Wanted.Table(table)
	if p.renamed(table) || was == nil || now == nil {
		return
	}
	same := func(a, b *sqlschema.Table) bool {
		return len(a.Columns) == len(b.Columns) && !slices.ContainsFunc(a.Columns, func(c *sqlschema.Column) bool {
			o := b.Column(c.Name)
			return o == nil || o.SQLType != c.SQLType
		})
	}
	for _, t := range p.Wanted.Tables {
		if o := p.Live.Table(t.Name); t != now && o != nil && !p.renamed(t.Name) && same(was, t) && same(o, now) &&
			!same(was, now) && !SameElsewhere(p.Engine, table, t.Name) {
			q.Choices = append(
				q.Choices,
				choice(fmt.Sprintf("swap the names of %s and %s", table, t.Name),
					fmt.Sprintf("--rename %s=%s", table, t.Name), fmt.Sprintf("--rename %s=%s", t.Name, table)),
			)
		}
	}
}

// SameElsewhere tells whether two tables have one name in different schemas: they cannot change places, since the
// names of their indexes meet on the way.
func SameElsewhere(e Engine, a, b string) bool {
	inA, ownA := schema.SplitName(a)
	inB, ownB := schema.SplitName(b)
	return e.Caps().Schemas && inA != inB && strings.EqualFold(ownA, ownB)
}

// asNewColumn offers that a column of another type is a new one under the old name.
func asNewColumn(c diff.Change) Choice {
	return choice(fmt.Sprintf("add a new column %s instead; the old values are kept", c.Name), "--drop "+c.Target())
}
