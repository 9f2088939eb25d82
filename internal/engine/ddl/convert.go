package ddl

// This file tells how a value of one type becomes one of another, on engines that hold
// values to their types. A statement ends at the first value that the server cannot convert,
// so only what fits is converted, and what does not is found by a query beforehand.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Conversions are an engine's own words for values that become others, and its own rules,
// which come before those for all.
type Conversions struct {
	Quote func(name string) string
	// Literal is a text as SQL, where a type can list the texts that it takes.
	Literal func(s string) string
	Type    func(c *sqlschema.Column) schema.Type
	// Same tells whether two columns keep values in the same form.
	Same  func(from, to *sqlschema.Column) bool
	Rules []Rule

	Cast   func(sql string, to *sqlschema.Column) string
	Text   func(x string) string                         // a value as a text
	AsText func(sql string, to *sqlschema.Column) string // a text as one of this column
	Length func(sql string, most int) string             // the condition that a text is no longer
	Match  func(sql, pattern string) string              // the condition that it has this form
	When   func(first, second string) string             // asks a second only where the first holds
	Whole  func(x string) string                         // as a number with room for every whole one
	Number func(x string) string                         // as one with room for every decimal
	Day    func(x, rest string) string                   // the condition that it begins with a day there is

	// Patterns of texts that are values of other types, and the end of a text.
	WholePattern, DecimalPattern, FloatPattern, TimePattern, End string
}

// Value is a value that becomes another.
type Value struct {
	X        string // its column as SQL
	From, To *sqlschema.Column
	Old, New schema.Type
}

// Rule is how values of some types become those of others.
type Rule struct {
	From, To func(k schema.Kind) bool
	How      string // in words; "": nobody would ask
	Exact    bool   // each value that fits comes back the same
	// SQL is the value, "": the server converts it by itself; nil: it stays as it is. Fits is
	// the condition that it can be converted; nil: every one can.
	SQL, Fits func(v Value) string
	If        func(v Value) bool // what else must hold; nil: nothing
}

// Is gives the condition of a Rule: one of these kinds.
func Is(kinds ...schema.Kind) func(schema.Kind) bool {
	return func(k schema.Kind) bool {
		for _, o := range kinds {
			if o == k {
				return true
			}
		}
		return false
	}
}

// The kinds that most rules are about.
var (
	Moment = Is(schema.Timestamp, schema.Datetime)
	Float  = Is(schema.Real, schema.Double)
	Whole  = schema.Kind.Whole
)

// either is the condition that one of several holds.
func either(list ...func(schema.Kind) bool) func(schema.Kind) bool {
	return func(k schema.Kind) bool {
		for _, is := range list {
			if is(k) {
				return true
			}
		}
		return false
	}
}

// Convert tells how a value of one column becomes one of another; ok is false where there is
// no one obvious way.
func (w *Conversions) Convert(from, to *sqlschema.Column) (c engine.Conversion, ok bool) {
	if w.Same(from, to) {
		return engine.Conversion{}, true
	}
	v := Value{w.Quote(from.Name), from, to, w.Type(from), w.Type(to)}
	for _, rules := range [][]Rule{w.Rules, w.shared()} {
		for _, r := range rules {
			if r.From(v.Old.Kind) && r.To(v.New.Kind) && (r.If == nil || r.If(v)) {
				return r.conversion(v), true
			}
		}
	}
	return engine.Conversion{}, false
}

func (r Rule) conversion(v Value) engine.Conversion {
	c := engine.Conversion{How: r.How, Exact: r.Exact}
	if r.Fits != nil {
		c.Fits = r.Fits(v)
	}
	if r.SQL != nil {
		c.SQL = r.SQL(v)
	}
	if c.SQL != "" && c.Fits != "" {
		c.SQL = fmt.Sprintf("CASE WHEN %s THEN %s END", c.Fits, c.SQL)
	}
	return c
}

// The words for conversions that several rules have.
const (
	howNumber = "the number is unchanged"
	howDigits = "a number becomes its digits"
	howWords  = "the text is written as the database writes it"
)

