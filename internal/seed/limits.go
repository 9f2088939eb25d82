package seed

// This file holds a column to what it may be: the limits that its type, its range
// and the checks set, those that other columns of the row set, and the part of them
// in which a value is believable.

import (
	"slices"

	"erbario/internal/schema"
)

// bound holds a column against another one of the row.
type bound struct {
	op     string
	column int
}

// limit is the interval between two literals, either of which may be missing.
func (p *Plan) limit(c *column, from, to *schema.Value) interval {
	i := interval{c.axis.low, c.axis.high}
	if from != nil {
		if n, ok := c.axis.place(p.constant(*from, c.Column)); ok {
			i.low = n
		}
	}
	if to != nil {
		if n, ok := c.axis.place(p.constant(*to, c.Column)); ok {
			i.high = n
		}
	}
	return i
}

// may is what the column may be in a row, by its own limits, the columns that it is held
// against, and the times that it keeps to.
func (c *column) may(r *row) interval {
	i := c.held(r)
	if len(c.afters) > 0 && !i.empty() {
		i, _ = c.kept(r, i)
	}
	return i
}

// held is what the column may be in a row, by its own limits and the columns that
// it is held against.
func (c *column) held(r *row) interval {
	i := c.hard
	if r.before != 0 && (c.life || c.Stamped || c.Name == "created_at") { // its deletion is given
		switch {
		case c.axis.moment():
			i.high = min(i.high, r.before)
		case c.axis.kind == schema.Date && r.before/daySeconds >= i.low:
			i.high = min(i.high, r.before/daySeconds)
		}
	}
	for _, b := range c.bounds {
		o := r.line.columns[b.column]
		n, ok := c.other(o, r.cells[b.column])
		if !ok {
			continue
		}
		switch b.op {
		case ">":
			i.low = max(i.low, n+1)
		case ">=":
			i.low = max(i.low, n)
		case "<":
			i.high = min(i.high, n-1)
		case "<=":
			i.high = min(i.high, n)
		case "=":
			i = i.and(interval{n, n})
		}
	}
	return i
}

// other is the place of another column's value on this one's axis.
func (c *column) other(o *column, v any) (int64, bool) {
	if o.axis == nil {
		return 0, false
	}
	if c.axis.moment() && o.axis.kind == schema.Date || c.axis.kind == schema.Date && o.axis.moment() {
		if s, ok := v.(string); ok {
			return c.axis.place(s)
		}
	}
	if s, ok := v.(string); ok {
		return c.axis.place(s)
	}
	return c.axis.place(v)
}

// within is the believable part of what the column may be.
func (c *column) within(p *Plan, r *row) interval {
	i := c.held(r)
	low, near := i.low, interval{1, 0}
	if len(c.afters) > 0 && !i.empty() {
		i, near = c.kept(r, i)
	}
	if i.empty() {
		return interval{i.low, i.low} // nothing fits: the check will tell
	}
	if !near.empty() {
		if now := p.now(c.axis); !c.ahead && i.low <= now {
			if near.low > now {
				near.low = i.low
			}
			near.high = min(near.high, now)
		}
		return near
	}
	if near := i.and(c.soft); !near.empty() {
		if low > c.hard.low && !c.said { // behind another column: soon after it
			if span := c.span(); near.low == low {
				near.high = min(near.high, near.low+span)
			}
		}
		return near
	}
	span := c.span()
	if i.low > c.soft.high {
		out := interval{i.low, min(i.high, i.low+span)}
		if now := p.now(c.axis); !c.ahead && i.low <= now {
			out.high = min(out.high, now)
		}
		return out
	}
	return interval{max(i.low, i.high-span), i.high}
}

// now is the place of the present.
func (p *Plan) now(x *axis) int64 {
	if x.moment() {
		return p.today*daySeconds + daySeconds/2
	}
	return p.today
}

// span is how far a value lies from one that it is held against.
func (c *column) span() int64 {
	switch {
	case c.axis.kind == schema.Date:
		return 90
	case c.axis.moment():
		return 90 * daySeconds
	}
	return max(1, min(c.soft.high-c.soft.low, 1000*c.axis.scale))
}

