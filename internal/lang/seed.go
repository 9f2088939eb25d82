package lang

// This file reads the lines of seeds and of reference rows.

import (
	"slices"
	"strconv"
	"strings"

	"erbario/internal/schema"
)

// seedLines reads the lines of a seed that are indented at least as deep as the
// first, and returns those that are left.
func (p *parser) seedLines(groups []group, depth int) ([]*Line, []group) {
	if len(groups) == 0 {
		return nil, nil
	}
	if depth > 50 {
		p.errorf(p.pos(groups[0].start, groups[0].end), "", "these lines are nested more than 50 levels deep")
		return nil, nil
	}
	indent := groups[0].indent
	var lines []*Line
	for len(groups) > 0 && groups[0].indent >= indent {
		g := groups[0]
		if g.indent > indent {
			var under []*Line
			under, groups = p.seedLines(groups, depth+1)
			if len(lines) == 0 {
				continue
			}
			last := lines[len(lines)-1]
			if last.Make == nil && len(under) > 0 {
				p.errorf(under[0].Pos, "only a line MODEL COUNT can have lines under it", "this line is under a field")
				continue
			}
			last.Lines = append(last.Lines, under...)
			continue
		}
		groups = groups[1:]
		if l := p.line(g, func(c *cursor, l *Line) { c.seedLine(l) }); l != nil {
			lines = append(lines, l)
		} else {
			for len(groups) > 0 && groups[0].indent > indent {
				groups = groups[1:]
			}
		}
	}
	return lines, groups
}

// seedLine reads `MODEL COUNT` or `field VALUE`. A model's name begins with a
// capital and a count behind it.
func (c *cursor) seedLine(l *Line) {
	behind := c.behindWord()
	first := c.peekWord()
	if first != "" && first[0] >= 'A' && first[0] <= 'Z' {
		// A field may have such a name too, but not such a value.
		switch word := behind[:nameLength(behind)]; {
		case strings.HasPrefix(behind, "-") && digits(behind[1:]) > 0, slices.Contains(counts, word):
			c.fail(c.here(), "write "+first+" 10, or another number",
				"the number of rows of %s is a whole number from 0", first)
		}
	}
	if first != "" && first[0] >= 'A' && first[0] <= 'Z' && digits(behind) > 0 {
		m := &Make{Model: c.name("a model")}
		m.From = c.integer("a count", false)
		m.To = m.From
		if c.hasPrefix("..") {
			c.take(2, true)
			pos := c.here()
			m.To = c.integer("the end of the range", true)
			if m.To < m.From {
				c.fail(pos, "", "the range is reversed")
			}
		}
		for !c.done() {
			at := c.here()
			switch {
			case m.Via == nil && c.accept("via"):
				via := c.fieldName()
				m.Via = &via
			case m.Depth == 0 && c.accept("depth"):
				m.DepthPos = c.here()
				if m.Depth = c.integer("the number of levels", false); m.Depth == 0 || m.Depth > 20 {
					c.fail(m.DepthPos, "", "a tree has 1 to 20 levels")
				}
			default:
				c.fail(at, "", "unexpected %s: the count may be followed by via FIELD or depth LEVELS", c.showNext())
			}
		}
		l.Make = m
		return
	}
	l.Set = c.set()
}

// set reads how a seed fills a field.
func (c *cursor) set() *Set {
	s := &Set{Field: c.fieldName()}
	if c.done() {
		c.fail(s.Field.Pos, "write MODEL COUNT, or field VALUE", "expected a count or a value after %s", s.Field.Name)
	}
	if c.peekWord() == "empty" && digits(c.behindWord()) > 0 {
		c.accept("empty")
		s.Empty = c.share()
		if c.done() {
			return s
		}
	} else if s.Share = c.acceptShare(); s.Share != nil {
		return s
	}
	if c.reference() {
		s.Sum = c.sum()
		return s
	}
	first := c.moment()
	s.Picks = []Pick{{Value: first}}
	switch {
	case c.hasPrefix(".."):
		c.take(2, true)
		if c.done() {
			c.fail(c.here(), "write both ends, such as 1..10", "the end of the range is missing")
		}
		n := len(c.words)
		s.To = c.moment()
		c.words[n].glued = true
		return s
	case first.Word:
		for b := c.peek(); b == '"' || b >= '0' && b <= '9' && c.shareLength() == 0; b = c.peek() {
			s.Args = append(s.Args, c.value())
		}
		if len(s.Args) > 0 {
			return s
		}
	}
	for {
		s.Picks[len(s.Picks)-1].Share = c.acceptShare()
		if !c.acceptByte(',', true) {
			return s
		}
		s.Picks = append(s.Picks, Pick{Value: c.moment()})
		if c.hasPrefix("..") {
			c.fail(c.here(), "write a list of values, or a single range", "a range cannot be one of several values")
		}
	}
}

