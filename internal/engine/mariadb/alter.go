package mariadb

// This file makes one table another. Where no value has to be worked out that is one
// ALTER TABLE. Else there are three steps: the table gets room for the new values beside
// the old ones; the values are given; and one statement makes it what is declared. What
// turns values into others is done once more under the lock of that last step, so that
// nothing that is written meanwhile is left behind. Columns that go stay in the table
// under another name. References are not the table's affair: the plan lets them go and
// come apart.

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// Create gives the step for a new table.
func (Engine) Create(t *schema.Table) engine.Step {
	s := engine.Step{Title: "create " + t.Name, Apply: []string{createTable(t, t.Name)}, Undo: []string{"DROP TABLE " + quote(t.Name)}, UndoLoses: []string{t.Name}}
	for _, g := range t.Triggers { // each goes by itself, too: the way back may be turned between two steps
		s.Apply, s.Undo = append(s.Apply, g.SQL.Text), append([]string{"DROP TRIGGER " + quote(g.Name)}, s.Undo...)
	}
	return s
}

// Trigger gives the statements that make a trigger, and those that drop it.
func (Engine) Trigger(_ *schema.Table, g *schema.Trigger) (create, drop []string) {
	return []string{g.SQL.Text}, []string{"DROP TRIGGER " + quote(g.Name)}
}

// AddReference gives the statement that makes a reference, with its index where no other
// serves it.
func (Engine) AddReference(t *schema.Table, k *schema.ForeignKey) []string {
	s := "ALTER TABLE " + quote(t.Name)
	if k.OwnIndex || !covered(t, k) {
		s += " ADD " + indexDefinition(ownIndex(k)) + ","
	}
	return []string{s + " ADD " + named(k.Name) + foreignKey(k)}
}

// DropReference gives the statement that drops a reference, with its own index.
func (Engine) DropReference(t *schema.Table, k *schema.ForeignKey) []string {
	s := "ALTER TABLE " + quote(t.Name) + " DROP FOREIGN KEY " + quote(k.Name)
	if k.OwnIndex || !covered(t, k) {
		s += ", DROP INDEX " + quote(k.Name)
	}
	return []string{s}
}

