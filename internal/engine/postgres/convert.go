package postgres

// This file tells how a value of one type becomes one of another. The server ends
// a statement at the first value that it cannot convert, so a conversion is made
// only of values that fit, and what does not fit is found by a query beforehand.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
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

// when asks a second question only of those values that passed the first.
func when(first, second string) string {
	return fmt.Sprintf("CASE WHEN %s THEN %s ELSE false END", first, second)
}

var conversions = &ddl.Conversions{
	Quote:  quote,
	Type:   func(c *sqlschema.Column) schema.Type { return typeOf(c.SQLType) },
	Same:   func(from, to *sqlschema.Column) bool { return sqlschema.SameForm(from.SQLType, to.SQLType) },
	Cast:   castTo,
	Text:   func(x string) string { return x + "::text" },
	AsText: castTo,
	Length: func(sql string, most int) string { return fmt.Sprintf("pg_catalog.length(%s) <= %d", sql, most) },
	Match:  func(sql, pattern string) string { return sql + " ~ " + literal(pattern) },
	When:   when, Day: day,
	Whole:        func(x string) string { return x + "::numeric" },
	Number:       func(x string) string { return x + "::numeric" },
	WholePattern: wholePattern, DecimalPattern: decimalPattern, FloatPattern: floatPattern, TimePattern: timePattern,
	End: "$",
}

func init() { conversions.Rules = ownConversions() } // they use the words themselves

func castTo(sql string, to *sqlschema.Column) string { return sql + "::" + to.SQLType }

// ownConversions are those of times with a zone, of numbers that may be no number, and of
// types that only this server has.
func ownConversions() []ddl.Rule {
	cast := func(v ddl.Value) string { return castTo(v.X, v.To) }
	utc := func(v ddl.Value) string { return v.X + " AT TIME ZONE 'UTC'" }
	timestamp, datetime, text, json := ddl.Is(schema.Timestamp), ddl.Is(schema.Datetime), ddl.Is(schema.Text),
		ddl.Is(schema.JSON)
	number := ddl.Is(schema.Smallint, schema.Integer, schema.Bigint, schema.Decimal)
	return []ddl.Rule{
		{From: timestamp, To: datetime, How: "the time is unchanged, in UTC", Exact: true, SQL: utc},
		{From: datetime, To: timestamp, How: "the time is unchanged, in UTC", Exact: true, SQL: utc},
		{From: ddl.Is(schema.Date), To: timestamp, How: "a day becomes midnight of that day", Exact: true,
			SQL: func(v ddl.Value) string { return "(" + v.X + "::timestamp AT TIME ZONE 'UTC')" }},
		{From: timestamp, To: ddl.Is(schema.Date), How: "a timestamp becomes its day, and must be at midnight",
			SQL: func(v ddl.Value) string { return "(" + utc(v) + ")::date" }},
		{From: ddl.Whole, To: ddl.Moment, How: "seconds since 1970 become the timestamp", Exact: true,
			SQL: func(v ddl.Value) string {
				if v.New.Kind == schema.Datetime {
					return "(to_timestamp(" + v.X + ") AT TIME ZONE 'UTC')"
				}
				return "to_timestamp(" + v.X + ")"
			},
			Fits: func(v ddl.Value) string { return v.X + " BETWEEN -62135596800 AND 253402300799" }},
		{From: ddl.Moment, To: ddl.Whole, How: "a timestamp becomes the seconds since 1970, and must have no fraction",
			SQL:  func(v ddl.Value) string { return castTo(fmt.Sprintf("floor(extract(epoch FROM %s))", v.X), v.To) },
			Fits: func(v ddl.Value) string { return ddl.Between(v, fmt.Sprintf("extract(epoch FROM %s)", v.X)) }},
		{From: ddl.Is(schema.Boolean), To: number, How: "false becomes 0, true 1", Exact: true, If: holdsOne,
			SQL: func(v ddl.Value) string { return castTo(v.X+"::integer", v.To) }},
		{From: ddl.Float, To: text, How: "a number becomes its digits", Exact: true,
			SQL:  func(v ddl.Value) string { return castTo(v.X+"::text", v.To) },
			Fits: func(v ddl.Value) string { return conversions.FitsText(v, v.X+"::text") }},
		{From: ddl.Is(schema.Real, schema.Double, schema.Decimal), To: ddl.Whole, How: "the number must be whole",
			SQL: cast,
			Fits: func(v ddl.Value) string {
				n := v.X + "::numeric"
				return when(finite(v.Old.Kind, v.X), fmt.Sprintf("%s = trunc(%s) AND %s", n, n, ddl.Between(v, n)))
			}},
		{From: ddl.Float, To: ddl.Is(schema.Decimal), How: "the number is unchanged", SQL: cast,
			Fits: func(v ddl.Value) string {
				return when(finite(v.Old.Kind, v.X), fmt.Sprintf("abs(%s) < 1e%d", v.X, v.New.Precision-v.New.Scale))
			}},
		{From: ddl.Float, To: ddl.Is(schema.Real), How: "the number is unchanged", SQL: cast,
			Fits: func(v ddl.Value) string {
				return "abs(" + v.X + ") <= 3e38 OR " + v.X + " IN ('NaN', 'Infinity', '-Infinity')"
			}},
		{From: text, To: timestamp, How: "the text must be a timestamp in UTC, as 2026-01-31 10:30:00",
			SQL:  func(v ddl.Value) string { return "(" + v.X + "::timestamp AT TIME ZONE 'UTC')" },
			Fits: func(v ddl.Value) string { return conversions.FitsMoment(v) }},
		{From: text, To: ddl.Is(schema.UUID), How: "the text must be a UUID in lower case", Exact: true, SQL: cast,
			Fits: func(v ddl.Value) string { return v.X + " ~ " + literal(uuidPattern) }},
		{From: timestamp, To: text, How: "the text is written as the database writes it", Exact: true,
			SQL:  func(v ddl.Value) string { return castTo("("+utc(v)+")::text", v.To) },
			Fits: func(v ddl.Value) string { return conversions.FitsText(v, "("+utc(v)+")::text") }},
		{From: json, To: text, How: "the text is written as the database writes it", Exact: true,
			SQL:  func(v ddl.Value) string { return castTo(v.X+"::text", v.To) },
			Fits: func(v ddl.Value) string { return conversions.FitsText(v, v.X+"::text") }},
		{From: json, To: json},
	}
}

