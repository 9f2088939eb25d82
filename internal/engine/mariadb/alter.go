package mariadb

// This file makes one table another. Where no value has to be worked out that is one
// ALTER TABLE. Else there are three steps: the table gets room for the new values beside
// the old ones; the values are given; and one statement makes it what is declared. What
// turns values into others is done once more under the lock of that last step, so that
// nothing that is written meanwhile is left behind. Columns that go stay in the table
// with another name. References are not the table's affair: the plan lets them go and
// come apart.

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// change is one alteration being worked out.
type change struct {
	engine.Alteration
	replaced []string          // columns that are replaced by new ones, by name
	kept     map[string]string // columns that stay in the table, and their names there
	mid, to  *sqlschema.Table  // between the steps, and after them with what stays
	moves    map[string]string // from mid to to
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	a.Forward, a.Back = maps.Clone(a.Forward), a.Matched()
	for _, n := range a.To.Columns {
		if _, given := a.Forward[n.Name]; !given &&
			engine.Freed(a.From.Column(n.Name), n) { // what it has been generated as stays
			a.Forward[n.Name] = engine.Source{SQL: quote(n.Name)}
		}
	}
	c := &change{Alteration: a, kept: map[string]string{}, moves: map[string]string{}}
	c.aside()
	c.Back = c.fromAside()
	out, here := dialect.Both(c.Alteration)
	out.BeforeApply = append(out.BeforeApply, c.byHand()...)
	c.between()
	out.Steps = c.steps(here)
	return out
}

// touched tells whether the type of a column is another afterwards.
func (c *change) touched(name string) bool {
	old, n := c.From.Column(name), c.Alteration.To.Column(name)
	return old != nil && n != nil && n.Generated == nil && old.Generated == nil &&
		(!sqlschema.SameForm(old.SQLType, n.SQLType) || old.Collation != n.Collation)
}

// aside sorts out which columns are replaced, and which of those that go stay in the
// table.
func (c *change) aside() {
	for _, o := range c.From.Columns {
		n := c.Alteration.To.Column(o.Name)
		lost := slices.Contains(c.Lost, o.Name)
		there, back := c.Forward[o.Name], c.Back[o.Name]
		if n != nil &&
			(lost || engine.Freed(o, n) || c.touched(o.Name) &&
				(there.SQL != "" || there.Unconvertible || back.SQL != "" || back.Unconvertible)) {
			c.replaced = append(c.replaced, o.Name)
		}
		if lost && !c.NoKeep && c.Keep != "" && c.Aside != "" {
			c.kept[o.Name] = schema.Cut(c.Aside + o.Name)
		}
	}
}

// fromAside are the sources of the way back: columns that stay in the table hold their
// values themselves.
func (c *change) fromAside() map[string]engine.Source {
	out := map[string]engine.Source{}
	for name, s := range c.Back {
		out[name] = s
	}
	for name, keep := range c.kept {
		o, s := c.From.Column(name), out[name]
		s.Kept, s.SQL, s.Unconvertible = "", quote(keep), false
		if value := orElse(o, s); value != "" {
			s.SQL = "coalesce(" + s.SQL + ", " + value + ")"
		}
		out[name] = s
	}
	return out
}

// orElse is what rows are given that came while a column was not there; "": nothing.
func orElse(c *sqlschema.Column, s engine.Source) string {
	if c.NotNull && c.Default != nil {
		return c.Default.Text
	}
	return s.Else
}

