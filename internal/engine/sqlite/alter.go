package sqlite

// This file makes one table another. What SQLite can change in place is changed
// so, one step each; for all else one copy of the table serves all its changes,
// in the order that was found to work with circles, self-references, views and
// the triggers of other tables (the obvious order deletes the children of a
// cascading reference). Each step's undo is made by the same code, the other
// way round.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Create gives the step for a new table.
func (Engine) Create(t *sqlschema.Table) engine.Step {
	return engine.Step{
		Title:     "create " + t.Name,
		Apply:     tableStatements(t),
		Undo:      []string{"DROP TABLE " + quote(t.Name)},
		UndoLoses: []engine.Loss{{Table: t.Name}},
	}
}

// Rename gives the step that renames a table, or a column of one; SQLite itself
// rewrites all that refers to it.
func (Engine) Rename(s *sqlschema.Schema, table, column, to string) ([]engine.Step, *sqlschema.Schema) {
	if column != "" {
		rename := func(a, b string) string {
			return fmt.Sprintf("ALTER TABLE %s RENAME COLUMN %s TO %s", quote(table), quote(a), quote(b))
		}
		apply, undo := []string{rename(column, to)}, []string{rename(to, column)}
		if t := tableOf(s, table); t != nil && strings.EqualFold(rowidKey(t), column) {
			// With the number of a row SQLite means the column, and would write its name.
			for _, g := range t.Triggers {
				if mentions(g.SQL.Text, "rowid") {
					if !mentions(g.SQL.Text, column) { // else what it says now is changed to what is declared
						apply = append(append([]string{dropTrigger(g)}, apply...), g.SQL.Text)
					}
					undo = append(append([]string{dropTrigger(g)}, undo...), g.SQL.Text)
				}
			}
		}
		return []engine.Step{
			{Title: fmt.Sprintf("rename %s.%s to %s", table, column, to), Work: engine.Keeps, Apply: apply, Undo: undo},
		}, s
	}
	rename := func(a, b string) []string {
		if strings.EqualFold(a, b) { // another case alone takes two steps
			mid := schema.OwnPrefix + "case_" + a
			return []string{renameTable(a, mid), renameTable(mid, b)}
		}
		return []string{renameTable(a, b)}
	}
	return []engine.Step{
		{
			Title: fmt.Sprintf("rename %s to %s", table, to),
			Work:  engine.Keeps,
			Apply: rename(table, to),
			Undo:  rename(to, table),
		},
	}, s
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	if a.From.Options.Virtual != "" {
		return alterVirtual(a)
	}
	a.Forward, a.Back = maps.Clone(a.Forward), a.Matched()
	out, _ := dialect.Both(a) // a migration is one transaction: nothing comes in between
	lost := a.Lost
	filled := a.Filled()
	forward, why := inPlace(a.From, a.To, a.Forward)
	if a.Copy {
		why = "the columns get their declared order"
	}
	ok := why == ""
	if ok && len(lost) == 0 {
		if out.Steps = inPlaceBothWays(a, forward); out.Steps != nil {
			return out
		}
	}
	step := engine.Step{
		Title: a.Summary,
		Work:  engine.Copies,
		Note:  engine.Copies.String(),
		Loses: engine.LossOf(a.From.Name, lost),
	}
	if why != "" {
		step.Note += ": " + why
	}
	if !a.From.Unkeyed() {
		gone := engine.LostColumns(a.To, a.From)
		for _, c := range lost {
			if a.To.Column(c) != nil {
				gone = append(gone, c) // of another type now
			}
		}
		step.UndoLoses = engine.LossOf(a.From.Name, gone)
	}
	out.Copies, out.CopiesBack = true, true
	kept := lost
	if a.NoKeep {
		kept = nil
	}
	if a.Keep != "" && len(kept)+len(filled) > 0 {
		step.Kept = len(kept) > 0
		step.Apply = append(step.Apply, keepValues(a, kept, filled)...)
	}
	if ok && len(lost) == 0 {
		step.Work, step.Note = engine.Keeps, ""
		out.Copies = false
		for _, op := range forward {
			step.Apply = append(step.Apply, op.sql...)
		}
	} else {
		step.Apply = append(step.Apply, copyTable(a.From, a.To, a.Forward)...)
	}
	if out.Copies {
		out.BeforeApply = append([]engine.Requirement{carried(a.From)}, out.BeforeApply...)
	}
	out.BeforeUndo = append([]engine.Requirement{carried(a.To)}, out.BeforeUndo...)
	step.Undo = copyTable(a.To, a.From, a.Back)
	if a.Keep != "" && len(kept)+len(filled) > 0 {
		step.Undo = append(
			step.Undo,
			fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(a.Keep), quote(a.From.Name),
				keptMatch(a.Match(), a.Keep, a.From.Name)),
		)
	}
	out.Steps = []engine.Step{step}
	return out
}

