package seed

// This file holds what a seed asks for against what a column can hold: nothing that it says
// is replaced by another value without a word.

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"unicode/utf8"

	"erbario/internal/declare"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// allowed tells of a range of the seed that reaches beyond what the column may be: a value
// that the seed asks for is not replaced by another without a word.
func (p *Plan) allowed(l *Line, c *column, s *declare.Supply, who string) *lang.Diagnostic {
	if c.asked.and(c.hard) == c.asked {
		return nil
	}
	m := mistake(l.source, "write a range within that, or let the model allow more", "%s is to be %s, and %s", c.Field,
		c.shown(c.asked), fmt.Sprintf(who, c.shown(c.hard)))
	if c.hard.empty() {
		m = mistake(l.source, "write a range that does, or let the model allow more", "no value of %s passes a check",
			c.shown(c.asked))
	}
	m.Pos = s.Pos
	return &m
}

// missing tells of values of references in the seed for which there is no row. Where nobody
// has looked into the database, it is a warning: people may have put such a row in.
func (p *Plan) missing(l *Line) []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, k := range l.Table.ForeignKeys {
		s := l.source.Supplies[k.Columns[0]]
		target := p.schema.Table(k.Table)
		if len(k.Columns) > 1 || s == nil || target == nil {
			continue
		}
		c, of := l.Table.Column(k.Columns[0]), k.References[0]
		var list []string
		makes := slices.ContainsFunc(p.Lines, func(o *Line) bool { return o.Table.Name == k.Table })
		there := p.ground.Tables[k.Table]
		number := target.Column(of) != nil && target.Column(of).Identity
		switch {
		case makes && number && p.ground.Unknown: // told below
		case makes:
			continue
		case there != nil && !there.Unknown:
			keys := there.Keys[keyName(k.References, besides(p.schema, l.Table, k))]
			if keys == nil || len(keys) >= keysLooked {
				continue
			}
			for _, key := range keys {
				list = append(list, textOf(key[0]))
			}
		case target.Rows == nil || target.Rows.Place(of) < 0:
			continue
		default:
			for _, row := range target.Rows.Values {
				list = append(list, row[target.Rows.Place(of)].Text)
			}
		}
		for _, pick := range s.Picks {
			v := textOf(p.constant(pick.Value, c))
			if pick.Parts != nil || pick.Value.Kind == schema.NullValue || slices.Contains(list, v) {
				continue
			}
			m := mistake(l.source, "create one in the seed, or use another value", "%s: no %s has the %s %s", c.Field,
				target.Model, target.Column(of).Field, v)
			if makes {
				var total int64
				for _, o := range p.Lines {
					if o.Table.Name == k.Table {
						total += o.Total
					}
				}
				if n, err := strconv.ParseInt(v, 10, 64); err != nil || n >= 1 && n <= total {
					continue
				}
				m = mistake(l.source, fmt.Sprintf("use a number from 1 to %d, or create more", total),
					"%s is %s, but the seed creates only %s of %s", c.Field, v, words.Rows(total), target.Model)
			} else if like := lang.DidYouMean(v, list); like != "" {
				m.Hint = like
			}
			m.Pos, m.Warning = s.Pos, there == nil || there.Unknown || makes
			out = append(out, m)
		}
	}
	return out
}

// Doubts are what a seed says that is right only where the database has rows that nobody
// knows of.
func (p *Plan) Doubts() []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, l := range p.Lines {
		for _, m := range p.missing(l) {
			if m.Warning && !slices.Contains(out, m) {
				out = append(out, m)
			}
		}
	}
	return out
}

// shown is an interval as a range of the language.
func (c *column) shown(i interval) string {
	end := func(n, none int64) string {
		if n == none {
			return ""
		}
		return textOf(c.axis.value(n))
	}
	return end(i.low, c.axis.low) + ".." + end(i.high, c.axis.high)
}