// byHand asks for triggers by hand that name a column that goes: they would break every
// change of a row.
func (c *change) byHand() []engine.Requirement {
	var gone []string
	for _, o := range c.From.Columns {
		if c.Alteration.To.Column(o.Name) == nil && o.Generated == nil {
			gone = append(gone, o.Name)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	known := []string{"''"}
	for _, g := range c.From.Triggers {
		known = append(known, literal(g.Name))
	}
	for _, name := range c.Handled {
		known = append(known, literal(name))
	}
	if t := c.From; t.SoftDelete != "" { // which has gone by then, too
		for _, p := range []schema.Purpose{schema.ForChildren, schema.ForGuard, schema.ForGuardMark} {
			known = append(known, literal(triggerName(t, &sqlschema.Column{Name: t.SoftDelete}, p)))
		}
	}
	for i, n := range gone {
		purposes := []schema.Purpose{
			schema.ForChildren,
			schema.ForImmutable,
			schema.ForStamped,
		} // ours, which have gone by then
		if slices.Contains(c.From.Key(), n) {
			purposes = append(purposes, schema.ForGuardChildren)
		}
		for _, p := range purposes {
			known = append(known, literal(triggerName(c.From, &sqlschema.Column{Name: n}, p)))
		}
		gone[i] = regexp.QuoteMeta(n)
	}
	names := literal("(?i)(new|old) *[.] *`?(" + strings.Join(gone, "|") + ")($|[^a-z0-9_$])")
	return []engine.Requirement{{
		Sentence: fmt.Sprintf(
			"{n} triggers not created by a migration use dropped columns of %s, and would block every change of a row. Change or drop them first",
			c.From.Name,
		),
		Query: fmt.Sprintf(
			"SELECT trigger_name, action_statement FROM information_schema.triggers WHERE trigger_schema = database() AND event_object_table = %s AND trigger_name NOT IN (%s) AND action_statement REGEXP %s",
			literal(c.From.Name), strings.Join(known, ", "), names),
	}}
}

// worked is the source of a column of to that is new, or filled, and worked out from the
// row.
func (c *change) worked(n *sqlschema.Column) (engine.Source, bool) {
	s, ok := c.Forward[n.Name]
	return s, ok && s.SQL != "" && !s.Literal && n.Generated == nil
}

// between makes the tables between the steps and after them.
func (c *change) between() {
	from, to := c.From, c.Alteration.To
	c.mid, c.to = from.Clone(), to.Clone()
	c.mid.Text, c.to.Text = "", ""
	c.to.ServerOrder = nil // what comes stands behind the others; what comes back, where it stood
	// One that goes has been let go before: it wants no index of its own any more.
	c.mid.ForeignKeys = slices.DeleteFunc(c.mid.ForeignKeys, func(k *sqlschema.ForeignKey) bool {
		return !slices.ContainsFunc(to.ForeignKeys, func(o *sqlschema.ForeignKey) bool { return o.Name == k.Name })
	})
	moves := func(name string) bool { return slices.Contains(c.replaced, name) }
	// What is worked out from columns that are replaced is made again.
	for _, o := range from.Columns {
		n := to.Column(o.Name)
		if o.Generated == nil || engine.Freed(o, n) {
			continue
		}
		stands := n == nil || n.Generated == nil || slices.ContainsFunc(from.Columns, func(b *sqlschema.Column) bool {
			return mentions(o.Generated.SQL.Text, b.Name) && (moves(b.Name) || to.Column(b.Name) == nil)
		})
		if stands && len(c.replaced)+len(c.kept) > 0 {
			c.without(o.Name)
		}
	}
	c.letFill()
	c.newColumns()
	for _, o := range from.Columns {
		n := to.Column(o.Name)
		m := c.mid.Column(o.Name)
		if m == nil || n != nil && !moves(o.Name) {
			if m != nil && n != nil && (c.Back[o.Name].NullsIn != "" || c.backNone(o)) {
				m.NotNull = false
			}
			continue
		}
		if keep, ok := c.kept[o.Name]; ok {
			aside := &sqlschema.Column{
				Name:      keep,
				Type:      o.Type,
				SQLType:   o.SQLType,
				Collation: o.Collation,
				Comment:   o.Comment,
				Invisible: true,
			}
			c.to.Columns = slices.Insert(c.to.Columns, c.placeBehind(o), aside)
			c.moves[o.Name] = keep
		} else if moves(o.Name) {
			c.moves[o.Name] = ""
		}
		if c.backWorked(o) &&
			(!moves(o.Name) || c.kept[o.Name] != "" || asksOthers(c.Back[o.Name].SQL)) { // it comes back empty, and is filled then
			m.NotNull, m.Identity = false, false
			if pk := c.mid.PrimaryKey; pk != nil && slices.Contains(sqlschema.Names(pk.Columns), o.Name) {
				c.mid.PrimaryKey = nil
			}
		}
	}
}

// newColumns adds the columns that come, or are replaced, to the table between: bare, until they
// have their values.
func (c *change) newColumns() {
	from, to := c.From, c.Alteration.To
	for _, n := range to.Columns {
		old := from.Column(n.Name)
		bare := &sqlschema.Column{Name: n.Name, Type: n.Type, SQLType: n.SQLType, Collation: n.Collation}
		s, ok := c.Forward[n.Name]
		switch {
		case slices.Contains(c.replaced, n.Name):
			bare.Name = newName(n.Name)
			if s.Unconvertible && n.NotNull { // there is nothing to be turned into it
				bare.Default, bare.NotNull = n.Default, n.Default != nil
			}
			c.mid.Columns = append(c.mid.Columns, bare)
			c.moves[bare.Name] = n.Name
		case old != nil:
		case ok && s.Literal && n.Generated == nil && s.SQL != "NULL":
			d := sqlOf(s.SQL)
			bare.Default, bare.NotNull = &d, n.NotNull
			c.mid.Columns = append(c.mid.Columns, bare)
		case ok && s.SQL != "" && n.Generated == nil:
			c.mid.Columns = append(c.mid.Columns, bare)
		}
	}
}

// placeBehind is the place of a column that stays aside: behind the column behind which it was.
func (c *change) placeBehind(o *sqlschema.Column) int {
	columns := c.From.Columns
	for j := slices.Index(columns, o) - 1; j >= 0; j-- {
		before := columns[j].Name
		k := slices.IndexFunc(c.to.Columns,
			func(y *sqlschema.Column) bool { return y.Name == before || y.Name == c.kept[before] })
		if k >= 0 && !slices.Contains(c.replaced, before) {
			return k + 1
		}
	}
	return 0
}

// backNone tells whether rows without a value in a column that stays are given one on the
// way back.
func (c *change) backNone(o *sqlschema.Column) bool {
	s := c.Back[o.Name]
	return s.Else != "" && s.Kept == "" && o.NotNull && c.Alteration.To.Column(o.Name) != nil &&
		!slices.Contains(c.replaced, o.Name)
}

// backWorked tells whether a column of from has to be given values on the way back.
func (c *change) backWorked(o *sqlschema.Column) bool {
	s, ok := c.Back[o.Name]
	if !ok || o.Generated != nil {
		return false
	}
	if _, kept := c.kept[o.Name]; kept {
		return o.NotNull && orElse(o, s) != ""
	}
	return s.SQL != "" || s.NullsIn != ""
}

// without takes a generated column out of the table between the steps.
func (c *change) without(name string) {
	c.mid.Columns = slices.DeleteFunc(c.mid.Columns, func(o *sqlschema.Column) bool { return o.Name == name })
	c.mid.Indexes = slices.DeleteFunc(c.mid.Indexes,
		func(x *sqlschema.Index) bool { return slices.Contains(sqlschema.Names(x.Parts), name) })
	c.mid.Checks = slices.DeleteFunc(c.mid.Checks, func(k *sqlschema.Check) bool { return mentions(k.SQL.Text, name) })
}

// letFill takes what holds the values of columns that are given others, and goes with the
// change or comes, out of the table between the steps.
func (c *change) letFill() {
	given := func(name string) bool {
		f, b := c.Forward[name], c.Back[name]
		return !slices.Contains(c.replaced, name) && c.From.Column(name) != nil &&
			c.Alteration.To.Column(name) != nil &&
			(f.SQL != "" || b.SQL != "" || b.NullsIn != "")
	}
	worked := func(name string) bool { // on the way back, from others
		return c.Alteration.To.Column(name) == nil && c.kept[name] == "" && c.Back[name].SQL != ""
	}
	c.mid.Indexes = slices.DeleteFunc(c.mid.Indexes, func(x *sqlschema.Index) bool {
		return x.Unique && c.stands(x, worked) ||
			x.Unique && slices.ContainsFunc(sqlschema.Names(x.Parts), given) &&
				!slices.ContainsFunc(c.Alteration.To.Indexes,
					func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) && o.Name == x.Name })
	})
	c.mid.Checks = slices.DeleteFunc(c.mid.Checks, func(k *sqlschema.Check) bool {
		return slices.ContainsFunc(c.From.Columns,
			func(o *sqlschema.Column) bool { return given(o.Name) && mentions(k.SQL.Text, o.Name) }) &&
			!slices.ContainsFunc(c.Alteration.To.Checks,
				func(o *sqlschema.Check) bool { return o.Name == k.Name && o.SQL.Same(k.SQL) })
	})
}

