package postgres

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// How a column takes another type of the same name, and which values can.
func TestRetype(t *testing.T) {
	domain := func(of string) engine.Creation {
		return engine.Creation{Kind: "domain", Name: "mark", SQL: "CREATE DOMAIN mark AS " + of}
	}
	composite := func(of string) engine.Creation {
		return engine.Creation{Kind: "composite type", Name: "mark", SQL: "CREATE TYPE mark AS (" + of + ")"}
	}
	sheets := &sqlschema.Table{Name: "sheets"}
	for _, c := range []struct {
		from, to  engine.Creation
		sql, fits string
	}{
		{domain("character varying(8)"), domain("character varying(20)"), "x::varchar(20)", ""},
		{domain("text COLLATE \"C\""), domain("text"), "x", ""},
		{domain("smallint"), domain("bigint"), "x::bigint", ""},
		{composite("a text, \"B c\" integer"), composite("\"B c\" bigint, d numeric(4,2)"),
			"CASE WHEN x IS DISTINCT FROM NULL THEN ROW((x).\"B c\"::bigint, NULL::numeric(4,2))::mark END", "(x).a IS NULL"},
	} {
		r, ok := Engine{}.Retype(sheets, &sqlschema.Column{Name: "x", SQLType: "mark"}, c.from, c.to)
		assert.True(t, ok, c.to.SQL)
		assert.Equal(t, "ALTER TABLE sheets ALTER COLUMN x TYPE mark USING "+c.sql, r.SQL)
		assert.Equal(t, c.fits, r.Fits, c.to.SQL)
	}
	r, ok := Engine{}.Retype(sheets, &sqlschema.Column{
		Name: "x", SQLType: "mark", Default: &sqlschema.SQL{Text: "'1'"},
	}, domain("character varying(8)"), domain("integer CONSTRAINT low CHECK (VALUE < 9)"))
	assert.True(t, ok)
	assert.Contains(t, r.SQL, "x DROP DEFAULT, ")
	assert.Contains(t, r.SQL, ", ALTER COLUMN x SET DEFAULT '1'")
	assert.NotEmpty(t, r.Fits)
	assert.Contains(t, r.Holds["low"], "END) < 9")
	for _, c := range []struct{ from, to engine.Creation }{
		{domain("text"), domain("point")}, {composite("a text"), composite("a point")},
	} {
		_, ok := Engine{}.Retype(sheets, &sqlschema.Column{Name: "x", SQLType: "mark"}, c.from, c.to)
		assert.False(t, ok, c.to.SQL)
	}
}
