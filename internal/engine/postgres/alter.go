package postgres

// This file makes one table another, in place: nearly all that PostgreSQL can be
// asked for, it can do to the table that is there. What goes first is what stands
// on a column that changes; then columns and values; then all stands again. The
// undo of a step is made by the same code, the other way round. References are not
// the table's affair: the plan lets them go and come apart.

import (
	"fmt"
	"maps"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// op is one change of a table.
type op struct {
	what   string // what it is about: the way back has one about the same
	title  string
	work   engine.Work
	drops  bool // it drops something
	sql    []string
	adds   []string // the columns that it adds
	check  *sqlschema.Check
	index  *sqlschema.Index
	column *sqlschema.Column // that becomes required, or optional
	comes  bool              // what it is about comes, rather than goes
	back   []string          // of a name that changes: as it was
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	a.Forward, a.Back = maps.Clone(a.Forward), a.Matched()
	copied, inPlace := a.Back, a.InUse && keepsInPlace(a)
	if inPlace {
		a.Back = fromAside(a)
	}
	out, here := dialect.Both(a)
	filled := a.Filled()
	forward, back := changes(a.From, a.To, a.Forward, a.InUse), changes(a.To, a.From, a.Back, a.InUse)
	writes := a.InUse && slices.ContainsFunc(a.To.Columns,
		func(c *sqlschema.Column) bool { return a.From.Column(c.Name) == nil && fillable(c) })
	ways, ok := paired(forward, back)
	if len(a.Lost)+len(filled)+len(a.Forward)+len(a.Back) == 0 && !writes && ok {
		out.Steps = pairedSteps(a, forward, back, ways, here)
		return out
	}
	if a.InUse && (inPlace || len(a.Lost) == 0) {
		if steps := inBatches(a, here); steps != nil {
			out.Steps = steps
			return out
		}
	}
	if inPlace { // the rest of the change has no such form
		a.Back, a.Aside = copied, ""
		return Engine{}.Alter(a)
	}
	out.BeforeApply = append(out.BeforeApply, attached(a.From, forward)...)
	step := oneStep(a, forward, back)
	step.Here, step.HereUndo = here.Apply, here.Undo
	out.Steps = []engine.Step{step}
	return out
}

// pairedSteps are the steps of changes of which each has its own way back.
func pairedSteps(a engine.Alteration, forward, back, ways []op, here preconditions.Here) []engine.Step {
	if a.InUse {
		return allInUse(a.From.Name, forward, ways, here, nil)
	}
	if comesAndGoes(forward) {
		step := engine.Step{Title: a.Summary, Work: work(forward), Here: here.Apply, HereUndo: here.Undo}
		for _, o := range back {
			step.Undo = append(step.Undo, o.sql...)
		}
		for _, o := range forward {
			step.Apply = append(step.Apply, o.sql...)
			step.UndoLoses = append(step.UndoLoses, engine.LossOf(a.From.Name, o.adds)...)
		}
		return []engine.Step{step}
	}
	var out []engine.Step
	for i, o := range forward {
		step := engine.Step{
			Title:     o.title,
			Work:      o.work,
			Apply:     o.sql,
			Undo:      ways[i].sql,
			UndoLoses: engine.LossOf(a.From.Name, o.adds),
		}
		if o.what == "types" {
			step.Here, step.HereUndo = here.Apply, here.Undo
		}
		out = append(out, step)
	}
	return out
}

// oneStep is a change of a table as one step, which keeps what it destroys.
func oneStep(a engine.Alteration, forward, back []op) engine.Step {
	step := engine.Step{Title: a.Summary, Work: work(forward), Loses: engine.LossOf(a.From.Name, a.Lost)}
	if !a.From.Unkeyed() {
		gone := engine.LostColumns(a.To, a.From)
		for _, c := range a.Lost {
			if a.To.Column(c) != nil {
				gone = append(gone, c) // of another type now
			}
		}
		step.UndoLoses = engine.LossOf(a.From.Name, gone)
	}
	kept, filled := a.Lost, a.Filled()
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
		step.Undo = append(
			step.Undo,
			fmt.Sprintf("DELETE FROM %s AS kept USING %s AS here WHERE %s", quoteTable(a.Keep), quoteTable(a.From.Name),
				keptMatch(a.From, a.Match(), "kept", "here")),
		)
	}
	return step
}

