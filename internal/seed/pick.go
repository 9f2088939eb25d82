package seed

// This file picks the rows that references refer to.

import (
	"fmt"

	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// pick chooses a row that a reference takes.
type pick struct {
	key      *schema.ForeignKey
	line     *Line
	column   *column // its first
	lines    []*Line // that make such rows; none: those of the database
	keys     [][]any // of the database, by key.References
	size     int64
	own      bool // the rows are of the line's own table
	optional bool
	share    float64 // of a deferred one: the rows that are left without
	chosen   int64
	beside   []string // other columns whose values are of use
	born     *birth   // what tells how old its rows are; nil: nothing does
	unknown  bool     // nobody can tell what is in the database
}

// settle finds out among how many rows there is to choose.
func (k *pick) settle(p *Plan, l *Line) {
	k.size = 0
	for _, o := range k.lines {
		if o == l {
			break // those behind it come later
		}
		k.size += o.Total
	}
	if k.own || len(k.lines) > 0 {
		return
	}
	there := p.ground.table(k.key.Table)
	k.keys, k.unknown = there.Keys[keyName(k.key.References, k.beside)], there.Unknown
	k.size = int64(len(k.keys))
	if k.unknown {
		k.size = most
	}
}

// starved tells of a reference that needs a row, where there is none.
func (k *pick) starved(p *Plan, l *Line) *lang.Diagnostic {
	if k.size > 0 || k.own || k.optional || l.Total == 0 {
		return nil
	}
	to := p.model(k.key.Table)
	if len(k.lines) > 0 {
		m := mistake(l.source, "create at least one "+to, "%s.%s has no %s to refer to", l.Table.Model, k.column.Field,
			to)
		return &m
	}
	m := mistake(l.source, fmt.Sprintf("write a line such as %s 12 above it, not indented", to),
		"%s.%s picks an existing %s, and there is none", l.Table.Model, k.column.Field, to)
	return &m
}

// choose picks a row; -1 for none. One that is marked as deleted is passed over,
// as far as a few tries find another.
func (k *pick) choose(r *row, random *fake.Random) int64 {
	size := k.size
	if k.own {
		size += r.n
		if !k.optional {
			size++ // the first row can refer to none but itself
		}
	}
	if size == 0 {
		return -1
	}
	var i int64
	for range 16 {
		i = int64(random.Below(uint64(size)))
		if l, n := k.at(i); l == nil || !l.marked(n) && !k.late(r, l, n) {
			break
		}
	}
	return i
}

// younger tells whether a row came later than the one that is to refer to it.
func (k *pick) younger(to *Line, at int64, l *Line, n int64) bool {
	own := bornColumn(l.Table)
	if k.born == nil || own == "" {
		return false
	}
	theirs, ours := textOf(to.value(k.born.column, at)), textOf(l.value(own, n))
	size := min(len(theirs), len(ours))
	return theirs[:size] > ours[:size]
}

// late tells whether a row came when the row that is to refer to it was deleted already.
func (k *pick) late(r *row, l *Line, n int64) bool {
	if r.before == 0 || k.born == nil || l == k.line && n >= r.n {
		return false
	}
	at, ok := k.born.axis.place(l.value(k.born.column, n))
	if k.born.axis.kind == schema.Date {
		at *= daySeconds
	}
	return ok && at > r.before
}

// at is the line and the row of a choice.
func (k *pick) at(i int64) (*Line, int64) {
	for _, l := range k.lines {
		if l == k.line && k.own {
			return l, i
		}
		if i < l.Total {
			return l, i
		}
		i -= l.Total
	}
	return nil, i
}

// value is what the reference's column takes from the chosen row.
func (k *pick) value(r *row, i int64, column int) any {
	if i < 0 {
		return nil
	}
	l, n := k.at(i)
	switch {
	case l == nil && k.unknown:
		return Unknown
	case l == nil && n >= int64(len(k.keys)):
		return nil
	case l == nil:
		return k.keys[n][column]
	case l == k.line && n == r.n:
		if c := k.key.References[column]; c == l.plan.identity {
			return l.first + n
		}
		return r.cells[l.plan.place[k.key.References[column]]]
	case l == k.line:
		c := k.key.References[column]
		if c == l.plan.identity {
			return sameLine{n, l.first + n}
		}
		return sameLine{n, l.kept[c][n]}
	}
	return l.value(k.key.References[column], n)
}

// Unknown is in a preview for a key of a row that is in the database.
const Unknown = "(one there)"
