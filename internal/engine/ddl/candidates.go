package ddl

// This file offers values to try in a proof: for each type those that hurt.

import (
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Literals are an engine's own words for values to try.
type Literals struct {
	Rules    *sqltok.Rules
	TwoLines string // a text of two lines
	True     string
	False    string
	Stamps   []string // of a timestamp
	Moments  []string // of a datetime
	NewUUID  string   // an expression that gives a new one
	Bytes    []string
	Other    []string // for a type that no word of the language stands for
}

// Candidates are SQL literals to try as values of a column of this type: first what the
// checks of its table compare it with, which is likely to pass them, and the values of its
// enum type. The server itself says, when a row is inserted, which of them can be.
func (l *Literals) Candidates(t *sqlschema.Table, c *sqlschema.Column, typ schema.Type, values []string) []string {
	out := append(l.compared(t, c), values...)
	out = append(out, l.ofType(typ)...)
	if !c.NotNull {
		out = append(out, "NULL")
	}
	return out
}

// compared is what the checks that mention a column compare with.
func (l *Literals) compared(t *sqlschema.Table, c *sqlschema.Column) []string {
	var out []string
	own := []schema.Purpose{schema.ForType, schema.ForSoftDelete, schema.ForNonblank}
	for _, k := range t.Checks {
		list := l.Rules.Lex(k.SQL.Text)
		if slices.Contains(own, k.Purpose) || !slices.ContainsFunc(list,
			func(o sqltok.Token) bool { return o.Named() && strings.EqualFold(o.Name(), c.Name) }) {
			continue
		}
		for _, o := range list {
			switch o.Kind {
			case sqltok.Text:
				out = append(out, o.Text)
			case sqltok.Number:
				out = append(out, o.Text, "("+o.Text+" + 1)", "("+o.Text+" - 1)", "-"+o.Text)
			}
		}
	}
	return out
}

// ofType are values of a type, whatever the table says of them.
func (l *Literals) ofType(typ schema.Type) []string {
	switch typ.Kind {
	case schema.Text:
		out := []string{
			"'Bellis'", "'bellis'", "'Bellis '", "'é'", "'7'", "'x'", "'Ada Verdi'", l.TwoLines, "'2026-01-31'", "''",
		}
		if typ.Length > 0 && typ.Length < 10000 {
			out = append(out, "'"+strings.Repeat("n", typ.Length)+"'")
		}
		return out
	case schema.Smallint, schema.Integer, schema.Bigint:
		return []string{"1", "2", "0", "-1", "7", "32767", "100"}
	case schema.Decimal:
		return []string{"1", "0", "0.5", "-1.25", "12", "0.125"}
	case schema.Real, schema.Double:
		return []string{"1.5", "0.0", "-2.25", "100.0"}
	case schema.Boolean:
		return []string{l.True, l.False}
	case schema.Date:
		return []string{"'2026-01-31'", "'1999-12-31'", "'2024-02-29'"}
	case schema.Time:
		return []string{"'08:30:00'", "'23:59:59.999'"}
	case schema.Timestamp:
		return l.Stamps
	case schema.Datetime:
		return l.Moments
	case schema.UUID:
		return []string{"'0190b6c4-5a3e-7c11-9d2f-3b8a6e4c7d01'", l.NewUUID}
	case schema.JSON:
		return []string{"'{}'", `'{"note":"pressed"}'`, "'[1, 2]'"}
	case schema.Bytes:
		return l.Bytes
	}
	return l.Other
}
