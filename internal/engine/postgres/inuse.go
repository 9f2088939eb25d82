package postgres

// This file gives changes of tables that are in use the form in which nobody has to
// wait: what has to look at every row does so under a lock that lets others work, in a
// transaction of its own, and only the moment in which it begins to hold needs the
// strong one. Rows are given values in batches, and columns that go stay in the table
// with another name. The way back has the same form.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/preconditions"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// inUse gives the steps for one change and its way back.
func inUse(table string, o, back op) []engine.Step {
	if !o.comes && (o.check != nil || o.index != nil || o.column != nil) {
		steps := inUse(table, back, o)
		slices.Reverse(steps)
		for i := range steps {
			s := &steps[i]
			s.Apply, s.Undo = s.Undo, s.Apply
			s.Title = goingTitle(table, o, s.Title, i, len(steps))
		}
		return steps
	}
	own := func(title string, apply, undo []string) engine.Step {
		return engine.Step{Title: title, Kind: engine.OwnTransaction, Work: engine.Keeps, Apply: apply, Undo: undo}
	}
	reads := func(title, apply string) engine.Step {
		return engine.Step{Title: title, Kind: engine.OwnTransaction, Apply: []string{apply}}
	}
	alter := alterTable(table)
	switch {
	case o.check != nil:
		k := *o.check
		k.NotValid = true
		name := quote(k.Name)
		return []engine.Step{
			own("check "+k.Name+" for new rows", []string{alter + "ADD " + named(k.Name) + checkDefinition(&k)},
				[]string{alter + "DROP CONSTRAINT " + name}),
			reads("check "+k.Name+" for existing rows", alter+"VALIDATE CONSTRAINT "+name),
		}
	case o.column != nil:
		// The server takes a check that holds for a proof, and does not look again.
		name := schema.Cut("erbario_" + table + "_" + o.column.Name + "_there")
		x := quote(o.column.Name)
		add := alter + "ADD " + named(name) + "CHECK (" + x + " IS NOT NULL) NOT VALID"
		drop := alter + "DROP CONSTRAINT " + quote(name)
		return []engine.Step{
			own(fmt.Sprintf("%s.%s is required in new rows", table, o.column.Name), []string{add}, []string{drop}),
			reads(fmt.Sprintf("%s.%s is required in existing rows", table, o.column.Name),
				alter+"VALIDATE CONSTRAINT "+quote(name)),
			own(o.title, []string{alter + "ALTER COLUMN " + x + " SET NOT NULL", drop},
				[]string{add, alter + "ALTER COLUMN " + x + " DROP NOT NULL"}),
		}
	case o.index != nil:
		x := *o.index
		x.Constraint = false
		options := x.Options
		if o.index.Constraint {
			x.Options = ""
		}
		build := engine.Step{
			Title: "build " + indexTitle(&sqlschema.Table{Name: table}, &x),
			Kind:  engine.OutsideTransaction,
			Apply: []string{
				indexStatement(table, &x, "CONCURRENTLY "),
			},
			Undo: []string{"DROP INDEX CONCURRENTLY IF EXISTS " + quoteBeside(table, x.Name)},
		}
		if !o.index.Constraint {
			return []engine.Step{build}
		}
		return []engine.Step{
			build,
			own(o.title, []string{alter + "ADD " + named(x.Name) + "UNIQUE USING INDEX " + quote(x.Name) + options},
				[]string{alter + "DROP CONSTRAINT " + quote(x.Name)}),
		}
	}
	return []engine.Step{
		{
			Title:     o.title,
			Kind:      engine.OwnTransaction,
			Work:      o.work,
			Apply:     o.sql,
			Undo:      back.sql,
			UndoLoses: engine.LossOf(table, o.adds),
		},
	}
}

// allInUse gives the steps for all changes of a table, each of which has its own way
// back. again, by column, fills what came without a value while the first fill was
// under way: from then on nothing does.
func allInUse(table string, forward, ways []op, here preconditions.Here,
	again map[string]engine.Step) []engine.Step {
	var out []engine.Step
	for i, o := range forward {
		steps := inUse(table, o, ways[i])
		if o.what == "types" {
			steps[0].Here, steps[0].HereUndo = here.Apply, here.Undo
		}
		if o.column != nil {
			if s, ok := again[o.column.Name]; ok && o.comes {
				steps = slices.Insert(steps, 1, s)
			} else if ok { // on the way back, which begins at the other end
				steps = slices.Insert(steps, len(steps)-1, s)
			}
		}
		out = append(out, steps...)
	}
	return out
}

