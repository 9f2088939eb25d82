package schema

// This file says which rows go with a row that is marked as deleted.

import "strings"

// Child is a table whose rows go and come back with those of another, through
// one of its references.
type Child struct {
	Table *Table
	Key   *ForeignKey
}

// Children are the soft-deletable tables that refer to t, with the reference.
// One that is on delete set null or set default outlives what it refers to.
func Children(s *Schema, t *Table) []Child {
	var out []Child
	for _, c := range s.Tables {
		if c.SoftDelete == "" || c.Outside {
			continue
		}
		for _, k := range c.ForeignKeys {
			if strings.EqualFold(k.Table, t.Name) && k.OnDelete != SetNull && k.OnDelete != SetDefault &&
				len(k.References) == len(k.Columns) {
				out = append(out, Child{c, k})
			}
		}
	}
	return out
}
