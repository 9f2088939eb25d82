package sqlite

// This file tells how a value of one type becomes one of another.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Convert tells how a value of one type becomes one of another. ok is false where
// there is no one obvious way.
func (Engine) Convert(from, to *sqlschema.Column) (engine.Conversion, bool) {
	x := quote(from.Name)
	a, b := typeOf(from.SQLType).Kind, typeOf(to.SQLType).Kind
	if exact(from.SQLType) || exact(to.SQLType) {
		return convertExact(x, from.SQLType, to.SQLType)
	}
	if a == b || strings.EqualFold(from.SQLType, to.SQLType) {
		return engine.Conversion{}, true
	}
	as := func(sql, how string) (engine.Conversion, bool) { return engine.Conversion{SQL: sql, How: how}, true }
	written := map[schema.Kind]string{ // kept as text
		schema.Text: "the text is unchanged", schema.Date: "the text must be a day, as 2026-01-31",
		schema.Time:      "the text must be a time, as 10:30:00",
		schema.Timestamp: "the text must be a timestamp in UTC, as 2026-01-31 10:30:00",
		schema.Datetime:  "the text must be a time, as 2026-01-31 10:30:00",
		schema.UUID:      "the text must be a UUID in lower case", schema.JSON: "the text must be JSON",
	}
	moment := func(k schema.Kind) bool { return k == schema.Timestamp || k == schema.Datetime }
	float := func(k schema.Kind) bool { return k == schema.Real || k == schema.Double }
	whole := func(k schema.Kind) bool { return k.Whole() || k == schema.Boolean }
	switch {
	case moment(a) && moment(b):
		return as("", "the time is unchanged")
	case a == schema.Date && moment(b):
		return as(x+" || ' 00:00:00'", "a day becomes midnight of that day")
	case moment(a) && b == schema.Date:
		return as("date("+x+")", "a timestamp becomes its day, and must be at midnight")
	case a.Whole() && moment(b):
		return as("datetime("+x+", 'unixepoch')", "seconds since 1970 become the timestamp")
	case moment(a) && b.Whole():
		return as("unixepoch("+x+")", "a timestamp becomes the seconds since 1970, and must have no fraction")
	case a == schema.Text && written[b] != "":
		return as("", written[b])
	case b == schema.Text && written[a] != "":
		return as("", written[b])
	case a == schema.Boolean && b == schema.Text:
		return as("CASE "+x+" WHEN 1 THEN 'true' WHEN 0 THEN 'false' END", "true and false become words")
	case a == schema.Text && b == schema.Boolean:
		return as("CASE "+x+" WHEN 'true' THEN 1 WHEN 'false' THEN 0 END", "the text must be true or false")
	case a == schema.Boolean && whole(b):
		return as("", "false becomes 0, true 1")
	case whole(a) && b == schema.Boolean:
		return as("", "0 becomes false, 1 true; no other number is allowed")
	case whole(a) && (whole(b) || b == schema.Decimal):
		return as("", "the number is unchanged")
	case b == schema.Text && a == schema.Decimal:
		return as(digits(x, typeOf(from.SQLType).Scale), "a number becomes its digits")
	case b == schema.Text && (whole(a) || float(a)):
		return as("CAST("+x+" AS TEXT)", "a number becomes its digits")
	case a == schema.Text && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the text must be a whole number's digits")
	case a == schema.Text && b == schema.Decimal:
		return as("CAST("+x+" AS NUMERIC)", "the text must be a number's digits")
	case a == schema.Text && float(b):
		return as("CAST("+x+" AS REAL)", "the text must be a number's digits")
	case (a.Whole() || a == schema.Decimal) && float(b):
		return as("CAST("+x+" AS REAL)", "the number is unchanged")
	case (float(a) || a == schema.Decimal) && b.Whole():
		return as("CAST("+x+" AS INTEGER)", "the number must be whole")
	case float(a) && (b == schema.Decimal || float(b)):
		return as("", "the number is unchanged")
	}
	return engine.Conversion{}, false
}

// exact tells whether a type keeps decimals as texts in one form.
func exact(sqlType string) bool { return strings.HasPrefix(strings.ToUpper(sqlType), "DECIMAL_TEXT") }

// digits is a number as a text with so many digits behind the point. One that is kept as a
// whole number keeps all of its digits.
func digits(x string, scale int) string {
	return fmt.Sprintf("CASE typeof(%s) WHEN 'integer' THEN %s || %s WHEN 'real' THEN printf('%%.%df', %s) ELSE %s END",
		x, x, literal(zeros(scale)), scale, x, x)
}

// zeros are a point and so many zeros; "" for none.
func zeros(n int) string {
	if n == 0 {
		return ""
	}
	return "." + strings.Repeat("0", n)
}

// convertExact tells how decimals that are kept as texts become other values, and others
// become them.
func convertExact(x, from, to string) (engine.Conversion, bool) {
	a, b := typeOf(from), typeOf(to)
	as := func(sql, how string) (engine.Conversion, bool) { return engine.Conversion{SQL: sql, How: how}, true }
	number := func(t schema.Type) bool {
		return t.Kind.Whole() || t.Kind == schema.Decimal || t.Kind == schema.Real || t.Kind == schema.Double
	}
	switch {
	case exact(from) && exact(to):
		switch more := b.Scale - a.Scale; {
		case more == 0:
			return engine.Conversion{}, true
		case more > 0 && a.Scale == 0:
			return as(x+" || "+literal(zeros(more)), "")
		case more > 0:
			return as(x+" || "+literal(strings.Repeat("0", more)), "")
		case b.Scale == 0:
			return as(fmt.Sprintf("substr(%s, 1, length(%s) - %d)", x, x, a.Scale+1), "the number must be whole")
		default:
			return as(fmt.Sprintf("substr(%s, 1, length(%s) - %d)", x, x, -more),
				fmt.Sprintf("the number must have at most %d digits after the decimal point", b.Scale))
		}
	case exact(to) && a.Kind == schema.Text:
		if b.Scale == 0 {
			return as("", "the text must be a whole number's digits")
		}
		return as(
			fmt.Sprintf(
				"CASE instr(%s, '.') WHEN 0 THEN %s || %s ELSE %s || substr(%s, 1, max(0, %d - (length(%s) - instr(%s, '.')))) END",
				x, x, literal(zeros(b.Scale)), x, literal(strings.Repeat("0", b.Scale)), b.Scale, x, x),
			"the text must be a number's digits",
		)
	case exact(from) && b.Kind == schema.Text:
		return as("", "a number becomes its digits")
	case exact(to) && number(a):
		return as(digits(x, b.Scale), "the number is unchanged")
	case exact(from) && b.Kind.Whole():
		return as("CAST("+x+" AS INTEGER)", "the number must be whole")
	case exact(from) && b.Kind == schema.Decimal:
		return as("CAST("+x+" AS NUMERIC)", "the number is unchanged")
	case exact(from) && number(b):
		return as("CAST("+x+" AS REAL)", "the number is unchanged")
	}
	return engine.Conversion{}, false
}