// fillable tells whether adding a column would write every row again, and filling it in
// batches would not: it has another value for each row, from its default.
func fillable(c *sqlschema.Column) bool {
	return rewrites(c) && c.Default != nil && !c.Identity && c.Serial == "" && c.Generated == nil
}

// inBatches gives the steps of a change in which rows are given values: the columns
// come empty, are filled in batches, and only then is held what is declared. A constant
// for every row is the column's default for a while, which writes no row. nil: the
// change is none of this kind.
func inBatches(a engine.Alteration, here preconditions.Here) []engine.Step {
	key := a.From.Key()
	if len(key) == 0 || a.From.Unkeyed() || !sqlschema.SameKey(a.From.PrimaryKey, a.To.PrimaryKey) {
		return nil
	}
	for column, s := range a.Back {
		if slices.Contains(a.Lost, column) || s.Else != "" {
			continue
		}
		if s.NullsIn == "" || s.SQL != "" || a.Forward[column].Fill == "" {
			return nil
		}
	}
	b := &batching{
		Alteration: a, table: quoteTable(a.To.Name), key: key, bare: a.From.Clone(), ready: a.From.Clone(),
		here: here, again: map[string]engine.Step{},
	}
	if !b.columns() || !b.between(a.From, b.bare) || !b.between(b.bare, b.ready) {
		return nil
	}
	b.note()
	for _, f := range b.fills {
		b.fill(f)
	}
	aside := b.backFills()
	end := a.To
	if len(a.Lost) > 0 {
		end = a.To.Clone() // what goes stays, renamed, and nothing holds it any longer
	}
	for _, name := range a.Lost {
		c := a.From.Column(name)
		end.Columns = append(end.Columns,
			&sqlschema.Column{Name: c.Name, Type: c.Type, SQLType: c.SQLType, Collation: c.Collation,
				Comment: c.Comment})
		rename := func(from, to string) []string {
			return []string{alterTable(a.To.Name) + "RENAME COLUMN " + quote(from) + " TO " + quote(to)}
		}
		aside = append(aside, engine.Step{
			Title: "set " + a.To.Name + "." + name + " aside",
			Kind:  engine.OwnTransaction,
			Work:  engine.Keeps,
			Loses: engine.LossOf(a.To.Name, []string{name}),
			Kept:  true,
			Apply: rename(name, asideName(a, name)),
			Undo:  rename(asideName(a, name), name),
		})
	}
	if !b.between(b.ready, end) {
		return nil
	}
	return append(b.out, aside...)
}

// batching is a change in which rows are given values in batches, as it is put together.
type batching struct {
	engine.Alteration
	table       string // quoted
	key         []string
	bare, ready *sqlschema.Table // with the new columns; with their defaults
	fills       []batchFill
	here        preconditions.Here
	again       map[string]engine.Step // fills what came without a value in the meantime, by column
	out         []engine.Step
}

// batchFill is the value that rows get in a column.
type batchFill struct{ column, sql string }

// columns adds the columns that come; false: one of them, or another change, is none of this
// kind.
func (b *batching) columns() bool {
	for _, g := range b.To.Triggers { // a bridge stands before anything is filled
		if g.Purpose == schema.ForBridge &&
			!slices.ContainsFunc(b.From.Triggers, func(o *sqlschema.Trigger) bool { return o.Purpose == g.Purpose }) {
			b.bare.Triggers, b.ready.Triggers = append(b.bare.Triggers, g), append(b.ready.Triggers, g)
		}
	}
	for _, c := range b.To.Columns {
		old := b.From.Column(c.Name)
		src, ok := b.Forward[c.Name]
		switch {
		case old == nil && (ok || fillable(c)):
			n := &sqlschema.Column{Name: c.Name, Type: c.Type, SQLType: c.SQLType, Collation: c.Collation}
			d := *n
			switch {
			case c.Generated != nil || c.Identity || ok && (src.SQL == "" || src.Kept != "" || src.NullsIn != ""):
				return false
			case src.Literal:
				n.Default, n.NotNull = &sqlschema.SQL{Text: src.SQL}, c.NotNull
				d = *n
			default:
				if d.Default = c.Default; !ok {
					src.SQL = c.Default.Text
				}
				b.fills = append(b.fills, batchFill{c.Name, src.SQL})
			}
			b.bare.Columns, b.ready.Columns = append(b.bare.Columns, n), append(b.ready.Columns, &d)
		case ok && (src.Fill == "" || src.Converts || !sqlschema.SameForm(old.SQLType, c.SQLType) ||
			old.Collation != c.Collation):
			return false
		case ok:
			b.fills = append(b.fills, batchFill{c.Name, src.Fill})
		}
	}
	for _, f := range b.fills {
		if b.From.Column(f.column) != nil { // nothing holds the value to what is no longer declared
			letFill(b.bare, b.To, f.column)
			letFill(b.ready, b.To, f.column)
		}
	}
	return true
}

