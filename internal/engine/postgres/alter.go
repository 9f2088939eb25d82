package postgres

// This file makes one table another, in place: nearly all that PostgreSQL can be
// asked for, it can do to the table that is there. What goes first is what stands
// on a column that changes; then columns and values; then all stands again. The
// undo of a step is made by the same code, the other way round. References are not
// the table's affair: the plan lets them go and come apart.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// Create gives the step for a new table.
func (Engine) Create(t *schema.Table) engine.Step {
	return engine.Step{Title: "create " + t.Name, Apply: tableStatements(t), Undo: []string{"DROP TABLE " + quote(t.Name)}, UndoLoses: []string{t.Name}}
}

// AddReference gives the statement that makes a reference.
func (Engine) AddReference(t *schema.Table, k *schema.ForeignKey) []string {
	return []string{alterTable(t.Name) + "ADD " + named(k.Name) + foreignKey(k)}
}

// DropReference gives the statement that drops a reference.
func (Engine) DropReference(t *schema.Table, k *schema.ForeignKey) []string {
	return []string{alterTable(t.Name) + "DROP CONSTRAINT " + quote(k.Name)}
}

// Rename gives the step that renames a table, or a column of one; the server's own
// references follow.
func (Engine) Rename(s *schema.Schema, table, column, to string) ([]engine.Step, *schema.Schema) {
	title, start := fmt.Sprintf("rename %s to %s", table, to), func(name string) string { return alterTable(name) + "RENAME " }
	apply, undo := start(table)+"TO "+quote(to), start(to)+"TO "+quote(table)
	if column != "" {
		title = fmt.Sprintf("rename %s.%s to %s", table, column, to)
		apply, undo = start(table)+"COLUMN "+quote(column)+" TO "+quote(to), start(table)+"COLUMN "+quote(to)+" TO "+quote(column)
	}
	return []engine.Step{{Title: title, Work: engine.Keeps, Apply: []string{apply}, Undo: []string{undo}}}, s
}

// op is one change of a table.
type op struct {
	what   string // what it is about: the way back has one about the same
	title  string
	work   engine.Work
	drops  bool // it drops something
	sql    []string
	adds   []string // the columns that it adds
	check  *schema.Check
	index  *schema.Index
	column *schema.Column // that becomes required, or optional
	comes  bool           // what it is about comes, rather than goes
	back   []string       // of a name that changes: as it was
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	for column, s := range a.Back {
		s.Match = a.Match()
		a.Back[column] = s
	}
	copied, inPlace := a.Back, a.InUse && keepsInPlace(a)
	if inPlace {
		a.Back = fromAside(a)
	}
	out := engine.Change{
		BeforeApply: dialect.Rows(a.From, a.To, a.Forward, a.Only, func(t string) engine.Parent { return a.Parent(t, false) }),
		BeforeUndo:  dialect.Rows(a.To, a.From, a.Back, "", func(t string) engine.Parent { return a.Parent(t, true) }),
	}
	// Where steps run apart, rows come in between: what changes values asks again.
	// Of rows that a step before has taken out, the column that told them may be gone.
	here, hereUndo := engine.Guards(out.BeforeApply), engine.Guards(out.BeforeUndo)
	if a.Only != "" {
		here = engine.Guards(dialect.Rows(a.From, a.To, a.Forward, "", func(t string) engine.Parent { return a.Parent(t, false) }))
	}
	filled := a.Filled()
	forward, back := changes(a.From, a.To, a.Forward, a.InUse), changes(a.To, a.From, a.Back, a.InUse)
	writes := a.InUse && slices.ContainsFunc(a.To.Columns, func(c *schema.Column) bool { return a.From.Column(c.Name) == nil && fillable(c) })
	ways, ok := paired(forward, back)
	if len(a.Lost)+len(filled)+len(a.Forward)+len(a.Back) == 0 && !writes && ok {
		if a.InUse {
			out.Steps = allInUse(a.From.Name, forward, ways, here, hereUndo, nil)
			return out
		}
		if comesAndGoes(forward) {
			step := engine.Step{Title: a.Summary, Work: work(forward), Here: here, HereUndo: hereUndo}
			for _, o := range back {
				step.Undo = append(step.Undo, o.sql...)
			}
			for _, o := range forward {
				step.Apply = append(step.Apply, o.sql...)
				step.UndoLoses = append(step.UndoLoses, engine.Qualify(a.From.Name, o.adds)...)
			}
			out.Steps = []engine.Step{step}
			return out
		}
		for i, o := range forward {
			step := engine.Step{Title: o.title, Work: o.work, Apply: o.sql, Undo: ways[i].sql, UndoLoses: engine.Qualify(a.From.Name, o.adds)}
			if o.what == "types" {
				step.Here, step.HereUndo = here, hereUndo
			}
			out.Steps = append(out.Steps, step)
		}
		return out
	}
	if a.InUse && (inPlace || len(a.Lost) == 0) {
		if steps := inBatches(a, here, hereUndo); steps != nil {
			out.Steps = steps
			return out
		}
	}
	if inPlace { // the rest of the change has no such form
		a.Back, a.Aside = copied, ""
		return Engine{}.Alter(a)
	}
	out.BeforeApply = append(out.BeforeApply, attached(a.From, forward)...)
	step := engine.Step{Title: a.Summary, Work: work(forward), Loses: engine.Qualify(a.From.Name, a.Lost), Here: here, HereUndo: hereUndo}
	if !a.From.Unkeyed() {
		gone := engine.LostColumns(a.To, a.From)
		for _, c := range a.Lost {
			if a.To.Column(c) != nil {
				gone = append(gone, c) // of another type now
			}
		}
		step.UndoLoses = engine.Qualify(a.From.Name, gone)
	}
	kept := a.Lost
	if a.NoKeep {
		kept = nil
	}
	keeps := a.Keep != "" && len(kept)+len(filled) > 0
	if keeps {
		step.Kept = len(kept) > 0
		step.Apply = append(step.Apply, keepValues(a, kept, filled)...)
	}
	for _, o := range forward {
		step.Apply = append(step.Apply, o.sql...)
	}
	for _, o := range back {
		step.Undo = append(step.Undo, o.sql...)
	}
	if keeps {
		step.Undo = append(step.Undo, fmt.Sprintf("DELETE FROM %s AS kept USING %s AS here WHERE %s", quote(a.Keep), quote(a.From.Name), keptMatch(a.From, a.Match(), "kept", "here")))
	}
	out.Steps = []engine.Step{step}
	return out
}

