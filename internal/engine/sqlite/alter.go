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
	"erbario/internal/engine/preconditions"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// Create gives the step for a new table.
func (Engine) Create(t *schema.Table) engine.Step {
	return engine.Step{Title: "create " + t.Name, Apply: tableStatements(t), Undo: []string{"DROP TABLE " + quote(t.Name)}, UndoLoses: []string{t.Name}}
}

// Drop gives the step that drops a table and keeps its rows. They are copied
// rather than left in the renamed table: its references would go on to hold
// back or delete rows elsewhere, and its indexes' names would stay taken.
func (Engine) Drop(d engine.TableDrop) engine.Change {
	t := d.Table
	s := engine.Step{Title: "drop " + t.Name, Loses: []string{t.Name}, Kept: d.Keep != ""}
	if t.Options.Virtual != "" {
		s.Kept = false
	}
	if !s.Kept {
		s.Apply = []string{"DROP TABLE " + quote(t.Name)}
		s.Undo = tableStatements(t)
		return engine.Change{Steps: []engine.Step{s}}
	}
	bare := bareTable(t)
	bare.Name = d.Keep
	s.Note = "keeps its rows in " + d.Keep
	s.Apply = append(s.Apply, createTable(bare, d.Keep))
	s.Apply = append(s.Apply, copyRows(t, bare, t.Name, d.Keep, nil, "")...)
	s.Apply = append(s.Apply, "DROP TABLE "+quote(t.Name))
	s.Undo = append(s.Undo, createTable(t, t.Name))
	s.Undo = append(s.Undo, copyRows(bare, t, d.Keep, t.Name, nil, "")...)
	s.Undo = append(s.Undo, "DROP TABLE "+quote(d.Keep))
	s.Undo = append(s.Undo, dependents(t)...)
	return engine.Change{Steps: []engine.Step{s}, Copies: true, BeforeApply: []engine.Requirement{carried(t)}}
}

// DeleteRows gives the step that takes rows out of a table; they come back as they
// were, but for row numbers that are no key: others may have them by then.
func (Engine) DeleteRows(r engine.RowDeletion) engine.Step {
	t := r.Table
	s := engine.Step{Title: "delete the " + r.What + " permanently", Loses: []string{r.What}}
	gone := fmt.Sprintf("DELETE FROM %s WHERE %s", quote(t.Name), r.Where)
	if r.Keep == "" {
		s.Apply = unguarded(t, gone)
		return s
	}
	s.Title, s.Kept, s.Note = "set the "+r.What+" aside", true, "keeps them in "+r.Keep
	bare := bareTable(t)
	bare.Name = r.Keep
	s.Apply = append(s.Apply, createTable(bare, r.Keep))
	// Without the sequence: the rows that stay hold it.
	s.Apply = append(s.Apply, copyRows(t, bare, t.Name, r.Keep, nil, r.Where)[0])
	s.Apply = append(s.Apply, unguarded(t, gone)...)
	numberless := bare.Clone()
	numberless.Options.WithoutRowid = true
	back := copyRows(numberless, t, r.Keep, t.Name, nil, "")[0]
	if row := rowidName(bare); row != "" {
		back += " ORDER BY " + row
	}
	s.Undo = []string{back, "DROP TABLE " + quote(r.Keep)}
	return s
}

// Rename gives the step that renames a table, or a column of one; SQLite itself
// rewrites all that refers to it.
func (Engine) Rename(s *schema.Schema, table, column, to string) ([]engine.Step, *schema.Schema) {
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
		return []engine.Step{{Title: fmt.Sprintf("rename %s.%s to %s", table, column, to), Work: engine.Keeps, Apply: apply, Undo: undo}}, s
	}
	rename := func(a, b string) []string {
		if strings.EqualFold(a, b) { // another case alone takes two steps
			mid := schema.OwnPrefix + "case_" + a
			return []string{"ALTER TABLE " + quote(a) + " RENAME TO " + quote(mid), "ALTER TABLE " + quote(mid) + " RENAME TO " + quote(b)}
		}
		return []string{"ALTER TABLE " + quote(a) + " RENAME TO " + quote(b)}
	}
	return []engine.Step{{Title: fmt.Sprintf("rename %s to %s", table, to), Work: engine.Keeps, Apply: rename(table, to), Undo: rename(to, table)}}, s
}