// between adds the steps from one table to another; false: some have no way back of their own.
func (b *batching) between(from, to *sqlschema.Table) bool {
	forward, back := changes(from, to, nil, true), changes(to, from, nil, true)
	ways, ok := paired(forward, back)
	if ok {
		b.out = append(b.out, allInUse(from.Name, forward, ways, b.here, b.again)...)
	}
	return ok
}

// few are batches over the rows that have no value in a column.
func (b *batching) few(column string) *engine.Batches {
	where := b.table + "." + quote(column) + " IS NULL"
	if strings.Contains(where, "\n") { // it has to be in one line of the file
		where = ""
	}
	return &engine.Batches{Table: b.To.Name, Key: b.key, Where: where}
}

// note adds the step that notes which rows had no values.
func (b *batching) note() {
	filled := b.Filled()
	if len(filled) == 0 || b.Keep == "" {
		return
	}
	keep := keepValues(b.Alteration, nil, filled)
	b.out = append(b.out, engine.Step{
		Title: "note which rows have no " + strings.Join(filled, ", "),
		Kind:  engine.OwnTransaction,
		Work:  engine.Keeps,
		Apply: []string{keep[0], keep[2]},
		Undo:  []string{"DROP TABLE " + quoteTable(b.Keep)},
	})
}

// fill adds the step that fills a column.
func (b *batching) fill(f batchFill) {
	x, column := quote(f.column), b.To.Column(f.column)
	sql := fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s.%s IS NULL AND :%s", b.table, x, f.sql, b.table, x, engine.Batch)
	s := engine.Step{
		Title:   fmt.Sprintf("fill %s.%s", b.To.Name, f.column),
		Kind:    engine.InBatches,
		Batches: &engine.Batches{Table: b.To.Name, Key: b.key},
	}
	if b.From.Column(f.column) != nil && b.Keep != "" {
		var to, from []string
		for _, k := range b.Match() {
			to, from = append(to, quote("key_"+k)), append(from, quote(k))
		}
		sql = fmt.Sprintf("WITH filled AS (%s RETURNING %s.*) INSERT INTO %s (%s, %s) SELECT %s, %s FROM filled",
			sql, b.table, quoteTable(b.Keep), strings.Join(to, ", "), quote("filled_"+f.column),
			strings.Join(from, ", "),
			toKept(column, x))
		s.Undo = quiet([]string{
			fmt.Sprintf("UPDATE %s SET %s = NULL FROM %s AS kept WHERE %s AND %s IS NOT DISTINCT FROM %s AND :%s",
				b.table, x, quoteTable(b.Keep), keptMatch(b.From, b.Match(), "kept", b.table),
				compared(column, fromKept(column, "kept."+quote("filled_"+f.column))),
				compared(column, b.table+"."+x), engine.Batch),
		})
	}
	s.Apply = quiet([]string{sql})
	b.out = append(b.out, s)
	s.Title, s.Undo, s.Batches = s.Title+" in rows added in the meantime", nil, b.few(f.column)
	b.again[f.column] = s
}

// backFills are the steps by which rows that came since are given a value on the way back,
// before it is required of them.
func (b *batching) backFills() []engine.Step {
	var out []engine.Step
	for _, c := range b.From.Columns {
		s, ok := b.Back[c.Name]
		if lost := slices.Contains(b.Lost, c.Name); !c.NotNull || !lost && (!ok || s.Else == "") {
			continue
		}
		value := orElse(c, s)
		if value == "" {
			continue
		}
		x := quote(c.Name)
		step := engine.Step{
			Title:   fmt.Sprintf("%s.%s of rows added in the meantime, in the undo", b.To.Name, c.Name),
			Kind:    engine.InBatches,
			Batches: b.few(c.Name),
			Undo: quiet([]string{
				fmt.Sprintf("UPDATE %s SET %s = %s WHERE %s.%s IS NULL AND :%s", b.table, x, value, b.table, x,
					engine.Batch),
			}),
		}
		out, b.again[c.Name] = append(out, step), step
	}
	return out
}

