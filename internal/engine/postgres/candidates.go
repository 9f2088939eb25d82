package postgres

// This file offers values to try in a proof: for each type those that hurt.

import (
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

var literals = &ddl.Literals{
	Rules: rules, TwoLines: "E'a\\nb'", True: "true", False: "false",
	Stamps:  []string{"'2026-01-31 08:30:00+00'", "'1999-12-31 23:59:59.999999+00'"},
	Moments: []string{"'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999999'"},
	NewUUID: "gen_random_uuid()",
	Bytes:   []string{`'\x00ff'`, `'\x'`}, Other: []string{"'x'", "1", "'2026-01-31'", "'{}'", "NULL"},
}

// Candidates are SQL literals to try as values of the column.
func (Engine) Candidates(t *sqlschema.Table, c *sqlschema.Column) []string {
	var values []string
	for _, v := range c.Values {
		values = append(values, literal(v))
	}
	return literals.Candidates(t, c, typeOf(c.SQLType), values)
}
