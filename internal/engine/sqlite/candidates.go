package sqlite

// This file offers values to try in a proof: for each type those that hurt.

import (
	"strings"

	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

var literals = &ddl.Literals{
	Rules: rules, TwoLines: "'a' || char(10) || 'b'", True: "1", False: "0",
	Stamps:  []string{"'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999'"},
	Moments: []string{"'2026-01-31 08:30:00'", "'1999-12-31 23:59:59.999'"},
	NewUUID: "lower(hex(randomblob(4)) || '-' || hex(randomblob(2)) || '-' || hex(randomblob(2)) || '-' || " +
		"hex(randomblob(2)) || '-' || hex(randomblob(6)))",
	Bytes: []string{"x'00ff'", "x''"}, Other: []string{"'x'", "1", "'2026-01-31'", "x'01'"},
}

// Candidates are SQL literals to try as values of the column. Decimals that are texts have
// all their digits.
func (Engine) Candidates(t *sqlschema.Table, c *sqlschema.Column) []string {
	typ := typeOf(c.SQLType)
	if !strings.HasPrefix(strings.ToUpper(c.SQLType), "DECIMAL_TEXT") {
		return literals.Candidates(t, c, typ, nil)
	}
	rest := strings.Repeat("0", typ.Scale)
	if typ.Scale > 0 {
		rest = "." + rest
	}
	decimals := *literals
	decimals.Other = []string{"'1" + rest + "'", "'0" + rest + "'", "'-2" + rest + "'"}
	return decimals.Candidates(t, c, schema.Type{}, nil)
}
