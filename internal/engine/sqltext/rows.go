package sqltext

// This file writes rows as statements, for scripts: the same on every engine but for how
// a name and a value are written.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
)

// Insert is the statement that puts rows into a table, whose name is SQL.
func Insert(r engine.TableRows, table string, quote func(string) string, cell func(any) string) string {
	var b strings.Builder
	b.WriteString("INSERT INTO " + table + " (")
	for i, c := range r.Columns {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(quote(c))
	}
	b.WriteString(") VALUES")
	w := len(r.Columns)
	for i, v := range r.Cells {
		switch {
		case i%w > 0:
			b.WriteString(", ")
		case i > 0:
			b.WriteString("),\n(")
		default:
			b.WriteString("\n(")
		}
		b.WriteString(cell(v))
	}
	b.WriteString(");")
	return b.String()
}

// Updates are the statements, without their end, that set columns of rows which those in
// by tell; the name of the table is SQL.
func Updates(r engine.TableRows, table string, by []string, quote func(string) string, cell func(any) string) []string {
	var out []string
	w := len(r.Columns)
	for at := 0; at < len(r.Cells); at += w {
		var set, where []string
		for i, c := range r.Columns {
			term := quote(c) + " = " + cell(r.Cells[at+i])
			if slices.Contains(by, c) {
				where = append(where, term)
			} else {
				set = append(set, term)
			}
		}
		out = append(out,
			"UPDATE "+table+" SET "+strings.Join(set, ", ")+" WHERE "+strings.Join(where, " AND "))
	}
	return out
}
