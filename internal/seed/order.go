package seed

// This file orders the lines of a seed, so that what is referred to comes first.

import (
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// order sorts the lines so that what a row refers to is there before it. A circle
// is cut at a reference that may be empty, which is filled in the end.
func (p *Plan) order() *lang.Diagnostic {
	makes := map[string][]*Line{}
	for _, l := range p.Lines {
		makes[l.Table.Name] = append(makes[l.Table.Name], l)
	}
	done := map[*Line]bool{}
	needs := func(l *Line, k *schema.ForeignKey) bool { // tells whether rows are missing that a reference picks among
		if k == l.up || k == l.above || k == l.source.Tree || k.Table == l.Table.Name || !p.picksAmong(l, k) {
			return false
		}
		if slices.ContainsFunc(l.Deferred, func(d *Deferred) bool { return d.Key == k }) {
			return false
		}
		return slices.ContainsFunc(makes[k.Table], func(o *Line) bool { return !done[o] })
	}
	var out []*Line
	for len(out) < len(p.Lines) {
		var next *Line
		for _, l := range p.Lines {
			if !done[l] && (l.parent == nil || done[l.parent]) &&
				!slices.ContainsFunc(l.Table.ForeignKeys, func(k *schema.ForeignKey) bool { return needs(l, k) }) {
				next = l
				break
			}
		}
		if next == nil {
			next = p.cut(done, needs)
		}
		if next == nil {
			return p.circle(done, needs, makes)
		}
		done[next] = true
		out = append(out, next)
	}
	p.Lines = out
	return nil
}

// picksAmong tells whether a reference takes rows that are there, and is not
// given by the seed.
func (p *Plan) picksAmong(l *Line, k *schema.ForeignKey) bool {
	for _, c := range k.Columns {
		if s := l.source.Supplies[c]; s != nil &&
			(len(s.Picks) > 0 || s.Sum != nil || s.Fake != nil || s.Empty == 100) {
			return false
		}
	}
	return true
}

func optional(t *schema.Table, k *schema.ForeignKey) bool {
	return slices.ContainsFunc(k.Columns, func(c string) bool {
		col := t.Column(c)
		return col != nil && !col.NotNull
	})
}

// cut finds a line that waits only for references that may be empty, and puts
// these off.
func (p *Plan) cut(done map[*Line]bool, needs func(*Line, *schema.ForeignKey) bool) *Line {
	for _, l := range p.Lines {
		if done[l] || l.parent != nil && !done[l.parent] {
			continue
		}
		var off []*Deferred
		hard := false
		for _, k := range l.Table.ForeignKeys {
			if needs(l, k) {
				hard = hard || !optional(l.Table, k) || l.Table.Key == nil
				off = append(off, &Deferred{Key: k})
			}
		}
		if !hard && len(off) > 0 {
			l.Deferred = append(l.Deferred, off...)
			return l
		}
	}
	return nil
}

// circle tells which models wait for each other.
func (p *Plan) circle(done map[*Line]bool, needs func(*Line, *schema.ForeignKey) bool,
	makes map[string][]*Line) *lang.Diagnostic {
	var at *Line
	for _, l := range p.Lines {
		if !done[l] {
			at = l
			break
		}
	}
	var path []string
	seen := map[*Line]int{}
	for {
		if start, ok := seen[at]; ok {
			path = append(path[start:], at.Table.Model)
			break
		}
		seen[at] = len(path)
		if at.parent != nil && !done[at.parent] {
			path = append(path, at.Table.Model)
			at = at.parent
			continue
		}
		for _, k := range at.Table.ForeignKeys {
			if needs(at, k) && (!optional(at.Table, k) || at.Table.Key == nil) {
				path = append(path, at.Table.Model+"."+at.Table.Column(k.Columns[0]).Field)
				for _, o := range makes[k.Table] {
					if !done[o] {
						at = o
						break
					}
				}
				break
			}
		}
	}
	m := mistake(at.source, "make one of these references optional: it is then filled once all rows exist",
		"no row can be the first in a circle of required references: %s", strings.Join(path, " → "))
	return &m
}
