package seed

// This file makes the values that a seed says: constants, choices, templates, sums.

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// supplied fills a column as the seed says.
func (p *Plan) supplied(l *Line, c *column, s *declare.Supply) *lang.Diagnostic {
	switch {
	case s.Sum != nil:
		return p.sum(l, c, s.Sum)
	case s.Fake != nil:
		p.making(l, c)
	case s.From != nil:
		p.ordered(l, c)
		low, _ := c.axis.place(p.constant(*s.From, c.Column))
		high, _ := c.axis.place(p.constant(*s.To, c.Column))
		if c.asked = (interval{low, high}); c.asked.empty() {
			m := mistake(l.source, "", "the range of %s is reversed", c.Field)
			m.Pos = s.Pos
			return &m
		}
		if m := p.allowed(l, c, s, "the model lets it be %s"); m != nil {
			return m
		}
		c.hard = c.asked
		c.soft = c.hard
		c.ahead = true
	default:
		return p.picked(l, c, s)
	}
	return nil
}

// picked fills a column with one of several values.
func (p *Plan) picked(l *Line, c *column, s *declare.Supply) *lang.Diagnostic {
	picks := slices.Clone(s.Picks)
	shares, left, unsaid := make([]float64, len(picks)), 100.0, 0
	for i, k := range picks {
		shares[i] = k.Share
		if k.Share == declare.Unsaid {
			unsaid++
		} else {
			left -= k.Share
		}
	}
	for i := range shares {
		if shares[i] == declare.Unsaid {
			shares[i] = left / float64(unsaid)
		}
	}
	others, m := p.rest(l, c, s, unsaid, left)
	if m != nil {
		return m
	}
	for _, o := range others {
		picks, shares = append(picks, o), append(shares, o.Share)
	}
	values := make([]func(r *row, random *fake.Random) any, len(picks))
	for i, k := range picks {
		if k.Parts != nil {
			values[i] = p.template(l, c, k.Parts)
			continue
		}
		if k.Value.Kind == schema.UUIDValue {
			values[i] = func(r *row, random *fake.Random) any { return newUUID(p.today, random) }
			continue
		}
		v := p.constant(k.Value, c.Column)
		values[i] = func(*row, *fake.Random) any { return v }
	}
	if !slices.ContainsFunc(picks,
		func(k declare.Pick) bool { return k.Parts != nil || k.Value.Kind == schema.UUIDValue }) {
		c.distinct = int64(len(picks))
	}
	if len(picks) == 1 {
		c.fill = values[0]
		if k := picks[0]; slices.ContainsFunc(k.Parts, func(x declare.Part) bool { return x.Digits > 0 }) {
			c.sequence, c.injective = &picks[0], fmt.Sprint(k.Parts)
		}
		return nil
	}
	whole := 0.0
	for _, share := range shares {
		whole += share
	}
	c.fill = func(r *row, random *fake.Random) any {
		at := random.Part() * whole
		for i, s := range shares {
			if at -= s; at < 0 {
				return values[i](r, random)
			}
		}
		return values[len(values)-1](r, random)
	}
	c.domain = func(*row) int64 { return int64(len(values)) }
	c.nth = func(r *row, i int64) any {
		random := fake.NewRandom(c.seed, uint64(r.n))
		return values[i](r, &random)
	}
	return nil
}

// rest is what a field has in the rows that its shares leave over: the values of its type
// that the seed does not name. left is what the shares leave over where no value is without
// one. Shares that come to 100 % together with that of empty rows leave nothing over.
func (p *Plan) rest(l *Line, c *column, s *declare.Supply, unsaid int,
	left float64) ([]declare.Pick, *lang.Diagnostic) {
	if unsaid > 0 || left < 1e-9 || math.Abs(left-max(s.Empty, 0)) < 1e-9 {
		return nil, nil
	}
	var all []schema.Value
	switch c.Type.Kind {
	case schema.Choice:
		for _, v := range c.Type.Choices {
			all = append(all, schema.Value{Kind: schema.TextValue, Text: v})
		}
	case schema.Boolean:
		all = []schema.Value{{Kind: schema.BooleanValue, Text: "true"}, {Kind: schema.BooleanValue, Text: "false"}}
	}
	all = slices.DeleteFunc(all, func(v schema.Value) bool {
		return slices.ContainsFunc(s.Picks, func(k declare.Pick) bool { return k.Value.Text == v.Text })
	})
	if len(all) == 0 {
		m := mistake(l.source, "let them add up to 100 %, or leave one value without a share: it gets the rest",
			"the shares of %s add up to %g %%", c.Field, 100-left)
		m.Pos = s.Pos
		return nil, &m
	}
	var out []declare.Pick
	for _, v := range all {
		out = append(out, declare.Pick{Value: v, Share: left / float64(len(all))})
	}
	return out, nil
}

