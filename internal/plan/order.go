package plan

// This file puts the changes of tables in an order, and gives them titles.

import (
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// unit is what is done to one table.
type unit struct {
	rank         int // one of the ranks
	place        int // among those of its rank
	name         string
	frees, takes []string
	ahead        []string // the ids of units that come after it, since it reads what they drop
	refers       []string // of a table that is created: those to which it refers
	late         bool     // the second part of its table's changes: what others read until then goes
	change       engine.Change
}

// id tells a unit from the others of its rank.
func (u unit) id() string {
	if u.late {
		return lateID(u.name)
	}
	return u.name
}

// lateID is the id of the second part of a table's changes.
func lateID(table string) string { return table + " (late)" }

// byReads notes in the units which come before others, for the sake of what fills read.
func (p *planner) byReads() {
	for i := range p.units {
		u := &p.units[i]
		if u.rank != rankAlter || u.late {
			continue
		}
		before, after, err := p.order(u.name)
		if err != nil && p.err == nil {
			p.err = err
		}
		u.ahead = append(u.ahead, after...)
		for j := range p.units {
			if o := &p.units[j]; o.rank == rankAlter && !o.late && slices.Contains(before, o.name) {
				o.ahead = append(o.ahead, u.id())
			}
		}
	}
	for _, u := range p.units {
		if u.rank == rankAlter && p.comesBackTo(u.name, u.ahead, map[string]bool{}) {
			p.fail(
				"the fills of %s and of other tables read columns that the others drop. Draft it in two migrations, first what is added and filled, then what is dropped",
				u.name,
			)
		}
	}
}

// comesBackTo tells whether the tables whose changes come after that of name have to come
// before it, too.
func (p *planner) comesBackTo(name string, after []string, seen map[string]bool) bool {
	for _, n := range after {
		if n == name {
			return true
		}
		if seen[n] {
			continue
		}
		seen[n] = true
		for _, u := range p.units {
			if u.rank == rankAlter && u.name == n && p.comesBackTo(name, u.ahead, seen) {
				return true
			}
		}
	}
	return false
}

// summary tells the changes of a table in a line.
func summary(table string, changes []diff.Change) string {
	return titled("change "+table, changes, "the names of checks and indexes of "+table+" follow")
}

// titled puts the changes of a table in a line behind a beginning; without any that are
// said, it is the line none.
func titled(head string, changes []diff.Change, none string) string {
	var out []string
	for _, c := range changes {
		if k, ok := c.Before.(*sqlschema.Check); ok && c.Kind == diff.ChangeCheck && c.Before != c.Object &&
			k.SQL.Same(c.Object.(*sqlschema.Check).SQL) {
			continue // the names of checks follow, and those of indexes
		}
		if x, ok := c.Before.(*sqlschema.Index); ok && c.From == x.Name && c.From != "" {
			continue
		}
		switch {
		case c.What == "":
		case (c.Kind == diff.AddColumn || c.Kind == diff.DropColumn) && schema.Own(c.Name): // it belongs to an index
		case c.Kind == diff.AddColumn && c.Marks:
			out = append(out, "soft delete by "+c.Name)
		case c.Kind == diff.DropColumn && c.Marks:
			out = append(out, "no soft delete by "+c.Name)
		case c.Note != "" && c.Kind == diff.ChangeUnique:
			out = append(out, c.To)
		case c.Kind == diff.AddColumn:
			out = append(out, "add "+c.Name)
		case c.Kind == diff.DropColumn:
			out = append(out, "drop "+c.Name)
		case c.Kind == diff.MakeRequired, c.Kind == diff.MakeOptional:
			out = append(out, c.Name+" is "+c.To)
		case c.Kind.Sign() == "+":
			out = append(out, "add "+c.What)
		case c.Kind.Sign() == "-":
			out = append(out, "drop "+c.What)
		case c.Name != "" && c.Kind != diff.ChangeCheck && c.Kind != diff.ChangeUnique && c.Kind != diff.ChangeIndex:
			out = append(out, c.Name+" "+c.What)
		default:
			out = append(out, c.What)
		}
		if n := len(out); n > 1 && out[n-1] == out[n-2] { // such as the two triggers of a bridge
			out = out[:n-1]
		}
	}
	if len(out) == 0 {
		return none
	}
	s := head + ": " + strings.Join(out, "; ")
	if r := []rune(s); len(r) > 110 {
		s = string(r[:107]) + "..."
	}
	return s
}

// refersTo tells whether the table of a unit refers to another, itself or by others that are created.
func refersTo(units []unit, u unit, table string, seen map[string]bool) bool {
	if slices.Contains(u.refers, table) {
		return true
	}
	seen[u.name] = true
	return slices.ContainsFunc(units, func(o unit) bool {
		return o.rank == u.rank && !seen[o.name] && slices.Contains(u.refers, o.name) && refersTo(units, o, table, seen)
	})
}

// ordered sorts the units so that a name is free before it is taken.
func ordered(units []unit) []unit {
	slices.SortStableFunc(units, func(a, b unit) int {
		if a.rank != b.rank {
			return a.rank - b.rank
		}
		if a.place != b.place {
			return a.place - b.place
		}
		return strings.Compare(a.name, b.name)
	})
	waits := func(u, o unit) bool { // not in a circle, where an engine lets one be created first
		return slices.Contains(u.refers, o.name) && !refersTo(units, o, u.name, map[string]bool{})
	}
	var out []unit
	left := slices.Clone(units)
	for len(left) > 0 {
		next := slices.IndexFunc(left, func(u unit) bool {
			return !slices.ContainsFunc(left, func(o unit) bool {
				return o.name == u.name && u.late && o.rank == u.rank && !o.late ||
					o.name != u.name && (slices.ContainsFunc(u.takes, func(n string) bool {
						return slices.Contains(o.frees, n) && !slices.Contains(u.frees, n)
					}) || o.rank == u.rank && (slices.Contains(o.ahead, u.id()) || waits(u, o)))
			})
		})
		next = max(next, 0) // in a circle the proof tells what collides
		out = append(out, left[next])
		left = slices.Delete(left, next, next+1)
	}
	return out
}