// letFill takes what stands on a column and goes with the change out of the table in
// which the column is filled.
func letFill(t, to *sqlschema.Table, column string) {
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *sqlschema.Index) bool {
		return x.Unique && slices.Contains(sqlschema.Names(x.Parts), column) && !slices.ContainsFunc(to.Indexes,
			func(o *sqlschema.Index) bool { return sqlschema.SameIndex(o, x) && o.Constraint == x.Constraint })
	})
	t.Checks = slices.DeleteFunc(t.Checks, func(k *sqlschema.Check) bool {
		return mentions(k.SQL.Text, column) &&
			!slices.ContainsFunc(to.Checks,
				func(o *sqlschema.Check) bool { return o.SQL.Same(k.SQL) && sameColumn(o, k) })
	})
}

// keepsInPlace tells whether all columns that are lost can stay in the table under
// another name.
func keepsInPlace(a engine.Alteration) bool {
	if len(a.Lost) == 0 || a.NoKeep || a.Keep == "" || a.Aside == "" || a.From.Unkeyed() ||
		!sqlschema.SameKey(a.From.PrimaryKey, a.To.PrimaryKey) {
		return false
	}
	return !slices.ContainsFunc(a.Lost, func(name string) bool {
		c := a.From.Column(name)
		return a.To.Column(name) != nil || c.Values != nil || c.Identity || c.Generated != nil ||
			slices.Contains(a.From.Key(), name)
	})
}

// asideName is the name of a column that is kept in place.
func asideName(a engine.Alteration, column string) string { return schema.Cut(a.Aside + column) }

// orElse is what rows are given that came while a column was not there; "": nothing.
func orElse(c *sqlschema.Column, s engine.Source) string {
	if c.NotNull && c.Default != nil {
		return c.Default.Text
	}
	return s.Else
}

// fromAside are the sources of the way back where the columns that are lost stay in the
// table.
func fromAside(a engine.Alteration) map[string]engine.Source {
	out := maps.Clone(a.Back)
	for _, name := range a.Lost {
		s := out[name]
		s.Kept, s.SQL = "", quote(asideName(a, name))
		if value := orElse(a.From.Column(name), s); value != "" {
			s.SQL = "coalesce(" + s.SQL + ", " + value + ")"
		}
		out[name] = s
	}
	return out
}

// goingTitle says what the steps of a change do that takes something away, from what
// they are called where it comes. Most have nothing to do but on the way back.
func goingTitle(table string, o op, coming string, i, n int) string {
	what := ""
	switch {
	case o.check != nil:
		what = "check " + o.check.Name
	case o.index != nil:
		what = indexTitle(&sqlschema.Table{Name: table}, o.index)
	default:
		what = fmt.Sprintf("%s.%s", table, o.column.Name)
	}
	switch {
	case o.column != nil && i == 0:
		return what + " is optional"
	case o.column == nil && (o.index != nil && i == 0 || o.check != nil && i == n-1):
		return "drop " + what
	}
	return coming + ", in the undo"
}

// ReferenceInUse gives the steps that make a reference while its tables are used.
func (Engine) ReferenceInUse(t *sqlschema.Table, k *sqlschema.ForeignKey) []engine.Step {
	c := *k
	c.NotValid = true
	title := fmt.Sprintf("%s references %s", t.Name, k.Table)
	alter := alterTable(t.Name)
	return []engine.Step{
		{
			Title: title + ", for new rows",
			Kind:  engine.OwnTransaction,
			Work:  engine.Keeps,
			Apply: []string{alter + "ADD " + named(k.Name) + foreignKey(&c)},
			Undo:  []string{alter + "DROP CONSTRAINT " + quote(k.Name)},
		},
		{
			Title: title + ", for existing rows",
			Kind:  engine.OwnTransaction,
			Apply: []string{alter + "VALIDATE CONSTRAINT " + quote(k.Name)},
		},
	}
}
