package mariadb

// This file offers values to try in a proof: for each type those that hurt.

import (
	"strings"

	"erbario/internal/engine/ddl"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

var literals = &ddl.Literals{
	Rules: rules, TwoLines: "'a\\nb'", True: "1", False: "0",
	Stamps:  []string{"'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999999'"},
	Moments: []string{"'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999999'"},
	NewUUID: "uuid()",
	Bytes:   []string{"x'00ff'", "x''"}, Other: []string{"'x'", "1", "'2026-01-31'", "'{}'", "NULL"},
}

// Candidates are SQL literals to try as values of the column.
func (Engine) Candidates(t *sqlschema.Table, c *sqlschema.Column) []string {
	var values []string
	if list, ok := strings.CutPrefix(c.SQLType, "enum("); ok {
		for _, tok := range tokens(list) {
			if tok.Kind == sqltok.Text {
				values = append(values, tok.Text)
			}
		}
	}
	return literals.Candidates(t, c, kindOf(c), values)
}