// constant is a literal as the value of a row.
func (p *Plan) constant(v schema.Value, c *schema.Column) any {
	x := axisOf(c.Type)
	switch v.Kind {
	case schema.NullValue:
		return nil
	case schema.TodayValue, schema.NowValue:
		if x.moment() {
			n := p.today*daySeconds + v.Shift
			if v.Kind == schema.NowValue {
				n += daySeconds / 2
			}
			return x.value(n)
		}
		return x.value(p.today + v.Shift/daySeconds)
	case schema.BooleanValue:
		if c.Type.Kind == schema.Boolean {
			return v.Text == "true"
		}
	case schema.NumberValue:
		switch {
		case c.Type.Kind.Whole():
			n, err := strconv.ParseInt(v.Text, 10, 64)
			if err == nil {
				return n
			}
			r, _ := strconv.ParseFloat(v.Text, 64)
			return int64(r)
		case c.Type.Kind == schema.Real || c.Type.Kind == schema.Double:
			f, _ := strconv.ParseFloat(v.Text, 64)
			return f
		case c.Type.Kind == schema.Decimal:
			return decimal(v.Text, c.Type.Scale)
		}
	}
	if c.Type.Kind == schema.UUID {
		return strings.ToLower(v.Text)
	}
	return v.Text
}

// decimal writes a number with all the digits of its scale.
func decimal(s string, scale int) string {
	whole, frac, _ := strings.Cut(s, ".")
	if scale == 0 {
		return whole
	}
	return whole + "." + (frac + strings.Repeat("0", scale))[:scale]
}

// template fills a text with braces.
func (p *Plan) template(l *Line, c *column, parts []declare.Part) func(*row, *fake.Random) any {
	places := make([]int, len(parts))
	for i, part := range parts {
		if part.Column != "" {
			places[i] = l.plan.place[part.Column]
			c.needs = append(c.needs, places[i])
		}
	}
	return func(r *row, _ *fake.Random) any {
		b := make([]byte, 0, 24)
		for i, part := range parts {
			switch {
			case part.Digits > 0:
				n := c.offset + r.n + 1
				for limit := int64(10); limit > 0 && len(b) < 1000 && digitsOf(n) < part.Digits && limit <= pow10(part.Digits-1); limit *= 10 {
					if n < limit {
						b = append(b, '0')
					}
				}
				b = strconv.AppendInt(b, n, 10)
			case part.Column != "":
				b = append(b, textOf(r.cells[places[i]])...)
			default:
				b = append(b, part.Text...)
			}
		}
		return string(b)
	}
}

func pow10(n int) int64 {
	out := int64(1)
	for range min(n, 18) {
		out *= 10
	}
	return out
}

func digitsOf(n int64) int {
	d := 1
	for n >= 10 {
		n /= 10
		d++
	}
	return d
}

// textOf is a value as a text that is in another.
func textOf(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case string:
		return v
	}
	return fmt.Sprint(v)
}

// sum fills a column from others.
func (p *Plan) sum(l *Line, c *column, s *declare.Sum) *lang.Diagnostic {
	from := l.plan.place[s.Column]
	c.needs = append(c.needs, from)
	source := axisOf(l.plan.columns[from].Type)
	for _, t := range s.Terms {
		if t.Column != "" {
			c.needs = append(c.needs, l.plan.place[t.Column])
		}
	}
	if len(s.Terms) == 0 && l.plan.columns[from].Type.Kind == c.Type.Kind {
		c.fill = func(r *row, _ *fake.Random) any { return r.cells[from] }
		return nil
	}
	if m := p.suggested(l, c); m != nil { // for rows where there is nothing to begin with
		return m
	}
	fallback := c.fill
	if !c.NotNull {
		fallback = func(*row, *fake.Random) any { return nil }
	}
	c.empty, c.domain, c.nth = 0, nil, nil
	limits := interval{c.axis.low, c.axis.high}
	if c.Range != nil {
		limits = limits.and(p.limit(c, c.Range.From, c.Range.To))
	}
	c.fill = func(r *row, random *fake.Random) any {
		n, ok := source.place(r.cells[from])
		if !ok {
			return fallback(r, random)
		}
		x, times := float64(n)/float64(source.scale), c.axis.kind == schema.Date || c.axis.moment()
		if times && source.kind == schema.Date {
			x *= daySeconds
		}
		for _, t := range s.Terms {
			y := t.From
			if t.Column != "" {
				o := axisOf(l.plan.columns[l.plan.place[t.Column]].Type)
				m, ok := o.place(r.cells[l.plan.place[t.Column]])
				if !ok {
					return fallback(r, random)
				}
				y = float64(m) / float64(o.scale)
			} else if t.To > t.From {
				if t.From == math.Floor(t.From) && t.To == math.Floor(t.To) {
					y = float64(random.Between(int64(t.From), int64(t.To)))
				} else {
					y = t.From + random.Part()*(t.To-t.From)
				}
			}
			if times {
				y *= float64(lang.Seconds(cmp.Or(t.Unit, "days")))
			}
			switch t.Op {
			case '+':
				x += y
			case '-':
				x -= y
			case '*':
				x *= y
			}
		}
		place := math.Round(x * float64(c.axis.scale))
		if c.axis.kind == schema.Date {
			place = math.Floor(x / daySeconds)
		}
		if place < float64(limits.low) || place > float64(limits.high) {
			r.beyond(c, x)
			return c.axis.value(int64(min(max(place, float64(limits.low)), float64(limits.high))))
		}
		return c.axis.value(int64(place))
	}
	return nil
}