// moment reads a value of a seed, where times stand without quotes, also behind a day, and
// days and moments can be told from today or now: 08:00, 2026-01-31 08:00, today - 30 days.
func (c *cursor) moment() *Value {
	c.space()
	if n := clockLength(c.src[c.off:c.end]); n > 0 {
		text := c.src[c.off : c.off+n]
		return &Value{Value: schema.Value{Kind: schema.TextValue, Text: fullClock(text)}, Pos: c.take(n, false)}
	}
	v := c.value()
	switch v.Kind {
	case schema.DateValue:
		c.space()
		n := clockLength(c.src[c.off:c.end])
		if n == 0 {
			return v
		}
		v.Value = schema.Value{Kind: schema.TextValue, Text: v.Text + " " + fullClock(c.src[c.off:c.off+n])}
		v.Pos.End = c.take(n, false).End
	case schema.TodayValue, schema.NowValue:
		sign := c.peek()
		if sign != '+' && sign != '-' {
			return v
		}
		c.take(1, false)
		far := c.value()
		n, err := strconv.ParseInt(far.Text, 10, 32)
		if far.Kind != schema.NumberValue || err != nil || n < 0 {
			c.fail(far.Pos, "write "+v.Value.String()+" - 30 days", "expected a whole number, not %s", far.Value)
		}
		at, unit := c.here(), c.peekWord()
		size := Seconds(unit)
		switch {
		case unit == "":
			c.fail(at, "write days, hours, minutes or seconds", "the unit is missing")
		case size == 0:
			c.fail(at, "write weeks, days, hours, minutes or seconds", "%s is not a unit here: they differ in length",
				unit)
		}
		c.accept(unit)
		if sign == '-' {
			n = -n
		}
		v.Shift, v.Pos.End = n*size, c.off
	}
	return v
}

// Seconds is how many a unit of time has, 0 of what is none.
func Seconds(unit string) int64 {
	return map[string]int64{"weeks": 7 * 24 * 3600, "week": 7 * 24 * 3600, "days": 24 * 3600, "day": 24 * 3600, "hours": 3600, "hour": 3600, "minutes": 60, "minute": 60, "seconds": 1, "second": 1}[unit]
}

// clockLength is the length of a time such as 08:00 or 08:00:30 with which s begins, else 0.
func clockLength(s string) int {
	two := func(s string) bool { return len(s) >= 2 && digits(s[:2]) == 2 }
	if !two(s) || len(s) < 5 || s[2] != ':' || !two(s[3:]) {
		return 0
	}
	if len(s) >= 8 && s[5] == ':' && two(s[6:]) {
		return 8
	}
	return 5
}

func fullClock(s string) string {
	if len(s) == 5 {
		return s + ":00"
	}
	return s
}

// shareLength is the length of a share such as 40% that stands next, without
// its sign; 0: none does.
func (c *cursor) shareLength() int {
	c.space()
	rest := c.src[c.off:c.end]
	if n := numberLength(rest); n > 0 && n < len(rest) && rest[n] == '%' {
		return n
	}
	return 0
}

func (c *cursor) acceptShare() *Share {
	if c.shareLength() == 0 {
		return nil
	}
	return c.share()
}

func (c *cursor) share() *Share {
	n := c.shareLength()
	if n == 0 {
		c.fail(c.here(), "write a share such as 40%", "expected a share, not %s", c.showNext())
	}
	v, err := strconv.ParseFloat(c.src[c.off:c.off+n], 64)
	s := &Share{Percent: v, Pos: c.take(n+1, false)}
	if err != nil || v < 0 || v > 100 {
		c.fail(s.Pos, "", "a share is between 0%% and 100%%")
	}
	return s
}

// reference tells whether a field of the row stands next, {field}, and not JSON.
func (c *cursor) reference() bool {
	c.space()
	rest := c.src[c.off:c.end]
	if rest == "" || rest[0] != '{' {
		return false
	}
	n := nameLength(rest[1:])
	return n > 0 && 1+n < len(rest) && rest[1+n] == '}'
}

func (c *cursor) braced() Ident {
	n := nameLength(c.src[c.off+1 : c.end])
	name := c.src[c.off+1 : c.off+1+n]
	pos := c.take(n+2, false)
	return Ident{Name: name, Pos: pos}
}

// sum reads a value worked out from other fields of the row.
func (c *cursor) sum() *Sum {
	s := &Sum{Pos: c.here(), Field: c.braced()}
	for !c.done() {
		op := c.peek()
		if op != '+' && op != '-' && op != '*' {
			c.fail(c.here(), "write {field} + 14, {field} + 14..60 days, {field} * {other}", "unexpected %s",
				c.showNext())
		}
		c.take(1, false)
		t := Term{Op: op}
		if c.reference() {
			f := c.braced()
			t.Field = &f
		} else {
			number := func(glued bool) *Value {
				n := len(c.words)
				v := c.value()
				c.words[n].glued = glued
				if v.Kind != schema.NumberValue {
					c.fail(v.Pos, "", "expected a number or {field}, not %s", v.Value)
				}
				return v
			}
			t.From = number(false)
			if c.hasPrefix("..") {
				c.take(2, true)
				t.To = number(true)
			}
			if w := c.peekWord(); Seconds(w) > 0 {
				c.accept(w)
				t.Unit = w
			}
		}
		s.Terms = append(s.Terms, t)
	}
	return s
}

func (p *parser) rowLines(groups []group) []*Line {
	var lines []*Line
	width := 0
	for i, g := range groups {
		l := p.line(g, func(c *cursor, l *Line) {
			for !c.done() {
				if i == 0 {
					l.Cells = append(l.Cells, Cell{Name: c.fieldName()})
				} else {
					l.Cells = append(l.Cells, Cell{Value: c.value()})
				}
			}
		})
		if l == nil {
			if i == 0 {
				return lines
			}
			continue
		}
		if i == 0 {
			width = len(l.Cells)
		} else if len(l.Cells) != width {
			p.errorf(l.Pos, "text of more than one word is written in double quotes, a missing value is null", "this row has %d values for %d fields", len(l.Cells), width)
		}
		lines = append(lines, l)
	}
	return lines
}
