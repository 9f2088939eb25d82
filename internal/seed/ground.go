package seed

// This file is what a plan knows of the database that its rows go to: the next
// numbers, and the keys of rows that references can take.

import "strings"

// Ground is what is in the database before a seed, by table.
type Ground struct {
	Tables  map[string]*There
	Unknown bool // nobody looked
}

// There is what is in one table.
type There struct {
	Next    int64              // the number that the next row gets
	Rows    bool               // there are rows
	Keys    map[string][][]any // of rows that are not deleted, by the columns' names
	Unknown bool
}

// keyName is the name of several columns in Keys.
func keyName(columns []string) string { return strings.Join(columns, ",") }

func (g *Ground) table(name string) *There {
	if t := g.Tables[name]; t != nil {
		return t
	}
	return &There{Next: 1, Unknown: g.Unknown}
}
