package schema

// This file tells whether a value fits a type, and a column with all that is declared of it.

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Misfit says why a literal is no value of the type, and what to write instead; "" where it
// is one. name is what the type is of.
func (v Value) Misfit(t Type, name string) (message, hint string) {
	wrong := func(hint string) (string, string) { return fmt.Sprintf("%s is not a value of %s", v, t), hint }
	if v.Kind == NullValue || v.Kind == SQLValue || t.Kind == Native {
		return "", ""
	}
	switch t.Kind {
	case Text:
		if v.Kind != TextValue && v.Kind != DateValue {
			return wrong("write it in quotes")
		}
		if n := len([]rune(v.Text)); t.Length > 0 && n > t.Length {
			return fmt.Sprintf("this text has %d characters and %s holds %d", n, name, t.Length), ""
		}
	case Choice:
		if v.Kind != TextValue || !slices.Contains(t.Choices, v.Text) {
			return wrong("it is one of " + strings.Join(t.Choices, ", "))
		}
	case Boolean:
		if v.Kind != BooleanValue {
			return wrong("write true or false")
		}
	case Smallint, Integer, Bigint, Decimal, Real, Double:
		n, ok := new(big.Rat).SetString(v.Text)
		if v.Kind != NumberValue || !ok {
			return wrong("")
		}
		if t.Kind.Whole() && !n.IsInt() {
			return wrong("write a whole number")
		}
		if low, high, ok := Limits(t); ok && (n.Cmp(low) < 0 || n.Cmp(high) > 0) {
			return wrong(fmt.Sprintf("it holds %s to %s", low.FloatString(t.Scale), high.FloatString(t.Scale)))
		}
		if _, digits, _ := strings.Cut(v.Text, "."); t.Kind == Decimal &&
			len(strings.TrimRight(digits, "0")) > t.Scale {
			return wrong(fmt.Sprintf("it has %d digits after the decimal point", t.Scale))
		}
	case Date:
		if v.Kind == TodayValue {
			return "", ""
		}
		if _, err := time.Parse("2006-01-02", v.Text); v.Kind != DateValue && v.Kind != TextValue || err != nil {
			return wrong("write a day such as 2026-01-31, or today")
		}
	case Time:
		if _, err := time.Parse("15:04:05", v.Text); v.Kind != TextValue || err != nil {
			return wrong(`write a time such as "14:30:00"`)
		}
	case Timestamp, Datetime:
		if v.Kind == NowValue {
			return "", ""
		}
		if _, err := time.Parse("2006-01-02 15:04:05", v.Text); v.Kind != TextValue || err != nil {
			return wrong(`write now, or a time such as "2026-01-31 14:30:00"`)
		}
	case UUID:
		if v.Kind == UUIDValue {
			return "", ""
		}
		if _, err := uuid.Parse(v.Text); v.Kind != TextValue || err != nil || len(v.Text) != 36 {
			return wrong("write new uuid, or one in quotes")
		}
	case JSON:
		switch v.Kind {
		case JSONValue, TextValue, NumberValue, BooleanValue:
			if v.Kind == JSONValue && !json.Valid([]byte(v.Text)) {
				return wrong("this is not valid JSON")
			}
		default:
			return wrong("")
		}
	case Bytes:
		return wrong("write (SQL) in the engine's syntax")
	}
	return "", ""
}

// Limits are the least and the greatest value of a number's type; ok is false
// where there are none.
func Limits(t Type) (low, high *big.Rat, ok bool) {
	two := func(n uint) (*big.Rat, *big.Rat, bool) {
		h := new(big.Int).Lsh(big.NewInt(1), n)
		return new(big.Rat).SetInt(new(big.Int).Neg(h)), new(big.Rat).SetInt(new(big.Int).Sub(h, big.NewInt(1))), true
	}
	if t.Unsigned {
		bits := map[Kind]uint{Smallint: 16, Integer: 32, Bigint: 64}[t.Kind]
		_, h, _ := two(bits)
		return new(big.Rat), h, true
	}
	switch t.Kind {
	case Smallint:
		return two(15)
	case Integer:
		return two(31)
	case Bigint:
		return two(63)
	case Decimal:
		all := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Precision)), nil)
		all.Sub(all, big.NewInt(1))
		h := new(big.Rat).SetFrac(all, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(t.Scale)), nil))
		return new(big.Rat).Neg(h), h, true
	}
	return nil, nil, false
}

// Refuses says why a declared column does not take a value that people typed, by its type,
// its range and what else its line says; nil: it takes it.
func (c *Column) Refuses(v Value) error {
	if c.Type.Kind == Bytes || c.Type.Kind == JSON && v.Kind == TextValue {
		return nil // the database tells
	}
	if c.Type.Kind == Timestamp || c.Type.Kind == Datetime {
		for _, form := range []string{"2006-01-02", "2006-01-02 15:04", "2006-01-02 15:04:05.999999", "2006-01-02T15:04:05.999999", time.RFC3339Nano} {
			if _, err := time.Parse(form, v.Text); v.Kind == TextValue && err == nil {
				return nil
			}
		}
	}
	if _, err := time.Parse("15:04", v.Text); c.Type.Kind == Time && v.Kind == TextValue && err == nil {
		return nil
	}
	if message, hint := v.Misfit(c.Type, c.Name); message != "" {
		if hint != "" {
			message += ": " + hint
		}
		return fmt.Errorf("%s", message)
	}
	if c.Nonblank && v.Kind == TextValue && strings.TrimSpace(v.Text) == "" {
		return fmt.Errorf("%s must not be blank", c.Name)
	}
	if c.Range == nil || !v.Constant() || v.Kind == NullValue {
		return nil
	}
	before := func(a, b Value) bool {
		if c.Type.Kind.Number() {
			x, _ := new(big.Rat).SetString(a.Text)
			y, _ := new(big.Rat).SetString(b.Text)
			return x != nil && y != nil && x.Cmp(y) < 0
		}
		return a.Text < b.Text
	}
	if from := c.Range.From; from != nil && before(v, *from) {
		return fmt.Errorf("%s is less than %s, the lower end of the range of %s", v.Text, from.Text, c.Name)
	}
	if to := c.Range.To; to != nil && before(*to, v) {
		return fmt.Errorf("%s is more than %s, the upper end of the range of %s", v.Text, to.Text, c.Name)
	}
	return nil
}