// inPlaceBothWays gives the steps of changes in place whose way back is in place, too; nil:
// it is not.
func inPlaceBothWays(a engine.Alteration, forward []op) []engine.Step {
	back, irreversible := inPlace(a.To, a.From, a.Back)
	if irreversible != "" || a.NoDrop && len(engine.LostColumns(a.To, a.From)) > 0 || len(back) != len(forward) {
		return nil
	}
	slices.Reverse(back)
	if together(forward) {
		step := engine.Step{Title: a.Summary, Work: engine.Reads}
		for i, op := range forward {
			step.Apply = append(step.Apply, op.sql...)
			step.Undo = append(step.Undo, back[len(back)-1-i].sql...)
			step.UndoLoses = append(step.UndoLoses, engine.LossOf(a.From.Name, op.adds)...)
		}
		return []engine.Step{step}
	}
	steps := []engine.Step{} // none at all is a way, too
	for i, op := range forward {
		steps = append(steps, engine.Step{
			Title:     op.title,
			Work:      op.work,
			Apply:     op.sql,
			Undo:      back[i].sql,
			UndoLoses: engine.LossOf(a.From.Name, op.adds),
		})
	}
	return steps
}

// op is a change that SQLite makes in place.
type op struct {
	title string
	work  engine.Work
	drops bool // it drops something
	sql   []string
	adds  []string // the columns that it adds
}

// inPlace gives the changes that make from to without a copy, in the order that
// is the mirror of the way back. why says what cannot be done so; empty if all can.
func inPlace(from, to *sqlschema.Table, sources map[string]engine.Source) (list []op, why string) {
	switch {
	case len(sources) > 0:
		names := slices.Sorted(maps.Keys(sources))
		if len(names) == 1 {
			return nil, names[0] + " gets values"
		}
		return nil, strings.Join(names, ", ") + " get values"
	case from.Name != to.Name || from.Options != to.Options:
		return nil, "the options of the table change"
	case !sqlschema.SameKey(from.PrimaryKey, to.PrimaryKey) || keyName(from) != keyName(to):
		return nil, "the primary key changes"
	}
	p := &placing{from: from, to: to}
	for _, c := range from.Columns {
		if to.Column(c.Name) == nil {
			p.dropped = append(p.dropped, c)
		}
	}
	for _, c := range to.Columns {
		if from.Column(c.Name) == nil {
			p.added = append(p.added, c)
		}
	}
	// Off first: triggers, indexes, checks; then columns; then all on again.
	for _, part := range []func() string{
		p.triggersAndIndexesOff, p.checksOff, p.columnsOff, p.columnsOn, p.checksOn, p.indexesAndTriggersOn,
	} {
		if why := part(); why != "" {
			return nil, why
		}
	}
	return p.ops, ""
}

// keyName is the name of the primary key of a table; empty: it has none.
func keyName(t *sqlschema.Table) string {
	if t.PrimaryKey == nil {
		return ""
	}
	return t.PrimaryKey.Name
}

// placing is the changes in place of one table. Its parts say what cannot be done so.
type placing struct {
	from, to       *sqlschema.Table
	dropped, added []*sqlschema.Column
	ops            []op
}

func (p *placing) do(title string, work engine.Work, sql ...string) {
	p.ops = append(p.ops, op{title: title, work: work, sql: sql})
}

func (p *placing) drop(title string, work engine.Work, sql ...string) {
	p.ops = append(p.ops, op{title: "drop " + title, work: work, sql: sql, drops: true})
}

// hasTrigger and hasIndex tell whether a table has one as it is.
func hasTrigger(t *sqlschema.Table, g *sqlschema.Trigger) bool {
	return slices.ContainsFunc(t.Triggers,
		func(o *sqlschema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) })
}

func hasIndex(t *sqlschema.Table, x *sqlschema.Index) bool {
	return slices.ContainsFunc(t.Indexes,
		func(o *sqlschema.Index) bool { return sameIndex(o, x) && o.Name == x.Name })
}

// belongs tells whether a check stands with one of the columns.
func belongs(k *sqlschema.Check, list []*sqlschema.Column) bool {
	return slices.ContainsFunc(list, func(c *sqlschema.Column) bool { return strings.EqualFold(k.Column, c.Name) })
}

func (p *placing) triggersAndIndexesOff() string {
	for _, g := range p.from.Triggers {
		if !hasTrigger(p.to, g) {
			p.do(engine.TriggerTitle("stop", p.from, g), engine.NoWork, dropTrigger(g))
		}
	}
	for _, x := range p.from.Indexes {
		if hasIndex(p.to, x) {
			continue
		}
		if x.Constraint {
			return "a constraint in the table's own statement is dropped"
		}
		p.drop(indexTitle(p.from, x), engine.NoWork, dropIndex(x))
	}
	if !samePrefix(p.from.Columns, p.to.Columns) || len(p.dropped) > 0 && len(p.added) > 0 {
		return "the order of the columns changes"
	}
	if !sameForeignKeys(p.from, p.to, p.dropped, p.added) {
		return "a reference changes"
	}
	return ""
}

