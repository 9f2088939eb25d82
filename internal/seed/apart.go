package seed

// This file makes the values of a row others than those of any row before it, where they are
// unique.

import (
	"fmt"
	"slices"

	"erbario/internal/fake"
)

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