// stands tells whether an index stands on one of some columns of from, or on one that is
// worked out from it.
func (c *change) stands(x *sqlschema.Index, of func(name string) bool) bool {
	return slices.ContainsFunc(sqlschema.Names(x.Parts), func(name string) bool {
		p := c.From.Column(name)
		return of(name) ||
			p != nil && p.Generated != nil && slices.ContainsFunc(c.From.Columns, func(o *sqlschema.Column) bool {
				return of(o.Name) && mentions(p.Generated.SQL.Text, o.Name)
			})
	})
}

// steps puts the parts together: triggers that go with their columns first; columns for new
// values; a bridge; the values; the one ALTER TABLE; triggers that come, last.
func (c *change) steps(here preconditions.Here) []engine.Step {
	a := &assembly{change: c, table: c.From.Name, here: here, batched: c.batched()}
	a.noted = c.noted()
	a.triggersGo()
	a.columnsCome()
	if a.noted != nil {
		a.out = append(a.out, *a.noted)
	}
	a.bridgeComes()
	a.valuesCome()
	a.alter()
	if b := a.batched; b != nil && b.held == nil && b.behind != nil {
		a.out = append(a.out, *b.behind)
	}
	a.triggersCome()
	return a.out
}

// assembly is the steps of a change, as they are put together.
type assembly struct {
	*change
	table   string
	here    preconditions.Here
	noted   *engine.Step
	batched *inBatches
	bridge  []*sqlschema.Trigger // goes in the very moment in which its columns do
	single  bool                 // the ALTER TABLE is all
	out     []engine.Step
}

