package ddl

// This file is what all engines do alike with a column of a declared table: its default, its
// triggers, the checks by their purpose.

import (
	"fmt"

	"erbario/internal/schema"
)

// Lowering is an engine's own words for what is declared.
type Lowering struct {
	Quote func(name string) string
	SQL   func(text string) schema.SQL // in the form in which it compares
	Value func(v schema.Value, t schema.Type) (string, error)
	Now   func(t schema.Type) string // the default of a stamped column
	// Stamp and Immutable are the triggers of a column.
	Stamp, Immutable func(t *schema.Table, c *schema.Column) *schema.Trigger
	Between          string // of a value and two ends: %[1]s, %[2]s and %[3]s
}

// Written is SQL of a model, with names of fields in braces, as the engine has it.
func (w *Lowering) Written(s *schema.SQL) schema.SQL { return w.SQL(schema.Braces(s.Text, w.Quote)) }

// Column lowers what a column is generated from, its default and its triggers.
func (w *Lowering) Column(t *schema.Table, c *schema.Column) {
	if c.Generated != nil {
		c.Generated = &schema.Generated{SQL: w.Written(&c.Generated.SQL), Stored: c.Generated.Stored}
	}
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
func (w *Lowering) Check(t *schema.Table, c *schema.Column, purpose schema.Purpose, expr string) *schema.Check {
	return &schema.Check{
		Name:    schema.ConstraintName(t.Name, []string{c.Name}, string(purpose)),
		Column:  c.Name,
		Purpose: purpose,
		SQL:     w.SQL(expr),
	}
}

// Range is the condition that a value is within its range; end is one of its ends as SQL.
func (w *Lowering) Range(c *schema.Column, end func(v *schema.Value) string) string {
	x := w.Quote(c.Name)
	switch r := c.Range; {
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
