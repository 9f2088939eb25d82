package seed

// This file makes rows: each column in its order, again where a check or a
// uniqueness does not let it be, and at last by going through all that a column
// can be.

import (
	"context"
	"slices"

	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Batch is rows of one line, in their order.
type Batch struct {
	Line  *Line
	First int64 // the place of its first row among the line's
	Cells []any // row by row, by the line's columns

	encoded []byte // as Database.Encode gives it
}

// Rows is the number of rows in it.
func (b *Batch) Rows() int { return len(b.Cells) / len(b.Line.Columns) }

// Row is one of its rows.
func (b *Batch) Row(i int) []any {
	w := len(b.Line.Columns)
	return b.Cells[i*w : (i+1)*w : (i+1)*w]
}

// batchRows is how many rows are handed on at once.
const batchRows = 1000

// sameLine stands for a value of a row of the same line, before it is known
// whether that row was there already.
type sameLine struct {
	row   int64
	value any // if it was not
}

// row is a row in the making.
type row struct {
	line     *Line
	n        int64 // its place among the line's
	up       int64 // the row of the line above
	cells    []any
	attempts []int   // by column
	nth      []int64 // by column: the one of its domain that it takes, or -1
	deleted  bool
	with     any     // when the row above it was deleted, where it goes with that
	before   int64   // the same as a place; 0: none
	outside  *column // it was worked out as more, or less, than it holds
	became   float64 // what it was
	random   fake.Random
	want     fake.Want // what a generator is asked; here, since it would be made again for each value
}

// Make makes the rows of a line, most at most (0: all), and hands them on in
// batches. It must be called for the lines in the order of the plan.
func (p *Plan) Make(ctx context.Context, l *Line, most int64, hand func(*Batch) error) error {
	r := &row{line: l, attempts: make([]int, len(l.columns)), nth: make([]int64, len(l.columns))}
	var parents int64 = 1
	if l.parent != nil {
		parents = l.parent.Total
	}
	b := &Batch{Line: l}
	flush := func() error {
		if len(b.Cells) == 0 {
			return nil
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		err := hand(b)
		b = &Batch{Line: l, First: r.n}
		return err
	}
	l.kept, l.found, l.upper = map[string][]any{}, map[int64]map[string]any{}, nil
	if l.Total == 0 {
		return nil
	}
	for up := range parents {
		for _, u := range l.plan.uniques {
			if u.byUp {
				u.seen.clear()
				u.next = nil
			}
		}
		r.up = up
		for range l.rowsUnder(up) {
			if most > 0 && r.n >= most && len(l.plan.keep) == 0 && !l.deeper() {
				return flush()
			}
			if b.Cells == nil {
				b.Cells = make([]any, 0, min(int64(batchRows), l.Total-r.n)*int64(len(l.columns)))
			}
			start := len(b.Cells)
			b.Cells = b.Cells[:start+len(l.columns)]
			r.cells = b.Cells[start:]
			if m := r.make(); m != nil {
				return m
			}
			for _, name := range l.plan.keep {
				if at, ok := l.plan.place[name]; ok {
					l.kept[name] = append(l.kept[name], r.cells[at])
				}
			}
			if l.deeper() {
				top := up
				if l.level > 0 {
					top = l.parent.upper[up]
				}
				l.upper = append(l.upper, top)
			}
			r.n++
			if len(b.Cells) == batchRows*len(l.columns) {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	return flush()
}

// deeper tells whether the rows below have to know the row that their tree hangs
// on.
func (l *Line) deeper() bool { return l.source.Depth > 1 && l.source.Up != nil }

// tries is how often a row is made again by chance before all that its columns
// can be is gone through.
const tries = 20

func (r *row) make() error {
	clear(r.attempts)
	for i := range r.nth {
		r.nth[i] = -1
	}
	l := r.line
	r.deleted, r.with, r.before = l.marked(r.n), nil, 0
	if l.follows != "" {
		if r.with = l.parent.value(l.follows, r.up); r.with != nil {
			r.deleted = true
			if at, ok := l.plan.place[l.Table.SoftDelete]; ok {
				r.before, _ = l.columns[at].axis.place(r.with)
			}
		}
	}
	try := 0
	if slices.ContainsFunc(l.plan.uniques, func(u *unique) bool { return u.seen.count >= remembered }) {
		try = tries // chance cannot tell what is taken
	}
	fill := l.fillings
	for ; ; try++ {
		r.fillThese(fill)
		fill = l.fillings
		if c := r.outside; c != nil { // others of the row may let it be
			if try >= tries*3 {
				return r.unheld(c)
			}
			for _, at := range c.needs {
				r.attempts[at]++
			}
			r.attempts[c.at]++
			continue
		}
		if bad := r.failing(); bad != nil && try < tries*3 {
			for _, at := range bad.columns() {
				if c := r.line.columns[at]; c.fill != nil {
					r.attempts[at]++
				}
			}
			continue
		}
		u := r.taken()
		if u == nil {
			break
		}
		if try < tries-u.weary {
			for _, c := range l.moved(u) {
				r.attempts[c.at]++
			}
			fill = l.following(u)
			continue
		}
		if err := r.settle(u); err != nil {
			return err
		}
		break
	}
	for _, u := range r.line.plan.uniques {
		if n, ok := u.number(r.cells); ok && u.seen.count < remembered {
			u.seen.add(n)
		}
		if try == 0 {
			u.weary = max(u.weary-1, 0)
		}
	}
	return nil
}

// beyond notes that a column was worked out as what it does not hold.
func (r *row) beyond(c *column, x float64) { r.outside, r.became = c, x }

// unheld tells of it.
func (r *row) unheld(c *column) error {
	m := mistake(r.line.source, "add or multiply by less, or let the field hold more",
		"row %d of %s: %s would be %s, which is out of its range", r.n+1, r.line.Table.Model, c.Field, number(r.became))
	m.Pos = r.line.source.Supplies[c.Name].Pos
	return &Problem{m}
}

// fillThese fills columns again, in the order in which they are filled.
func (r *row) fillThese(list []*column) {
	r.outside = nil
	for _, c := range list {
		r.fill(c)
	}
}

func (r *row) fill(c *column) {
	switch {
	case c.mark && !r.deleted:
		r.cells[c.at] = nil
		return
	case c.mark && r.with != nil:
		r.cells[c.at] = r.with
		return
	case c.absent != nil && c.absent(r):
		r.cells[c.at] = nil
		return
	case c.empty > 0:
		random := fake.NewRandom(r.line.hash, c.seed, uint64(r.n), 0xe)
		if random.Part() < c.empty {
			r.cells[c.at] = nil
			return
		}
	}
	if i := r.nth[c.at]; i >= 0 && c.nth != nil {
		r.cells[c.at] = c.nth(r, i)
		return
	}
	r.random = fake.NewRandom(r.line.hash, c.seed, uint64(r.n), uint64(r.attempts[c.at]))
	r.cells[c.at] = c.fill(r, &r.random)
}

// failing is a check that the row does not pass.
func (r *row) failing() *expr {
	for _, e := range r.line.plan.checks {
		if !e.holds(r.cells) {
			return e
		}
	}
	return nil
}

// Problem is a mistake in a seed that shows while its rows are made.
type Problem struct{ lang.Diagnostic }

func (p *Problem) Error() string { return p.Message + "; " + p.Hint }

// marked tells whether a row is among the line's share of rows that are marked as
// deleted.
func (l *Line) marked(n int64) bool {
	if l.source.Deleted == 0 {
		return false
	}
	r := fake.NewRandom(l.hash, 0xde1, uint64(n))
	return r.Part()*100 < l.source.Deleted
}

// value is the value of a column in one of a line's rows.
func (l *Line) value(column string, n int64) any {
	if l.found != nil {
		if row, ok := l.found[n]; ok {
			if v, ok := row[column]; ok {
				return v
			}
		}
	}
	if column == l.plan.identity {
		return l.first + n
	}
	if list := l.kept[column]; n < int64(len(list)) {
		return list[n]
	}
	return nil
}

func (p *Plan) model(table string) string {
	if t := p.schema.Table(table); t != nil && t.Model != "" {
		return t.Model
	}
	return table
}

// FillFromExisting puts the values of rows of the same line in their places, once it is
// known which of those were there already.
func (p *Plan) FillFromExisting(b *Batch) {
	l := b.Line
	for _, k := range l.Table.ForeignKeys {
		at, ok := l.plan.place[k.Columns[0]]
		if !ok || l.columns[at].pick == nil || !l.columns[at].pick.own {
			continue
		}
		for i, name := range k.Columns {
			at := l.plan.place[name]
			for n := range b.Rows() {
				row := b.Row(n)
				if s, ok := row[at].(sameLine); ok {
					row[at] = l.value(k.References[i], s.row)
				}
			}
		}
	}
}

// Refill gives what the columns of a deferred reference take in a row; ok is
// false where it stays empty.
func (p *Plan) Refill(l *Line, d *Deferred, n int64) (values []any, ok bool) {
	random := fake.NewRandom(l.hash, fake.Hash(d.Key.Columns[0]), uint64(n), 0x2)
	if random.Part() < d.pick.share || d.pick.size == 0 {
		return nil, false
	}
	first := d.pick.choose(&row{line: l, n: n}, &random)
	var apart []*unique
	for _, u := range l.plan.uniques {
		if slices.Contains(l.deferredIn(u), d) {
			apart = append(apart, u)
		}
	}
	for i := range d.pick.size { // one that came later has to do where no other is found
		if to, at := d.pick.at((first + i) % d.pick.size); i == 32 {
			break
		} else if to != nil && !d.pick.younger(to, at, l, n) {
			first = (first + i) % d.pick.size
			break
		}
	}
	for i := range min(d.pick.size, 1000) {
		values = values[:0]
		for j := range d.Key.References {
			values = append(values, d.pick.value(&row{line: l, n: -1}, (first+i)%d.pick.size, j))
		}
		if l.fillApart(d, n, values, apart) {
			return values, true
		}
	}
	return nil, false // every one of them is taken
}

// fillApart tells whether the values leave a row different from all others in
// some uniquenesses, and remembers it if they do.
func (l *Line) fillApart(d *Deferred, n int64, values []any, apart []*unique) bool {
	if len(apart) == 0 {
		return true
	}
	cells := make([]any, len(l.columns))
	var numbers []uint64
	for _, u := range apart {
		for _, at := range u.columns {
			cells[at] = l.value(l.Columns[at], n)
		}
		for j, c := range d.Key.Columns {
			if at, ok := l.plan.place[c]; ok {
				cells[at] = values[j]
			}
		}
		if number, ok := u.number(cells); ok {
			if u.seen.has(number) {
				return false
			}
			numbers = append(numbers, number)
		} else {
			numbers = append(numbers, 0)
		}
	}
	for i, u := range apart {
		if numbers[i] != 0 {
			u.seen.add(numbers[i])
		}
	}
	for j, c := range d.Key.Columns { // for another reference of the same uniqueness
		if list := l.kept[c]; n < int64(len(list)) {
			list[n] = values[j]
		}
	}
	return true
}

// fits tells whether a line's rows can differ where they must, and does not let a
// range ask for more.
func (l *Line) fits() *lang.Diagnostic {
	for _, c := range l.columns {
		if c.sequence == nil {
			continue
		}
		c.offset = 0
		for _, o := range l.plan.lines {
			if o == l {
				break
			}
			if o.columns[c.at].injective == c.injective {
				c.offset += o.Total
			}
		}
		if n := c.Type.Length; n > 0 && l.Total > 0 {
			size := 0
			for _, part := range c.sequence.Parts {
				switch {
				case part.Digits > 0:
					size += max(part.Digits, digitsOf(c.offset+l.Total))
				default:
					size += len([]rune(part.Text))
				}
			}
			if size > n {
				m := mistake(l.source, "make the field longer, or the text shorter",
					"the last number of %s.%s makes it %d characters long, and it holds at most %d", l.Table.Model,
					c.Field, size, n)
				return &m
			}
		}
	}
	return nil
}

// limit is how many rows a line can make under one row above it, where a
// uniqueness leaves only so many; ok is false where there is no such limit.
func (l *Line) limit() (n int64, fields []string, ok bool) {
	for _, u := range l.plan.uniques {
		if u.where != nil || len(l.plan.lines) > 1 || !u.byUp && l.up != nil {
			continue
		}
		size, names, fixed := int64(1), []string(nil), true
		for _, at := range u.columns {
			c := l.columns[at]
			if l.up != nil && slices.Contains(l.up.Columns, c.Name) {
				continue
			}
			names = append(names, c.Field)
			switch {
			case c.empty > 0, !c.NotNull:
				fixed = false
			case c.pick != nil && !c.pick.own && !c.pick.unknown && c.pick.size > 0:
				size = min(most, size*min(c.pick.size, most/size+1))
			case c.distinct > 0:
				size = min(most, size*c.distinct)
			case c.axis == nil && c.domain != nil && (c.Type.Kind == schema.Choice || c.Type.Kind == schema.Boolean):
				size = min(most, size*c.domain(nil))
			default:
				fixed = false
			}
		}
		if fixed && len(names) > 0 && (!ok || size < n) {
			n, fields, ok = size, names, true
		}
	}
	return n, fields, ok
}