// triggerNamed is the trigger of that name, or nil.
func triggerNamed(list []*sqlschema.Trigger, name string) *sqlschema.Trigger {
	for _, g := range list {
		if g.Name == name {
			return g
		}
	}
	return nil
}

// otherTriggers are those of list that other does not have as they are.
func otherTriggers(list, other []*sqlschema.Trigger) []*sqlschema.Trigger {
	return slices.DeleteFunc(slices.Clone(list), func(g *sqlschema.Trigger) bool {
		o := triggerNamed(other, g.Name)
		return o != nil && o.SQL.Same(g.SQL)
	})
}

// beginningWith are the triggers of the table from that of a name on, in the server's order.
func (a *assembly) beginningWith(name string) []*sqlschema.Trigger {
	return a.From.Triggers[slices.IndexFunc(a.From.Triggers,
		func(g *sqlschema.Trigger) bool { return g.Name == name }):]
}

// triggersGo drops the triggers that go; one that only changes is there all the time.
func (a *assembly) triggersGo() {
	after := a.Alteration.To.Triggers
	for _, g := range otherTriggers(a.From.Triggers, after) {
		switch {
		case triggerNamed(after, g.Name) != nil:
		case g.Purpose == schema.ForBridge:
			a.bridge = append(a.bridge, g)
		default:
			a.out = append(a.out, engine.Step{
				Title: engine.TriggerTitle("stop", a.From, g),
				Apply: []string{"DROP TRIGGER " + quote(g.Name)},
				Undo:  []string{inPlace(a.beginningWith(g.Name), g.SQL.Text, after)},
			})
		}
	}
}

