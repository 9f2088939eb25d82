package sqlschema

// This file finds the references to a table: what has to be asked before a row of it
// goes. It orders tables and views by what refers to what.

import "strings"

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

// ViewsInOrder are views of which none stands before one that it shows; names tells
// whether SQL names something.
func ViewsInOrder(list []*View, names func(sql, name string) bool) []*View {
	var out []*View
	done := map[string]bool{}
	var visit func(v *View)
	visit = func(v *View) {
		if done[v.Name] {
			return
		}
		done[v.Name] = true
		for _, o := range list {
			if o != v && names(v.SQL.Text, o.Name) {
				visit(o)
			}
		}
		out = append(out, v)
	}
	for _, v := range list {
		visit(v)
	}
	return out
}