// attached asks for what the server would take along in silence with columns that go,
// and no undo brings back: rights to them alone, and statistics over them.
func attached(t *schema.Table, forward []op) []engine.Requirement {
	var gone []string
	for _, c := range t.Columns {
		if slices.ContainsFunc(forward, func(o op) bool {
			return o.what == "column "+c.Name && slices.ContainsFunc(o.sql, func(s string) bool { return strings.HasSuffix(s, "DROP COLUMN "+quote(c.Name)) })
		}) {
			gone = append(gone, literal(c.Name))
		}
	}
	if len(gone) == 0 {
		return nil
	}
	where := fmt.Sprintf("a.attrelid = to_regclass(%s)::oid AND a.attname IN (%s)", literal(quote(t.Name)), strings.Join(gone, ", "))
	return []engine.Requirement{{
		Sentence: fmt.Sprintf("{n} rights, statistics, policies or publications depend on dropped columns of %s, and no undo restores them: drop them first", t.Name),
		Query: "SELECT a.attname AS on_column, 'rights' AS what, a.attacl::text AS is FROM pg_attribute AS a WHERE a.attacl IS NOT NULL AND " + where +
			"\nUNION ALL SELECT a.attname, 'statistics', s.stxname FROM pg_statistic_ext AS s JOIN pg_attribute AS a ON a.attrelid = s.stxrelid AND a.attnum = ANY (s.stxkeys) WHERE " + where +
			"\nUNION ALL SELECT a.attname, 'policy', p.polname FROM pg_policy AS p JOIN pg_depend AS d ON d.classid = 'pg_catalog.pg_policy'::regclass::oid AND d.objid = p.oid JOIN pg_attribute AS a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid WHERE d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND " + where +
			"\nUNION ALL SELECT a.attname, 'publication', p.pubname FROM pg_publication_rel AS r JOIN pg_publication AS p ON p.oid = r.prpubid JOIN pg_depend AS d ON d.classid = 'pg_catalog.pg_publication_rel'::regclass::oid AND d.objid = r.oid JOIN pg_attribute AS a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid WHERE d.refclassid = 'pg_catalog.pg_class'::regclass::oid AND " + where,
	}}
}

