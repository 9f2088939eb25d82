package postgres

// This file tells how a value of one type becomes one of another. The server ends
// a statement at the first value that it cannot convert, so a conversion is made
// only of values that fit, and what does not fit is found by a query beforehand.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Patterns of texts that are values of other types.
const (
	wholePattern   = `^(0|-?[1-9][0-9]{0,18})$`
	decimalPattern = `^-?[0-9]+(\.[0-9]+)?$`
	floatPattern   = `^-?[0-9]{1,15}(\.[0-9]{1,15})?$`
	timePattern    = `([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9](\.[0-9]{1,6})?`
	dayPattern     = `([1-9][0-9]{3}|0[1-9][0-9]{2}|00[1-9][0-9]|000[1-9])-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])`
	uuidPattern    = `^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}$`
)

// wholeEnds are the smallest and the largest number of a type.
func wholeEnds(k schema.Kind) (string, string) {
	switch k {
	case schema.Smallint:
		return "-32768", "32767"
	case schema.Integer:
		return "-2147483648", "2147483647"
	}
	return "-9223372036854775808", "9223372036854775807"
}

// when asks a second question only of those values that passed the first.
func when(first, second string) string {
	return fmt.Sprintf("CASE WHEN %s THEN %s ELSE false END", first, second)
}