// holdsOne tells whether a number can be 1.
func holdsOne(v ddl.Value) bool { return v.New.Kind.Whole() || v.New.Precision > v.New.Scale }

// Convert tells how a value of one type becomes one of another. ok is false where
// there is no one obvious way.
func (Engine) Convert(from, to *sqlschema.Column) (engine.Conversion, bool) {
	a, b := typeOf(from.SQLType).Kind, typeOf(to.SQLType).Kind
	text := quote(from.Name) + "::text"
	c := engine.Conversion{SQL: castTo(text, to), Exact: true}
	switch {
	case sqlschema.SameForm(from.SQLType, to.SQLType):
		return engine.Conversion{}, true
	case from.Elements != nil && to.Elements != nil:
		c.SQL, c.How = quote(from.Name)+"::text[]::"+to.SQLType, "every element must be one of the values"
		c.Fits = quote(from.Name) + "::text[] <@ ARRAY[" + strings.Join(inQuotes(to.Elements), ", ") + "]::text[]"
	case to.Values != nil && (from.Values != nil || a == schema.Text):
		c.How, c.Fits = "the text must be one of the values", text+" IN ("+strings.Join(inQuotes(to.Values), ", ")+")"
	case from.Values != nil && b == schema.Text:
		c.How, c.Fits = "a value becomes its text", conversions.FitsText(ddl.Value{New: typeOf(to.SQLType)}, text)
	default:
		return conversions.Convert(from, to)
	}
	if c.Fits != "" {
		c.SQL = fmt.Sprintf("CASE WHEN %s THEN %s END", c.Fits, c.SQL)
	}
	return c, true
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