// columnsCome adds the columns whose values are worked out, before that is done.
func (a *assembly) columnsCome() {
	prepare := tableChange{a.From, a.mid, nil}.statement()
	if a.single = prepare == "" && a.noted == nil; prepare == "" {
		return
	}
	s := engine.Step{
		Title: "add columns to " + a.table + " for new values",
		Work:  engine.Keeps,
		Apply: []string{prepare},
		Undo:  []string{tableChange{a.mid, a.From, nil}.statement()},
	}
	for _, n := range a.mid.Columns {
		if a.From.Column(n.Name) == nil && a.Alteration.To.Column(n.Name) != nil {
			s.UndoLoses = append(s.UndoLoses, engine.Loss{Table: a.table, Column: n.Name})
		}
	}
	a.out = append(a.out, s)
}

// bridgeComes creates the triggers of a bridge, all in one moment.
func (a *assembly) bridgeComes() {
	list := a.bridges()
	if len(list) == 0 {
		return
	}
	s := engine.Step{Title: engine.TriggerTitle("hold", a.Alteration.To, list[0]), Work: engine.Keeps}
	for _, g := range list {
		s.Apply, s.Undo = append(s.Apply, g.SQL.Text), append(s.Undo, "DROP TRIGGER "+quote(g.Name))
	}
	s.Apply, s.Undo = underLock(a.table, "", s.Apply...), underLock(a.table, "", s.Undo...)
	a.out = append(a.out, s)
}

// valuesCome gives columns their values, in batches or in one statement.
func (a *assembly) valuesCome() {
	values, back := a.values()
	a.single = a.single && len(values)+len(back) == 0
	if b := a.batched; b != nil {
		if b.during != nil {
			a.out = append(a.out, *b.during)
		}
		a.out = append(a.out, b.fills...)
	} else if len(values)+len(back) > 0 {
		s := engine.Step{Title: "values of " + a.table, Work: engine.Rewrites, Apply: values, Undo: back}
		if len(values) == 0 {
			s.Title = "values of " + a.table + " added in the meantime, in the undo"
		}
		a.out = append(a.out, s)
	}
}

// alter makes the table what it is to be.
func (a *assembly) alter() {
	final := tableChange{a.mid, a.to, a.moves}.statement()
	loose := a.loose()
	unfinal, tighten := a.mirror(loose).statement(), tableChange{loose, a.mid, nil}.statement()
	convert, unconvert := a.conversions()
	unconvert = append(unconvert, oneOf(tighten)...)
	if b := a.batched; b != nil && b.held != nil {
		declared := tableChange{a.mid, b.held, nil}
		final, unfinal = tableChange{b.held, a.to, a.moves}.statement(), a.mirror(b.held).statement()
		a.out = append(
			a.out,
			engine.Step{
				Title: "enforce the declared rules of " + a.table,
				Work:  engine.Keeps,
				Apply: oneOf(declared.statement()),
				Undo:  oneOf(tableChange{b.held, a.mid, nil}.statement()),
			},
			*b.behind,
		)
	}
	if final == "" && unfinal == "" && len(convert)+len(unconvert) == 0 {
		a.bridgeGoes()
		return
	}
	s := engine.Step{
		Title:    a.Summary,
		Work:     engine.Keeps,
		Loses:    engine.LossOf(a.table, a.Lost),
		Kept:     len(a.kept) > 0 && len(a.kept) == len(a.Lost),
		Here:     a.here.Apply,
		HereUndo: a.here.Undo,
	}
	if !a.single {
		s.Title = a.SummaryRest
	}
	keep := ""
	if a.noted != nil {
		keep = a.Keep
	}
	s.Apply, s.Undo = append(convert, oneOf(final)...), append(oneOf(unfinal), unconvert...)
	for _, g := range a.bridge {
		s.Apply, s.Undo = append([]string{"DROP TRIGGER " + quote(g.Name)}, s.Apply...), append(s.Undo, g.SQL.Text)
	}
	if len(convert)+len(a.here.Apply)+len(a.bridge) > 0 {
		s.Apply = underLock(a.table, keep, s.Apply...)
	}
	if len(unconvert)+len(a.here.Undo)+len(a.bridge) > 0 {
		s.Undo = underLock(a.table, keep, s.Undo...)
	}
	for _, n := range a.Alteration.To.Columns {
		if a.mid.Column(n.Name) == nil && n.Generated == nil ||
			slices.Contains(a.replaced, n.Name) &&
				(slices.Contains(a.Lost, n.Name) || engine.Freed(a.From.Column(n.Name), n)) {
			s.UndoLoses = append(s.UndoLoses, engine.Loss{Table: a.table, Column: n.Name})
		}
	}
	a.out = append(a.out, s)
}