// Convert tells how a value of one type becomes one of another. ok is false where
// there is no one obvious way.
func (Engine) Convert(from, to *schema.Column) (engine.Conversion, bool) {
	x := quote(from.Name)
	tf, tt := typeOf(from.SQLType), typeOf(to.SQLType)
	a, b := tf.Kind, tt.Kind
	if schema.SameForm(from.SQLType, to.SQLType) {
		return engine.Conversion{}, true
	}
	as := func(sql, how, fits string) (engine.Conversion, bool) {
		if fits != "" && sql != "" {
			sql = fmt.Sprintf("CASE WHEN %s THEN %s END", fits, sql)
		}
		return engine.Conversion{SQL: sql, How: how, Fits: fits}, true
	}
	exact := func(sql, how, fits string) (engine.Conversion, bool) {
		c, ok := as(sql, how, fits)
		c.Exact = true
		return c, ok
	}
	length := ""
	if b == schema.Text && tt.Length > 0 {
		length = fmt.Sprintf("pg_catalog.length(%%s) <= %d", tt.Length)
	}
	fitsText := func(sql string) string {
		if length == "" {
			return ""
		}
		return fmt.Sprintf(length, sql)
	}
	fitsDecimal := func(n string) string {
		return fmt.Sprintf("%s = round(%s, %d) AND abs(%s) < 1e%d", n, n, tt.Scale, n, tt.Precision-tt.Scale)
	}
	moment := func(k schema.Kind) bool { return k == schema.Timestamp || k == schema.Datetime }
	float := func(k schema.Kind) bool { return k == schema.Real || k == schema.Double }
	cast := func(sql string) string { return sql + "::" + to.SQLType }
	between := func(sql string) string {
		low, high := wholeEnds(b)
		return fmt.Sprintf("%s BETWEEN %s AND %s", sql, low, high)
	}
	order := map[schema.Kind]int{schema.Smallint: 1, schema.Integer: 2, schema.Bigint: 3}
	list := func(values []string) string {
		out := make([]string, len(values))
		for i, v := range values {
			out[i] = literal(v)
		}
		return x + "::text IN (" + strings.Join(out, ", ") + ")"
	}
	switch {
	case to.Values != nil && (from.Values != nil || a == schema.Text):
		return exact(cast(x+"::text"), "the text must be one of the values", list(to.Values))
	case from.Values != nil && b == schema.Text:
		return exact(cast(x+"::text"), "a value becomes its text", fitsText(x+"::text"))
	case a == schema.Native || b == schema.Native:
		return engine.Conversion{}, false
	case a == schema.Text && b == schema.Text:
		if tf.Length > 0 && tf.Length <= tt.Length {
			length = ""
		}
		return engine.Conversion{Fits: fitsText(x)}, true
	case a == schema.Decimal && b == schema.Decimal:
		if tt.Scale >= tf.Scale && tt.Precision-tt.Scale >= tf.Precision-tf.Scale {
			return engine.Conversion{}, true
		}
		return engine.Conversion{Fits: fitsDecimal(x)}, true
	case a.Whole() && b.Whole():
		if order[a] < order[b] {
			return engine.Conversion{How: "the number is unchanged"}, true
		}
		return engine.Conversion{How: "the number is unchanged", Fits: between(x)}, true
	case a == schema.Timestamp && b == schema.Datetime, a == schema.Datetime && b == schema.Timestamp:
		return exact(x+" AT TIME ZONE 'UTC'", "the time is unchanged, in UTC", "")
	case a == schema.Date && b == schema.Timestamp:
		return exact("("+x+"::timestamp AT TIME ZONE 'UTC')", "a day becomes midnight of that day", "")
	case a == schema.Date && b == schema.Datetime:
		return exact(cast(x), "a day becomes midnight of that day", "")
	case a == schema.Timestamp && b == schema.Date:
		return as("("+x+" AT TIME ZONE 'UTC')::date", "a timestamp becomes its day, and must be at midnight", "")
	case a == schema.Datetime && b == schema.Date:
		return as(cast(x), "a timestamp becomes its day, and must be at midnight", "")
	case a.Whole() && moment(b):
		sql := "to_timestamp(" + x + ")"
		if b == schema.Datetime {
			sql = "(" + sql + " AT TIME ZONE 'UTC')"
		}
		return exact(sql, "seconds since 1970 become the timestamp", x+" BETWEEN -62135596800 AND 253402300799")
	case moment(a) && b.Whole():
		return as(cast(fmt.Sprintf("floor(extract(epoch FROM %s))", x)),
			"a timestamp becomes the seconds since 1970, and must have no fraction",
			between(fmt.Sprintf("extract(epoch FROM %s)", x)))
	case a == schema.Boolean && b == schema.Text:
		return exact(cast(x+"::text"), "true and false become words", fitsText(x+"::text"))
	case a == schema.Text && b == schema.Boolean:
		return exact(cast(x), "the text must be true or false", x+" IN ('true', 'false')")
	case a == schema.Boolean && (b.Whole() || b == schema.Decimal && tt.Precision > tt.Scale):
		return exact(cast(x+"::integer"), "false becomes 0, true 1", "")
	case a == schema.Decimal && b == schema.Boolean:
		return exact(fmt.Sprintf("(%s = 1)", x), "0 becomes false, 1 true; no other number is allowed", x+" IN (0, 1)")
	case a.Whole() && b == schema.Boolean:
		return exact(fmt.Sprintf("(%s = 1)", x), "0 becomes false, 1 true; no other number is allowed", x+" IN (0, 1)")
	case a.Whole() && b == schema.Decimal:
		return exact(cast(x), "the number is unchanged",
			fmt.Sprintf("abs(%s::numeric) < 1e%d", x, tt.Precision-tt.Scale))
	case b == schema.Text && (a.Whole() || float(a)):
		return exact(cast(x+"::text"), "a number becomes its digits", fitsText(x+"::text"))
	case b == schema.Text && a == schema.Decimal:
		return as(cast(x+"::text"), "a number becomes its digits", fitsText(x+"::text"))
	case a == schema.Text && b.Whole():
		return exact(cast(x), "the text must be a whole number's digits",
			when(x+" ~ "+literal(wholePattern), between(x+"::numeric")))
	case a == schema.Text && b == schema.Decimal:
		return as(cast(x), "the text must be a number's digits",
			when(x+" ~ "+literal(decimalPattern), fitsDecimal(x+"::numeric")))
	case a == schema.Text && float(b):
		return as(cast(x), "the text must be a number's digits", x+" ~ "+literal(floatPattern))
	case (a.Whole() || a == schema.Decimal) && float(b):
		return as(cast(x), "the number is unchanged", "")
	case (float(a) || a == schema.Decimal) && b.Whole():
		return as(cast(x), "the number must be whole",
			when(finite(a, x), fmt.Sprintf("%s::numeric = trunc(%s::numeric) AND %s", x, x, between(x+"::numeric"))))
	case float(a) && b == schema.Decimal:
		return as(cast(x), "the number is unchanged",
			when(finite(a, x), fmt.Sprintf("abs(%s) < 1e%d", x, tt.Precision-tt.Scale)))
	case float(a) && float(b):
		if b == schema.Double {
			return engine.Conversion{How: "the number is unchanged"}, true
		}
		return as(cast(x), "the number is unchanged", "abs("+x+") <= 3e38 OR "+x+" IN ('NaN', 'Infinity', '-Infinity')")
	case a == schema.Text && b == schema.Date:
		return exact(cast(x), "the text must be a day, as 2026-01-31", day(x, "$"))
	case a == schema.Text && b == schema.Time:
		return as(cast(x), "the text must be a time, as 10:30:00", x+" ~ "+literal("^"+timePattern+"$"))
	case a == schema.Text && moment(b):
		sql, how := cast(x), "the text must be a time, as 2026-01-31 10:30:00"
		if b == schema.Timestamp {
			sql, how = "("+x+"::timestamp AT TIME ZONE 'UTC')", "the text must be a timestamp in UTC, as 2026-01-31 10:30:00"
		}
		return as(sql, how, day(x, " "+timePattern+"$"))
	case a == schema.Text && b == schema.UUID:
		return exact(cast(x), "the text must be a UUID in lower case", x+" ~ "+literal(uuidPattern))
	case b == schema.Text && (a == schema.Date || a == schema.Time || a == schema.UUID || a == schema.Datetime || a == schema.JSON):
		return exact(cast(x+"::text"), "the text is written as the database writes it", fitsText(x+"::text"))
	case a == schema.Timestamp && b == schema.Text:
		sql := "(" + x + " AT TIME ZONE 'UTC')::text"
		return exact(cast(sql), "the text is written as the database writes it", fitsText(sql))
	case a == schema.JSON && b == schema.JSON:
		return engine.Conversion{}, true
	}
	return engine.Conversion{}, false
}

func finite(k schema.Kind, x string) string {
	if k == schema.Decimal {
		return x + " <> 'NaN'"
	}
	return x + " NOT IN ('NaN', 'Infinity', '-Infinity')"
}

// day is the condition that a text begins with a day that there is.
func day(x, rest string) string {
	month := fmt.Sprintf("(substr(%s, 1, 7) || '-01')::date", x)
	return when(x+" ~ "+literal("^"+dayPattern+rest), strings.Join([]string{
		fmt.Sprintf("substr(%s, 9, 2)::integer <= extract(day FROM %s + interval '1 month' - interval '1 day')", x,
			month),
	}, ""))
}
