package schema

// This file holds what the models can say of a value, the same for every
// engine: its type, a literal, and a range of literals.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Kind is a type of the model language, without its length or precision.
type Kind string

// The kinds. A choice is text that is one of a fixed list; native is a type
// that only one engine has.
const (
	Text      Kind = "text"
	Smallint  Kind = "smallint"
	Integer   Kind = "integer"
	Bigint    Kind = "bigint"
	Decimal   Kind = "decimal"
	Real      Kind = "real"
	Double    Kind = "double"
	Boolean   Kind = "boolean"
	Date      Kind = "date"
	Time      Kind = "time"
	Timestamp Kind = "timestamp"
	Datetime  Kind = "datetime"
	UUID      Kind = "uuid"
	JSON      Kind = "json"
	Bytes     Kind = "bytes"
	Choice    Kind = "choice"
	Native    Kind = "sql"
)

// Type is a type of the model language.
type Type struct {
	Kind      Kind
	Length    int  // text: characters; bytes: bytes; 0: no limit
	Fixed     bool // text, bytes: always of that length, filled up with blanks or zeros
	Unsigned  bool // whole numbers: from 0 on, and twice as far
	Seconds   int  // times: digits of a second, plus one; 0: as many as the engine keeps
	Precision int  // decimal: digits in all
	Scale     int  // decimal: digits behind the point
	Choices   []string
	Name      string // of a named choice; of a native type, its SQL
	Of        *Type  // of a native type that is an array: the type of its elements
	As        string // the engine's own type that holds the values; empty: the engine's choice
	Typeless  bool   // the engine is told no type at all
	Enum      string // of a named choice that is kept as a type: that type's name
	Listed    bool   // a choice that is kept by a type that lists its values, where there is one
}

// String gives the type as a model would write it.
func (t Type) String() string {
	switch {
	case t.Kind == Decimal:
		return fmt.Sprintf("decimal(%d,%d)", t.Precision, t.Scale)
	case t.Of != nil:
		return "array of " + t.Of.String()
	case t.Kind == Native:
		return fmt.Sprintf("sql %q", t.Name)
	case t.Kind == Choice && t.Name != "":
		return t.Name
	case t.Kind == Choice:
		return "choice(" + strings.Join(t.Choices, ", ") + ")"
	case t.Fixed && t.Kind == Text:
		return fmt.Sprintf("char(%d)", t.Length)
	case t.Length > 0:
		return fmt.Sprintf("%s(%d)", t.Kind, t.Length)
	case t.Seconds > 0:
		return fmt.Sprintf("%s(%d)", t.Kind, t.Seconds-1)
	case t.Unsigned:
		return string(t.Kind) + " unsigned"
	}
	return string(t.Kind)
}

// ParseType reads a type as String gives it, as far as values of it need: a
// choice is text of any value, a native type has no values.
func ParseType(s string) Type {
	word, args, _ := strings.Cut(strings.TrimSuffix(s, ")"), "(")
	first, second, _ := strings.Cut(args, ",")
	n, _ := strconv.Atoi(strings.TrimSpace(first))
	m, _ := strconv.Atoi(strings.TrimSpace(second))
	switch k := Kind(word); k {
	case Decimal:
		return Type{Kind: k, Precision: n, Scale: m}
	case Text, Bytes:
		return Type{Kind: k, Length: n}
	case Time, Timestamp, Datetime:
		if args != "" {
			return Type{Kind: k, Seconds: n + 1}
		}
		return Type{Kind: k}
	case Smallint, Integer, Bigint, Real, Double, Boolean, Date, UUID, JSON:
		return Type{Kind: k}
	case "char":
		return Type{Kind: Text, Length: n, Fixed: true}
	case "smallint unsigned", "integer unsigned", "bigint unsigned":
		return Type{Kind: Kind(strings.TrimSuffix(word, " unsigned")), Unsigned: true}
	}
	return Type{Kind: Text}
}

// Number tells whether values of the kind are numbers.
func (k Kind) Number() bool {
	switch k {
	case Smallint, Integer, Bigint, Decimal, Real, Double:
		return true
	}
	return false
}

// Whole tells whether values of the kind are whole numbers.
func (k Kind) Whole() bool { return k == Smallint || k == Integer || k == Bigint }

// ValueKind tells what a literal of the language is.
type ValueKind int

// The kinds of value.
const (
	NullValue    ValueKind = iota
	NumberValue            // Text is the number as written
	TextValue              // Text is the text itself
	DateValue              // Text is 2006-01-02
	BooleanValue           // Text is true or false
	NowValue
	TodayValue
	UUIDValue // a new one for each row
	JSONValue // Text is the JSON, compact
	SQLValue  // Text is an expression of the engine's own
)

// Value is a literal of the model language, or one of its few functions.
type Value struct {
	Kind ValueKind
	Text string
	// Shift is what is added to now or today, in seconds; seeds alone have it.
	Shift int64
}

// Constant tells whether the value is the same for every row.
func (v Value) Constant() bool {
	switch v.Kind {
	case NowValue, TodayValue, UUIDValue, SQLValue:
		return false
	}
	return true
}

// String gives the value as a model would write it.
func (v Value) String() string {
	switch v.Kind {
	case NullValue:
		return "null"
	case TextValue:
		return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`, "\r", `\r`).Replace(v.Text) + `"`
	case NowValue:
		return "now"
	case TodayValue:
		return "today"
	case UUIDValue:
		return "new uuid"
	case SQLValue:
		return "(" + v.Text + ")"
	}
	return v.Text
}

// Range is an interval of values with both ends inside; nil is an open end.
type Range struct{ From, To *Value }

// ReadValue reads a value as people type it, without quotes, as one of the type.
func ReadValue(raw string, t Type) (Value, error) {
	v := Value{Kind: TextValue, Text: raw}
	switch k := t.Kind; {
	case raw == "now" && (k == Timestamp || k == Datetime):
		v.Kind = NowValue
	case raw == "today" && k == Date:
		v.Kind = TodayValue
	case k.Number():
		v.Kind = NumberValue
		if !number(raw) {
			return v, fmt.Errorf("%q is not a number", raw)
		}
	case k == Boolean:
		v.Kind = BooleanValue
		if raw != "true" && raw != "false" {
			return v, fmt.Errorf("write true or false, not %q", raw)
		}
	case k == Choice && len(t.Choices) > 0 && !slices.Contains(t.Choices, raw):
		return v, fmt.Errorf("%q is not one of %s", raw, strings.Join(t.Choices, ", "))
	}
	return v, nil
}

func number(s string) bool {
	s = strings.TrimPrefix(s, "-")
	whole, frac, point := strings.Cut(s, ".")
	digits := func(s string) bool {
		return s != "" && strings.Trim(s, "0123456789") == ""
	}
	return digits(whole) && (!point || digits(frac))
}
