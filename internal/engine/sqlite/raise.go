package sqlite

// This file tells what SQLite holds in the terms of the models. A stored type gives values no
// form, but for the affinity of its name.

import (
	"strings"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Raise says what would be declared for a stored table.
func (Engine) Raise(t *sqlschema.Table, plain bool) *schema.Table { return raising.Table(t, plain) }

var raising = &ddl.Raising{
	Lowering: lowering, Lex: tokens, TypeName: typeName, Meaning: meaning,
	Constraint: func(*sqlschema.Index) bool { return false },
	Own:        raiseOwn, OwnIndex: func(*sqlschema.Index, *schema.Index) {},
}

// raiseOwn adds the options of a table, and how its rows are numbered.
func raiseOwn(t *sqlschema.Table, out *schema.Table) {
	var options []string
	if t.Options.Strict {
		options = append(options, "STRICT")
	}
	if t.Options.WithoutRowid {
		options = append(options, "WITHOUT ROWID")
	}
	out.Options = strings.Join(options, ", ")
	key := rowidKey(t)
	for _, c := range out.Columns {
		if key != "" && strings.EqualFold(c.Name, key) && !t.PrimaryKey.Autoincrement {
			c.Type, c.Identity, c.NotNull = schema.Type{Kind: schema.Integer}, true, true
			c.Numbers = schema.Numbers{Rowid: true}
		}
		if c.Identity && c.Name == key {
			c.Type, c.NotNull = schema.Type{Kind: schema.Integer}, true
		}
	}
}

// meaning is the type of the language for a declared type of SQLite: by its name, if values of
// that form are certain, else by its affinity.
func meaning(c *sqlschema.Column) (schema.Type, bool) {
	upper := strings.ToUpper(c.SQLType)
	head, _, _ := strings.Cut(upper, "(")
	head = strings.TrimSpace(head)
	t := typeOf(c.SQLType)
	has := func(words ...string) bool {
		for _, w := range words {
			if strings.Contains(head, w) {
				return true
			}
		}
		return false
	}
	timed := func(kind schema.Kind) (schema.Type, bool) { // if a default says it
		if c.Default != nil && strings.Contains(strings.ToUpper(c.Default.Text), "CURRENT_") ||
			c.Value != nil && (c.Value.Kind == schema.NowValue || c.Value.Kind == schema.TodayValue) {
			return schema.Type{Kind: kind}, true
		}
		return schema.Type{Kind: schema.Text}, true
	}
	switch {
	case upper == "ANY":
		return t, false
	case upper == "":
		return schema.Type{Kind: schema.Text}, true
	case t.Kind == schema.UUID:
		return schema.Type{Kind: schema.Text, Length: 36, Fixed: true}, true
	case t.Kind == schema.Date, t.Kind == schema.Time, t.Kind == schema.Datetime, t.Kind == schema.Timestamp:
		return timed(t.Kind)
	case has("BOOL"):
		if c.Default != nil && (c.Default.Text == "0" || c.Default.Text == "1" || strings.EqualFold(c.Default.Text,
			"true") ||
			strings.EqualFold(c.Default.Text, "false")) {
			return schema.Type{Kind: schema.Boolean}, true
		}
		return schema.Type{Kind: schema.Integer}, true
	case t.Kind == schema.Decimal && t.Precision == 0:
		return schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 10}, true
	case t.Kind != schema.Native:
		return t, true
	case has("BIGINT"):
		return schema.Type{Kind: schema.Bigint}, true
	case has("INT"):
		return schema.Type{Kind: schema.Integer}, true
	case has("CHAR", "CLOB", "TEXT"):
		return schema.Type{Kind: schema.Text}, true
	case has("BLOB", "BINARY", "BYTE"):
		return schema.Type{Kind: schema.Bytes}, true
	case has("REAL", "FLOA", "DOUB"):
		return schema.Type{Kind: schema.Double}, true
	case has("JSON"):
		return schema.Type{Kind: schema.JSON}, true
	case has("DATETIME", "TIMESTAMP"):
		return timed(schema.Datetime)
	case has("NUMERIC", "DECIMAL", "NUMBER", "MONEY", "CURRENCY"):
		if _, digits, ok := strings.Cut(upper, "("); ok {
			if d := typeOf("DECIMAL(" + digits); d.Precision > 0 {
				return d, true
			}
		}
		return schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 10}, true
	}
	return schema.Type{Kind: schema.Text}, true
}