// Rename gives the steps that rename a table, or a column of one, with the triggers and
// the view of live rows that name it, and the schema after it. While a column has its
// new name and a trigger the old one, nobody gets at the table.
func (Engine) Rename(s *schema.Schema, table, column, to string) ([]engine.Step, *schema.Schema) {
	var t *schema.Table
	var view *schema.View
	if s != nil {
		s = s.Clone()
		if t = s.Table(table); t != nil {
			for _, v := range s.Views {
				if v.LiveOf != "" && strings.EqualFold(v.LiveOf, t.Name) {
					view = v
				}
			}
		}
	}
	title := fmt.Sprintf("rename %s to %s", table, to)
	apply, undo := []string{"RENAME TABLE " + quote(table) + " TO " + quote(to)}, []string{"RENAME TABLE " + quote(to) + " TO " + quote(table)}
	if column != "" {
		title = fmt.Sprintf("rename %s.%s to %s", table, column, to)
		sql := func(a, b string) string {
			return "ALTER TABLE " + quote(table) + " RENAME COLUMN " + quote(a) + " TO " + quote(b)
		}
		apply, undo = []string{sql(column, to)}, []string{sql(to, column)}
	}
	if t == nil {
		return []engine.Step{{Title: title, Work: engine.Keeps, Apply: apply, Undo: undo}}, s
	}
	old := t.Clone()
	if column == "" {
		t.Name = to
		for _, g := range t.Triggers {
			g.SQL = sqlOf(onTable(g.SQL.Text, to))
		}
		for _, o := range s.Tables {
			for _, k := range o.ForeignKeys {
				if strings.EqualFold(k.Table, table) {
					k.Table = to
				}
			}
		}
	} else {
		var again, back []string
		renameColumn(t, column, to)
		for i, g := range old.Triggers {
			n := t.Triggers[i]
			text := renameIn(g.SQL.Text, map[string]string{column: to})
			if text == g.SQL.Text || g.Purpose == schema.ForBridge { // that goes before
				continue
			}
			if g.Purpose.OfTrigger() && strings.EqualFold(g.Column, column) {
				n.Column = to
				n.Name = triggerName(t, t.Column(to), g.Purpose)
				text = strings.Replace(text, "CREATE TRIGGER "+quote(g.Name), "CREATE TRIGGER "+quote(n.Name), 1)
				switch g.Purpose {
				case schema.ForImmutable:
					text = immutableTrigger(t, t.Column(to)).SQL.Text
				case schema.ForStamped:
					text = stampTrigger(t, t.Column(to)).SQL.Text
				}
			}
			n.SQL = sqlOf(text)
			there, was := inPlace(old.Triggers[i:], text, nil), inPlace(t.Triggers[i:], g.SQL.Text, nil)
			if n.Name == g.Name {
				again = append(again, "DROP TRIGGER "+quote(g.Name), there)
				back = append(back, "DROP TRIGGER "+quote(g.Name), was)
			} else { // the new one is there before the old one goes
				again = append(again, there, "DROP TRIGGER "+quote(g.Name))
				back = append(back, was, "DROP TRIGGER "+quote(n.Name))
			}
		}
		if len(again) > 0 {
			apply, undo = underLock(table, "", append(apply, again...)...), underLock(table, "", append(undo, back...)...)
		}
	}
	out := []engine.Step{{Title: title, Work: engine.Keeps, Apply: apply, Undo: undo}}
	if view == nil {
		return out, s
	}
	shown := t.Clone()
	shown.LiveView, shown.SoftDelete = view.Name, t.SoftDelete
	if strings.EqualFold(shown.SoftDelete, column) {
		shown.SoftDelete = to
	}
	was, drop := view.SQL.Text, "DROP VIEW "+quote(view.Name)
	view.LiveOf = t.Name
	view.SQL = schema.SQL{Text: liveView(shown), Canon: viewKey}
	first := engine.Step{Title: "drop view " + view.Name, Apply: []string{drop}, Undo: []string{was}}
	last := engine.Step{Title: "create view " + view.Name, Apply: []string{view.SQL.Text}, Undo: []string{drop}}
	return slices.Concat([]engine.Step{first}, out, []engine.Step{last}), s
}

// inPlace is the text of a trigger by which it comes where it was among those of its
// table: list begins with it, and others are those of which one has to be there.
func inPlace(list []*schema.Trigger, text string, others []*schema.Trigger) string {
	for _, o := range list[min(1, len(list)):] {
		if o.Purpose == schema.ForBridge || triggerEvent(o.SQL.Text) != triggerEvent(text) || others != nil && !slices.ContainsFunc(others, func(x *schema.Trigger) bool { return x.Name == o.Name }) {
			continue
		}
		for i, ts := 0, tokens(text); i+2 < len(ts); i++ {
			if ts[i].Is("FOR") && ts[i+1].Is("EACH") && ts[i+2].Is("ROW") {
				return text[:ts[i+2].End] + " PRECEDES " + quote(o.Name) + text[ts[i+2].End:]
			}
		}
	}
	return text
}

// triggerEvent is when a trigger runs.
func triggerEvent(text string) string {
	list := tokens(text)
	if len(list) < 5 {
		return ""
	}
	return strings.ToUpper(list[3].Text + " " + list[4].Text)
}

// onTable is the text of a trigger for a table of another name.
func onTable(text, table string) string {
	list := tokens(text)
	for i, t := range list {
		if t.Is("ON") && i+1 < len(list) && list[i+1].Named() {
			return text[:list[i+1].Start] + quote(table) + text[list[i+1].End:]
		}
	}
	return text
}