// alteration is one direction of a change of a table.
type alteration struct {
	from, to *sqlschema.Table
	sources  map[string]engine.Source
	inUse    bool
	ops      []op
	replaced map[string]bool // columns that are replaced by new ones of another type
	touched  map[string]bool // columns whose type changes
	again    map[string]bool // generated columns that are dropped and added again
}

// changes gives the changes that make from to.
func changes(from, to *sqlschema.Table, sources map[string]engine.Source, inUse bool) []op {
	a := &alteration{
		from:     from,
		to:       to,
		sources:  sources,
		inUse:    inUse,
		replaced: map[string]bool{},
		touched:  map[string]bool{},
		again:    map[string]bool{},
	}
	for _, c := range to.Columns {
		if old := from.Column(c.Name); old != nil && a.remade(old, c) {
			a.again[c.Name] = true
		}
	}
	for _, c := range to.Columns {
		old := from.Column(c.Name)
		if old == nil || c.Generated != nil || sqlschema.SameForm(old.SQLType, c.SQLType) &&
			old.Collation == c.Collation {
			continue
		}
		a.touched[c.Name] = true
		src, ok := sources[c.Name]
		simple := !ok || src.Unconvertible ||
			src.Kept == "" && (src.SQL == "" || (src.Converts || src.Fill != "") && alone(src.SQL, from, c.Name))
		a.replaced[c.Name] = !simple
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
func alone(sql string, t *sqlschema.Table, column string) bool {
	list := tokens(sql)
	for i, tok := range list {
		if i > 0 && list[i-1].Is("::") {
			continue // a type, whatever columns are called
		}
		if tok.Is("SELECT") || tok.Kind == sqltok.Param ||
			tok.Named() && tok.Name() != column && t.Column(tok.Name()) != nil {
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

func (a *alteration) movesIndex(x *sqlschema.Index) bool {
	for _, p := range x.Parts {
		if p.Expr != nil && a.moves(p.Expr.Text) || a.replaced[p.Column] || a.again[p.Column] ||
			p.Collation == ignoringCase && a.touched[p.Column] {
			return true
		}
	}
	return x.Where != nil && a.moves(x.Where.Text)
}

// stays tells whether an index is the same before and after, and stands on nothing
// that moves.
func (a *alteration) stays(x *sqlschema.Index, other *sqlschema.Table) bool {
	return !a.movesIndex(x) && slices.ContainsFunc(other.Indexes,
		func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) && o.Constraint == x.Constraint })
}

func (a *alteration) staysCheck(k *sqlschema.Check, other *sqlschema.Table) bool {
	return !a.moves(k.SQL.Text) &&
		slices.ContainsFunc(other.Checks,
			func(o *sqlschema.Check) bool {
				return o.SQL.Same(k.SQL) && sameColumn(o, k) && o.NoInherit == k.NoInherit
			})
}

// sameColumn leaves checks of the same words apart that were declared for different
// columns.
func sameColumn(a, b *sqlschema.Check) bool { return a.Purpose == b.Purpose || a.Name == b.Name }

func (a *alteration) staysTrigger(g *sqlschema.Trigger, other *sqlschema.Table) bool {
	return !a.moves(g.SQL.Text) && slices.ContainsFunc(other.Triggers,
		func(o *sqlschema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) })
}

func (a *alteration) staysKey() bool {
	x, y := a.from.PrimaryKey, a.to.PrimaryKey
	if x == nil || y == nil {
		return x == y
	}
	return slices.EqualFunc(x.Columns, y.Columns, sqlschema.SamePart) && sqlschema.SameOptions(x.Options, y.Options) &&
		!slices.ContainsFunc(x.Columns, func(p sqlschema.Part) bool {
			return a.replaced[p.Column] ||
				a.again[p.Column]
		})
}

// remade tells whether a column has to be added again, since it is generated otherwise.
// One that becomes plain keeps its values.
func (a *alteration) remade(c, o *sqlschema.Column) bool {
	switch {
	case o == nil || o.Generated == nil:
		return false
	case c.Generated == nil:
		return true
	}
	return !sqlschema.SameForm(c.SQLType, o.SQLType) || !c.Generated.SQL.Same(o.Generated.SQL) ||
		a.moves(c.Generated.SQL.Text)
}

// newName is the name that a column has while it replaces another.
func newName(column string) string { return schema.Cut("erbario_new_" + column) }

// addColumns adds the columns that are new, bare where their values are to come.
func (a *alteration) addColumns() {
	table := a.to.Name
	for _, c := range a.to.Columns {
		if a.replaced[c.Name] {
			bare := &sqlschema.Column{Name: newName(c.Name), SQLType: c.SQLType, Collation: c.Collation}
			a.do("column "+c.Name, "", engine.Rewrites, alterTable(table)+"ADD COLUMN "+columnDefinition(bare))
			continue
		}
		if a.from.Column(c.Name) != nil || c.Generated != nil { // what is worked out from others comes after them
			continue
		}
		full := c
		work := engine.Keeps
		if _, ok := a.sources[c.Name]; ok {
			full, work = &sqlschema.Column{Name: c.Name, SQLType: c.SQLType, Collation: c.Collation}, engine.Rewrites
		} else if rewrites(c) {
			work = engine.Rewrites
		}
		a.addColumn(c, full, work)
		a.last().adds = []string{c.Name}
	}
}

// addColumn adds a column, with its checks where it comes as a whole.
func (a *alteration) addColumn(c, as *sqlschema.Column, work engine.Work) {
	s := alterTable(a.to.Name) + "ADD COLUMN " + columnDefinition(as)
	for _, k := range a.to.Checks {
		if !a.inUse && as == c && k.Column == c.Name && a.from.Column(c.Name) == nil &&
			!mentionsOthers(k.SQL.Text, a.to, c.Name) {
			s += " " + named(k.Name) + checkDefinition(k)
		}
	}
	create, own := serials(a.to.Name, as)
	sql := slices.Concat(create, []string{s}, own)
	if c.Comment != "" {
		sql = append(sql, commentOn(a.to.Name, c.Name, c.Comment))
	}
	if as == c {
		sql = append(sql, keepsAs(a.to.Name, nil, c)...)
	}
	a.do("column "+c.Name, "add "+a.to.Name+"."+c.Name, work, sql...)
}

// dropColumns drops what is no longer declared, and what was replaced.
func (a *alteration) dropColumns() {
	table := alterTable(a.to.Name)
	for i := len(a.from.Columns) - 1; i >= 0; i-- {
		c := a.from.Columns[i]
		if a.replaced[c.Name] {
			a.do("column "+c.Name, "", engine.Keeps, table+"DROP COLUMN "+quote(c.Name),
				table+"RENAME COLUMN "+quote(newName(c.Name))+" TO "+quote(c.Name))
		} else if a.to.Column(c.Name) == nil && c.Generated == nil {
			a.drop("column "+c.Name, a.to.Name+"."+c.Name, engine.Keeps, table+"DROP COLUMN "+quote(c.Name))
		}
	}
}

func indexTitle(t *sqlschema.Table, x *sqlschema.Index) string {
	what := "index "
	if x.Unique {
		what = "unique "
	}
	return what + x.Name + " on " + t.Name
}
