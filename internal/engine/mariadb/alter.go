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
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// change is one alteration being worked out.
type change struct {
	engine.Alteration
	anew    []string          // columns that are replaced by new ones, by name
	kept    map[string]string // columns that stay in the table, and their names there
	mid, to *sqlschema.Table  // between the steps, and after them with what stays
	moves   map[string]string // from mid to to
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
	out := engine.Change{
		BeforeApply: dialect.Rows(a.From, a.To, a.Forward, a.Only,
			func(t string) engine.Parent { return a.Parent(t, false) }),
		BeforeUndo: dialect.Rows(a.To, a.From, c.Back, "", func(t string) engine.Parent { return a.Parent(t, true) }),
	}
	// Rows come in between the steps: what changes values asks again, under its lock.
	// Of rows that a step before has taken out, the column that told them may be gone.
	here, hereUndo := engine.Guards(out.BeforeApply), engine.Guards(out.BeforeUndo)
	if a.Only != "" {
		here = engine.Guards(
			dialect.Rows(a.From, a.To, a.Forward, "", func(t string) engine.Parent { return a.Parent(t, false) }),
		)
	}
	out.BeforeApply = append(out.BeforeApply, c.byHand()...)
	c.between()
	out.Steps = c.steps(here, hereUndo)
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
			c.anew = append(c.anew, o.Name)
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
	c.to.Standing = nil // what comes stands behind the others; what comes back, where it stood
	// One that goes has been let go before: it wants no index of its own any more.
	c.mid.ForeignKeys = slices.DeleteFunc(c.mid.ForeignKeys, func(k *sqlschema.ForeignKey) bool {
		return !slices.ContainsFunc(to.ForeignKeys, func(o *sqlschema.ForeignKey) bool { return o.Name == k.Name })
	})
	moves := func(name string) bool { return slices.Contains(c.anew, name) }
	// What is worked out from columns that are replaced is made again.
	for _, o := range from.Columns {
		n := to.Column(o.Name)
		if o.Generated == nil || engine.Freed(o, n) {
			continue
		}
		stands := n == nil || n.Generated == nil || slices.ContainsFunc(from.Columns, func(b *sqlschema.Column) bool {
			return mentions(o.Generated.SQL.Text, b.Name) && (moves(b.Name) || to.Column(b.Name) == nil)
		})
		if stands && len(c.anew)+len(c.kept) > 0 {
			c.without(o.Name)
		}
	}
	c.letFill()
	for _, n := range to.Columns {
		old := from.Column(n.Name)
		bare := &sqlschema.Column{Name: n.Name, Type: n.Type, SQLType: n.SQLType, Collation: n.Collation}
		s, ok := c.Forward[n.Name]
		switch {
		case moves(n.Name):
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
			at := len(c.to.Columns)
			for i, x := range from.Columns { // behind the column behind which it was
				if x.Name != o.Name {
					continue
				}
				for j := i - 1; j >= 0; j-- {
					if k := slices.IndexFunc(c.to.Columns, func(y *sqlschema.Column) bool {
						return y.Name == from.Columns[j].Name || y.Name == c.kept[from.Columns[j].Name]
					}); k >= 0 && !moves(from.Columns[j].Name) {
						at = k + 1
						break
					}
					if j == 0 {
						at = 0
					}
				}
				if i == 0 {
					at = 0
				}
			}
			c.to.Columns = slices.Insert(c.to.Columns, at, aside)
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

// backNone tells whether rows without a value in a column that stays are given one on the
// way back.
func (c *change) backNone(o *sqlschema.Column) bool {
	s := c.Back[o.Name]
	return s.Else != "" && s.Kept == "" && o.NotNull && c.Alteration.To.Column(o.Name) != nil &&
		!slices.Contains(c.anew, o.Name)
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
		return !slices.Contains(c.anew, name) && c.From.Column(name) != nil && c.Alteration.To.Column(name) != nil &&
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

// steps puts the parts together.
func (c *change) steps(here, hereUndo []engine.Requirement) []engine.Step {
	table := c.From.Name
	var out []engine.Step
	triggers := func(list, other []*sqlschema.Trigger, f func(g *sqlschema.Trigger)) {
		for _, g := range list {
			if !slices.ContainsFunc(other,
				func(o *sqlschema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) }) {
				f(g)
			}
		}
	}
	named := func(list []*sqlschema.Trigger, name string) *sqlschema.Trigger {
		for _, g := range list {
			if g.Name == name {
				return g
			}
		}
		return nil
	}
	// A trigger that goes with its column goes first; one that comes, last; one that only
	// changes is there all the time.
	// A bridge goes in the very moment in which its columns do.
	var bridge []*sqlschema.Trigger
	from := func(name string) []*sqlschema.Trigger {
		return c.From.Triggers[slices.IndexFunc(c.From.Triggers,
			func(g *sqlschema.Trigger) bool { return g.Name == name }):]
	}
	triggers(c.From.Triggers, c.Alteration.To.Triggers, func(g *sqlschema.Trigger) {
		switch {
		case named(c.Alteration.To.Triggers, g.Name) != nil:
		case g.Purpose == schema.ForBridge:
			bridge = append(bridge, g)
		default:
			out = append(out, engine.Step{
				Title: engine.TriggerTitle("stop", c.From, g),
				Apply: []string{"DROP TRIGGER " + quote(g.Name)},
				Undo:  []string{inPlace(from(g.Name), g.SQL.Text, c.Alteration.To.Triggers)},
			})
		}
	})
	prepare, unprepare := tableChange{c.From, c.mid, nil}.statement(), tableChange{c.mid, c.From, nil}.statement()
	final := tableChange{c.mid, c.to, c.moves}.statement()
	loose := c.loose()
	unfinal, tighten := c.mirror(loose).statement(), tableChange{loose, c.mid, nil}.statement()
	values, back := c.values()
	convert, unconvert := c.conversions()
	noted := c.noted()
	batched := c.batched()
	single := prepare == "" && len(values)+len(back) == 0 && noted == nil
	if prepare != "" {
		s := engine.Step{
			Title: "add columns to " + table + " for new values",
			Work:  engine.Keeps,
			Apply: []string{prepare},
			Undo:  []string{unprepare},
		}
		for _, n := range c.mid.Columns {
			if c.From.Column(n.Name) == nil && c.Alteration.To.Column(n.Name) != nil {
				s.UndoLoses = append(s.UndoLoses, engine.Loss{Table: table, Column: n.Name})
			}
		}
		out = append(out, s)
	}
	if noted != nil {
		out = append(out, *noted)
	}
	if list := c.bridges(); len(list) > 0 {
		s := engine.Step{Title: engine.TriggerTitle("hold", c.Alteration.To, list[0]), Work: engine.Keeps}
		for _, g := range list {
			s.Apply, s.Undo = append(s.Apply, g.SQL.Text), append(s.Undo, "DROP TRIGGER "+quote(g.Name))
		}
		s.Apply, s.Undo = underLock(table, "", s.Apply...), underLock(table, "", s.Undo...)
		out = append(out, s)
	}
	if batched != nil {
		if batched.during != nil {
			out = append(out, *batched.during)
		}
		out = append(out, batched.fills...)
	} else if len(values)+len(back) > 0 {
		s := engine.Step{Title: "values of " + table, Work: engine.Rewrites, Apply: values, Undo: back}
		if len(values) == 0 {
			s.Title = "values of " + table + " added in the meantime, in the undo"
		}
		out = append(out, s)
	}
	unconvert = append(unconvert, oneOf(tighten)...)
	if batched != nil && batched.held != nil {
		declared := tableChange{c.mid, batched.held, nil}
		final, unfinal = tableChange{batched.held, c.to, c.moves}.statement(), c.mirror(batched.held).statement()
		out = append(
			out,
			engine.Step{
				Title: "enforce the declared rules of " + table,
				Work:  engine.Keeps,
				Apply: oneOf(declared.statement()),
				Undo:  oneOf(tableChange{batched.held, c.mid, nil}.statement()),
			},
			*batched.behind,
		)
	}
	if final != "" || unfinal != "" || len(convert)+len(unconvert) > 0 {
		s := engine.Step{
			Title:    c.Summary,
			Work:     engine.Keeps,
			Loses:    engine.LossOf(table, c.Lost),
			Kept:     len(c.kept) > 0 && len(c.kept) == len(c.Lost),
			Here:     here,
			HereUndo: hereUndo,
		}
		apply, undo := oneOf(final), oneOf(unfinal)
		keep := ""
		if noted != nil {
			keep = c.Keep
		}
		undo = append(undo, unconvert...)
		apply = append(convert, apply...)
		for _, g := range bridge {
			apply, undo = append([]string{"DROP TRIGGER " + quote(g.Name)}, apply...), append(undo, g.SQL.Text)
		}
		if len(convert)+len(here)+len(bridge) > 0 {
			apply = underLock(table, keep, apply...)
		}
		if len(unconvert)+len(hereUndo)+len(bridge) > 0 {
			undo = underLock(table, keep, undo...)
		}
		s.Apply, s.Undo = apply, undo
		for _, n := range c.Alteration.To.Columns {
			if c.mid.Column(n.Name) == nil && n.Generated == nil ||
				slices.Contains(c.anew, n.Name) &&
					(slices.Contains(c.Lost, n.Name) || engine.Freed(c.From.Column(n.Name), n)) {
				s.UndoLoses = append(s.UndoLoses, engine.Loss{Table: table, Column: n.Name})
			}
		}
		if !single {
			s.Title = c.SummaryRest
		}
		out = append(out, s)
	}
	if final == "" && unfinal == "" && len(convert)+len(unconvert) == 0 {
		var drop, create []string
		for _, g := range bridge {
			drop, create = append(drop, "DROP TRIGGER "+quote(g.Name)), append(create, g.SQL.Text)
		}
		if len(bridge) > 0 {
			out = append(out, engine.Step{
				Title: engine.TriggerTitle("stop", c.From, bridge[0]),
				Work:  engine.Keeps,
				Apply: underLock(table, "", drop...),
				Undo:  underLock(table, "", create...),
			})
		}
	}
	if batched != nil && batched.held == nil && batched.behind != nil {
		out = append(out, *batched.behind)
	}
	triggers(c.Alteration.To.Triggers, c.From.Triggers, func(g *sqlschema.Trigger) {
		old := named(c.From.Triggers, g.Name)
		if old == nil && g.Purpose == schema.ForBridge {
			return // it is there already
		}
		if old == nil {
			out = append(out, engine.Step{
				Title: engine.TriggerTitle("hold", c.Alteration.To, g),
				Apply: []string{g.SQL.Text},
				Undo:  []string{"DROP TRIGGER " + quote(g.Name)},
			})
			return
		}
		drop := "DROP TRIGGER " + quote(g.Name)
		out = append(out, engine.Step{
			Title: "change trigger " + g.Name,
			Apply: underLock(table, "", drop, inPlace(from(g.Name), g.SQL.Text, c.Alteration.To.Triggers)),
			Undo:  underLock(table, "", drop, inPlace(from(g.Name), old.SQL.Text, c.Alteration.To.Triggers)),
		})
	})
	return out
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
	empty := func(name string) bool { return slices.Contains(c.anew, name) && c.kept[name] == "" }
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