// paired gives for each change its own way back, where the ways back stand in the
// opposite order; false: they do not. Types, defaults and names stand in one order in
// either direction, and in nobody's way.
func paired(forward, back []op) ([]op, bool) {
	renamed := func(o op) bool { return o.back != nil }
	others := func(list []op) int { return len(slices.DeleteFunc(slices.Clone(list), renamed)) }
	if others(forward) != others(back) {
		return nil, false
	}
	free := func(o op) bool { return o.what == "types" || strings.HasPrefix(o.what, "default ") }
	rest := slices.DeleteFunc(slices.Clone(back), func(o op) bool { return free(o) || renamed(o) })
	out := make([]op, len(forward))
	for i, o := range forward {
		if renamed(o) {
			out[i] = op{what: o.what, sql: o.back}
			continue
		}
		if free(o) {
			at := slices.IndexFunc(back, func(x op) bool { return x.what == o.what })
			if at < 0 {
				return nil, false
			}
			out[i] = back[at]
			continue
		}
		if len(rest) == 0 || rest[len(rest)-1].what != o.what {
			return nil, false
		}
		out[i], rest = rest[len(rest)-1], rest[:len(rest)-1]
	}
	return out, true
}

// comesAndGoes tells whether the changes are best one step: something goes and
// something comes in its place, so that no single one says what is done.
func comesAndGoes(ops []op) bool {
	drops := slices.ContainsFunc(ops, func(o op) bool { return o.drops })
	comes := slices.ContainsFunc(ops, func(o op) bool { return !o.drops })
	return drops && comes
}

// work is what the changes do with rows, taken together.
func work(ops []op) engine.Work {
	out := engine.Keeps
	for _, o := range ops {
		out = max(out, o.work)
	}
	return out
}

// alteration is one direction of a change of a table.
type alteration struct {
	from, to *schema.Table
	sources  map[string]engine.Source
	inUse    bool
	ops      []op
	anew     map[string]bool // columns that are replaced by new ones of another type
	touched  map[string]bool // columns whose type changes
	again    map[string]bool // generated columns that are dropped and added again
}

// changes gives the changes that make from to.
func changes(from, to *schema.Table, sources map[string]engine.Source, inUse bool) []op {
	a := &alteration{from: from, to: to, sources: sources, inUse: inUse, anew: map[string]bool{}, touched: map[string]bool{}, again: map[string]bool{}}
	for _, c := range to.Columns {
		if old := from.Column(c.Name); old != nil && a.remade(old, c) {
			a.again[c.Name] = true
		}
	}
	for _, c := range to.Columns {
		old := from.Column(c.Name)
		if old == nil || c.Generated != nil || schema.SameForm(old.SQLType, c.SQLType) && old.Collation == c.Collation {
			continue
		}
		a.touched[c.Name] = true
		src, ok := sources[c.Name]
		simple := !ok || src.Unconvertible || src.Kept == "" && (src.SQL == "" || (src.Converts || src.Fill != "") && alone(src.SQL, from, c.Name))
		a.anew[c.Name] = !simple
	}
	a.letGo()
	if len(sources) == 0 {
		a.dropColumns()
		a.types()
		a.addColumns()
	} else {
		a.addColumns()
		a.values()
		a.types()
		a.dropColumns()
	}
	a.hold()
	return a.ops
}

// alone tells whether an expression reads no column but its own, so that the server
// can work it out while it changes the column's type.
func alone(sql string, t *schema.Table, column string) bool {
	list := tokens(sql)
	for i, tok := range list {
		if i > 0 && list[i-1].Is("::") {
			continue // a type, whatever columns are called
		}
		if tok.Is("SELECT") || tok.Kind == sqltok.Param || tok.Named() && tok.Name() != column && t.Column(tok.Name()) != nil {
			return false
		}
	}
	return true
}

// between is the name of an index or a check while another has its new one.
func between(name string) string { return schema.Cut(name + "_between") }

// rename gives something another name; its way back is that name's.
func (a *alteration) rename(what string, m schema.Move, sql func(from, to string) string) {
	a.do("name of "+m.From, fmt.Sprintf("rename the %s %s to %s", what, m.From, m.To), engine.Keeps, sql(m.From, m.To))
	a.last().back = []string{sql(m.To, m.From)}
}

// last is the change that was noted last.
func (a *alteration) last() *op { return &a.ops[len(a.ops)-1] }

func (a *alteration) do(what, title string, work engine.Work, sql ...string) {
	a.ops = append(a.ops, op{what: what, title: title, work: work, sql: sql})
}

// drop is do for what drops something.
func (a *alteration) drop(what, title string, work engine.Work, sql ...string) {
	a.do(what, "drop "+title, work, sql...)
	a.last().drops = true
}

