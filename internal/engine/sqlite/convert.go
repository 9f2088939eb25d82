package sqlite

// This file tells how a value of one type becomes one of another.

import (
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Convert tells how a value of one type becomes one of another. ok is false where
// there is no one obvious way.
func (Engine) Convert(from, to *schema.Column) (engine.Conversion, bool) {
	x := quote(from.Name)
	a, b := typeOf(from.SQLType).Kind, typeOf(to.SQLType).Kind
	if a == b || strings.EqualFold(from.SQLType, to.SQLType) {
		return engine.Conversion{}, true
	}
	exact := func(t string) bool { return strings.HasPrefix(strings.ToUpper(t), "DECIMAL_TEXT") }
	if exact(from.SQLType) || exact(to.SQLType) {
		return engine.Conversion{}, false
	}
	as := func(sql, how string) (engine.Conversion, bool) { return engine.Conversion{SQL: sql, How: how}, true }
	written := map[schema.Kind]string{ // kept as text
		schema.Text: "the text stays as it is", schema.Date: "the text has to be a day, as 2026-01-31", schema.Time: "the text has to be a time, as 10:30:00",
		schema.Timestamp: "the text has to be a moment in UTC, as 2026-01-31 10:30:00", schema.Datetime: "the text has to be a time, as 2026-01-31 10:30:00",
		schema.UUID: "the text has to be a UUID in lower case", schema.JSON: "the text has to be JSON",
	}
	moment := func(k schema.Kind) bool { return k == schema.Timestamp || k == schema.Datetime }
	float := func(k schema.Kind) bool { return k == schema.Real || k == schema.Double }
	whole := func(k schema.Kind) bool { return k.Whole() || k == schema.Boolean }
	switch {
	case moment(a) && moment(b):
		return as("", "the time stays as it is")
	case a == schema.Date && moment(b):
		return as(x+" || ' 00:00:00'", "a day becomes its midnight")
	case moment(a) && b == schema.Date:
		return as("date("+x+")", "a time becomes its day, and has to be a midnight")
	case a.Whole() && moment(b):
		return as("datetime("+x+", 'unixepoch')", "seconds since 1970 become the moment")
	case moment(a) && b.Whole():
		return as("unixepoch("+x+")", "a moment becomes the seconds since 1970, and has to be a whole one")
	case a == schema.Text && written[b] != "":
		return as("", written[b])
	case b == schema.Text && written[a] != "":
		return as("", written[b])
	case a == schema.Boolean && b == schema.Text:
		return as("CASE "+x+" WHEN 1 THEN 'true' WHEN 0 THEN 'false' END", "true and false become words")
	case a == schema.Text && b == schema.Boolean:
		return as("CASE "+x+" WHEN 'true' THEN 1 WHEN 'false' THEN 0 END", "the text has to be true or false")
	case a == schema.Boolean && whole(b):
		return as("", "false becomes 0, true 1")
	case whole(a) && b == schema.Boolean:
		return as("", "0 becomes false, 1 true; there can be no other")
	case whole(a) && (whole(b) || b == schema.Decimal):
		return as("", "the number stays as it is")
	case b == schema.Text && (whole(a) || a == schema.Decimal || float(a)):
		return as("CAST("+x+" AS TEXT)", "a number becomes its digits")
	case a == schema.Text && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the text has to be a whole number's digits")
	case a == schema.Text && b == schema.Decimal:
		return as("CAST("+x+" AS NUMERIC)", "the text has to be a number's digits")
	case a == schema.Text && float(b):
		return as("CAST("+x+" AS REAL)", "the text has to be a number's digits")
	case (a.Whole() || a == schema.Decimal) && float(b):
		return as("CAST("+x+" AS REAL)", "the number stays as it is")
	case (float(a) || a == schema.Decimal) && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the number has to be whole")
	case float(a) && (b == schema.Decimal || float(b)):
		return as("", "the number stays as it is")
	}
	return engine.Conversion{}, false
}
