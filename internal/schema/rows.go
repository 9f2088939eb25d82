package schema

// This file holds reference rows: the rows of a table that belong to the schema,
// such as a list of habitats. They are declared like columns are, and migrations
// insert, change and delete them.

// Rows are the reference rows of a table.
type Rows struct {
	By         string     // the column that tells one of them from another
	Columns    []string   // those that have values here, By among them
	Values     [][]Value  // a row each, by Columns
	Refers     []*RowLink // by Columns: set where the values name rows of another table
	Points     []string   // by Columns: the table with reference rows that the column refers to; empty: none
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
	place, at := r.Place(r.By), map[string]int{}
	for n, v := range r.Values {
		at[v[place].Text] = n
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
			if up, there := at[r.Values[n][i].Text]; there && up != n {
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

// Place is the position of a column among those with values, or -1.
func (r *Rows) Place(column string) int {
	for i, c := range r.Columns {
		if c == column {
			return i
		}
	}
	return -1
}
