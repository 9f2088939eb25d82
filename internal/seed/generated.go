package seed

// This file makes the values that a seed leaves to us, by type and by name.

import (
	"fmt"
	"math/bits"
	"strconv"
	"strings"
	"unicode/utf8"

	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// making fills a column by its generator.
func (p *Plan) making(l *Line, c *column) {
	switch c.made.Generator {
	case "price":
		if c.axis != nil {
			p.ordered(l, c)
			low, high := 1.0, 500.0
			if len(c.made.Args) > 0 {
				low, _ = strconv.ParseFloat(c.made.Args[0], 64)
				high = max(low, high)
			}
			if len(c.made.Args) > 1 {
				high, _ = strconv.ParseFloat(c.made.Args[1], 64)
			}
			if at := (interval{int64(low * float64(c.axis.scale)), int64(high * float64(c.axis.scale))}).and(
				c.hard); !at.empty() {
				c.soft = at
			}
			c.priced(p)
			return
		}
	case "json":
		p.object(c, c.made.Args)
		return
	}
	p.generated(l, c, c.made)
}

// generated fills a text by a generator.
func (p *Plan) generated(l *Line, c *column, f *schema.Fake) {
	g := fake.Lookup(f.Generator)
	if g == nil {
		c.fill = func(*row, *fake.Random) any { return nil }
		return
	}
	looks := map[string]int{}
	look := func(name, column string) {
		if at, ok := l.plan.place[column]; ok && at != c.at && looks[name] == 0 &&
			l.columns[at].Type.Kind != schema.JSON {
			looks[name] = at + 1
			c.needs = append(c.needs, at)
		}
	}
	for _, name := range g.From {
		if s := c.subject; s != nil && s.prefix != "" { // the author's mail is of the author's name
			look(name, s.prefix+"_"+name)
			if name == "name" {
				look(name, s.prefix)
			}
			continue
		}
		look(name, name)
	}
	if c.subject != nil {
		c.needs = append(c.needs, c.subject.needs(c)...)
	}
	want := fake.Want{Length: c.Type.Length, Args: f.Args, Locale: p.locale}
	c.fill = func(r *row, random *fake.Random) any {
		w := &r.want
		*w = want
		w.Random = random
		switch s := c.subject; {
		case s == nil:
		case s.place:
			w.Place = r.placeOf(p, s)
		default:
			w.Person = r.personOf(p, s, c)
		}
		if len(looks) > 0 {
			w.Row = func(field string) string {
				if at := looks[field]; at > 0 {
					return textOf(r.cells[at-1])
				}
				return ""
			}
		}
		return g.Make(w)
	}
	switch f.Generator {
	case "bcrypt":
	case "random":
		c.random(f.Args)
	default:
		p.numbered(c, f.Generator)
		switch s := c.subject; {
		case s == nil || !s.place:
		case s.lead == c:
			p.led(c)
		case s.lead != nil || tells(c.about): // it follows the others
			c.domain, c.nth = nil, nil
		}
	}
}

// random goes through all the texts that a random one can be: of a length, and of letters.
func (c *column) random(args []string) {
	alphabet := []rune(fake.Letters)
	if len(args) > 1 && args[1] != "" {
		alphabet = []rune(args[1])
	}
	length, _ := strconv.Atoi(args[0])
	size := int64(1)
	for range length {
		if size *= int64(len(alphabet)); size > most {
			size = most
			break
		}
	}
	c.domain = func(*row) int64 { return size }
	c.nth = func(_ *row, i int64) any {
		out := make([]rune, length)
		hi, lo := bits.Mul64(uint64(i),
			2654435761) // a prime: no two numbers come to the same, and they look like chance
		i = int64(bits.Rem64(hi, lo, uint64(size)))
		for j := length - 1; j >= 0; j-- {
			out[j] = alphabet[i%int64(len(alphabet))]
			i /= int64(len(alphabet))
		}
		return string(out)
	}
}

// numbered lets the values of a text be told apart: as a person would do it, and at last by
// a number in them.
func (p *Plan) numbered(c *column, generator string) {
	fill, length := c.fill, c.Type.Length
	c.domain = func(*row) int64 {
		if length > 0 && length < 13 {
			return pow10(length)
		}
		return most
	}
	c.nth = func(r *row, i int64) any {
		random := fake.NewRandom(c.seed, r.line.hash, uint64(r.n))
		base := textOf(fill(r, &random))
		if i < fake.Variants {
			if v := fake.Variant(generator, base, int(i)); v != "" &&
				(length == 0 || utf8.RuneCountInString(v) <= length) {
				return v
			}
		}
		if at := strings.LastIndexByte(base, ' '); generator == "plain" &&
			at > 0 { // the words alone, and numbers behind those that all have
			base, i = base[:at], i+98
		}
		i += 2                         // the first is without a number
		if length > 0 && length < 13 { // as many as there are
			i %= pow10(length)
		}
		number := strconv.FormatInt(i, 10)
		name, domain, mail := strings.Cut(base, "@")
		switch {
		case mail:
			domain = "@" + domain
			if length > 0 && len(domain)+len(number) >= length {
				domain = "@a.example"
			}
		case strings.Contains(name, " "), generator == "plain":
			number = " " + number
		case strings.Contains(name, "-"):
			number = "-" + number
		}
		if length > 0 {
			room := length - utf8.RuneCountInString(domain) - len(number)
			if room < 1 { // nothing but the number has room
				return strings.Trim(number, " -")[:min(length, len(strings.Trim(number, " -")))]
			}
			name = fake.Cut(name, room)
		}
		return name + number + domain
	}
}

// ordered fills a column by a place on its axis, within what it may be.
func (p *Plan) ordered(l *Line, c *column) {
	x := c.axis
	c.hard = interval{x.low, x.high}
	if r := c.Range; r != nil {
		c.hard = c.hard.and(p.limit(c, r.From, r.To))
	}
	c.soft, c.ahead = p.believable(c)
	timed := x.moment() || x.kind == schema.Date
	at := hoursOf(c.Field)
	c.fill = func(r *row, random *fake.Random) any {
		i := c.within(p, r)
		n := random.Between(i.low, i.high)
		if timed && !c.said {
			n = c.clock(at, n, i)
		}
		return x.value(n)
	}
	switch {
	case c.said || !c.Type.Kind.Number():
	case isPrice(c.Field):
		c.priced(p)
	case isTaxRate(c.Field):
		c.taxed()
	}
	c.domain = func(r *row) int64 {
		i := c.may(r)
		if i.empty() {
			return 0
		}
		return min(i.high-i.low+1, most)
	}
	c.nth = func(r *row, i int64) any {
		in, near := c.may(r), c.within(p, r)
		if low := max(in.low, near.low); low+i <= in.high { // begin where values are believable
			return x.value(low + i)
		}
		return x.value(in.low + i%(max(in.high-in.low, 0)+1))
	}
}

func (c *column) oneOf(list []string) {
	c.needs = nil
	values := make([]any, len(list)) // each is made a value once
	for i, s := range list {
		values[i] = s
	}
	c.fill = func(_ *row, random *fake.Random) any { return values[random.Below(uint64(len(values)))] }
	c.domain = func(*row) int64 { return int64(len(list)) }
	c.nth = func(_ *row, i int64) any { return values[i%int64(len(values))] }
}

// suggested fills a column by the model's generator, or by its name and type.
func (p *Plan) suggested(l *Line, c *column) *lang.Diagnostic {
	t := c.Type
	switch {
	case c.words != nil:
		c.oneOf(c.words)
	case c.made != nil:
		p.making(l, c)
	case c.axis != nil:
		p.ordered(l, c)
		if c.subject != nil {
			p.located(c)
		}
	case t.Kind == schema.Text: // for rows where there is nothing to work it out from
		p.generated(l, c, p.guess(l, c))
	case t.Kind == schema.Choice:
		c.oneOf(t.Choices)
		if c.subject != nil {
			p.chosen(c)
		}
	case t.Kind == schema.Boolean:
		share := likely(c.Field)
		c.fill = func(_ *row, random *fake.Random) any { return random.Part() < share }
		c.domain = func(*row) int64 { return 2 }
		c.nth = func(_ *row, i int64) any { return i == 1 }
	case t.Kind == schema.UUID:
		c.injective = "uuid"
		c.fill = func(_ *row, random *fake.Random) any { return newUUID(p.today, random) }
	case t.Kind == schema.JSON:
		p.object(c, nil)
	case t.Kind == schema.Bytes:
		n := 16
		if t.Length > 0 {
			n = min(n, t.Length)
		}
		c.fill = func(_ *row, random *fake.Random) any {
			b := make([]byte, n)
			for i := range b {
				b[i] = byte(random.Uint64())
			}
			return b
		}
	default:
		if c.Value != nil && c.Value.Constant() && c.Value.Kind != schema.NullValue {
			text := c.Value.Text
			c.fill = func(*row, *fake.Random) any { return text }
			return nil
		}
		if c.NotNull {
			m := mistake(l.source, fmt.Sprintf("write a line such as %s \"…\" under it", c.Field),
				"%s.%s is %s, a type of one engine, for which no value can be generated", l.Table.Model, c.Field, t)
			return &m
		}
		c.fill = func(*row, *fake.Random) any { return nil }
	}
	return nil
}

// located fills a number of degrees with where the row's place is.
func (p *Plan) located(c *column) {
	s, north := c.subject, c.about == "latitude"
	c.needs = append(c.needs, s.needs(c)...)
	c.fill = func(r *row, random *fake.Random) any {
		at, east := r.placeOf(p, s).Near(random)
		if !north {
			at = east
		}
		i := c.may(r)
		return c.axis.value(max(i.low, min(i.high, int64(at*float64(c.axis.scale)))))
	}
}

// chosen fills a choice with what the row's place, or person, has of it.
func (p *Plan) chosen(c *column) {
	s, fill := c.subject, c.fill
	c.needs, c.domain, c.nth = append(c.needs, s.needs(c)...), nil, nil
	c.fill = func(r *row, random *fake.Random) any {
		if !s.place {
			return r.personOf(p, s, c).Gendered(c.Type.Choices)
		}
		at := r.placeOf(p, s)
		for _, v := range c.Type.Choices {
			if at.Says(c.about, v) {
				return v
			}
		}
		return fill(r, random)
	}
}

// newUUID is a version 7 UUID of a day.
func newUUID(today int64, random *fake.Random) string {
	const hex = "0123456789abcdef"
	ms := uint64(today*daySeconds*1000) + random.Below(daySeconds*1000)
	a, b := ms<<16|0x7000|random.Below(0x1000), 1<<63|random.Uint64()>>2
	out := make([]byte, 0, 36)
	for i, n := range [2]uint64{a, b} {
		for j := 60; j >= 0; j -= 4 {
			if i == 0 && (j == 28 || j == 12) || i == 1 && (j == 60 || j == 44) {
				out = append(out, '-')
			}
			out = append(out, hex[n>>j&15])
		}
	}
	return string(out)
}
