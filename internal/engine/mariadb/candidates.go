package mariadb

// This file offers values to try in a proof: for each type those that hurt.

import (
	"strings"

	"erbario/internal/schema"
)

// Candidates are SQL literals to try as values of the column. The server itself says,
// when a row is inserted, which of them can be.
func (Engine) Candidates(t *schema.Table, c *schema.Column) []string {
	var out []string
	// What the checks compare with is likely to pass them.
	for _, k := range t.Checks {
		if !mentions(k.SQL.Text, c.Name) || k.Purpose == schema.ForType || k.Purpose == schema.ForSoftDelete || k.Purpose == schema.ForNonblank {
			continue
		}
		for _, tok := range tokens(k.SQL.Text) {
			switch tok.kind {
			case tokString:
				out = append(out, tok.text)
			case tokNumber:
				out = append(out, tok.text, "("+tok.text+" + 1)", "("+tok.text+" - 1)", "-"+tok.text)
			}
		}
	}
	typ := kindOf(c)
	switch typ.Kind {
	case schema.Text:
		out = append(out, "'Bellis'", "'bellis'", "'Bellis '", "'é'", "'7'", "'x'", "'Ada Verdi'", "'a\\nb'", "'2026-01-31'", "''")
		if typ.Length > 0 && typ.Length < 10000 {
			out = append(out, "'"+strings.Repeat("n", typ.Length)+"'")
		}
	case schema.Smallint, schema.Integer, schema.Bigint:
		out = append(out, "1", "2", "0", "-1", "7", "32767", "100")
	case schema.Decimal:
		out = append(out, "1", "0", "0.5", "-1.25", "12", "0.125")
	case schema.Real, schema.Double:
		out = append(out, "1.5", "0.0", "-2.25", "100.0")
	case schema.Boolean:
		out = append(out, "1", "0")
	case schema.Date:
		out = append(out, "'2026-01-31'", "'1999-12-31'", "'2024-02-29'")
	case schema.Time:
		out = append(out, "'08:30:00'", "'23:59:59.999'")
	case schema.Timestamp, schema.Datetime:
		out = append(out, "'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999999'")
	case schema.UUID:
		out = append(out, "'0190b6c4-5a3e-7c11-9d2f-3b8a6e4c7d01'", "uuid()")
	case schema.JSON:
		out = append(out, "'{}'", `'{"note":"pressed"}'`, "'[1, 2]'")
	case schema.Bytes:
		out = append(out, "x'00ff'", "x''")
	default:
		if values, ok := strings.CutPrefix(c.SQLType, "enum("); ok {
			for _, tok := range tokens(values) {
				if tok.kind == tokString {
					out = append(out, tok.text)
				}
			}
		}
		out = append(out, "'x'", "1", "'2026-01-31'", "'{}'", "NULL")
	}
	if !c.NotNull {
		out = append(out, "NULL")
	}
	return out
}
