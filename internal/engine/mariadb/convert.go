package mariadb

// This file tells how a value of one type becomes one of another. A statement ends at the
// first value that the server cannot convert, and some it rounds or cuts with a note
// alone; so only what fits is converted, and what does not is found by a query
// beforehand. Without SQL of its own a conversion is the server's, and keeps every value
// that fits.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Patterns of texts that are values of other types. \z is the end of the text: $ would
// let a newline follow.
const (
	wholePattern   = `^(0|-?[1-9][0-9]{0,18})\z`
	decimalPattern = `^-?[0-9]{1,30}([.][0-9]{1,30})?\z`
	floatPattern   = `^-?[0-9]{1,15}([.][0-9]{1,15})?\z`
	timePattern    = `([01][0-9]|2[0-3]):[0-5][0-9]:[0-5][0-9]([.][0-9]{1,6})?`
	dayPattern     = `([1-9][0-9]{3})-(0[1-9]|1[0-2])-(0[1-9]|[12][0-9]|3[01])`
	uuidPattern    = `^[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\z`
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
	return fmt.Sprintf("CASE WHEN %s THEN %s ELSE 0 END", first, second)
}

// epoch is the moment from which seconds count.
const epoch = "CAST('1970-01-01' AS DATETIME(6))"

// Convert tells how a value of one type becomes one of another. ok is false where there
// is no one obvious way.
func (Engine) Convert(from, to *schema.Column) (engine.Conversion, bool) {
	x := quote(from.Name)
	tf, tt := kindOf(from), kindOf(to)
	a, b := tf.Kind, tt.Kind
	if schema.SameForm(typeOrStored(from), typeOrStored(to)) {
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
	fitsText := func(sql string) string {
		if b != schema.Text || tt.Length == 0 {
			return ""
		}
		return fmt.Sprintf("char_length(%s) <= %d", sql, tt.Length)
	}
	fitsDecimal := func(n string) string {
		return fmt.Sprintf("%s = round(%s, %d) AND abs(%s) < 1e%d", n, n, tt.Scale, n, tt.Precision-tt.Scale)
	}
	moment := func(k schema.Kind) bool { return k == schema.Timestamp || k == schema.Datetime }
	float := func(k schema.Kind) bool { return k == schema.Real || k == schema.Double }
	cast := func(sql string) string { return "CAST(" + sql + " AS " + castType(typeOrStored(to)) + ")" }
	text := "CAST(" + x + " AS CHAR)"
	between := func(sql string) string {
		low, high := wholeEnds(b)
		return fmt.Sprintf("%s BETWEEN %s AND %s", sql, low, high)
	}
	whole := func(sql string) string { return "CAST(" + sql + " AS DECIMAL(40,0))" }
	order := map[schema.Kind]int{schema.Smallint: 1, schema.Integer: 2, schema.Bigint: 3}
	switch {
	case a == schema.Native || b == schema.Native:
		return engine.Conversion{}, false
	case a == schema.Text && b == schema.Text:
		if tf.Length > 0 && tf.Length <= tt.Length {
			return engine.Conversion{}, true
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
	case a == schema.Date && moment(b):
		return exact(cast(x), "a day becomes midnight of that day", "")
	case moment(a) && b == schema.Date:
		return as(cast(x), "a timestamp becomes its day, and must be at midnight", "")
	case a.Whole() && moment(b):
		return exact(epoch+" + INTERVAL "+x+" SECOND", "seconds since 1970 become the timestamp",
			x+" BETWEEN -30610224000 AND 253402300799")
	case moment(a) && b.Whole():
		seconds := "timestampdiff(SECOND, " + epoch + ", " + x + ")"
		return as(seconds, "a timestamp becomes the seconds since 1970, and must have no fraction",
			"microsecond("+x+") = 0 AND "+between(seconds))
	case a == schema.Boolean && b == schema.Text:
		words := "CASE " + x + " WHEN 1 THEN 'true' WHEN 0 THEN 'false' END"
		return exact(words, "true and false become words", fitsText(words))
	case a == schema.Text && b == schema.Boolean:
		return exact("CASE "+x+" WHEN 'true' THEN 1 WHEN 'false' THEN 0 END", "the text must be true or false",
			x+" IN ('true', 'false')")
	case a == schema.Boolean && (b.Whole() || b == schema.Decimal && tt.Precision > tt.Scale):
		return exact(cast(x), "false becomes 0, true 1", "")
	case (a == schema.Decimal || a.Whole()) && b == schema.Boolean:
		return exact("("+x+" = 1)", "0 becomes false, 1 true; no other number is allowed", x+" IN (0, 1)")
	case a.Whole() && b == schema.Decimal:
		return exact(cast(x), "the number is unchanged", fmt.Sprintf("abs(%s) < 1e%d", whole(x), tt.Precision-tt.Scale))
	case b == schema.Text && (a.Whole() || float(a) || a == schema.Decimal):
		if a.Whole() {
			return exact(text, "a number becomes its digits", fitsText(text))
		}
		return as(text, "a number becomes its digits", fitsText(text))
	case a == schema.Text && b.Whole():
		return exact(cast(x), "the text must be a whole number's digits",
			when(x+" REGEXP "+literal(wholePattern), between(whole(x))))
	case a == schema.Text && b == schema.Decimal:
		return as(cast(x), "the text must be a number's digits",
			when(x+" REGEXP "+literal(decimalPattern), fitsDecimal("CAST("+x+" AS DECIMAL(65,30))")))
	case a == schema.Text && float(b):
		return as(cast(x), "the text must be a number's digits", x+" REGEXP "+literal(floatPattern))
	case (a.Whole() || a == schema.Decimal) && float(b):
		return as(cast(x), "the number is unchanged", "")
	case (float(a) || a == schema.Decimal) && b.Whole():
		return as(cast(x), "the number must be whole", fmt.Sprintf("%s = truncate(%s, 0) AND %s", x, x, between(x)))
	case float(a) && b == schema.Decimal:
		return as(cast(x), "the number is unchanged", fmt.Sprintf("abs(%s) < 1e%d", x, tt.Precision-tt.Scale))
	case float(a) && float(b):
		if b == schema.Double {
			return engine.Conversion{How: "the number is unchanged"}, true
		}
		return as(cast(x), "the number is unchanged", "abs("+x+") <= 3e38")
	case a == schema.Text && b == schema.Date:
		return exact(cast(x), "the text must be a day, as 2026-01-31", day(x, `\z`))
	case a == schema.Text && b == schema.Time:
		return as(cast(x), "the text must be a time, as 10:30:00", x+" REGEXP "+literal("^"+timePattern+`\z`))
	case a == schema.Text && moment(b):
		how := "the text must be a time, as 2026-01-31 10:30:00"
		if b == schema.Timestamp {
			how = "the text must be a timestamp in UTC, as 2026-01-31 10:30:00"
		}
		return as(cast(x), how, day(x, " "+timePattern+`\z`))
	case a == schema.Text && b == schema.UUID: // the server's own: not each of them has the type
		return engine.Conversion{
			How:  "the text must be a UUID in lower case",
			Fits: x + " REGEXP " + literal(uuidPattern),
		}, true
	case a == schema.UUID && b == schema.Text:
		return exact(text, "the text is written as the database writes it", fitsText(text))
	case a == schema.Text && b == schema.JSON:
		return engine.Conversion{How: "the text must be JSON", Fits: "json_valid(" + x + ")"}, true
	case a == schema.JSON && b == schema.Text:
		return engine.Conversion{How: "the text is as the database has it", Fits: fitsText(x)}, true
	case b == schema.Text && (a == schema.Date || a == schema.Time || moment(a)):
		return exact(text, "the text is written as the database writes it", fitsText(text))
	}
	return engine.Conversion{}, false
}

// kindOf is the type of a column as one of the language. Booleans, choices and JSON are
// told by more than the stored type.
func kindOf(c *schema.Column) schema.Type {
	t := typeOf(typeOrStored(c))
	if c.Type.Kind == schema.JSON && t.Kind == schema.Text {
		return schema.Type{Kind: schema.JSON}
	}
	return t
}

// castType is a type as CAST names it.
func castType(sqlType string) string {
	name, _, _ := strings.Cut(sqlType, "(")
	switch name {
	case "tinyint", "smallint", "mediumint", "int", "bigint":
		return "SIGNED"
	case "varchar", "longtext", "mediumtext", "text", "char", "uuid":
		return "CHAR"
	case "varbinary", "longblob", "blob":
		return "BINARY"
	}
	return strings.ToUpper(sqlType)
}

// day is the condition that a text begins with a day that there is.
func day(x, rest string) string {
	return when(x+" REGEXP "+literal("^"+dayPattern+rest),
		fmt.Sprintf("CAST(substr(%s, 9, 2) AS SIGNED) <= day(last_day(concat(substr(%s, 1, 7), '-01')))", x, x))
}