// reaches tells of a column worked out from others that can become more, or less, than it
// holds, and of a text that can become too long.
func (p *Plan) reaches(l *Line, c *column) *lang.Diagnostic {
	s := l.source.Supplies[c.Name]
	if s == nil {
		return nil
	}
	if n, ok := p.longest(l, c, 0); ok && c.Type.Length > 0 && n > c.Type.Length &&
		slices.ContainsFunc(s.Picks, func(k declare.Pick) bool { return k.Parts != nil }) {
		m := mistake(l.source, "make the field longer, or the text shorter",
			"%s can become %d characters long, and holds at most %d", c.Field, n, c.Type.Length)
		m.Pos = s.Pos
		return &m
	}
	if s.Sum == nil || !c.Type.Kind.Number() || len(s.Sum.Terms) == 0 {
		return nil
	}
	low, high, ok := l.extent(s.Sum.Column)
	for _, t := range s.Sum.Terms {
		from, to := t.From, t.To
		if t.Column != "" {
			var known bool
			from, to, known = l.extent(t.Column)
			ok = ok && known
		}
		switch t.Op {
		case '+':
			low, high = low+from, high+to
		case '-':
			low, high = low-to, high-from
		case '*':
			a := []float64{low * from, low * to, high * from, high * to}
			low, high = slices.Min(a), slices.Max(a)
		}
	}
	limits := interval{c.axis.low, c.axis.high}
	if c.Range != nil {
		limits = limits.and(p.limit(c, c.Range.From, c.Range.To))
	}
	scale := float64(c.axis.scale)
	if !ok || math.Round(low*scale) >= float64(limits.low) && math.Round(high*scale) <= float64(limits.high) {
		return nil
	}
	at := high
	if math.Round(high*scale) <= float64(limits.high) {
		at = low
	}
	m := mistake(l.source, "add or multiply by less, give its source field a range, or let this field hold more",
		"%s can become %s, and it holds %s", c.Field, number(at),
		textOf(c.axis.value(limits.low))+".."+textOf(c.axis.value(limits.high)))
	m.Pos = s.Pos
	return &m
}

// number writes a number without an exponent.
func number(x float64) string { return strconv.FormatFloat(x, 'f', -1, 64) }

// extent is between what numbers the values of a column lie that others are worked out from.
func (l *Line) extent(name string) (low, high float64, ok bool) {
	c := l.columns[l.plan.place[name]]
	if c.axis == nil {
		return 0, 0, false
	}
	if s := l.source.Supplies[name]; s != nil && len(s.Picks) > 0 {
		for i, k := range s.Picks {
			x, err := strconv.ParseFloat(k.Value.Text, 64)
			if err != nil {
				return 0, 0, false
			}
			if i == 0 {
				low, high = x, x
			}
			low, high = min(low, x), max(high, x)
		}
		return low, high, true
	}
	i := c.hard.and(c.soft)
	if c.hard == (interval{}) || i.empty() {
		return 0, 0, false // given by others, or told by the row alone
	}
	return float64(i.low) / float64(c.axis.scale), float64(i.high) / float64(c.axis.scale), true
}

// longest is how many characters a column's values can have at most, written into a text;
// ok is false where nobody can tell.
func (p *Plan) longest(l *Line, c *column, steps int) (n int, ok bool) {
	s := l.source.Supplies[c.Name]
	if steps > len(l.columns) {
		return 0, false
	}
	if s != nil && len(s.Picks) > 0 {
		for _, k := range s.Picks {
			size := utf8.RuneCountInString(textOf(p.constant(k.Value, c.Column)))
			if k.Parts != nil {
				size = 0
			}
			for _, part := range k.Parts {
				switch {
				case part.Column != "":
					of, known := p.longest(l, l.columns[l.plan.place[part.Column]], steps+1)
					if !known {
						return 0, false
					}
					size += of
				case part.Digits > 0:
					size += part.Digits // what a long run needs is told by the count of its rows
				default:
					size += utf8.RuneCountInString(part.Text)
				}
			}
			n = max(n, size)
		}
		return n, true
	}
	switch c.Type.Kind {
	case schema.Text:
		f := c.Fake
		if s != nil && s.Fake != nil {
			f = s.Fake
		}
		if f != nil && !slices.ContainsFunc(l.plan.uniques,
			func(u *unique) bool { return slices.Contains(u.columns, c.at) }) { // else words or a number come behind it
			if at := fake.Longest(f.Generator, f.Args); at > 0 {
				n = at
			}
		}
		if n == 0 || c.Type.Length > 0 && c.Type.Length < n {
			n = c.Type.Length
		}
		return n, n > 0
	case schema.Choice:
		for _, v := range c.Type.Choices {
			n = max(n, utf8.RuneCountInString(v))
		}
		return n, true
	case schema.UUID:
		return 36, true
	case schema.Boolean:
		return 5, true
	}
	if c.axis == nil {
		return 0, false
	}
	i := c.hard.and(c.soft)
	if c.hard == (interval{}) || i.empty() {
		i = interval{c.axis.low, c.axis.high}
	}
	return max(
		len(textOf(c.axis.value(i.low))),
		len(textOf(c.axis.value(i.high))),
	), c.Type.Kind != schema.Real && c.Type.Kind != schema.Double
}