// moves tells whether SQL names a column that goes, or whose type changes: what
// stands on it has to go meanwhile.
func (a *alteration) moves(sql string) bool {
	for _, c := range a.from.Columns {
		if (a.touched[c.Name] || a.again[c.Name] || a.to.Column(c.Name) == nil) && mentions(sql, c.Name) {
			return true
		}
	}
	return false
}

func (a *alteration) movesIndex(x *schema.Index) bool {
	for _, p := range x.Parts {
		if p.Expr != nil && a.moves(p.Expr.Text) || a.anew[p.Column] || a.again[p.Column] || p.Collation == ignoringCase && a.touched[p.Column] {
			return true
		}
	}
	return x.Where != nil && a.moves(x.Where.Text)
}

// stays tells whether an index is the same before and after, and stands on nothing
// that moves.
func (a *alteration) stays(x *schema.Index, other *schema.Table) bool {
	return !a.movesIndex(x) && slices.ContainsFunc(other.Indexes, func(o *schema.Index) bool { return schema.SameIndex(o, x) && o.Constraint == x.Constraint })
}

func (a *alteration) staysCheck(k *schema.Check, other *schema.Table) bool {
	return !a.moves(k.SQL.Text) && slices.ContainsFunc(other.Checks, func(o *schema.Check) bool { return o.SQL.Same(k.SQL) && sameColumn(o, k) })
}

// sameColumn leaves checks of the same words apart that were declared for different
// columns.
func sameColumn(a, b *schema.Check) bool { return a.Purpose == b.Purpose || a.Name == b.Name }

func (a *alteration) staysTrigger(g *schema.Trigger, other *schema.Table) bool {
	return !a.moves(g.SQL.Text) && slices.ContainsFunc(other.Triggers, func(o *schema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) })
}

func (a *alteration) staysKey() bool {
	x, y := a.from.PrimaryKey, a.to.PrimaryKey
	if x == nil || y == nil {
		return x == y
	}
	return slices.EqualFunc(x.Columns, y.Columns, schema.SamePart) && !slices.ContainsFunc(x.Columns, func(p schema.Part) bool { return a.anew[p.Column] || a.again[p.Column] })
}

// remade tells whether a column has to be added again, since it is generated otherwise.
// One that becomes plain keeps its values.
func (a *alteration) remade(c, o *schema.Column) bool {
	switch {
	case o == nil || o.Generated == nil:
		return false
	case c.Generated == nil:
		return true
	}
	return !schema.SameForm(c.SQLType, o.SQLType) || !c.Generated.SQL.Same(o.Generated.SQL) || a.moves(c.Generated.SQL.Text)
}

