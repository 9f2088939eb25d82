package seed

// This file lays the values that have an order, numbers, days and times, along an
// axis of whole numbers, so that ranges, limits and checks are all intervals of
// it: a decimal in units of its last digit, a day in days, a moment in seconds.

import (
	"math"
	"math/big"
	"strconv"
	"strings"
	"time"

	"erbario/internal/schema"
)

// axis is how the values of one type lie on the whole numbers.
type axis struct {
	kind  schema.Kind
	scale int64 // the units of the axis in one of the type's own, for numbers
	low   int64 // the least and the greatest value of the type
	high  int64
	zeros string // behind the digits of a decimal that the axis is too coarse for
}

// floatScale is the fineness of floating numbers that are made up.
const floatScale = 1000

// far is the end of an axis: nothing that is made up lies beyond.
const far = int64(1) << 53

// axisOf is the axis of a type; nil where its values have no order.
func axisOf(t schema.Type) *axis {
	switch t.Kind {
	case schema.Smallint:
		return &axis{t.Kind, 1, math.MinInt16, math.MaxInt16, ""}
	case schema.Integer:
		return &axis{t.Kind, 1, math.MinInt32, math.MaxInt32, ""}
	case schema.Bigint:
		return &axis{t.Kind, 1, -far, far, ""}
	case schema.Decimal:
		scale := int64(1)
		for range min(t.Scale, 15) {
			scale *= 10
		}
		high := int64(math.Pow10(min(t.Precision, 15))) - 1
		return &axis{t.Kind, scale, -high, high, strings.Repeat("0", max(0, t.Scale-15))}
	case schema.Real, schema.Double:
		return &axis{t.Kind, floatScale, -far, far, ""}
	case schema.Date:
		return &axis{t.Kind, 1, day("1000-01-01"), day("9999-12-31"), ""}
	case schema.Time:
		return &axis{t.Kind, 1, 0, 24*3600 - 1, ""}
	case schema.Timestamp, schema.Datetime:
		return &axis{t.Kind, 1, day("1000-01-01") * daySeconds, day("9999-12-31") * daySeconds, ""}
	}
	return nil
}

const daySeconds = 24 * 3600

// day is the number of a day, counted from 1970-01-01.
func day(s string) int64 {
	t, err := time.Parse(time.DateOnly, s)
	if err != nil {
		return 0
	}
	return t.Unix() / daySeconds
}

func (x *axis) moment() bool { return x.kind == schema.Timestamp || x.kind == schema.Datetime }

// value is the value at a place of the axis.
func (x *axis) value(n int64) any {
	switch x.kind {
	case schema.Smallint, schema.Integer, schema.Bigint:
		return n
	case schema.Decimal:
		if x.scale == 1 {
			return strconv.FormatInt(n, 10)
		}
		var room [40]byte
		b, u := room[:0], uint64(n)
		if n < 0 {
			b, u = append(b, '-'), uint64(-n)
		}
		b = strconv.AppendUint(b, u/uint64(x.scale), 10)
		b = append(b, '.')
		frac := u % uint64(x.scale)
		for s := uint64(x.scale) / 10; s > 1 && frac < s; s /= 10 {
			b = append(b, '0')
		}
		return string(append(strconv.AppendUint(b, frac, 10), x.zeros...))
	case schema.Real, schema.Double:
		return float64(n) / float64(x.scale)
	case schema.Date:
		var room [16]byte
		return string(appendDay(room[:0], n))
	case schema.Time:
		return string(appendClock(nil, n))
	}
	d := n / daySeconds
	if n < 0 && n%daySeconds != 0 {
		d--
	}
	var room [32]byte
	return string(appendClock(append(appendDay(room[:0], d), ' '), n-d*daySeconds))
}

// appendDay writes a day as 2006-01-02; by hand, since a million of them are written.
func appendDay(b []byte, n int64) []byte {
	y, m, d := time.Unix(n*daySeconds, 0).UTC().Date()
	if y < 0 || y > 9999 {
		return time.Unix(n*daySeconds, 0).UTC().AppendFormat(b, time.DateOnly)
	}
	two := func(n int) { b = append(b, byte('0'+n/10), byte('0'+n%10)) }
	two(y / 100)
	two(y % 100)
	b = append(b, '-')
	two(int(m))
	b = append(b, '-')
	two(d)
	return b
}

func appendClock(b []byte, n int64) []byte {
	two := func(n int64) { b = append(b, byte('0'+n/10), byte('0'+n%10)) }
	two(n / 3600)
	b = append(b, ':')
	two(n / 60 % 60)
	b = append(b, ':')
	two(n % 60)
	return b
}

// place is where a value, made or written, lies; ok is false where it does not
// lie on the axis. A number between two places lies on the one below.
func (x *axis) place(v any) (n int64, ok bool) {
	switch v := v.(type) {
	case nil:
		return 0, false
	case int64:
		return v * x.scale, true
	case float64:
		return int64(math.Floor(v * float64(x.scale))), true
	case string:
		switch x.kind {
		case schema.Date:
			t, err := time.Parse(time.DateOnly, v[:min(len(v), 10)])
			return t.Unix() / daySeconds, err == nil
		case schema.Time:
			t, err := time.Parse(time.TimeOnly, v)
			return int64(t.Hour()*3600 + t.Minute()*60 + t.Second()), err == nil
		case schema.Timestamp, schema.Datetime:
			if len(v) == 10 {
				v += " 00:00:00"
			}
			if v = v[:min(len(v), 19)]; len(v) == 19 && v[10] == 'T' { // a database may give fractions, and a zone
				v = v[:10] + " " + v[11:]
			}
			t, err := time.Parse(time.DateTime, v)
			return t.Unix(), err == nil
		}
		r, ok := new(big.Rat).SetString(v)
		if !ok {
			return 0, false
		}
		r.Mul(r, new(big.Rat).SetInt64(x.scale))
		q := new(big.Int).Div(r.Num(), r.Denom()) // rounds towards minus infinity for a positive denominator
		if !q.IsInt64() {
			if r.Sign() < 0 {
				return x.low, true
			}
			return x.high, true
		}
		return q.Int64(), true
	}
	return 0, false
}

// whole tells whether a number lies on a place, not between two.
func (x *axis) whole(v any) bool {
	s, ok := v.(string)
	if !ok {
		f, ok := v.(float64)
		return !ok || f*float64(x.scale) == math.Floor(f*float64(x.scale))
	}
	r, ok := new(big.Rat).SetString(s)
	return !ok || r.Mul(r, new(big.Rat).SetInt64(x.scale)).IsInt()
}

// interval is a part of an axis, both ends inside.
type interval struct{ low, high int64 }

func (i interval) empty() bool { return i.low > i.high }

func (i interval) and(o interval) interval {
	return interval{max(i.low, o.low), min(i.high, o.high)}
}