// shared are the rules for all engines.
func (w *Conversions) shared() []Rule {
	cast := func(v Value) string { return w.Cast(v.X, v.To) }
	text := func(v Value) string { return w.AsText(w.Text(v.X), v.To) }
	fitsText := func(v Value) string { return w.FitsText(v, w.Text(v.X)) }
	decimal, isText := Is(schema.Decimal), Is(schema.Text)
	return []Rule{
		{From: isText, To: isText, Fits: func(v Value) string {
			fits := w.FitsText(v, v.X)
			if v.New.Choices == nil && v.Old.Length > 0 && v.Old.Length <= v.New.Length {
				fits = ""
			}
			if !v.New.Fixed || v.Old.Fixed {
				return fits
			}
			blank := v.X + " NOT LIKE '% '" // it would go
			if fits == "" {
				return blank
			}
			return fits + " AND " + blank
		}},
		{From: decimal, To: decimal, Fits: func(v Value) string {
			if v.New.Scale >= v.Old.Scale && v.New.Precision-v.New.Scale >= v.Old.Precision-v.Old.Scale {
				return ""
			}
			return FitsDecimal(v, v.X)
		}},
		{From: Whole, To: Whole, How: howNumber, Fits: func(v Value) string {
			order := map[schema.Kind]int{schema.Smallint: 1, schema.Integer: 2, schema.Bigint: 3}
			if order[v.Old.Kind] < order[v.New.Kind] && !v.New.Unsigned {
				return ""
			}
			return Between(v, v.X)
		}},
		{From: Is(schema.Date), To: Moment, How: "a day becomes midnight of that day", Exact: true, SQL: cast},
		{From: Moment, To: Is(schema.Date), How: "a timestamp becomes its day, and must be at midnight", SQL: cast},
		{From: Is(schema.Boolean), To: isText, How: "true and false become words", Exact: true, SQL: text,
			Fits: fitsText},
		{From: isText, To: Is(schema.Boolean), How: "the text must be true or false", Exact: true, SQL: cast,
			Fits: func(v Value) string { return v.X + " IN ('true', 'false')" }},
		{From: either(decimal, Whole), To: Is(schema.Boolean), Exact: true,
			How:  "0 becomes false, 1 true; no other number is allowed",
			SQL:  func(v Value) string { return "(" + v.X + " = 1)" },
			Fits: func(v Value) string { return v.X + " IN (0, 1)" }},
		{From: Whole, To: decimal, How: howNumber, Exact: true, SQL: cast,
			Fits: func(v Value) string { return below(v, w.Whole(v.X)) }},
		{From: Whole, To: isText, How: howDigits, Exact: true, SQL: text, Fits: fitsText},
		{From: either(Float, decimal), To: isText, How: howDigits, SQL: text, Fits: fitsText},
		{From: isText, To: Whole, How: "the text must be a whole number's digits", Exact: true, SQL: cast,
			Fits: func(v Value) string { return w.When(w.Match(v.X, w.WholePattern), Between(v, w.Whole(v.X))) }},
		{From: isText, To: decimal, How: "the text must be a number's digits", SQL: cast,
			Fits: func(v Value) string {
				return w.When(w.Match(v.X, w.DecimalPattern),
					FitsDecimal(v, w.Number(v.X)))
			}},
		{From: isText, To: Float, How: "the text must be a number's digits", SQL: cast,
			Fits: func(v Value) string { return w.Match(v.X, w.FloatPattern) }},
		{From: either(Whole, decimal), To: Float, How: howNumber, SQL: cast},
		{From: Float, To: decimal, How: howNumber, SQL: cast, Fits: func(v Value) string { return below(v, v.X) }},
		{From: Float, To: Is(schema.Double), How: howNumber},
		{From: Float, To: Is(schema.Real), How: howNumber, SQL: cast,
			Fits: func(v Value) string { return "abs(" + v.X + ") <= 3e38" }},
		{From: isText, To: Is(schema.Date), How: "the text must be a day, as 2026-01-31", Exact: true, SQL: cast,
			Fits: func(v Value) string { return w.Day(v.X, w.End) }},
		{From: isText, To: Is(schema.Time), How: "the text must be a time, as 10:30:00", SQL: cast,
			Fits: func(v Value) string { return w.Match(v.X, "^"+w.TimePattern+w.End) }},
		{From: isText, To: Is(schema.Datetime), How: "the text must be a time, as 2026-01-31 10:30:00", SQL: cast,
			Fits: w.FitsMoment},
		{From: isText, To: Is(schema.Timestamp), SQL: cast, Fits: w.FitsMoment,
			How: "the text must be a timestamp in UTC, as 2026-01-31 10:30:00"},
		{From: either(Moment, Is(schema.Date, schema.Time, schema.UUID)), To: isText, How: howWords, Exact: true,
			SQL: text, Fits: fitsText},
	}
}

// FitsText is the condition that a text is not too long for the new column; "": none is.
func (w *Conversions) FitsText(v Value, sql string) string {
	if v.New.Choices != nil {
		return w.among(v, sql)
	}
	if v.New.Kind != schema.Text || v.New.Length == 0 {
		return ""
	}
	return w.Length(sql, v.New.Length)
}

// among is the condition that a text is one of those that the new column lists; "": each is.
func (w *Conversions) among(v Value, sql string) string {
	missing := func(s string) bool { return !slices.Contains(v.New.Choices, s) }
	if v.Old.Choices != nil && !slices.ContainsFunc(v.Old.Choices, missing) {
		return ""
	}
	values := make([]string, len(v.New.Choices))
	for i, s := range v.New.Choices {
		values[i] = w.Literal(s)
	}
	return sql + " IN (" + strings.Join(values, ", ") + ")"
}

// FitsMoment is the condition that a text is a day and a time.
func (w *Conversions) FitsMoment(v Value) string { return w.Day(v.X, " "+w.TimePattern+w.End) }

// FitsDecimal is the condition that a number fits a decimal as it is.
func FitsDecimal(v Value, n string) string {
	return fmt.Sprintf("%s = round(%s, %d) AND %s", n, n, v.New.Scale, below(v, n))
}

// below is the condition that a number has no more digits before the point than a decimal has.
func below(v Value, n string) string {
	return fmt.Sprintf("abs(%s) < 1e%d", n, v.New.Precision-v.New.Scale)
}

// Between is the condition that a number fits a whole one.
func Between(v Value, sql string) string {
	low, high := "-9223372036854775808", "9223372036854775807"
	switch v.New.Kind {
	case schema.Smallint:
		low, high = "-32768", "32767"
	case schema.Integer:
		low, high = "-2147483648", "2147483647"
	}
	if v.New.Unsigned {
		low, high = "0", Most(v.New)
	}
	return fmt.Sprintf("%s BETWEEN %s AND %s", sql, low, high)
}
