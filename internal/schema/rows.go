package schema

// This file holds reference rows: the rows of a table that belong to the schema,
// such as a list of habitats. They are declared like columns are, and migrations
// insert, change and delete them.

import (
	"strconv"
	"strings"
)

// Rows are the reference rows of a table.
type Rows struct {
	By         []string   // the columns that tell one of them from another
	Columns    []string   // those that have values here, By among them
	Values     [][]Value  // a row each, by Columns
	Refers     []*RowLink // by Columns: set where the values name rows of another table
	Points     []string   // by Columns: the table with reference rows that the column refers to; empty: none
	PointsBy   []string   // by Columns: the column of Points that the values are of
	InsertOnly bool       // people edit them once they are there
}

// RowLink says that a value of a reference names a row of another table by
// another column than the one referred to.
type RowLink struct {
	Table  string
	By     string // the column that the value is of
	Column string // the column whose value the reference takes
	Type   Type   // of By
	Marked string // the column that marks rows of it as deleted: they are not named; empty: none does
}

// ParentsFirst gives the order of the rows in which one that others of the same
// table name stands before them; ok is false where they name each other in a circle.
func (r *Rows) ParentsFirst(table string) (order []int, ok bool) {
	at := map[[2]string]int{} // by the column that values name, and the value
	for i, to := range r.Points {
		place := -1
		if to == table {
			place = r.Place(r.PointsBy[i])
		}
		for n := range r.Values {
			if place >= 0 {
				at[[2]string{r.PointsBy[i], r.Values[n][place].Text}] = n
			}
		}
	}
	state := make([]int, len(r.Values)) // 1 under way, 2 in order
	ok = true
	var visit func(n int)
	visit = func(n int) {
		if state[n] != 0 {
			ok = ok && state[n] == 2
			return
		}
		state[n] = 1
		for i, to := range r.Points {
			if to != table || r.Values[n][i].Kind == NullValue {
				continue
			}
			if up, there := at[[2]string{r.PointsBy[i], r.Values[n][i].Text}]; there && up != n {
				visit(up)
			}
		}
		state[n] = 2
		order = append(order, n)
	}
	for n := range r.Values {
		visit(n)
	}
	return order, ok
}

// KeyPart is a column that tells reference rows apart. Where it is a reference whose values
// name rows of another table by another column than the one referred to, these are said.
type KeyPart struct{ Column, Table, Field string }

// KeyParts are the columns that tell the rows apart.
func (r *Rows) KeyParts() []KeyPart {
	var out []KeyPart
	for _, c := range r.By {
		k := KeyPart{Column: c}
		if at := r.Place(c); at >= 0 && r.Refers[at] != nil {
			k.Table, k.Field = r.Refers[at].Table, r.Refers[at].By
		}
		out = append(out, k)
	}
	return out
}

// Key is what tells a row from the others, as one text.
func (r *Rows) Key(n int) string {
	var parts []string
	for _, c := range r.By {
		parts = append(parts, r.Values[n][r.Place(c)].Text)
	}
	return JoinKey(parts)
}

// Declares tells whether a row with that key is among them.
func (r *Rows) Declares(key string) bool {
	for n := range r.Values {
		if r.Key(n) == key {
			return true
		}
	}
	return false
}

// JoinKey is the values of a key as one text; that of a single one is itself.
func JoinKey(parts []string) string {
	if len(parts) == 1 {
		return parts[0]
	}
	out := make([]string, len(parts))
	for i, p := range parts {
		if out[i] = p; p == "" || strings.ContainsAny(p, ",\"\\") || strings.TrimSpace(p) != p {
			out[i] = strconv.Quote(p)
		}
	}
	return strings.Join(out, ", ")
}

// SplitKey is the inverse of JoinKey for a key of n values.
func SplitKey(key string, n int) []string {
	if n == 1 {
		return []string{key}
	}
	var out []string
	for rest := key; len(out) < n; {
		part, after, _ := strings.Cut(rest, ", ")
		if q, err := strconv.QuotedPrefix(rest); err == nil && rest[0] == '"' {
			part, _ = strconv.Unquote(q)
			after = strings.TrimPrefix(rest[len(q):], ", ")
		}
		out, rest = append(out, part), after
	}
	return out
}

// Place is the position of a column among those with values, or -1.
func (r *Rows) Place(column string) int {
	for i, c := range r.Columns {
		if c == column {
			return i
		}
	}
	return -1
}
