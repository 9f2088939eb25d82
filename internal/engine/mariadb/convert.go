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
	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
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

// when asks a second question only of those values that passed the first.
func when(first, second string) string {
	return fmt.Sprintf("CASE WHEN %s THEN %s ELSE 0 END", first, second)
}

// epoch is the moment from which seconds count.
const epoch = "CAST('1970-01-01' AS DATETIME(6))"

var conversions = &ddl.Conversions{
	Quote: quote, Literal: literal, Type: kindOf,
	Same:   func(from, to *sqlschema.Column) bool { return sqlschema.SameForm(typeOrStored(from), typeOrStored(to)) },
	Cast:   castTo,
	Text:   asText,
	AsText: func(sql string, _ *sqlschema.Column) string { return sql },
	Length: func(sql string, most int) string { return fmt.Sprintf("char_length(%s) <= %d", sql, most) },
	Match:  func(sql, pattern string) string { return sql + " REGEXP " + literal(pattern) },
	When:   when, Day: day,
	Whole:        func(x string) string { return "CAST(" + x + " AS DECIMAL(40,0))" },
	Number:       func(x string) string { return "CAST(" + x + " AS DECIMAL(65,30))" },
	WholePattern: wholePattern, DecimalPattern: decimalPattern, FloatPattern: floatPattern, TimePattern: timePattern,
	End: `\z`,
}

func init() { conversions.Rules = ownConversions() } // they use the words themselves

func castTo(sql string, to *sqlschema.Column) string {
	return "CAST(" + sql + " AS " + castType(typeOrStored(to)) + ")"
}

func asText(x string) string { return "CAST(" + x + " AS CHAR)" }

// ownConversions are those of moments, of booleans, which are numbers, and of types that
// this server keeps as texts.
func ownConversions() []ddl.Rule {
	cast := func(v ddl.Value) string { return castTo(v.X, v.To) }
	seconds := func(v ddl.Value) string { return "timestampdiff(SECOND, " + epoch + ", " + v.X + ")" }
	words := func(v ddl.Value) string { return "CASE " + v.X + " WHEN 1 THEN 'true' WHEN 0 THEN 'false' END" }
	text, boolean, json := ddl.Is(schema.Text), ddl.Is(schema.Boolean), ddl.Is(schema.JSON)
	number := ddl.Is(schema.Smallint, schema.Integer, schema.Bigint, schema.Decimal)
	return []ddl.Rule{
		{From: ddl.Whole, To: ddl.Moment, How: "seconds since 1970 become the timestamp", Exact: true,
			SQL:  func(v ddl.Value) string { return epoch + " + INTERVAL " + v.X + " SECOND" },
			Fits: func(v ddl.Value) string { return v.X + " BETWEEN -30610224000 AND 253402300799" }},
		{From: ddl.Moment, To: ddl.Whole, How: "a timestamp becomes the seconds since 1970, and must have no fraction",
			SQL:  seconds,
			Fits: func(v ddl.Value) string { return "microsecond(" + v.X + ") = 0 AND " + ddl.Between(v, seconds(v)) }},
		{From: boolean, To: text, How: "true and false become words", Exact: true,
			SQL: words, Fits: func(v ddl.Value) string { return conversions.FitsText(v, words(v)) }},
		{From: text, To: boolean, How: "the text must be true or false", Exact: true,
			SQL:  func(v ddl.Value) string { return "CASE " + v.X + " WHEN 'true' THEN 1 WHEN 'false' THEN 0 END" },
			Fits: func(v ddl.Value) string { return v.X + " IN ('true', 'false')" }},
		{From: boolean, To: number, How: "false becomes 0, true 1", Exact: true, SQL: cast,
			If: func(v ddl.Value) bool { return v.New.Kind.Whole() || v.New.Precision > v.New.Scale }},
		{From: ddl.Is(schema.Real, schema.Double, schema.Decimal), To: ddl.Whole, How: "the number must be whole",
			SQL: cast,
			Fits: func(v ddl.Value) string {
				return fmt.Sprintf("%s = truncate(%s, 0) AND %s", v.X, v.X, ddl.Between(v, v.X))
			}},
		{From: text, To: ddl.Is(schema.UUID), How: "the text must be a UUID in lower case", // not each server has the type
			Fits: func(v ddl.Value) string { return v.X + " REGEXP " + literal(uuidPattern) }},
		{From: text, To: json, How: "the text must be JSON",
			Fits: func(v ddl.Value) string { return "json_valid(" + v.X + ")" }},
		{From: json, To: text, How: "the text is as the database has it",
			Fits: func(v ddl.Value) string { return conversions.FitsText(v, v.X) }},
	}
}

// Convert tells how a value of one type becomes one of another. ok is false where there
// is no one obvious way.
func (Engine) Convert(from, to *sqlschema.Column) (engine.Conversion, bool) {
	return conversions.Convert(from, to)
}

// kindOf is the type of a column as one of the language. Booleans, choices and JSON are
// told by more than the stored type.
func kindOf(c *sqlschema.Column) schema.Type {
	t := typeOf(typeOrStored(c))
	if c.Type.Kind == schema.JSON && t.Kind == schema.Text {
		return schema.Type{Kind: schema.JSON}
	}
	if t.Kind == schema.Choice { // texts, of which it takes those that it lists
		for _, v := range t.Choices {
			t.Length = max(t.Length, len([]rune(v)))
		}
		t.Kind = schema.Text
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
