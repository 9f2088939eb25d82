package seed

// This file says how each column of a line is filled: from the line above, by the
// seed, by the model's own generator, or by what its name and type suggest; within
// its type, its range, and the checks that could be read.

import (
	"cmp"
	"fmt"
	"math"
	"math/bits"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"erbario/internal/declare"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// column is how one column of a line is filled.
type column struct {
	*schema.Column
	at     int
	seed   uint64
	needs  []int   // the columns that it looks at
	empty  float64 // the share of rows without a value, 0 to 1
	said   bool    // the seed says how
	mark   bool    // it marks a row as deleted
	fill   func(r *row, random *fake.Random) any
	domain func(r *row) int64        // how many values there are to tell apart; nil: it has one
	nth    func(r *row, i int64) any // one of them
	// injective tells values that no two rows share: two columns with the same
	// words share none either. Empty: they may.
	injective string
	sequence  *declare.Pick
	offset    int64 // of the numbers of a sequence
	pick      *pick // it is the first column of a reference that picks a row
	axis      *axis
	hard      interval // what it may be
	soft      interval // what is believable
	asked     interval // the range that the seed says
	distinct  int64    // the values that it can have, where the seed names them; 0: it does not
	ahead     bool     // it may lie behind today
	bounds    []bound
	afters    []after           // the times that it keeps to
	capped    bool              // others that refer to its row ask for it to be early
	life      bool              // it is a time of the row's life, which ends with its deletion
	absent    func(r *row) bool // a row has no value, told by how far it is
	made      *schema.Fake      // the generator of its texts; nil: it has none
	subject   *subject          // the place or the person that it speaks of
	about     string            // what it says of that: the generator of such texts
	follows   []string          // the fields that it is worked out from, where its name says so
	words     []string          // the texts that it has, where they are those of a status
}

// emptyUnsaid is the share of optional fields that are left empty unless the
// seed says otherwise.
const emptyUnsaid = 0.1

// columns settles how every column of a line is filled, and in which order.
func (p *Plan) columns(l *Line) *lang.Diagnostic {
	t := l.plan
	l.columns = make([]*column, len(t.columns))
	for i, c := range t.columns {
		l.Columns = append(l.Columns, c.Name)
		l.columns[i] = &column{Column: c, at: i, seed: fake.Hash(c.Name), said: says(l.source.Supplies[c.Name]), axis: axisOf(c.Type)}
		if !c.NotNull {
			l.columns[i].empty = emptyUnsaid
		}
	}
	p.references(l)
	for _, c := range l.columns {
		c.made = p.maker(l, c)
	}
	p.subjects(l)
	for _, c := range l.columns {
		var m *lang.Diagnostic
		s := l.source.Supplies[c.Name]
		if s != nil {
			c.empty = max(s.Empty, 0) / 100
		}
		switch {
		case c.fill != nil: // a reference
		case c.Identity:
			c.fill = func(r *row, _ *fake.Random) any { return r.line.first + r.n }
		case c.said:
			m = p.supplied(l, c, s)
		case p.leftToDefault(l, c):
			if s == nil {
				c.empty = 0
			}
			v := p.constant(*c.Value, c.Column)
			c.fill = func(*row, *fake.Random) any { return v }
		default:
			m = p.suggested(l, c)
		}
		if m != nil {
			return m
		}
		if c.Name == l.Table.SoftDelete {
			c.mark, c.empty = true, 0
		}
	}
	p.bounds(l)
	p.inOrder(l)
	p.progress(l)
	p.totals(l)
	p.spans(l)
	for _, c := range l.columns {
		if s := l.source.Supplies[c.Name]; s != nil && s.From != nil {
			if m := p.allowed(l, c, s, "a check leaves %s of that"); m != nil {
				return m
			}
		}
	}
	l.narrow()
	if m := l.arrange(); m != nil {
		return m
	}
	for _, c := range l.columns {
		if m := p.reaches(l, c); m != nil {
			return m
		}
	}
	return nil
}

// maker is the generator of a column's texts: the seed's, the model's, or what its name
// suggests; nil: it is filled otherwise.
func (p *Plan) maker(l *Line, c *column) *schema.Fake {
	text := c.Type.Kind == schema.Text || c.Type.Kind == schema.Native
	switch {
	case c.fill != nil, c.Identity:
		return nil
	case c.said:
		return l.source.Supplies[c.Name].Fake
	case p.leftToDefault(l, c):
		return nil
	case c.Fake != nil:
		if text || c.Fake.Generator == "price" || c.Fake.Generator == "json" {
			return c.Fake
		}
		return nil
	case c.Type.Kind != schema.Text:
		return nil
	case isStatus(c.Field) && p.known(l, c) == "":
		c.words = l.statuses()
		if n := c.Type.Length; n > 0 {
			c.words = slices.DeleteFunc(c.words, func(w string) bool { return utf8.RuneCountInString(w) > n })
		}
		if len(c.words) > 1 && !slices.ContainsFunc(l.plan.uniques, func(u *unique) bool { return slices.Contains(u.columns, c.at) }) {
			return nil
		}
		c.words = nil
	}
	return p.guess(l, c)
}

// leftToDefault tells whether a column of which neither the seed nor the model says how it
// is filled has its declared default. A moment that is now or today stands for the time at
// which a row was created, which is made up; what has to be unique by itself cannot have the
// same value twice; and a check that compares it with others, or that it does not pass, needs
// another value.
func (p *Plan) leftToDefault(l *Line, c *column) bool {
	v := c.Value
	if v == nil || c.Fake != nil || !v.Constant() || v.Kind == schema.NullValue || c.Refuses(*v) != nil {
		return false
	}
	row := make([]any, len(l.plan.columns))
	row[c.at] = p.constant(*v, c.Column)
	for _, e := range l.plan.checks {
		if at := e.columns(); slices.Contains(at, c.at) && (slices.ContainsFunc(at, func(i int) bool { return i != c.at }) || !e.holds(row)) {
			return false
		}
	}
	for _, k := range l.Table.Checks { // one that cannot be read here
		if strings.Contains(k.SQL.Text, "{"+c.Name+"}") && k.Column == "" && !l.plan.read[k] {
			return false
		}
	}
	alone := func(parts []schema.Part) bool { return len(parts) == 1 && strings.EqualFold(parts[0].Column, c.Name) }
	return !(l.Table.PrimaryKey != nil && alone(l.Table.PrimaryKey.Columns)) &&
		!slices.ContainsFunc(l.Table.Indexes, func(x *schema.Index) bool { return x.Unique && alone(x.Parts) })
}

// says tells whether a supply gives values, and not a share of empty ones alone.
func says(s *declare.Supply) bool {
	return s != nil && (len(s.Picks) > 0 || s.From != nil || s.Fake != nil || s.Sum != nil)
}

// references fills the columns of foreign keys.
func (p *Plan) references(l *Line) {
	given := func(k *schema.ForeignKey, from func(r *row) (*Line, int64)) {
		for i, name := range k.Columns {
			at, ok := l.plan.place[name]
			if !ok {
				continue
			}
			c, ref := l.columns[at], k.References[i]
			c.empty = 0
			c.fill = func(r *row, _ *fake.Random) any {
				parent, n := from(r)
				return parent.value(ref, n)
			}
		}
	}
	switch {
	case l.up != nil:
		given(l.up, func(r *row) (*Line, int64) { return l.parent, r.up })
		if l.above != nil {
			top := l
			for top.level > 0 {
				top = top.parent
			}
			given(l.above, func(r *row) (*Line, int64) { return top.parent, l.parent.upper[r.up] })
		}
	}
	for _, k := range l.Table.ForeignKeys {
		at, ok := l.plan.place[k.Columns[0]]
		if !ok || l.columns[at].fill != nil || k == l.up || k == l.above || !p.picksAmong(l, k) {
			continue
		}
		c := l.columns[at]
		deferred := slices.IndexFunc(l.Deferred, func(d *Deferred) bool { return d.Key == k })
		pk := &pick{key: k, line: l, optional: optional(l.Table, k), own: k.Table == l.Table.Name, column: c, beside: besides(p.schema, l.Table, k), born: birthOf(p.schema, k.Table)}
		if t := p.tables[k.Table]; t != nil {
			pk.lines = t.lines
		}
		if s := l.source.Supplies[k.Columns[0]]; s != nil && s.Empty >= 0 {
			c.empty = s.Empty / 100
		} else if !pk.optional {
			c.empty = 0
		}
		nothing := func(*row, *fake.Random) any { return nil }
		for i, name := range k.Columns {
			at, ok := l.plan.place[name]
			if !ok || l.columns[at].fill != nil {
				continue
			}
			x := l.columns[at]
			switch {
			case deferred >= 0 || k == l.source.Tree:
				x.fill = nothing
			case i == 0:
				c.pick = pk
				l.picks[name] = pk
				for _, ref := range k.References {
					if at, ok := l.plan.place[ref]; ok && pk.own && ref != l.plan.identity && at != c.at {
						c.needs = append(c.needs, at) // a row may refer to itself
					}
				}
				x.fill = func(r *row, random *fake.Random) any {
					pk.chosen = pk.choose(r, random)
					return pk.value(r, pk.chosen, 0)
				}
				if !pk.own {
					x.domain = func(*row) int64 { return pk.size }
					x.nth = func(r *row, i int64) any {
						pk.chosen = i
						return pk.value(r, i, 0)
					}
				}
			default:
				x.needs = append(x.needs, c.at)
				x.empty = 0
				x.fill = func(r *row, _ *fake.Random) any {
					if r.cells[c.at] == nil {
						return nil
					}
					return pk.value(r, pk.chosen, i)
				}
			}
		}
		if deferred >= 0 {
			pk.share, c.empty = c.empty, 0
			l.Deferred[deferred].pick = pk
		}
	}
}

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
	if !slices.ContainsFunc(picks, func(k declare.Pick) bool { return k.Parts != nil || k.Value.Kind == schema.UUIDValue }) {
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
func (p *Plan) rest(l *Line, c *column, s *declare.Supply, unsaid int, left float64) ([]declare.Pick, *lang.Diagnostic) {
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
		m := mistake(l.source, "let them add up to 100 %, or leave one value without a share: it gets the rest", "the shares of %s add up to %g %%", c.Field, 100-left)
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

// textOf is a value as a text that stands in another.
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
			if at := (interval{int64(low * float64(c.axis.scale)), int64(high * float64(c.axis.scale))}).and(c.hard); !at.empty() {
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
		if at, ok := l.plan.place[column]; ok && at != c.at && looks[name] == 0 && l.columns[at].Type.Kind != schema.JSON {
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
		alphabet := []rune(fake.Letters)
		if len(f.Args) > 1 && f.Args[1] != "" {
			alphabet = []rune(f.Args[1])
		}
		length, _ := strconv.Atoi(f.Args[0])
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
			hi, lo := bits.Mul64(uint64(i), 2654435761) // a prime: no two numbers come to the same, and they look like chance
			i = int64(bits.Rem64(hi, lo, uint64(size)))
			for j := length - 1; j >= 0; j-- {
				out[j] = alphabet[i%int64(len(alphabet))]
				i /= int64(len(alphabet))
			}
			return string(out)
		}
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
			if v := fake.Variant(generator, base, int(i)); v != "" && (length == 0 || utf8.RuneCountInString(v) <= length) {
				return v
			}
		}
		if at := strings.LastIndexByte(base, ' '); generator == "plain" && at > 0 { // the words alone, and numbers behind those that all have
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
			m := mistake(l.source, fmt.Sprintf("write a line such as %s \"…\" under it", c.Field), "%s.%s is %s, a type of one engine, for which no value can be generated", l.Table.Model, c.Field, t)
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

// arrange puts the columns in an order in which each is filled after those it
// looks at.
func (l *Line) arrange() *lang.Diagnostic {
	state := make([]int, len(l.columns))
	var path []string
	var visit func(i int) *lang.Diagnostic
	visit = func(i int) *lang.Diagnostic {
		switch state[i] {
		case 2:
			return nil
		case 1:
			m := mistake(l.source, "give one of them a value of its own", "the fields of %s are calculated from each other: %s", l.Table.Model, strings.Join(append(path, l.columns[i].Field), " → "))
			return &m
		}
		state[i] = 1
		path = append(path, l.columns[i].Field)
		c := l.columns[i]
		for _, o := range c.needs {
			if state[o] == 1 && slices.ContainsFunc(c.bounds, func(b bound) bool { return b.column == o }) {
				c.bounds = slices.DeleteFunc(c.bounds, func(b bound) bool { return b.column == o }) // the check itself is asked
				continue
			}
			if m := visit(o); m != nil {
				return m
			}
		}
		path = path[:len(path)-1]
		state[i] = 2
		l.fillings = append(l.fillings, c)
		return nil
	}
	order := slices.Clone(l.columns)
	slices.SortStableFunc(order, func(a, b *column) int { // references and what is said come first
		rank := func(c *column) int {
			switch {
			case c.mark:
				return 3
			case c.Stamped:
				return 2
			}
			return 1
		}
		return cmp.Compare(rank(a), rank(b))
	})
	for _, c := range order {
		if m := visit(c.at); m != nil {
			return m
		}
	}
	return nil
}