func (p *placing) checksOff() string {
	for _, k := range p.from.Checks {
		if belongs(k, p.dropped) || p.to.HasCheck(k) {
			continue
		}
		if k.Name == "" || k.Conflict != "" || countCheck(p.from, k.Name) > 1 {
			return "a check without a name of its own is dropped"
		}
		p.drop("check "+k.Name, engine.Keeps,
			fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", quote(p.from.Name), quote(k.Name)))
	}
	return ""
}

func (p *placing) columnsOff() string {
	table := quote(p.from.Name)
	for _, c := range p.from.Columns {
		o := p.to.Column(c.Name)
		if o == nil {
			continue
		}
		if !sameColumnButNull(c, o) {
			return c.Name + " changes"
		}
		if c.NotNull && !o.NotNull {
			p.do(fmt.Sprintf("%s.%s is optional", p.to.Name, c.Name), engine.Keeps,
				fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP NOT NULL", table, quote(c.Name)))
		}
	}
	for _, c := range slices.Backward(p.dropped) {
		if !droppable(p.from, c) {
			return c.Name + " cannot be dropped in place"
		}
		var sql []string
		for _, k := range p.from.Checks {
			// One that was added later stands behind all columns, here or on another
			// database: it would stay, and name what is gone.
			if k.Name != "" && countCheck(p.from, k.Name) == 1 && strings.EqualFold(k.Column, c.Name) {
				sql = append(sql, fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", table, quote(k.Name)))
			}
		}
		p.drop(p.from.Name+"."+c.Name, engine.Rewrites,
			append(sql, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", table, quote(c.Name)))...)
	}
	return ""
}

func (p *placing) columnsOn() string {
	table := quote(p.to.Name)
	for i, c := range p.added {
		early := c.Generated != nil && slices.ContainsFunc(p.added[i+1:],
			func(o *sqlschema.Column) bool { return mentions(c.Generated.SQL.Text, o.Name) })
		if !addable(p.to, c) || early { // it is calculated from one after it
			return c.Name + " cannot be added in place"
		}
		p.do("add "+p.to.Name+"."+c.Name, engine.Keeps,
			fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", table, columnDefinition(p.to, c)))
		if c.Generated == nil {
			p.ops[len(p.ops)-1].adds = []string{c.Name}
		}
	}
	for _, c := range slices.Backward(p.to.Columns) {
		if o := p.from.Column(c.Name); o != nil && c.NotNull && !o.NotNull {
			p.do(fmt.Sprintf("%s.%s is required", p.to.Name, c.Name), engine.Reads,
				fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", table, quote(c.Name)))
		}
	}
	return ""
}

func (p *placing) checksOn() string {
	for _, k := range slices.Backward(p.to.Checks) {
		if belongs(k, p.added) || p.from.HasCheck(k) {
			continue
		}
		if k.Name == "" || k.Conflict != "" {
			return "a check without a name is added"
		}
		p.do("check "+k.Name, engine.Reads,
			fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s CHECK (%s)", quote(p.to.Name), quote(k.Name), k.SQL.Text))
	}
	return ""
}

func (p *placing) indexesAndTriggersOn() string {
	for _, x := range slices.Backward(p.to.Indexes) {
		if hasIndex(p.from, x) {
			continue
		}
		if x.Constraint {
			return "a constraint in the table's own statement is added"
		}
		p.do(indexTitle(p.to, x), engine.Reads, createIndex(p.to.Name, x))
	}
	for _, g := range slices.Backward(p.to.Triggers) {
		if !hasTrigger(p.from, g) {
			p.do(engine.TriggerTitle("hold", p.to, g), engine.NoWork, g.SQL.Text)
		}
	}
	return ""
}

// together tells whether the changes are best one step: something goes and
// something comes in its place, so that no single one of them says what is done.
func together(ops []op) bool {
	drops := slices.ContainsFunc(ops, func(o op) bool { return o.drops })
	comes := slices.ContainsFunc(ops, func(o op) bool { return !o.drops })
	return drops && comes
}

func indexTitle(t *sqlschema.Table, x *sqlschema.Index) string {
	what := "index "
	if x.Unique {
		what = "unique index "
	}
	return what + x.Name + " on " + t.Name
}

// sameIndex tells whether two indexes are the same but for their names.
func sameIndex(a, b *sqlschema.Index) bool {
	if a.Unique != b.Unique || a.Constraint != b.Constraint || a.Conflict != b.Conflict ||
		(a.Where == nil) != (b.Where == nil) {
		return false
	}
	return (a.Where == nil || a.Where.Same(*b.Where)) && slices.EqualFunc(a.Parts, b.Parts, sqlschema.SamePart)
}

// samePrefix tells whether the shorter list of columns begins the longer one.
func samePrefix(a, b []*sqlschema.Column) bool {
	for i := range min(len(a), len(b)) {
		if !strings.EqualFold(a[i].Name, b[i].Name) {
			return false
		}
	}
	return true
}

// sameForeignKeys compares the references of two tables, leaving out those of
// columns that come; one of a column that goes cannot be dropped in place.
func sameForeignKeys(from, to *sqlschema.Table, dropped, added []*sqlschema.Column) bool {
	of := func(t *sqlschema.Table, skip []*sqlschema.Column) []string {
		var out []string
		for _, k := range t.ForeignKeys {
			if len(k.Columns) == 1 && slices.ContainsFunc(skip,
				func(c *sqlschema.Column) bool { return strings.EqualFold(c.Name, k.Columns[0]) }) {
				continue
			}
			out = append(out, strings.ToLower(quoteAll(k.Columns)+" "+references(k)))
		}
		slices.Sort(out)
		return out
	}
	for _, k := range from.ForeignKeys {
		if slices.ContainsFunc(dropped, func(c *sqlschema.Column) bool { return slices.Contains(k.Columns, c.Name) }) {
			return false
		}
	}
	return slices.Equal(of(from, nil), of(to, added))
}

func countCheck(t *sqlschema.Table, name string) int {
	n := 0
	for _, k := range t.Checks {
		if strings.EqualFold(k.Name, name) {
			n++
		}
	}
	return n
}

func sameColumnButNull(a, b *sqlschema.Column) bool {
	if !strings.EqualFold(a.SQLType, b.SQLType) || a.Name != b.Name || a.Conflict != b.Conflict ||
		!sqlschema.SameCollation(a.Collation, b.Collation) {
		return false
	}
	if (a.Default == nil) != (b.Default == nil) || a.Default != nil && !a.Default.Same(*b.Default) {
		return false
	}
	if (a.Generated == nil) != (b.Generated == nil) {
		return false
	}
	return a.Generated == nil || a.Generated.Stored == b.Generated.Stored && a.Generated.SQL.Same(b.Generated.SQL)
}

// addable tells whether ADD COLUMN takes the column, with rows in the table or
// without.
func addable(t *sqlschema.Table, c *sqlschema.Column) bool {
	if c.Generated != nil {
		return !c.Generated.Stored
	}
	if slices.Contains(t.Key(), c.Name) {
		return false
	}
	constant := c.Default == nil || constantDefault(c.Default.Text)
	null := c.Default == nil || c.Default.Key() == "null"
	if !constant || c.NotNull && null {
		return false
	}
	for _, x := range t.Indexes {
		if x.Constraint && slices.Contains(sqlschema.Names(x.Parts), c.Name) {
			return false
		}
	}
	for _, k := range t.ForeignKeys {
		if slices.Contains(k.Columns, c.Name) && (!null || len(k.Columns) > 1) {
			return false
		}
	}
	return true
}

// constantDefault tells whether SQLite takes a default for a constant: a
// literal, not an expression in brackets nor a current time.
func constantDefault(text string) bool {
	list := tokens(text)
	if len(list) == 2 && (list[0].Is("-") || list[0].Is("+")) {
		list = list[1:]
	}
	if len(list) != 1 {
		return false
	}
	switch t := list[0]; t.Kind {
	case sqltok.Number, sqltok.Text, sqltok.Blob, sqltok.Name:
		return true
	case sqltok.Word:
		return !strings.HasPrefix(strings.ToUpper(t.Text), "CURRENT_")
	}
	return false
}

// droppable tells whether DROP COLUMN takes the column once its own indexes and
// triggers are gone.
func droppable(t *sqlschema.Table, c *sqlschema.Column) bool {
	if slices.Contains(t.Key(), c.Name) || len(t.Columns) < 2 {
		return false
	}
	for _, x := range t.Indexes {
		if x.Constraint && slices.Contains(sqlschema.Names(x.Parts), c.Name) {
			return false
		}
	}
	for _, k := range t.Checks {
		if !strings.EqualFold(k.Column, c.Name) && mentions(k.SQL.Text, c.Name) {
			return false
		}
	}
	for _, o := range t.Columns {
		if o != c && o.Generated != nil && mentions(o.Generated.SQL.Text, c.Name) {
			return false
		}
	}
	return true
}

// mentions tells whether a name stands among the tokens of SQL.
func mentions(sql, name string) bool {
	return slices.ContainsFunc(tokens(sql),
		func(t sqltok.Token) bool { return t.Named() && strings.EqualFold(t.Name(), name) })
}
