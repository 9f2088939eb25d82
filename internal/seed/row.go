package seed

// This file makes rows: each column in its order, again where a check or a
// uniqueness does not let it be, and at last by going through all that a column
// can be.

import (
	"context"
	"fmt"
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

	encoded []byte // as engine.Database.Encode gives it
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

// following are the columns of a uniqueness and all that are worked out from them, in the
// order in which they are filled.
func (l *Line) following(u *unique) []*column {
	if list, ok := l.follow[u]; ok {
		return list
	}
	in := make([]bool, len(l.columns))
	for _, c := range l.moved(u) {
		in[c.at] = true
	}
	var out []*column
	for _, c := range l.fillings {
		if in[c.at] = in[c.at] || slices.ContainsFunc(c.needs, func(at int) bool { return in[at] }); in[c.at] {
			out = append(out, c)
		}
	}
	if slices.Contains(l.plan.uniques, u) {
		if l.follow == nil {
			l.follow = map[*unique][]*column{}
		}
		l.follow[u] = out
	}
	return out
}

// moved are the columns that are changed so that the values of a uniqueness become others:
// its own, or those that they follow.
func (l *Line) moved(u *unique) []*column {
	var out []*column
	for _, at := range u.columns {
		c := l.columns[at]
		if s := c.subject; s != nil && s.lead != nil && c.domain == nil {
			c = s.lead
		}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	return out
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

// taken is a uniqueness in which the row's values are taken already.
func (r *row) taken() *unique {
	for _, u := range r.line.plan.uniques {
		if !r.isFree(u) {
			return u
		}
	}
	return nil
}

// isFree tells whether no other row has the row's values in a uniqueness.
func (r *row) isFree(u *unique) bool {
	n, ok := u.number(r.cells)
	return !ok || !u.seen.has(n) && (u.seen.count < remembered || r.apart(u))
}

// apart tells whether the row's number is in a value of the uniqueness, so
// that no other row has the same, remembered or not.
func (r *row) apart(u *unique) bool {
	for _, at := range u.columns {
		if c := r.line.columns[at]; r.nth[at] == r.n+r.line.before+remembered && c.nth != nil && c.domain != nil &&
			c.domain(r) >= r.n+r.line.before+remembered {
			return true
		}
	}
	return false
}

// settle gives the row values that are free in all its uniquenesses: those of one that is
// taken are gone through, then those of the next, until none is.
func (r *row) settle(u *unique) error {
	var settled []*unique
	for range 4 + 2*len(r.line.plan.uniques) {
		u.weary = min(u.weary+1, tries-2) // where most are taken, chance finds little
		err := r.goThrough(u, settled)
		if err != nil && len(settled) > 0 { // what they share may have to change for the sake of this one
			settled = nil
			err = r.goThrough(u, nil)
		}
		if err != nil {
			return err
		}
		if settled = append(settled, u); r.taken() == nil {
			return nil
		}
		u = r.taken()
	}
	return r.goThrough(r.line.plan.joined(u), r.line.plan.uniques)
}

// joined stands for a uniqueness and all that share columns with it, by however many steps:
// no two rows have the same values in all of their columns.
func (t *tablePlan) joined(u *unique) *unique {
	out := &unique{name: u.name, columns: slices.Clone(u.columns)}
	for again := true; again; {
		again = false
		for _, o := range t.uniques {
			if !slices.ContainsFunc(o.columns, func(at int) bool { return slices.Contains(out.columns, at) }) {
				continue
			}
			for _, at := range o.columns {
				if !slices.Contains(out.columns, at) {
					out.columns, again = append(out.columns, at), true
				}
			}
		}
	}
	out.fold = make([]bool, len(out.columns))
	return out
}

// goThrough looks for values of a uniqueness that are not taken, one after the other, and
// that leave those free that are settled already.
func (r *row) goThrough(u *unique, settled []*unique) error {
	l := r.line
	free := func() bool {
		return r.isFree(u) && !slices.ContainsFunc(settled, func(o *unique) bool { return !r.isFree(o) }) &&
			r.outside == nil && r.failing() == nil
	}
	var turn []*column
	var sizes []int64
	all, endless := int64(1), -1
	for _, c := range l.moved(u) {
		if c.domain == nil || r.cells[c.at] == nil {
			continue
		}
		size := c.domain(r)
		if size < 1 {
			continue
		}
		if size > l.Total*2+remembered*4 {
			endless = c.at
		}
		turn, sizes = append(turn, c), append(sizes, size)
		all = min(most, all*min(size, most/all+1))
	}
	fill := l.following(u)
	if endless >= 0 {
		behind := int64(remembered)
		if u.seen.count < remembered { // what is taken is known, so that words and small numbers will do
			r.nth[endless] = 0
			r.fillThese(fill)
			like, _ := u.number(r.cells) // others like it have the same, and took those before next
			for i := u.next[like]; i < u.next[like]+fake.Variants; i++ {
				r.nth[endless] = i
				r.fillThese(fill)
				if free() {
					u.took(like, i)
					return nil
				}
			}
			behind = remembered / 2
		}
		for i := int64(0); i < 1000; i++ {
			r.nth[endless] = r.n + l.before + behind + i*l.Total
			r.fillThese(fill)
			if free() {
				return nil
			}
		}
	}
	limit := min(all, 1<<17)
	start := u.cursor
	if u.byUp {
		start = int64(fake.Mix(l.hash^uint64(r.up)) >> 24)
	}
	for i := range limit {
		at := (start + i) % all
		u.cursor = at + 1
		for j, c := range turn {
			r.nth[c.at] = at % sizes[j]
			at /= sizes[j]
		}
		r.fillThese(fill)
		if free() {
			return nil
		}
	}
	var fields []string
	for _, at := range u.columns {
		fields = append(fields, l.columns[at].Field)
	}
	why := fmt.Sprintf("only %d values are available", max(all, 1))
	if all > limit {
		why = fmt.Sprintf("%d were tried, and each is taken or fails a check", limit)
	}
	m := mistake(l.source, "create fewer rows, or let the fields have more values", "row %d of %s finds no free %s: %s",
		r.n+1, l.Table.Model, together(fields), why)
	return &Problem{m}
}

func together(fields []string) string {
	if len(fields) == 1 {
		return fields[0]
	}
	return fmt.Sprint(fields)
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

// Settle puts the values of rows of the same line in their places, once it is
// known which of those were there already.
func (p *Plan) Settle(b *Batch) {
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