// renameColumn gives a column of a table another name, wherever it stands.
func renameColumn(t *schema.Table, column, to string) {
	c := t.Column(column)
	if c == nil {
		return
	}
	column = c.Name
	names := map[string]string{column: to}
	c.Name = to
	sql := func(s *schema.SQL) { *s = sqlOf(renameIn(s.Text, names)) }
	for _, o := range t.Columns {
		if o.Generated != nil {
			g := *o.Generated
			sql(&g.SQL)
			o.Generated = &g
		}
	}
	for _, k := range t.Checks {
		sql(&k.SQL)
		if k.Column == column {
			k.Column = to
		}
	}
	part := func(list []schema.Part) []schema.Part {
		list = slices.Clone(list)
		for i := range list {
			if list[i].Column == column {
				list[i].Column = to
			}
		}
		return list
	}
	for _, x := range t.Indexes {
		x.Parts = part(x.Parts)
	}
	if t.PrimaryKey != nil {
		t.PrimaryKey.Columns = part(t.PrimaryKey.Columns)
	}
	for _, k := range t.ForeignKeys {
		k.Columns = slices.Clone(k.Columns)
		for i := range k.Columns {
			if k.Columns[i] == column {
				k.Columns[i] = to
			}
		}
	}
	if t.SoftDelete == column {
		t.SoftDelete = to
	}
}

// newName is the name that a column has while it is to replace another.
func newName(column string) string { return schema.Cut("erbario_new_" + column) }

// change is one alteration being worked out.
type change struct {
	engine.Alteration
	anew    []string          // columns that are replaced by new ones, by name
	kept    map[string]string // columns that stay in the table, and their names there
	mid, to *schema.Table     // between the steps, and after them with what stays
	moves   map[string]string // from mid to to
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	for column, s := range a.Back {
		s.Match = a.Match()
		a.Back[column] = s
	}
	for _, n := range a.To.Columns {
		if _, given := a.Forward[n.Name]; !given && engine.Freed(a.From.Column(n.Name), n) { // what it has been generated as stays
			a.Forward[n.Name] = engine.Source{SQL: quote(n.Name)}
		}
	}
	c := &change{Alteration: a, kept: map[string]string{}, moves: map[string]string{}}
	c.aside()
	c.Back = c.fromAside()
	out := engine.Change{
		BeforeApply: dialect.Rows(a.From, a.To, a.Forward, a.Only, func(t string) engine.Parent { return a.Parent(t, false) }),
		BeforeUndo:  dialect.Rows(a.To, a.From, c.Back, "", func(t string) engine.Parent { return a.Parent(t, true) }),
	}
	// Rows come in between the steps: what changes values asks again, under its lock.
	// Of rows that a step before has taken out, the column that told them may be gone.
	here, hereUndo := engine.Guards(out.BeforeApply), engine.Guards(out.BeforeUndo)
	if a.Only != "" {
		here = engine.Guards(dialect.Rows(a.From, a.To, a.Forward, "", func(t string) engine.Parent { return a.Parent(t, false) }))
	}
	out.BeforeApply = append(out.BeforeApply, c.byHand()...)
	c.between()
	out.Steps = c.steps(here, hereUndo)
	return out
}

// touched tells whether the type of a column is another afterwards.
func (c *change) touched(name string) bool {
	old, n := c.From.Column(name), c.Alteration.To.Column(name)
	return old != nil && n != nil && n.Generated == nil && old.Generated == nil && (!schema.SameForm(old.SQLType, n.SQLType) || old.Collation != n.Collation)
}

