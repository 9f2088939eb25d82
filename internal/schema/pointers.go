package schema

// This file finds the references to a table: what has to be asked before a row of it
// goes.

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