// bridgeGoes drops a bridge where nothing else changes.
func (a *assembly) bridgeGoes() {
	if len(a.bridge) == 0 {
		return
	}
	var drop, create []string
	for _, g := range a.bridge {
		drop, create = append(drop, "DROP TRIGGER "+quote(g.Name)), append(create, g.SQL.Text)
	}
	a.out = append(a.out, engine.Step{
		Title: engine.TriggerTitle("stop", a.From, a.bridge[0]),
		Work:  engine.Keeps,
		Apply: underLock(a.table, "", drop...),
		Undo:  underLock(a.table, "", create...),
	})
}

// triggersCome creates the triggers that come, but for a bridge, which is there already.
func (a *assembly) triggersCome() {
	after := a.Alteration.To.Triggers
	for _, g := range otherTriggers(after, a.From.Triggers) {
		old := triggerNamed(a.From.Triggers, g.Name)
		if old == nil && g.Purpose == schema.ForBridge {
			continue
		}
		drop := "DROP TRIGGER " + quote(g.Name)
		if old == nil {
			a.out = append(a.out, engine.Step{
				Title: engine.TriggerTitle("hold", a.Alteration.To, g),
				Apply: []string{g.SQL.Text},
				Undo:  []string{drop},
			})
			continue
		}
		a.out = append(a.out, engine.Step{
			Title: "change trigger " + g.Name,
			Apply: underLock(a.table, "", drop, inPlace(a.beginningWith(g.Name), g.SQL.Text, after)),
			Undo:  underLock(a.table, "", drop, inPlace(a.beginningWith(g.Name), old.SQL.Text, after)),
		})
	}
}

func oneOf(s string) []string {
	if s == "" {
		return nil
	}
	return []string{s}
}

// loose is the table between the steps, without what the columns that come back empty,
// and are given their values then, could not fulfil until they have them.
func (c *change) loose() *sqlschema.Table {
	t := c.mid.Clone()
	empty := func(name string) bool { return slices.Contains(c.replaced, name) && c.kept[name] == "" }
	for _, o := range t.Columns {
		if empty(o.Name) && o.Generated == nil && !(c.Back[o.Name].Unconvertible && o.NotNull && o.Default != nil) {
			o.NotNull, o.Default = false, nil
		}
	}
	t.Indexes = slices.DeleteFunc(t.Indexes,
		func(x *sqlschema.Index) bool { return x.Unique && slices.ContainsFunc(sqlschema.Names(x.Parts), empty) })
	t.Checks = slices.DeleteFunc(t.Checks, func(k *sqlschema.Check) bool {
		return k.Name != "" &&
			slices.ContainsFunc(t.Columns,
				func(o *sqlschema.Column) bool { return empty(o.Name) && mentions(k.SQL.Text, o.Name) })
	})
	if pk := t.PrimaryKey; pk != nil && slices.ContainsFunc(sqlschema.Names(pk.Columns), empty) {
		t.PrimaryKey = nil
	}
	return t
}

// mirror is the way back from the table after all steps to the one between.
func (c *change) mirror(between *sqlschema.Table) tableChange {
	moves := map[string]string{}
	for from, to := range c.moves {
		if to != "" {
			moves[to] = from
		}
	}
	return tableChange{c.to, between, moves}
}