// bounds reads the limits that the checks set.
func (p *Plan) bounds(l *Line) {
	order := func(c *column) int { // which of two that are held against each other comes first
		rank := c.at
		if !c.said {
			rank += 1000
		}
		if c.mark {
			rank += 3000
		} else if c.Stamped {
			rank += 2000
		}
		return rank
	}
	for _, check := range l.plan.checks {
		for _, e := range check.terms() {
			if e.op == "in" && e.args[0].op == "column" {
				l.columns[e.args[0].column].among(e)
				continue
			}
			at, op, other, ok := e.comparisonOf()
			if !ok {
				continue
			}
			c := l.columns[at]
			if other.op == "const" {
				if op == "=" {
					c.among(&expr{op: "in", args: []*expr{e.args[0], other}})
				}
				c.against(op, other.value)
				continue
			}
			o := l.columns[other.column]
			if order(c) < order(o) {
				c, o, op = o, c, turned[op]
			}
			if l.looks(o, c, 0) {
				c, o, op = o, c, turned[op]
			}
			if l.looks(o, c, 0) {
				continue // the check itself is asked
			}
			if c.axis != nil && o.axis != nil && c.hard != (interval{}) {
				c.bounds = append(c.bounds, bound{op, o.at})
				c.needs = append(c.needs, o.at)
			}
		}
	}
}

// narrow lets the limits of columns that are held against each other be felt by
// both: one that is filled first must leave room for the other.
func (l *Line) narrow() {
	for range len(l.columns) {
		for _, c := range l.columns {
			for _, b := range c.bounds {
				o := l.columns[b.column]
				if o.hard == (interval{}) {
					continue // given by the seed
				}
				strict := int64(0)
				if b.op == "<" || b.op == ">" {
					strict = 1
				}
				high := func(a, b *column) { // a is not above b
					if n, ok := a.other(b, b.axis.value(b.hard.high)); ok && n-strict < a.hard.high &&
						n-strict >= a.hard.low {
						a.hard.high = n - strict
					}
				}
				low := func(a, b *column) { // a is not below b
					if n, ok := a.other(b, b.axis.value(b.hard.low)); ok && n+strict > a.hard.low &&
						n+strict <= a.hard.high {
						a.hard.low = n + strict
					}
				}
				switch b.op {
				case "<", "<=":
					high(c, o)
					low(o, c)
				case ">", ">=":
					low(c, o)
					high(o, c)
				case "=":
					high(c, o)
					low(c, o)
					high(o, c)
					low(o, c)
				}
			}
		}
	}
}

// looks tells whether a column is worked out from another, by however many steps.
func (l *Line) looks(c, at *column, steps int) bool {
	return steps <= len(l.columns) &&
		slices.ContainsFunc(c.needs, func(n int) bool { return n == at.at || l.looks(l.columns[n], at, steps+1) })
}

// against narrows a column by a comparison with a constant.
func (c *column) against(op string, v any) {
	if c.axis == nil || c.hard == (interval{}) {
		return
	}
	n, ok := c.axis.place(v)
	if !ok {
		return
	}
	up := int64(0)
	if !c.axis.whole(v) {
		up = 1 // it lies between two places, and n is the one below
	}
	switch op {
	case ">":
		c.hard.low = max(c.hard.low, n+1)
	case ">=":
		c.hard.low = max(c.hard.low, n+up)
	case "<":
		c.hard.high = min(c.hard.high, n-1+up)
	case "<=":
		c.hard.high = min(c.hard.high, n)
	case "=":
		c.hard = c.hard.and(interval{n + up, n})
	}
}

// among keeps a text to a list.
func (c *column) among(e *expr) {
	if c.said || c.pick != nil || c.Type.Kind != schema.Text && c.Type.Kind != schema.Choice {
		return
	}
	var list []string
	for _, a := range e.args[1:] {
		if s, ok := a.constant().value.(string); ok &&
			(c.Type.Kind != schema.Choice || slices.Contains(c.Type.Choices, s)) {
			list = append(list, s)
		}
	}
	if len(list) > 0 {
		c.oneOf(list)
	}
}
