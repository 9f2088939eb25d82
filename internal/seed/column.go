package seed

// This file says how each column of a line is filled: from the line above, by the
// seed, by the model's own generator, or by what its name and type suggest; within
// its type, its range, and the checks that could be read.

import (
	"cmp"
	"slices"
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
		l.columns[i] = &column{
			Column: c,
			at:     i,
			seed:   fake.Hash(c.Name),
			said:   says(l.source.Supplies[c.Name]),
			axis:   axisOf(c.Type),
		}
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
		if len(c.words) > 1 &&
			!slices.ContainsFunc(l.plan.uniques, func(u *unique) bool { return slices.Contains(u.columns, c.at) }) {
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
		if at := e.columns(); slices.Contains(at, c.at) &&
			(slices.ContainsFunc(at, func(i int) bool { return i != c.at }) || !e.holds(row)) {
			return false
		}
	}
	for _, k := range l.Table.Checks { // one that cannot be read here
		if strings.Contains(k.SQL, "{"+c.Name+"}") && k.Column == "" && !l.plan.read[k] {
			return false
		}
	}
	alone := func(parts []schema.Part) bool { return len(parts) == 1 && strings.EqualFold(parts[0].Column, c.Name) }
	return !alone(schema.Parts(l.Table.Key)) &&
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
		pk := &pick{
			key:      k,
			line:     l,
			optional: optional(l.Table, k),
			own:      k.Table == l.Table.Name,
			column:   c,
			beside:   besides(p.schema, l.Table, k),
			born:     birthOf(p.schema, k.Table),
		}
		if t := p.tables[k.Table]; t != nil {
			pk.lines = t.lines
		}
		if s := l.source.Supplies[k.Columns[0]]; s != nil && s.Empty >= 0 {
			c.empty = s.Empty / 100
		} else if !pk.optional {
			c.empty = 0
		}
		l.pickColumns(pk, deferred >= 0)
		if deferred >= 0 {
			pk.share, c.empty = c.empty, 0
			l.Deferred[deferred].pick = pk
		}
	}
}

// pickColumns fills the columns of a reference from what it picks; a deferred one, and that
// of a tree, later.
func (l *Line) pickColumns(pk *pick, deferred bool) {
	k, c := pk.key, pk.column
	nothing := func(*row, *fake.Random) any { return nil }
	for i, name := range k.Columns {
		at, ok := l.plan.place[name]
		if !ok || l.columns[at].fill != nil {
			continue
		}
		x := l.columns[at]
		switch {
		case deferred || k == l.source.Tree:
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
			m := mistake(l.source, "give one of them a value of its own",
				"the fields of %s are calculated from each other: %s", l.Table.Model,
				strings.Join(append(path, l.columns[i].Field), " → "))
			return &m
		}
		state[i] = 1
		path = append(path, l.columns[i].Field)
		c := l.columns[i]
		for _, o := range c.needs {
			if state[o] == 1 && slices.ContainsFunc(c.bounds, func(b bound) bool { return b.column == o }) {
				c.bounds = slices.DeleteFunc(c.bounds,
					func(b bound) bool { return b.column == o }) // the check itself is asked
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
