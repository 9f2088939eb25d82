package ddl

// This file is what all engines do alike with a column of a declared table: its default, its
// triggers, the checks by their purpose.

import (
	"cmp"
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Lowering is an engine's own words for what is declared.
type Lowering struct {
	Quote func(name string) string
	Text  func(s string) string           // as a literal
	SQL   func(text string) sqlschema.SQL // in the form in which it compares
	Value func(v schema.Value, t schema.Type) (string, error)
	Now   func(t schema.Type) string // the default of a stamped column
	// Stamp and Immutable are the triggers of a column.
	Stamp, Immutable func(t *sqlschema.Table, c *sqlschema.Column) *sqlschema.Trigger
	Between          string // of a value and two ends: %[1]s, %[2]s and %[3]s
	OneOf            func(x string, values []string) string
	Nonblank         func(c *sqlschema.Column) string
	Enums            bool // values of a choice can be those of an enum type
	// Bound is an end of a range as SQL; nil: as Value gives it.
	Bound func(v schema.Value, t schema.Type) string

	// Begin, if not nil, sees the tables before any of them is lowered; Types, if not nil, adds
	// the types of a table.
	Begin func(out *sqlschema.Schema)
	Types func(out *sqlschema.Schema, t *sqlschema.Table)
	// Lower adds to a table what the engine alone says of it.
	Lower func(w *Lowering, t *sqlschema.Table) []engine.Notice
	// Children and Guards are the triggers of soft deletion; Reached, if not nil, is the guard of
	// a table whose deleted rows would take guarded ones along.
	Children func(out *sqlschema.Schema, declared *schema.Schema, t *sqlschema.Table) ([]*sqlschema.Trigger,
		[]engine.Notice)
	Guards   func(t *sqlschema.Table) ([]*sqlschema.Trigger, []engine.Notice)
	Reached  func(out *sqlschema.Schema, t *sqlschema.Table) *sqlschema.Trigger
	LiveView func(name string, t *sqlschema.Table) sqlschema.SQL
}

// Schema lowers what is declared.
func (w *Lowering) Schema(declared *schema.Schema) (*sqlschema.Schema, []engine.Notice) {
	out := &sqlschema.Schema{}
	for _, d := range declared.Tables {
		out.Tables = append(out.Tables, w.table(d))
	}
	if w.Begin != nil {
		w.Begin(out)
	}
	var notices []engine.Notice
	for _, t := range out.Tables {
		notices = append(notices, w.Lower(w, t)...)
		if w.Types != nil {
			w.Types(out, t)
		}
	}
	add := func(t *sqlschema.Table, list []*sqlschema.Trigger, more []engine.Notice) {
		t.Triggers, notices = append(t.Triggers, list...), append(notices, more...)
	}
	for _, t := range out.Tables {
		if t.Elsewhere() {
			continue
		}
		d := t.Declared
		if d.Children {
			list, more := w.Children(out, declared, t)
			add(t, list, more)
		}
		if d.Guard {
			list, more := w.Guards(t)
			add(t, list, more)
		}
		if w.Reached != nil {
			if g := w.Reached(out, t); g != nil {
				t.Triggers = append(t.Triggers, g)
			}
		}
		if d.LiveView != "" {
			out.Views = append(out.Views,
				&sqlschema.View{Name: d.LiveView, LiveOf: t.Name, SQL: w.LiveView(d.LiveView, t)})
		}
	}
	return out, notices
}

// written is SQL of a model, with names of columns in braces, as the engine has it; nil for
// none.
func (w *Lowering) written(sql string) *sqlschema.SQL {
	if sql == "" {
		return nil
	}
	s := w.SQL(schema.Braces(sql, w.Quote))
	return &s
}

// table is a declared table as any engine keeps it: what engines have in common. Types,
// defaults, triggers and the checks of columns are added by the engine.
func (w *Lowering) table(d *schema.Table) *sqlschema.Table {
	t := &sqlschema.Table{Name: d.Name, Declared: d, Comment: d.Comment, SoftDelete: d.SoftDelete}
	for _, c := range d.Columns {
		col := &sqlschema.Column{
			Name: c.Name, Declared: c, NotNull: c.NotNull, Identity: c.Identity, Comment: c.Comment,
			Type: c.Type, Value: c.Value, Immutable: c.Immutable, Stamped: c.Stamped,
			Collation: c.Collation, Invisible: c.Invisible,
			Storage: strings.ToUpper(c.Storage), Statistics: c.Statistics,
			IdentityAlways: c.Numbers.Always, Start: c.Numbers.Start,
		}
		if c.Generated != nil {
			col.Generated = &sqlschema.Generated{SQL: *w.written(c.Generated.SQL), Stored: c.Generated.Stored}
		}
		t.Columns = append(t.Columns, col)
	}
	if d.Key != nil {
		t.PrimaryKey = &sqlschema.PrimaryKey{
			Name:    cmp.Or(d.KeyName, d.KeyRule, schema.ConstraintName(d.Bare(), nil, "pkey")),
			Options: behind(d.KeyStored.Deferrable), Conflict: d.KeyStored.Conflict,
		}
		for _, p := range d.PartsOfKey() {
			t.PrimaryKey.Columns = append(t.PrimaryKey.Columns, sqlschema.Part{Column: p.Column, Desc: p.Desc,
				Length: p.Length, Collation: p.Collation, Class: p.Class, Nulls: p.Nulls})
		}
	}
	for _, k := range d.ForeignKeys {
		t.ForeignKeys = append(t.ForeignKeys, &sqlschema.ForeignKey{
			Name: unless(k.Stored.Unnamed, k.Name), Columns: k.Columns, Table: k.Table, References: k.References,
			OnDelete: k.OnDelete, OnUpdate: k.OnUpdate, Deferrable: k.Stored.Deferrable, Match: k.Stored.Match,
			NotValid: k.Stored.NotValid,
		})
	}
	for _, k := range d.Checks {
		t.Checks = append(t.Checks,
			&sqlschema.Check{Name: unless(k.Stored.Unnamed, k.Name), SQL: *w.written(k.SQL), Column: k.Column,
				Purpose: k.Purpose, NotValid: k.Stored.NotValid, NoInherit: k.Stored.NoInherit})
	}
	for _, x := range d.Indexes {
		t.Indexes = append(t.Indexes, w.index(x))
	}
	return t
}

// unless is a name, if it is not the engine that gives it.
func unless(unnamed bool, name string) string {
	if unnamed {
		return ""
	}
	return name
}

// behind is what stands after something, with a blank before it.
func behind(words string) string {
	if words == "" {
		return ""
	}
	return " " + words
}

func (w *Lowering) index(x *schema.Index) *sqlschema.Index {
	out := &sqlschema.Index{
		Name: unless(x.Stored.Unnamed, x.Name), Unique: x.Unique, Where: w.written(x.Where), Using: x.Using,
		NullsEqual: x.NullsEqual, Form: x.Stored.Form != "", Said: x.Stored.Said,
		Constraint: x.Stored.Form == schema.AsConstraint,
		Options:    behind(x.Stored.Deferrable), Conflict: x.Stored.Conflict,
	}
	var include []string
	for _, c := range x.Stored.Include {
		include = append(include, w.Quote(c))
	}
	out.Included = strings.Join(include, ", ")
	for _, p := range x.Parts {
		part := sqlschema.Part{Column: p.Column, Expr: w.written(p.SQL), Desc: p.Desc, Length: p.Length,
			Collation: p.Collation, Class: p.Class, Nulls: p.Nulls}
		if p.IgnoringCase {
			part.Collation = sqlschema.IgnoringCase
		}
		out.Parts = append(out.Parts, part)
	}
	return out
}

// Column adds a column's default and its triggers.
func (w *Lowering) Column(t *sqlschema.Table, c *sqlschema.Column) {
	if c.Value != nil && c.Value.Kind != schema.NullValue {
		if text, err := w.Value(*c.Value, c.Type); err == nil {
			if c.Value.Kind == schema.SQLValue {
				text = schema.Braces(text, w.Quote)
			}
			d := w.SQL(text)
			c.Default = &d
		}
	}
	if c.Stamped {
		d := w.SQL(w.Now(c.Type))
		c.Default = &d
		t.Triggers = append(t.Triggers, w.Stamp(t, c))
	}
	if c.Immutable {
		t.Triggers = append(t.Triggers, w.Immutable(t, c))
	}
}

// Check is a check of a column for a purpose, which its name tells.
func (w *Lowering) Check(t *sqlschema.Table, c *sqlschema.Column, purpose schema.Purpose,
	expr string) *sqlschema.Check {
	k := &sqlschema.Check{
		Name:    schema.ConstraintName(t.Declared.Bare(), []string{c.Name}, string(purpose)),
		Column:  c.Name,
		Purpose: purpose,
		SQL:     w.SQL(expr),
	}
	switch purpose {
	case schema.ForChoice:
		k.Choices = c.Type.Choices
	case schema.ForRange:
		k.Range = c.Declared.Range
	}
	return k
}

// Checks are those of a column that every engine makes: for its choices, against blanks, and
// for its range.
func (w *Lowering) Checks(t *sqlschema.Table, c *sqlschema.Column) []*sqlschema.Check {
	var out []*sqlschema.Check
	if c.Type.Kind == schema.Choice && !(w.Enums && c.Type.Enum != "") && c.Values == nil && c.Type.As == "" {
		values := make([]string, len(c.Type.Choices))
		for i, v := range c.Type.Choices {
			values[i] = w.Text(v)
		}
		out = append(out, w.Check(t, c, schema.ForChoice, w.OneOf(w.Quote(c.Name), values)))
	}
	if c.Declared.Nonblank {
		out = append(out, w.Check(t, c, schema.ForNonblank, w.Nonblank(c)))
	}
	if c.Declared.Range != nil {
		out = append(out, w.Check(t, c, schema.ForRange, w.inRange(c)))
	}
	return out
}

// inRange is the condition that a value is within its range.
func (w *Lowering) inRange(c *sqlschema.Column) string {
	end := func(v *schema.Value) string {
		if w.Bound != nil {
			return w.Bound(*v, c.Type)
		}
		s, _ := w.Value(*v, c.Type)
		return s
	}
	x := w.Quote(c.Name)
	switch r := c.Declared.Range; {
	case r.From != nil && r.To != nil:
		return fmt.Sprintf(w.Between, x, end(r.From), end(r.To))
	case r.From != nil:
		return fmt.Sprintf("%s >= %s", x, end(r.From))
	default:
		return fmt.Sprintf("%s <= %s", x, end(r.To))
	}
}

// Constants are an engine's own words for declared values that are no texts.
type Constants struct {
	Text             func(s string) string // as a literal
	True, False      string
	Now              func(t schema.Type) string
	Today, FreshUUID string
}

// SQL is a declared value as SQL; ok is false for a text, a day or a time.
func (w *Constants) SQL(v schema.Value, t schema.Type) (sql string, ok bool) {
	switch v.Kind {
	case schema.NullValue:
		return "NULL", true
	case schema.NumberValue:
		return v.Text, true
	case schema.BooleanValue:
		switch {
		case t.Kind == schema.JSON:
			return w.Text(v.Text), true
		case v.Text == "true":
			return w.True, true
		}
		return w.False, true
	case schema.NowValue:
		return w.Now(t), true
	case schema.TodayValue:
		return w.Today, true
	case schema.UUIDValue:
		return w.FreshUUID, true
	case schema.SQLValue:
		return "(" + v.Text + ")", true
	}
	return "", false
}

// Most is the largest value of an unsigned whole number.
func Most(t schema.Type) string {
	switch t.Kind {
	case schema.Smallint:
		return "65535"
	case schema.Integer:
		return "4294967295"
	}
	return "18446744073709551615"
}