// letGo takes away what stands in the way of changes, or stands no more.
func (a *alteration) letGo() {
	table := a.from.Name
	for _, g := range a.from.Triggers {
		if !a.staysTrigger(g, a.to) {
			_, drop := Engine{}.Trigger(a.from, g)
			a.do("trigger "+g.Name, engine.TriggerTitle("stop", a.from, g), engine.NoWork, drop...)
		}
	}
	for _, x := range a.from.Indexes {
		if !a.stays(x, a.to) {
			a.drop("index "+x.Name, indexTitle(a.from, x), engine.NoWork, dropIndex(table, x))
			a.last().index = x
		}
	}
	var names []schema.Move
	for _, x := range a.from.Indexes { // whose names may have been those of what went
		if !a.stays(x, a.to) {
			continue
		}
		o := a.to.Indexes[slices.IndexFunc(a.to.Indexes, func(o *schema.Index) bool { return schema.SameIndex(o, x) && o.Constraint == x.Constraint })]
		if o.Name != x.Name {
			names = append(names, schema.Move{From: x.Name, To: o.Name})
		}
	}
	for _, m := range schema.InOrder(names, between) {
		a.rename("index", m, func(from, to string) string { return "ALTER INDEX " + quote(from) + " RENAME TO " + quote(to) })
	}
	if a.from.PrimaryKey != nil && !a.staysKey() {
		a.drop("key", "the primary key of "+table, engine.NoWork, alterTable(table)+"DROP CONSTRAINT "+quote(a.from.PrimaryKey.Name))
	}
	goes := func(k *schema.Check) bool { // with its column
		return !a.inUse && k.Column != "" && a.to.Column(k.Column) == nil && !mentionsOthers(k.SQL.Text, a.from, k.Column)
	}
	for _, k := range a.from.Checks {
		if !goes(k) && !a.staysCheck(k, a.to) {
			a.do("check "+k.Name, "drop check "+k.Name, engine.Keeps, alterTable(table)+"DROP CONSTRAINT "+quote(k.Name))
			a.last().check = k
		}
	}
	names = nil
	for _, k := range a.from.Checks {
		if goes(k) || !a.staysCheck(k, a.to) {
			continue
		}
		o := a.to.Checks[slices.IndexFunc(a.to.Checks, func(o *schema.Check) bool { return o.SQL.Same(k.SQL) && sameColumn(o, k) })]
		if o.Name != k.Name && o.Name != "" {
			names = append(names, schema.Move{From: k.Name, To: o.Name})
		}
	}
	for _, m := range schema.InOrder(names, between) {
		a.rename("check", m, func(from, to string) string {
			return alterTable(table) + "RENAME CONSTRAINT " + quote(from) + " TO " + quote(to)
		})
	}
	columns := slices.Clone(a.from.Columns) // what is worked out goes before what that is worked out from
	slices.SortStableFunc(columns, func(c, o *schema.Column) int {
		switch {
		case (c.Generated != nil) == (o.Generated != nil):
			return 0
		case c.Generated != nil:
			return -1
		}
		return 1
	})
	for _, c := range columns {
		o := a.to.Column(c.Name)
		switch {
		case o == nil && c.Generated == nil:
			continue
		case o == nil || a.remade(c, o): // before what it is worked out from goes
			a.drop("column "+c.Name, table+"."+c.Name, engine.Keeps, alterTable(table)+"DROP COLUMN "+quote(c.Name))
			continue
		}
		if engine.Freed(c, o) {
			a.do("generated "+c.Name, fmt.Sprintf("%s.%s is no longer generated", table, c.Name), engine.Keeps, alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP EXPRESSION")
			a.last().adds = []string{c.Name}
		}
		if c.Identity && !o.Identity {
			a.do("identity "+c.Name, fmt.Sprintf("%s.%s is set by the application", table, c.Name), engine.Keeps, alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP IDENTITY")
		}
		if c.NotNull && (!o.NotNull || a.empties(c.Name)) {
			a.do("null "+c.Name, fmt.Sprintf("%s.%s is optional", table, c.Name), engine.Keeps, alterTable(table)+"ALTER COLUMN "+quote(c.Name)+" DROP NOT NULL")
			a.last().column = c
		}
	}
}

// empties tells whether a column is empty for a while before its values come.
func (a *alteration) empties(column string) bool {
	s, ok := a.sources[column]
	return ok && !a.anew[column] && (s.Kept != "" || s.NullsIn != "")
}

// mentionsOthers tells whether SQL names columns of the table beside one.
func mentionsOthers(sql string, t *schema.Table, column string) bool {
	for _, tok := range tokens(sql) {
		if tok.Named() && tok.Name() != column && t.Column(tok.Name()) != nil {
			return true
		}
	}
	return false
}

// newName is the name that a column has while it replaces another.
func newName(column string) string { return schema.Cut("erbario_new_" + column) }

// addColumns adds the columns that are new, bare where their values are to come.
func (a *alteration) addColumns() {
	table := a.to.Name
	for _, c := range a.to.Columns {
		if a.anew[c.Name] {
			bare := &schema.Column{Name: newName(c.Name), SQLType: c.SQLType, Collation: c.Collation}
			a.do("column "+c.Name, "", engine.Rewrites, alterTable(table)+"ADD COLUMN "+columnDefinition(bare))
			continue
		}
		if a.from.Column(c.Name) != nil || c.Generated != nil { // what is worked out from others comes after them
			continue
		}
		full := c
		work := engine.Keeps
		if _, ok := a.sources[c.Name]; ok {
			full, work = &schema.Column{Name: c.Name, SQLType: c.SQLType, Collation: c.Collation}, engine.Rewrites
		} else if rewrites(c) {
			work = engine.Rewrites
		}
		a.addColumn(c, full, work)
		a.last().adds = []string{c.Name}
	}
}

// addColumn adds a column, with its checks where it comes as a whole.
func (a *alteration) addColumn(c, as *schema.Column, work engine.Work) {
	s := alterTable(a.to.Name) + "ADD COLUMN " + columnDefinition(as)
	for _, k := range a.to.Checks {
		if !a.inUse && as == c && k.Column == c.Name && a.from.Column(c.Name) == nil && !mentionsOthers(k.SQL.Text, a.to, c.Name) {
			s += " " + named(k.Name) + checkDefinition(k)
		}
	}
	sql := []string{s}
	if c.Comment != "" {
		sql = append(sql, commentOn(a.to.Name, c.Name, c.Comment))
	}
	a.do("column "+c.Name, "add "+a.to.Name+"."+c.Name, work, sql...)
}

// rewrites tells whether adding a column writes every row anew: its value is another
// for each.
func rewrites(c *schema.Column) bool {
	if c.Identity || c.Generated != nil {
		return true
	}
	return c.Default != nil && (mentions(c.Default.Text, "gen_random_uuid") || mentions(c.Default.Text, "clock_timestamp") || mentions(c.Default.Text, "random") || mentions(c.Default.Text, "nextval"))
}

// values gives columns their values: all that are worked out from the old row in one
// statement, so that none sees what another has just become.
func (a *alteration) values() {
	table := quote(a.to.Name)
	var set, sql []string
	where := ""
	n := 0
	target := func(c *schema.Column) string {
		if a.anew[c.Name] {
			return quote(newName(c.Name))
		}
		return quote(c.Name)
	}
	worked := func(c *schema.Column) (engine.Source, bool) { // out from the old row
		s, ok := a.sources[c.Name]
		anew := a.anew[c.Name]
		return s, ok && c.Generated == nil && s.Kept == "" && (s.NullsIn == "" || anew) && !s.Unconvertible && s.SQL != "" && (!a.touched[c.Name] || anew)
	}
	for _, c := range a.to.Columns {
		s, ok := worked(c)
		if !ok {
			continue
		}
		n++
		if s.Fill != "" && !s.Converts && !a.anew[c.Name] {
			set, where = append(set, target(c)+" = "+s.Fill), " WHERE "+quote(c.Name)+" IS NULL"
			continue
		}
		set, where = append(set, target(c)+" = "+s.SQL), ""
	}
	if n > 1 { // together: each in its own words, over every row
		set, where = nil, ""
		for _, c := range a.to.Columns {
			if s, ok := worked(c); ok {
				set = append(set, target(c)+" = "+s.SQL)
			}
		}
	}
	if len(set) > 0 {
		sql = append(sql, "UPDATE "+table+" SET "+strings.Join(set, ", ")+where)
	}
	for _, c := range a.to.Columns {
		s, ok := a.sources[c.Name]
		if !ok || c.Generated != nil || s.Kept == "" && s.NullsIn == "" {
			continue
		}
		kept, x := s.Kept+s.NullsIn, quote(c.Name)
		keys := make([]string, len(s.Match))
		for i, k := range s.Match {
			keys[i] = quote("key_" + k)
		}
		// The newest of what is kept for a row counts.
		newest := fmt.Sprintf("(SELECT DISTINCT ON (%s) * FROM %s ORDER BY %s, ctid DESC) AS kept", strings.Join(keys, ", "), quote(kept), strings.Join(keys, ", "))
		match := keptMatch(a.from, s.Match, "kept", "here")
		if s.NullsIn != "" {
			sql = append(sql, fmt.Sprintf("UPDATE %s AS here SET %s = NULL FROM %s WHERE %s AND kept.%s IS NULL AND %s IS NOT DISTINCT FROM %s", table, target(c), newest, match, x, compared(a.from.Column(c.Name), fromKept(a.from.Column(c.Name), "kept."+quote("filled_"+c.Name))), compared(a.from.Column(c.Name), "here."+x)))
			continue
		}
		if a.from.Column(c.Name) != nil && !a.anew[c.Name] {
			sql = append(sql, fmt.Sprintf("UPDATE %s SET %s = NULL", table, x))
		}
		sql = append(sql, fmt.Sprintf("UPDATE %s AS here SET %s = %s FROM %s WHERE %s", table, target(c), fromKept(c, "kept."+x), newest, match))
		rest := s.Else
		if c.NotNull && c.Default != nil {
			rest = c.Default.Text
		}
		if rest != "" {
			sql = append(sql, fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s IS NULL", table, target(c), rest, target(c)))
		}
	}
	if len(sql) > 0 {
		a.do("values", "", engine.Rewrites, quiet(sql)...)
	}
}

// quiet has the triggers of ours keep still during statements: they change no other
// column, and refuse nothing.
func quiet(sql []string) []string {
	out := append([]string{"SET LOCAL erbario.quiet = 'on'"}, sql...)
	return append(out, "SET LOCAL erbario.quiet = ''")
}

// types changes the types of columns, in one statement, since that is one rewrite.
func (a *alteration) types() {
	table := alterTable(a.to.Name)
	var list, names []string
	grave := engine.Keeps
	for _, c := range a.to.Columns {
		old := a.from.Column(c.Name)
		if !a.touched[c.Name] || a.anew[c.Name] {
			continue
		}
		x := quote(c.Name)
		if old.Default != nil {
			list = append(list, "ALTER COLUMN "+x+" DROP DEFAULT")
		}
		s := "ALTER COLUMN " + x + " TYPE " + c.SQLType
		if c.Collation != "" {
			s += " COLLATE " + c.Collation
		}
		src := a.sources[c.Name]
		switch {
		case src.Unconvertible && c.NotNull && c.Default != nil:
			s += " USING CAST(" + c.Default.Text + " AS " + c.SQLType + ")"
		case src.Unconvertible:
			s += " USING NULL::" + c.SQLType
		case src.SQL != "": // without, the server refuses what does not fit rather than cutting it
			s += " USING " + src.SQL
		}
		if !widens(old.SQLType, c.SQLType) {
			grave = engine.Rewrites
		}
		list = append(list, s)
		if c.Default != nil {
			list = append(list, "ALTER COLUMN "+x+" SET DEFAULT "+defaultSQL(c.Default.Text))
		}
		names = append(names, fmt.Sprintf("%s is %s", c.Name, c.SQLType))
	}
	if len(list) > 0 {
		a.do("types", a.to.Name+": "+strings.Join(names, ", "), grave, table+strings.Join(list, ", "))
	}
	for _, c := range a.to.Columns {
		old := a.from.Column(c.Name)
		if old == nil || a.touched[c.Name] || c.Generated != nil || schema.SameSQL(old.Default, c.Default) {
			continue
		}
		s := table + "ALTER COLUMN " + quote(c.Name)
		if c.Default == nil {
			a.do("default "+c.Name, fmt.Sprintf("%s.%s has no default", a.to.Name, c.Name), engine.Keeps, s+" DROP DEFAULT")
		} else {
			a.do("default "+c.Name, fmt.Sprintf("%s.%s has the default %s", a.to.Name, c.Name, c.DefaultWords()), engine.Keeps, s+" SET DEFAULT "+defaultSQL(c.Default.Text))
		}
	}
}

// widens tells whether a type takes every value of another as it is stored, so that
// the server neither reads nor writes a row.
func widens(from, to string) bool {
	a, b := typeOf(from), typeOf(to)
	if a.Kind == schema.Text && b.Kind == schema.Text {
		return b.Length == 0 || a.Length > 0 && a.Length <= b.Length
	}
	return a.Kind == schema.Decimal && b.Kind == schema.Decimal && a.Scale == b.Scale && a.Precision <= b.Precision
}

// dropColumns drops what is no longer declared, and what was replaced.
func (a *alteration) dropColumns() {
	table := alterTable(a.to.Name)
	for i := len(a.from.Columns) - 1; i >= 0; i-- {
		c := a.from.Columns[i]
		if a.anew[c.Name] {
			a.do("column "+c.Name, "", engine.Keeps, table+"DROP COLUMN "+quote(c.Name), table+"RENAME COLUMN "+quote(newName(c.Name))+" TO "+quote(c.Name))
		} else if a.to.Column(c.Name) == nil && c.Generated == nil {
			a.drop("column "+c.Name, a.to.Name+"."+c.Name, engine.Keeps, table+"DROP COLUMN "+quote(c.Name))
		}
	}
}

// hold makes everything stand that is declared.
func (a *alteration) hold() {
	table := alterTable(a.to.Name)
	for i := len(a.to.Columns) - 1; i >= 0; i-- {
		c := a.to.Columns[i]
		old := a.from.Column(c.Name)
		x := quote(c.Name)
		if c.Generated != nil && (old == nil || a.remade(old, c)) {
			a.addColumn(c, c, engine.Rewrites)
			continue
		}
		_, sourced := a.sources[c.Name]
		bare := a.anew[c.Name] || old == nil && sourced
		if bare && c.Default != nil {
			a.do("default "+c.Name, "", engine.Keeps, table+"ALTER COLUMN "+x+" SET DEFAULT "+defaultSQL(c.Default.Text))
		}
		if c.NotNull && (bare || old != nil && (!old.NotNull || a.empties(c.Name))) {
			a.do("null "+c.Name, fmt.Sprintf("%s.%s is required", a.to.Name, c.Name), engine.Reads, table+"ALTER COLUMN "+x+" SET NOT NULL")
			a.last().column, a.last().comes = c, true
		}
		if c.Identity && (bare || old != nil && !old.Identity) {
			a.do("identity "+c.Name, fmt.Sprintf("%s.%s is numbered by the database", a.to.Name, c.Name), engine.Keeps, table+"ALTER COLUMN "+x+" ADD GENERATED "+identityKind(c)+" AS IDENTITY",
				fmt.Sprintf("SELECT pg_catalog.setval(pg_catalog.pg_get_serial_sequence(%s, %s), (SELECT max(%s) FROM %s))", literal(quote(a.to.Name)), literal(c.Name), x, quote(a.to.Name)))
		}
		if old != nil && old.Comment != c.Comment || bare && c.Comment != "" {
			a.do("comment "+c.Name, fmt.Sprintf("comment on %s.%s", a.to.Name, c.Name), engine.Keeps, commentOn(a.to.Name, c.Name, c.Comment))
		}
	}
	if a.from.Comment != a.to.Comment {
		a.do("comment", "comment on "+a.to.Name, engine.Keeps, commentOn(a.to.Name, "", a.to.Comment))
	}
	for i := len(a.to.Checks) - 1; i >= 0; i-- {
		k := a.to.Checks[i]
		c := a.to.Column(k.Column)
		_, sourced := a.sources[k.Column]
		if !a.inUse && c != nil && a.from.Column(k.Column) == nil && !sourced && !mentionsOthers(k.SQL.Text, a.to, k.Column) {
			continue // it came with its column
		}
		if !a.staysCheck(k, a.from) {
			a.do("check "+k.Name, "check "+k.Name, engine.Reads, table+"ADD "+named(k.Name)+checkDefinition(k))
			a.last().check, a.last().comes = k, true
		}
	}
	if pk := a.to.PrimaryKey; pk != nil && !a.staysKey() {
		a.do("key", "primary key of "+a.to.Name, engine.Reads, table+"ADD "+named(pk.Name)+"PRIMARY KEY ("+partList(pk.Columns)+")"+pk.Options)
	}
	for i := len(a.to.Indexes) - 1; i >= 0; i-- {
		if x := a.to.Indexes[i]; !a.stays(x, a.from) {
			a.do("index "+x.Name, indexTitle(a.to, x), engine.Reads, addIndex(a.to.Name, x))
			a.last().index, a.last().comes = x, true
		}
	}
	for i := len(a.to.Triggers) - 1; i >= 0; i-- {
		if g := a.to.Triggers[i]; !a.staysTrigger(g, a.from) {
			create, _ := Engine{}.Trigger(a.to, g)
			a.do("trigger "+g.Name, engine.TriggerTitle("hold", a.to, g), engine.NoWork, create...)
		}
	}
}

func indexTitle(t *schema.Table, x *schema.Index) string {
	what := "index "
	if x.Unique {
		what = "unique "
	}
	return what + x.Name + " on " + t.Name
}

// dialect is what PostgreSQL says otherwise where rows are asked about.
var dialect = preconditions.Dialect{
	Quote:   quote,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, c *schema.Column) string {
		return compared(c, a) + " IS DISTINCT FROM " + compared(c, b)
	},
	Typed: func(sql string, c *schema.Column) string { // without its length: nothing is cut or rounded
		typ, _, _ := strings.Cut(c.SQLType, "(")
		return "CAST(" + sql + " AS " + typ + ")"
	},
	RowName: func(*schema.Table) string { return "ctid" },
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
	Group: func(p schema.Part) string {
		if p.Collation == ignoringCase {
			return "pg_catalog.lower(" + quote(p.Column) + ")"
		}
		return quote(p.Column)
	},
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
	case src.Kept != "":
		expr := fmt.Sprintf("(SELECT %s FROM %s AS kept WHERE %s ORDER BY kept.ctid DESC LIMIT 1)", fromKept(c, "kept."+quote(c.Name)), quote(src.Kept), keptMatch(from, src.Match, "kept", row))
		switch {
		case c.NotNull && c.Default != nil:
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, c.Default.Text)
		case src.Else != "":
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, src.Else)
		}
		return expr, true
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = src.SQL
		}
		return fmt.Sprintf("CASE WHEN EXISTS (SELECT 1 FROM %s AS kept WHERE %s AND %s IS NOT DISTINCT FROM %s AND kept.%s IS NULL) THEN NULL ELSE %s END",
			quote(src.NullsIn), keptMatch(from, src.Match, "kept", row), compared(from.Column(c.Name), fromKept(from.Column(c.Name), "kept."+quote("filled_"+c.Name))), compared(from.Column(c.Name), row+"."+quote(c.Name)), quote(c.Name), value), true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return src.SQL, true
	}
	return "", false
}