// aside sorts out which columns are replaced, and which of those that go stay in the
// table.
func (c *change) aside() {
	for _, o := range c.From.Columns {
		n := c.Alteration.To.Column(o.Name)
		lost := slices.Contains(c.Lost, o.Name)
		there, back := c.Forward[o.Name], c.Back[o.Name]
		if n != nil && (lost || engine.Freed(o, n) || c.touched(o.Name) && (there.SQL != "" || there.Unconvertible || back.SQL != "" || back.Unconvertible)) {
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
func orElse(c *schema.Column, s engine.Source) string {
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
			known = append(known, literal(triggerName(t, &schema.Column{Name: t.SoftDelete}, p)))
		}
	}
	for i, n := range gone {
		purposes := []schema.Purpose{schema.ForChildren, schema.ForImmutable, schema.ForStamped} // ours, which have gone by then
		if slices.Contains(c.From.Key(), n) {
			purposes = append(purposes, schema.ForGuardChildren)
		}
		for _, p := range purposes {
			known = append(known, literal(triggerName(c.From, &schema.Column{Name: n}, p)))
		}
		gone[i] = regexp.QuoteMeta(n)
	}
	names := literal("(?i)(new|old) *[.] *`?(" + strings.Join(gone, "|") + ")($|[^a-z0-9_$])")
	return []engine.Requirement{{
		Sentence: fmt.Sprintf("{n} triggers not created by a migration use dropped columns of %s, and would block every change of a row. Change or drop them first", c.From.Name),
		Query: fmt.Sprintf("SELECT trigger_name, action_statement FROM information_schema.triggers WHERE trigger_schema = database() AND event_object_table = %s AND trigger_name NOT IN (%s) AND action_statement REGEXP %s",
			literal(c.From.Name), strings.Join(known, ", "), names),
	}}
}

// worked is the source of a column of to that is new, or filled, and worked out from the
// row.
func (c *change) worked(n *schema.Column) (engine.Source, bool) {
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
	c.mid.ForeignKeys = slices.DeleteFunc(c.mid.ForeignKeys, func(k *schema.ForeignKey) bool {
		return !slices.ContainsFunc(to.ForeignKeys, func(o *schema.ForeignKey) bool { return o.Name == k.Name })
	})
	moves := func(name string) bool { return slices.Contains(c.anew, name) }
	// What is worked out from columns that are replaced is made again.
	for _, o := range from.Columns {
		n := to.Column(o.Name)
		if o.Generated == nil || engine.Freed(o, n) {
			continue
		}
		stands := n == nil || n.Generated == nil || slices.ContainsFunc(from.Columns, func(b *schema.Column) bool {
			return mentions(o.Generated.SQL.Text, b.Name) && (moves(b.Name) || to.Column(b.Name) == nil)
		})
		if stands && len(c.anew)+len(c.kept) > 0 {
			c.without(o.Name)
		}
	}
	c.letFill()
	for _, n := range to.Columns {
		old := from.Column(n.Name)
		bare := &schema.Column{Name: n.Name, Type: n.Type, SQLType: n.SQLType, Collation: n.Collation}
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
			aside := &schema.Column{Name: keep, Type: o.Type, SQLType: o.SQLType, Collation: o.Collation, Comment: o.Comment, Invisible: true}
			at := len(c.to.Columns)
			for i, x := range from.Columns { // behind the column behind which it was
				if x.Name != o.Name {
					continue
				}
				for j := i - 1; j >= 0; j-- {
					if k := slices.IndexFunc(c.to.Columns, func(y *schema.Column) bool {
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
		if c.backWorked(o) && (!moves(o.Name) || c.kept[o.Name] != "" || asksOthers(c.Back[o.Name].SQL)) { // it comes back empty, and is filled then
			m.NotNull, m.Identity = false, false
			if pk := c.mid.PrimaryKey; pk != nil && slices.Contains(schema.Names(pk.Columns), o.Name) {
				c.mid.PrimaryKey = nil
			}
		}
	}
}

// backNone tells whether rows without a value in a column that stays are given one on the
// way back.
func (c *change) backNone(o *schema.Column) bool {
	s := c.Back[o.Name]
	return s.Else != "" && s.Kept == "" && o.NotNull && c.Alteration.To.Column(o.Name) != nil && !slices.Contains(c.anew, o.Name)
}

// backWorked tells whether a column of from has to be given values on the way back.
func (c *change) backWorked(o *schema.Column) bool {
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
	c.mid.Columns = slices.DeleteFunc(c.mid.Columns, func(o *schema.Column) bool { return o.Name == name })
	c.mid.Indexes = slices.DeleteFunc(c.mid.Indexes, func(x *schema.Index) bool { return slices.Contains(schema.Names(x.Parts), name) })
	c.mid.Checks = slices.DeleteFunc(c.mid.Checks, func(k *schema.Check) bool { return mentions(k.SQL.Text, name) })
}

// letFill takes what holds the values of columns that are given others, and goes with the
// change or comes, out of the table between the steps.
func (c *change) letFill() {
	given := func(name string) bool {
		f, b := c.Forward[name], c.Back[name]
		return !slices.Contains(c.anew, name) && c.From.Column(name) != nil && c.Alteration.To.Column(name) != nil && (f.SQL != "" || b.SQL != "" || b.NullsIn != "")
	}
	worked := func(name string) bool { // on the way back, from others
		return c.Alteration.To.Column(name) == nil && c.kept[name] == "" && c.Back[name].SQL != ""
	}
	c.mid.Indexes = slices.DeleteFunc(c.mid.Indexes, func(x *schema.Index) bool {
		return x.Unique && c.stands(x, worked) || x.Unique && slices.ContainsFunc(schema.Names(x.Parts), given) && !slices.ContainsFunc(c.Alteration.To.Indexes, func(o *schema.Index) bool { return schema.SameIndex(o, x) && o.Name == x.Name })
	})
	c.mid.Checks = slices.DeleteFunc(c.mid.Checks, func(k *schema.Check) bool {
		return slices.ContainsFunc(c.From.Columns, func(o *schema.Column) bool { return given(o.Name) && mentions(k.SQL.Text, o.Name) }) &&
			!slices.ContainsFunc(c.Alteration.To.Checks, func(o *schema.Check) bool { return o.Name == k.Name && o.SQL.Same(k.SQL) })
	})
}

// stands tells whether an index stands on one of some columns of from, or on one that is
// worked out from it.
func (c *change) stands(x *schema.Index, of func(name string) bool) bool {
	return slices.ContainsFunc(schema.Names(x.Parts), func(name string) bool {
		p := c.From.Column(name)
		return of(name) || p != nil && p.Generated != nil && slices.ContainsFunc(c.From.Columns, func(o *schema.Column) bool {
			return of(o.Name) && mentions(p.Generated.SQL.Text, o.Name)
		})
	})
}

// steps puts the parts together.
func (c *change) steps(here, hereUndo []engine.Requirement) []engine.Step {
	table := c.From.Name
	var out []engine.Step
	triggers := func(list, other []*schema.Trigger, f func(g *schema.Trigger)) {
		for _, g := range list {
			if !slices.ContainsFunc(other, func(o *schema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) }) {
				f(g)
			}
		}
	}
	named := func(list []*schema.Trigger, name string) *schema.Trigger {
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
	var bridge []*schema.Trigger
	from := func(name string) []*schema.Trigger {
		return c.From.Triggers[slices.IndexFunc(c.From.Triggers, func(g *schema.Trigger) bool { return g.Name == name }):]
	}
	triggers(c.From.Triggers, c.Alteration.To.Triggers, func(g *schema.Trigger) {
		switch {
		case named(c.Alteration.To.Triggers, g.Name) != nil:
		case g.Purpose == schema.ForBridge:
			bridge = append(bridge, g)
		default:
			out = append(out, engine.Step{Title: engine.TriggerTitle("stop", c.From, g), Apply: []string{"DROP TRIGGER " + quote(g.Name)}, Undo: []string{inPlace(from(g.Name), g.SQL.Text, c.Alteration.To.Triggers)}})
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
		s := engine.Step{Title: "add columns to " + table + " for new values", Work: engine.Keeps, Apply: []string{prepare}, Undo: []string{unprepare}}
		for _, n := range c.mid.Columns {
			if c.From.Column(n.Name) == nil && c.Alteration.To.Column(n.Name) != nil {
				s.UndoLoses = append(s.UndoLoses, table+"."+n.Name)
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
		out = append(out, engine.Step{Title: "enforce the declared rules of " + table, Work: engine.Keeps, Apply: oneOf(declared.statement()), Undo: oneOf(tableChange{batched.held, c.mid, nil}.statement())}, *batched.behind)
	}
	if final != "" || unfinal != "" || len(convert)+len(unconvert) > 0 {
		s := engine.Step{Title: c.Summary, Work: engine.Keeps, Loses: engine.Qualify(table, c.Lost), Kept: len(c.kept) > 0 && len(c.kept) == len(c.Lost), Here: here, HereUndo: hereUndo}
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
			if c.mid.Column(n.Name) == nil && n.Generated == nil || slices.Contains(c.anew, n.Name) && (slices.Contains(c.Lost, n.Name) || engine.Freed(c.From.Column(n.Name), n)) {
				s.UndoLoses = append(s.UndoLoses, table+"."+n.Name)
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
			out = append(out, engine.Step{Title: engine.TriggerTitle("stop", c.From, bridge[0]), Work: engine.Keeps, Apply: underLock(table, "", drop...), Undo: underLock(table, "", create...)})
		}
	}
	if batched != nil && batched.held == nil && batched.behind != nil {
		out = append(out, *batched.behind)
	}
	triggers(c.Alteration.To.Triggers, c.From.Triggers, func(g *schema.Trigger) {
		old := named(c.From.Triggers, g.Name)
		if old == nil && g.Purpose == schema.ForBridge {
			return // it is there already
		}
		if old == nil {
			out = append(out, engine.Step{Title: engine.TriggerTitle("hold", c.Alteration.To, g), Apply: []string{g.SQL.Text}, Undo: []string{"DROP TRIGGER " + quote(g.Name)}})
			return
		}
		drop := "DROP TRIGGER " + quote(g.Name)
		out = append(out, engine.Step{Title: "change trigger " + g.Name, Apply: underLock(table, "", drop, inPlace(from(g.Name), g.SQL.Text, c.Alteration.To.Triggers)), Undo: underLock(table, "", drop, inPlace(from(g.Name), old.SQL.Text, c.Alteration.To.Triggers))})
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
func (c *change) loose() *schema.Table {
	t := c.mid.Clone()
	empty := func(name string) bool { return slices.Contains(c.anew, name) && c.kept[name] == "" }
	for _, o := range t.Columns {
		if empty(o.Name) && o.Generated == nil && !(c.Back[o.Name].Unconvertible && o.NotNull && o.Default != nil) {
			o.NotNull, o.Default = false, nil
		}
	}
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *schema.Index) bool { return x.Unique && slices.ContainsFunc(schema.Names(x.Parts), empty) })
	t.Checks = slices.DeleteFunc(t.Checks, func(k *schema.Check) bool {
		return k.Name != "" && slices.ContainsFunc(t.Columns, func(o *schema.Column) bool { return empty(o.Name) && mentions(k.SQL.Text, o.Name) })
	})
	if pk := t.PrimaryKey; pk != nil && slices.ContainsFunc(schema.Names(pk.Columns), empty) {
		t.PrimaryKey = nil
	}
	return t
}

// mirror is the way back from the table after all steps to the one between.
func (c *change) mirror(between *schema.Table) tableChange {
	moves := map[string]string{}
	for from, to := range c.moves {
		if to != "" {
			moves[to] = from
		}
	}
	return tableChange{c.to, between, moves}
}

// noted is the step that makes the table in which is noted which rows had no value; nil
// where none is filled.
func (c *change) noted() *engine.Step {
	filled := c.Filled()
	if len(filled) == 0 || c.Keep == "" {
		return nil
	}
	return &engine.Step{Title: "prepare to note which rows have no " + strings.Join(filled, ", "), Apply: []string{keptTable(c.Alteration, filled)}, Undo: []string{"DROP TABLE " + quote(c.Keep)}}
}

// values gives the statements that give columns values beside others, and back.
func (c *change) values() (apply, undo []string) {
	table := quote(c.From.Name)
	if filled := c.Filled(); len(filled) > 0 && c.Keep != "" {
		apply = append(apply, noteEmpty(c.Alteration, filled))
	}
	var set []string
	where := ""
	n := 0
	for _, name := range c.anew {
		if s := c.Forward[name]; asksOthers(s.SQL) {
			n++
			set = append(set, quote(newName(name))+" = "+s.SQL)
		}
	}
	for _, col := range c.Alteration.To.Columns {
		s, ok := c.worked(col)
		if lit, has := c.Forward[col.Name]; has && lit.Literal && lit.SQL != "" && c.From.Column(col.Name) != nil {
			s, ok = lit, true
		}
		if !ok || slices.Contains(c.anew, col.Name) || c.From.Column(col.Name) != nil && c.touched(col.Name) {
			continue
		}
		n++
		if s.Fill != "" && !s.Converts {
			where = quote(col.Name) + " IS NULL"
		}
		set = append(set, quote(col.Name)+" = "+s.SQL)
	}
	if n != 1 {
		where = ""
	}
	if len(set) > 0 {
		apply = append(apply, update(table, set, where))
	}
	set = nil
	for _, name := range c.anew {
		if s := c.Back[name]; asksOthers(s.SQL) && c.kept[name] == "" {
			set = append(set, quote(name)+" = "+renameIn(s.SQL, c.midNames()))
		}
	}
	for _, o := range c.From.Columns {
		s, ok := c.Back[o.Name]
		if !ok || o.Generated != nil || slices.Contains(c.anew, o.Name) {
			continue
		}
		_, kept := c.kept[o.Name]
		x := quote(o.Name)
		switch {
		case kept:
			if value := orElse(o, s); o.NotNull && value != "" {
				undo = append(undo, update(table, []string{x + " = " + value}, x+" IS NULL"))
			}
		case c.backNone(o):
			undo = append(undo, update(table, []string{x + " = " + s.Else}, x+" IS NULL"))
		case s.SQL != "" && !c.touched(o.Name):
			set = append(set, x+" = "+renameIn(s.SQL, c.midNames()))
		}
	}
	if len(set) > 0 {
		undo = append([]string{update(table, set, "")}, undo...)
	}
	for _, o := range c.From.Columns {
		if s := c.Back[o.Name]; s.NullsIn != "" && !slices.Contains(c.anew, o.Name) {
			undo = append(undo, c.unfill(o, s, o.Name))
		}
	}
	if c.Keep != "" && len(c.Filled()) > 0 {
		undo = append(undo, "DELETE FROM "+quote(c.Keep))
	}
	return quietly(apply), quietly(undo)
}

// midNames are the names that columns of to have between the steps, where they have
// others.
func (c *change) midNames() map[string]string {
	out := map[string]string{}
	for _, n := range c.anew {
		out[n] = newName(n)
	}
	return out
}

// unfill makes null again what was filled and is still what it was filled with.
func (c *change) unfill(o *schema.Column, s engine.Source, value string) string {
	t := quote(c.From.Name)
	return update(t, []string{quote(o.Name) + " = NULL"}, keptEmpty(s, o.Name, t, t+"."+quote(value)))
}

// keptEmpty is the condition that a row of a table was noted to have had no value in a
// column, and still has what it was given.
func keptEmpty(s engine.Source, column, table, value string) string {
	return fmt.Sprintf("EXISTS (SELECT 1 FROM %s AS kept%s WHERE %s AND kept.%s <=> %s AND kept.%s IS NULL)", quote(s.NullsIn), keptByKey, keptMatch(s.Match, "kept", table), quote("filled_"+column), value, quote(column))
}

// conversions gives the statements by which columns that are replaced get their values,
// and those that take them back.
func (c *change) conversions() (apply, undo []string) {
	table := quote(c.From.Name)
	var set, unset []string
	for _, name := range c.anew {
		o := c.From.Column(name)
		switch s := c.Forward[name]; {
		case asksOthers(s.SQL):
		case s.SQL != "":
			set = append(set, quote(newName(name))+" = "+s.SQL)
		case !s.Unconvertible: // the server's own conversion
			set = append(set, quote(newName(name))+" = "+quote(name))
		}
		s := c.Back[name]
		if _, kept := c.kept[name]; kept {
			if value := orElse(o, s); o.NotNull && value != "" {
				undo = append(undo, update(table, []string{quote(name) + " = " + value}, quote(name)+" IS NULL"))
			}
			continue
		}
		value := quote(newName(name))
		switch {
		case asksOthers(s.SQL), o.Generated != nil:
			continue
		case s.SQL != "":
			value = renameIn(s.SQL, c.midNames())
		case s.Unconvertible:
			continue
		}
		if s.NullsIn != "" { // what was filled need not fit: it is null again; one at a time, since a locked table has its name once
			value = "CASE WHEN " + keptEmpty(s, name, table, table+"."+quote(newName(name))) + " THEN NULL ELSE " + value + " END"
			undo = append(undo, update(table, []string{quote(name) + " = " + value}, ""))
			continue
		}
		unset = append(unset, quote(name)+" = "+value)
	}
	if len(set) > 0 {
		apply = append(apply, update(table, set, ""))
	}
	if len(unset) > 0 {
		undo = append([]string{update(table, unset, "")}, undo...)
	}
	for _, name := range c.anew {
		if s := c.Back[name]; s.NullsIn != "" && asksOthers(s.SQL) {
			undo = append(undo, c.unfill(c.From.Column(name), s, newName(name)))
		}
	}
	return quietly(apply), quietly(undo)
}

// asksOthers tells whether an expression asks other rows, which cannot be had under LOCK
// TABLES: these are other tables, or the same one by a second name.
func asksOthers(sql string) bool {
	return slices.ContainsFunc(tokens(sql), func(t sqltok.Token) bool { return t.Is("SELECT") })
}

func update(table string, set []string, where string) string {
	s := "UPDATE " + table + " SET " + strings.Join(set, ", ")
	if where != "" {
		s += " WHERE " + where
	}
	return s
}

// quietly has the triggers of ours keep still during statements: they change no other
// column, and refuse nothing.
func quietly(sql []string) []string {
	if len(sql) == 0 {
		return nil
	}
	return slices.Concat([]string{"SET " + quiet + " = 1"}, sql, []string{"SET " + quiet + " = NULL"})
}

// dialect is what MariaDB says otherwise where rows are asked about.
var dialect = preconditions.Dialect{
	Many:    "SQL_BIG_RESULT ", // it sorts: a temporary table with an index on long texts takes many times as long
	Quote:   quote,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, _ *schema.Column) string { return "NOT (" + a + " <=> " + b + ")" },
	Typed:   func(sql string, _ *schema.Column) string { return sql },
	RowName: func(*schema.Table) string { return "" },
	Given:   func(_ *schema.Table, c *schema.Column) bool { return c.Identity },
	Tokens: func(sql string) []string {
		var out []string
		for _, t := range tokens(sql) {
			if t.Named() {
				out = append(out, t.Name())
			}
		}
		return out
	},
	Group: func(p schema.Part) string { return quote(p.Column) },
	Only:  func(c *schema.Column) bool { return c.SQLType == "tinyint" },
}

// sourceSQL is the expression over the old row that gives a column its value; false
// where the column's default is to do it.
func sourceSQL(from *schema.Table, c *schema.Column, table string, sources map[string]engine.Source) (string, bool) {
	src, ok := sources[c.Name]
	if !ok {
		if o := from.Column(c.Name); o != nil {
			return quote(o.Name), true
		}
		return "", false
	}
	row := quote(table)
	switch {
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = src.SQL
		}
		return "CASE WHEN " + keptEmpty(src, c.Name, row, row+"."+quote(c.Name)) + " THEN NULL ELSE " + value + " END", true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return src.SQL, true
	}
	return "", false
}