// bareTable is the table without anything that could refuse or touch a row:
// its columns' names and types, and its key.
func bareTable(t *schema.Table) *schema.Table {
	b := t.Clone()
	b.ForeignKeys, b.Checks, b.Indexes, b.Triggers = nil, nil, nil, nil
	b.Columns = slices.DeleteFunc(b.Columns, func(c *schema.Column) bool { return c.Generated != nil })
	for _, c := range b.Columns {
		c.Default = nil
		if b.PrimaryKey == nil || !b.Options.WithoutRowid {
			c.NotNull, c.Conflict = false, ""
		}
	}
	if b.PrimaryKey != nil {
		b.PrimaryKey.Conflict = ""
	}
	return b
}

// Alter gives the steps that make one table another.
func (Engine) Alter(a engine.Alteration) engine.Change {
	for column, s := range a.Back {
		s.Match = a.Match()
		a.Back[column] = s
	}
	out := engine.Change{
		BeforeApply: requirements(a.From, a.To, a.Forward, a.Only, func(t string) engine.Parent { return a.Parent(t, false) }),
		BeforeUndo:  requirements(a.To, a.From, a.Back, "", func(t string) engine.Parent { return a.Parent(t, true) }),
	}
	lost := a.Lost
	filled := a.Filled()
	forward, why := inPlace(a.From, a.To, a.Forward)
	if a.Copy {
		why = "the columns get their declared order"
	}
	ok := why == ""
	if ok && len(lost) == 0 {
		back, irreversible := inPlace(a.To, a.From, a.Back)
		if irreversible == "" && !(a.NoDrop && len(engine.LostColumns(a.To, a.From)) > 0) && len(back) == len(forward) {
			slices.Reverse(back)
			if together(forward) {
				step := engine.Step{Title: a.Summary, Work: engine.Reads}
				for i, op := range forward {
					step.Apply = append(step.Apply, op.sql...)
					step.Undo = append(step.Undo, back[len(back)-1-i].sql...)
					step.UndoLoses = append(step.UndoLoses, engine.Qualify(a.From.Name, op.adds)...)
				}
				out.Steps = []engine.Step{step}
				return out
			}
			for i, op := range forward {
				out.Steps = append(out.Steps, engine.Step{Title: op.title, Work: op.work, Apply: op.sql, Undo: back[i].sql, UndoLoses: engine.Qualify(a.From.Name, op.adds)})
			}
			return out
		}
	}
	step := engine.Step{Title: a.Summary, Work: engine.Copies, Note: engine.Copies.String(), Loses: engine.Qualify(a.From.Name, lost)}
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
		step.UndoLoses = engine.Qualify(a.From.Name, gone)
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
		step.Undo = append(step.Undo, fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(a.Keep), quote(a.From.Name), keptMatch(a.Match(), a.Keep, a.From.Name)))
	}
	out.Steps = []engine.Step{step}
	return out
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
func inPlace(from, to *schema.Table, sources map[string]engine.Source) (list []op, why string) {
	switch {
	case len(sources) > 0:
		names := slices.Sorted(maps.Keys(sources))
		if len(names) == 1 {
			return nil, names[0] + " gets values"
		}
		return nil, strings.Join(names, ", ") + " get values"
	case from.Name != to.Name || from.Options != to.Options:
		return nil, "the options of the table change"
	case !schema.SameKey(from.PrimaryKey, to.PrimaryKey):
		return nil, "the primary key changes"
	}
	var ops []op
	do := func(title string, work engine.Work, sql ...string) {
		ops = append(ops, op{title: title, work: work, sql: sql})
	}
	drop := func(title string, work engine.Work, sql ...string) {
		ops = append(ops, op{title: "drop " + title, work: work, sql: sql, drops: true})
	}

	// Off first: triggers, indexes, checks; then columns; then all on again.
	for _, g := range from.Triggers {
		if !slices.ContainsFunc(to.Triggers, func(o *schema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) }) {
			do(engine.TriggerTitle("stop", from, g), engine.NoWork, dropTrigger(g))
		}
	}
	for _, x := range from.Indexes {
		if !slices.ContainsFunc(to.Indexes, func(o *schema.Index) bool { return sameIndex(o, x) && o.Name == x.Name }) {
			if x.Constraint {
				return nil, "a constraint in the table's own statement is dropped"
			}
			drop(indexTitle(from, x), engine.NoWork, dropIndex(x))
		}
	}
	var dropped, added []*schema.Column
	for _, c := range from.Columns {
		if to.Column(c.Name) == nil {
			dropped = append(dropped, c)
		}
	}
	for _, c := range to.Columns {
		if from.Column(c.Name) == nil {
			added = append(added, c)
		}
	}
	if !samePrefix(from.Columns, to.Columns) || len(dropped) > 0 && len(added) > 0 {
		return nil, "the order of the columns changes"
	}
	if !sameForeignKeys(from, to, dropped, added) {
		return nil, "a reference changes"
	}
	belongs := func(k *schema.Check, list []*schema.Column) bool {
		return slices.ContainsFunc(list, func(c *schema.Column) bool { return strings.EqualFold(k.Column, c.Name) })
	}
	for _, k := range from.Checks {
		if belongs(k, dropped) || to.HasCheck(k) {
			continue
		}
		if k.Name == "" || k.Conflict != "" || countCheck(from, k.Name) > 1 {
			return nil, "a check without a name of its own is dropped"
		}
		drop("check "+k.Name, engine.Keeps, fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", quote(from.Name), quote(k.Name)))
	}
	for _, c := range from.Columns {
		o := to.Column(c.Name)
		if o == nil {
			continue
		}
		if !sameColumnButNull(c, o) {
			return nil, c.Name + " changes"
		}
		if c.NotNull && !o.NotNull {
			do(fmt.Sprintf("%s.%s is optional", to.Name, c.Name), engine.Keeps, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s DROP NOT NULL", quote(from.Name), quote(c.Name)))
		}
	}
	for i := len(dropped) - 1; i >= 0; i-- {
		c := dropped[i]
		if !droppable(from, c) {
			return nil, c.Name + " cannot be dropped in place"
		}
		var sql []string
		for _, k := range from.Checks {
			// One that was added later stands behind all columns, here or on another
			// database: it would stay, and name what is gone.
			if k.Name != "" && countCheck(from, k.Name) == 1 && strings.EqualFold(k.Column, c.Name) {
				sql = append(sql, fmt.Sprintf("ALTER TABLE %s DROP CONSTRAINT %s", quote(from.Name), quote(k.Name)))
			}
		}
		drop(from.Name+"."+c.Name, engine.Rewrites, append(sql, fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", quote(from.Name), quote(c.Name)))...)
	}
	for i, c := range added {
		early := c.Generated != nil && slices.ContainsFunc(added[i+1:], func(o *schema.Column) bool { return mentions(c.Generated.SQL.Text, o.Name) })
		if !addable(to, c) || early { // it is calculated from one after it
			return nil, c.Name + " cannot be added in place"
		}
		do("add "+to.Name+"."+c.Name, engine.Keeps, fmt.Sprintf("ALTER TABLE %s ADD COLUMN %s", quote(to.Name), columnDefinition(to, c)))
		if c.Generated == nil {
			ops[len(ops)-1].adds = []string{c.Name}
		}
	}
	for i := len(to.Columns) - 1; i >= 0; i-- {
		c := to.Columns[i]
		if o := from.Column(c.Name); o != nil && c.NotNull && !o.NotNull {
			do(fmt.Sprintf("%s.%s is required", to.Name, c.Name), engine.Reads, fmt.Sprintf("ALTER TABLE %s ALTER COLUMN %s SET NOT NULL", quote(to.Name), quote(c.Name)))
		}
	}
	for i := len(to.Checks) - 1; i >= 0; i-- {
		k := to.Checks[i]
		if belongs(k, added) || from.HasCheck(k) {
			continue
		}
		if k.Name == "" || k.Conflict != "" {
			return nil, "a check without a name is added"
		}
		do("check "+k.Name, engine.Reads, fmt.Sprintf("ALTER TABLE %s ADD CONSTRAINT %s CHECK (%s)", quote(to.Name), quote(k.Name), k.SQL.Text))
	}
	for i := len(to.Indexes) - 1; i >= 0; i-- {
		x := to.Indexes[i]
		if !slices.ContainsFunc(from.Indexes, func(o *schema.Index) bool { return sameIndex(o, x) && o.Name == x.Name }) {
			if x.Constraint {
				return nil, "a constraint in the table's own statement is added"
			}
			do(indexTitle(to, x), engine.Reads, createIndex(to.Name, x))
		}
	}
	for i := len(to.Triggers) - 1; i >= 0; i-- {
		g := to.Triggers[i]
		if !slices.ContainsFunc(from.Triggers, func(o *schema.Trigger) bool { return o.Name == g.Name && o.SQL.Same(g.SQL) }) {
			do(engine.TriggerTitle("hold", to, g), engine.NoWork, g.SQL.Text)
		}
	}
	return ops, ""
}

// together tells whether the changes are best one step: something goes and
// something comes in its place, so that no single one of them says what is done.
func together(ops []op) bool {
	drops := slices.ContainsFunc(ops, func(o op) bool { return o.drops })
	comes := slices.ContainsFunc(ops, func(o op) bool { return !o.drops })
	return drops && comes
}

func indexTitle(t *schema.Table, x *schema.Index) string {
	what := "index "
	if x.Unique {
		what = "unique index "
	}
	return what + x.Name + " on " + t.Name
}

// sameIndex tells whether two indexes are the same but for their names.
func sameIndex(a, b *schema.Index) bool {
	if a.Unique != b.Unique || a.Constraint != b.Constraint || a.Conflict != b.Conflict || (a.Where == nil) != (b.Where == nil) {
		return false
	}
	return (a.Where == nil || a.Where.Same(*b.Where)) && slices.EqualFunc(a.Parts, b.Parts, schema.SamePart)
}

// samePrefix tells whether the shorter list of columns begins the longer one.
func samePrefix(a, b []*schema.Column) bool {
	for i := range min(len(a), len(b)) {
		if !strings.EqualFold(a[i].Name, b[i].Name) {
			return false
		}
	}
	return true
}

// sameForeignKeys compares the references of two tables, leaving out those of
// columns that come; one of a column that goes cannot be dropped in place.
func sameForeignKeys(from, to *schema.Table, dropped, added []*schema.Column) bool {
	of := func(t *schema.Table, skip []*schema.Column) []string {
		var out []string
		for _, k := range t.ForeignKeys {
			if len(k.Columns) == 1 && slices.ContainsFunc(skip, func(c *schema.Column) bool { return strings.EqualFold(c.Name, k.Columns[0]) }) {
				continue
			}
			out = append(out, strings.ToLower(quoteAll(k.Columns)+" "+references(k)))
		}
		slices.Sort(out)
		return out
	}
	for _, k := range from.ForeignKeys {
		if slices.ContainsFunc(dropped, func(c *schema.Column) bool { return slices.Contains(k.Columns, c.Name) }) {
			return false
		}
	}
	return slices.Equal(of(from, nil), of(to, added))
}

func countCheck(t *schema.Table, name string) int {
	n := 0
	for _, k := range t.Checks {
		if strings.EqualFold(k.Name, name) {
			n++
		}
	}
	return n
}

func sameColumnButNull(a, b *schema.Column) bool {
	if !strings.EqualFold(a.SQLType, b.SQLType) || a.Name != b.Name || a.Conflict != b.Conflict || !schema.SameCollation(a.Collation, b.Collation) {
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
func addable(t *schema.Table, c *schema.Column) bool {
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
		if x.Constraint && slices.Contains(schema.Names(x.Parts), c.Name) {
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
func droppable(t *schema.Table, c *schema.Column) bool {
	if slices.Contains(t.Key(), c.Name) || len(t.Columns) < 2 {
		return false
	}
	for _, x := range t.Indexes {
		if x.Constraint && slices.Contains(schema.Names(x.Parts), c.Name) {
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
	return slices.ContainsFunc(tokens(sql), func(t sqltok.Token) bool { return t.Named() && strings.EqualFold(t.Name(), name) })
}

// copyTable makes a new table of the old one, rows and all.
func copyTable(from, to *schema.Table, sources map[string]engine.Source) []string {
	aside := asideName(from.Name)
	var out []string
	for _, g := range from.Triggers {
		out = append(out, dropTrigger(g))
	}
	for _, x := range from.Indexes {
		if !x.Constraint {
			out = append(out, dropIndex(x))
		}
	}
	out = append(out, fmt.Sprintf("ALTER TABLE %s RENAME TO %s", quote(from.Name), quote(aside)), createTable(to, to.Name))
	out = append(out, copyRows(from, to, aside, to.Name, sources, "")...)
	out = append(out, "DROP TABLE "+quote(aside))
	return append(out, dependents(to)...)
}

// copyRows fills the new table from the old one, which stands under oldName; where
// chooses rows of it, empty for all.
func copyRows(from, to *schema.Table, oldName, newName string, sources map[string]engine.Source, where string) []string {
	var columns, values []string
	f, t := rowidName(from), rowidName(to)
	if f != "" && t != "" && rowidKey(to) == "" && rowidKey(from) == "" {
		columns, values = append(columns, t), append(values, f)
	}
	for _, c := range to.Columns {
		if c.Generated != nil {
			continue
		}
		if expr, ok := sourceSQL(from, c, oldName, sources); ok {
			columns = append(columns, quote(c.Name))
			values = append(values, expr)
		}
	}
	order := ""
	if where != "" {
		order = " WHERE " + where
	}
	if f != "" {
		order += " ORDER BY " + f
	}
	if len(columns) == 0 {
		// Nothing of the old rows goes on but that they are there.
		for _, c := range to.Columns {
			if c.Generated == nil {
				columns, values = []string{quote(c.Name)}, []string{"NULL"}
				if c.Default != nil {
					values[0] = c.Default.Text
				}
				break
			}
		}
	}
	out := []string{fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s%s", quote(newName), strings.Join(columns, ", "), strings.Join(values, ", "), quote(oldName), order)}
	if autoincrement(from) && autoincrement(to) {
		// The next number goes on from where it was, not from the rows that are left.
		out = append(out,
			fmt.Sprintf("DELETE FROM sqlite_sequence WHERE name = %s", literal(newName)),
			fmt.Sprintf("INSERT INTO sqlite_sequence (name, seq) SELECT %s, seq FROM sqlite_sequence WHERE name = %s", literal(newName), literal(oldName)))
	}
	return out
}

func autoincrement(t *schema.Table) bool { return t.PrimaryKey != nil && t.PrimaryKey.Autoincrement }

// sourceSQL is the expression over the old row that gives a column its value;
// false where the column's default is to do it.
func sourceSQL(from *schema.Table, c *schema.Column, oldName string, sources map[string]engine.Source) (string, bool) {
	src, ok := sources[c.Name]
	if !ok {
		if o := from.Column(c.Name); o != nil {
			return quote(o.Name), true
		}
		return "", false
	}
	switch {
	case src.Kept != "":
		expr := fmt.Sprintf("(SELECT %s FROM %s WHERE %s ORDER BY %s.rowid DESC LIMIT 1)", quote(c.Name), quote(src.Kept), keptMatch(src.Match, src.Kept, oldName), quote(src.Kept))
		switch {
		case c.NotNull && c.Default != nil:
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, c.Default.Text)
		case src.Else != "":
			expr = fmt.Sprintf("coalesce(%s, %s)", expr, renameIn(src.Else, from.Name, oldName))
		}
		return expr, true
	case src.NullsIn != "":
		value := quote(c.Name)
		if src.SQL != "" {
			value = renameIn(src.SQL, from.Name, oldName)
		}
		return fmt.Sprintf("CASE WHEN EXISTS (SELECT 1 FROM %s WHERE %s AND %s.%s IS %s.%s AND %s.%s IS NULL) THEN NULL ELSE %s END",
			quote(src.NullsIn), keptMatch(src.Match, src.NullsIn, oldName), quote(src.NullsIn), quote("filled_"+c.Name), quote(oldName), quote(c.Name), quote(src.NullsIn), quote(c.Name), value), true
	case src.Unconvertible && !c.NotNull:
		return "NULL", true // all of them are: it was asked
	case src.SQL != "":
		return renameIn(src.SQL, from.Name, oldName), true
	}
	return "", false
}

// renameIn gives SQL in which a table goes by another name: an expression that
// reads the table itself means its old rows, not the new table that is just
// being filled.
func renameIn(sql, table, name string) string {
	if table == name {
		return sql
	}
	var b strings.Builder
	last := 0
	list := tokens(sql)
	for i, t := range list {
		if (t.Kind == sqltok.Word || t.Kind == sqltok.Name) && strings.EqualFold(t.Name(), table) && (i == 0 || !list[i-1].Is(".")) {
			b.WriteString(sql[last:t.Start] + quote(name))
			last = t.End
		}
	}
	return b.String() + sql[last:]
}

// keptMatch is the condition that a kept row belongs to a row of a table.
func keptMatch(keys []string, kept, row string) string {
	var terms []string
	for _, k := range keys {
		terms = append(terms, fmt.Sprintf("%s.%s IS %s.%s", quote(kept), quote("key_"+k), quote(row), quote(k)))
	}
	return strings.Join(terms, " AND ")
}

// keepValues copies the values of columns that go into a table of their own,
// with the row's key and time of creation, and notes for columns that are filled
// which rows had no value and what they were given.
func keepValues(a engine.Alteration, lost, filled []string) []string {
	t := a.From
	var items, columns, values []string
	add := func(name string, c *schema.Column, value string) {
		items = append(items, strings.TrimSpace(quote(name)+" "+sqlType(c.SQLType)))
		columns = append(columns, quote(name))
		values = append(values, value)
	}
	for _, k := range a.Match() {
		add("key_"+k, t.Column(k), quote(k))
	}
	for _, k := range lost {
		add(k, t.Column(k), quote(k))
	}
	var empty []string
	for _, k := range filled {
		add(k, t.Column(k), quote(k))
		add("filled_"+k, a.To.Column(k), a.Forward[k].Fill)
		empty = append(empty, quote(k)+" IS NULL")
	}
	where := ""
	if len(lost) == 0 {
		where = " WHERE " + strings.Join(empty, " OR ")
	}
	return []string{
		fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n    %s\n)", quote(a.Keep), strings.Join(items, ",\n    ")),
		fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s%s", quote(a.Keep), strings.Join(columns, ", "), strings.Join(values, ", "), quote(t.Name), where),
	}
}

// Archive puts values of a table aside before it, or columns of it, go.
func (Engine) Archive(t *schema.Table, columns []string, kept string) (makes, fills []string) {
	if len(columns) > 0 {
		list := keepValues(engine.Alteration{From: t, To: t, Lost: columns, Keep: kept}, columns, nil)
		return list[:1], list[1:]
	}
	bare := bareTable(t)
	bare.Name = kept
	return []string{createTable(bare, kept)}, copyRows(t, bare, t.Name, kept, nil, "")
}

// Restore brings kept values back. A whole table's rows go in as they were;
// values of columns go into the rows that they came from, with the table's
// triggers away, so that nothing else changes.
func (Engine) Restore(t, kept *schema.Table, stay bool) []string {
	var columns, keys []string
	for _, c := range kept.Columns {
		if key, ok := strings.CutPrefix(c.Name, "key_"); ok && t.Column(c.Name) == nil {
			keys = append(keys, key)
		} else if o := t.Column(c.Name); o != nil && o.Generated == nil {
			columns = append(columns, c.Name)
		}
	}
	if len(keys) == 0 {
		out := copyRows(kept, t, kept.Name, t.Name, nil, "")
		if !stay {
			out = append(out, "DROP TABLE "+quote(kept.Name))
		}
		return out
	}
	match := keptMatch(keys, kept.Name, t.Name)
	var out, set []string
	for _, g := range t.Triggers {
		out = append(out, dropTrigger(g))
	}
	for _, c := range columns {
		set = append(set, fmt.Sprintf("%s = (SELECT %s FROM %s WHERE %s ORDER BY %s.rowid DESC LIMIT 1)", quote(c), quote(c), quote(kept.Name), match, quote(kept.Name)))
	}
	if len(set) > 0 {
		out = append(out, fmt.Sprintf("UPDATE %s SET %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(t.Name), strings.Join(set, ", "), quote(kept.Name), match))
	}
	if !stay {
		out = append(out, fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(kept.Name), quote(t.Name), match))
	}
	for _, g := range t.Triggers {
		out = append(out, g.SQL.Text)
	}
	return out
}

// requirements are what the rows of from must fulfil to become rows of to; only
// tells which rows stay until then.
func requirements(from, to *schema.Table, sources map[string]engine.Source, only string, parent func(string) engine.Parent) []engine.Requirement {
	if from.Options.Virtual != "" {
		return nil
	}
	return dialect.Rows(from, to, sources, only, parent)
}

var dialect = preconditions.Dialect{
	Quote:   quote,
	Source:  sourceSQL,
	Convert: Engine{}.Convert,
	Differs: func(a, b string, _ *schema.Column) string { return a + " IS NOT " + b },
	Typed:   func(sql string, _ *schema.Column) string { return sql },
	RowName: rowidName,
	Given:   func(t *schema.Table, c *schema.Column) bool { return rowidKey(t) == c.Name },
	Tokens: func(sql string) []string {
		var out []string
		for _, t := range tokens(sql) {
			if t.Named() && t.Kind != sqltok.Text {
				out = append(out, t.Name())
			}
		}
		return out
	},
	Group: func(p schema.Part) string {
		if p.Collation != "" {
			return quote(p.Column) + " COLLATE " + p.Collation
		}
		return quote(p.Column)
	},
}

// carried is what must hold before a table is copied or dropped: that it has no
// column that the migration does not know. What was added by hand on some other
// database would be gone with the old table. Indexes and triggers are carried
// along (see Step).
func carried(t *schema.Table) engine.Requirement {
	var columns []string
	for _, c := range t.Columns {
		columns = append(columns, literal(strings.ToLower(c.Name)))
	}
	return engine.Requirement{
		Shape:    true,
		Sentence: fmt.Sprintf("{n} columns of %s were added outside Erbario and would be lost", t.Name),
		Query:    fmt.Sprintf("SELECT name FROM pragma_table_xinfo(%s) WHERE lower(name) NOT IN (%s)", literal(t.Name), strings.Join(columns, ", ")),
	}
}

// tableOf is a table of a schema; nil without one.
func tableOf(s *schema.Schema, name string) *schema.Table {
	if s == nil {
		return nil
	}
	return s.Table(name)
}
