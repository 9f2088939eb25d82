package sqlschema

// This file finds the references to a table: what has to be asked before a row of it
// goes. It orders tables and views by what refers to what.

import (
	"slices"
	"strings"
)

// Pointer is a reference to a table, and the table that it is of.
type Pointer struct {
	Table *Table
	Key   *ForeignKey
	To    []string // the columns referred to, also where the key does not say them
}

// Pointers are the references to a table.
func Pointers(s *Schema, t *Table) []Pointer {
	var out []Pointer
	for _, o := range s.Tables {
		for _, k := range o.ForeignKeys {
			if !strings.EqualFold(k.Table, t.Name) {
				continue
			}
			to := k.References
			if len(to) == 0 {
				to = t.Key()
			}
			out = append(out, Pointer{Table: o, Key: k, To: to})
		}
	}
	return out
}

// ParentsFirst orders the tables so that one comes behind those it refers to, as far
// as circles let it.
func ParentsFirst(s *Schema) []*Table {
	var out []*Table
	done := map[*Table]bool{}
	var visit func(t *Table)
	visit = func(t *Table) {
		if done[t] {
			return
		}
		done[t] = true
		for _, k := range t.ForeignKeys {
			if parent := s.Table(k.Table); parent != nil {
				visit(parent)
			}
		}
		out = append(out, t)
	}
	for _, t := range s.Tables {
		visit(t)
	}
	return out
}

// ViewsInOrder are views of which none stands before one that it shows; names gives the
// names that SQL holds. It reads each view once: a database can have thousands.
func ViewsInOrder(list []*View, names func(sql string) []string) []*View {
	at := map[string][]int{}
	for i, v := range list {
		at[v.Name] = append(at[v.Name], i)
	}
	var out []*View
	done := make([]bool, len(list))
	var visit func(i int)
	visit = func(i int) {
		if done[i] {
			return
		}
		done[i] = true
		var shown []int
		for _, n := range names(list[i].SQL.Text) {
			shown = append(shown, at[n]...)
		}
		slices.Sort(shown)
		for _, o := range shown {
			visit(o)
		}
		out = append(out, list[i])
	}
	for i := range list {
		visit(i)
	}
	return out
}
