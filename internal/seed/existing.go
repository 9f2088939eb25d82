package seed

// This file is what a plan knows of the database that its rows go to: the next
// numbers, and the keys of rows that references can take.

import (
	"strings"

	"erbario/internal/schema"
)

// Existing is what is in the database before a seed, by table.
type Existing struct {
	Tables  map[string]*ExistingTable
	Unknown bool // nobody looked
}

// ExistingTable is what is in one table.
type ExistingTable struct {
	Next    int64              // the number that the next row gets
	Rows    bool               // there are rows
	Keys    map[string][][]any // of rows that are not deleted, by the columns' names
	Unknown bool
}

// keyName is the name in Keys of the columns that a reference takes, and of others beside
// them.
func keyName(columns, beside []string) string {
	return strings.Join(columns, ",") + " " + strings.Join(beside, ",")
}

// besides are the columns of the rows that a reference leads to that tell something of the
// rows that refer to them: how old they are, and where they are.
func besides(s *schema.Schema, t *schema.Table, k *schema.ForeignKey) []string {
	target := s.Table(k.Table)
	if target == nil {
		return nil
	}
	var out []string
	timed, placed := false, false
	for _, c := range t.Columns {
		x := axisOf(c.Type)
		timed = timed || x != nil && (x.kind == schema.Date || x.moment())
		_, place, ok := aboutOf(c.Field, kindIn(t, c))
		placed = placed || ok && place
	}
	if born := bornColumn(target); born != "" && timed {
		out = append(out, born)
	}
	if target.SoftDelete != "" && timed {
		out = append(out, target.SoftDelete)
	}
	for _, c := range target.Columns {
		if placed && tells(kindIn(target, c)) && (c.Type.Kind == schema.Text || c.Type.Kind == schema.Choice) {
			out = append(out, c.Name)
		}
	}
	return out
}

func (g *Existing) table(name string) *ExistingTable {
	if t := g.Tables[name]; t != nil {
		return t
	}
	return &ExistingTable{Next: 1, Unknown: g.Unknown}
}
