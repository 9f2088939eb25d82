package ddl

// This file sets reference rows: those that are missing are inserted, the others changed
// where they differ, with the old values kept. Triggers keep still meanwhile, so that
// nothing else in a row changes.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// RowWords are an engine's own words for reference rows.
type RowWords struct {
	Quote      func(name string) string
	QuoteTable func(name string) string // of a table, or of what else lies in a schema
	// Compared is the SQL of a column in the form in which its values are compared; nil: as
	// it is.
	Compared func(c *sqlschema.Column, sql string) string
	// Keep gives the statements that make the kept table, with these columns of the rows that
	// where tells.
	Keep func(r engine.RowUpsert, columns []string, where string) []string
	// Quiet gives updates of a table so that its triggers keep still.
	Quiet func(t *sqlschema.Table, updates []string) []string
	// Restore is the update that gives columns their kept values. live is a condition on the
	// rows, with " AND " before it where there is one, with an alias of the table.
	Restore func(r engine.RowUpsert, columns []string, live func(alias string) string) string
	// Order is what stands behind a DELETE of rows of a table with these keys; nil: nothing.
	Order func(t *sqlschema.Table, by []string, keys [][]string) string
	// Unguarded are statements that delete rows past the guard of a soft deletion.
	Unguarded func(t *sqlschema.Table, sql ...string) []string

	FromOne     string // stands behind a SELECT of literals, before its WHERE
	There, Kept string // aliases of the table and of the kept one in subqueries; "": none
}

// UpsertRows gives the step that makes reference rows as they are declared.
func (w *RowWords) UpsertRows(r engine.RowUpsert) engine.Step {
	x := setting{w, r}
	s := engine.Step{Title: r.Title, Note: r.Note}
	var columns []string // that are changed in any row that may be there
	var changed, added []engine.RowValues
	for _, row := range r.Rows {
		if len(row.Change) > 0 {
			changed = append(changed, row)
		}
		if row.Add {
			added = append(added, row)
		}
		for _, c := range row.Change {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	}
	if !r.Fresh { // also for rows that are inserted: the undo leaves those that were there
		s.Apply = append(s.Apply, w.Keep(r, columns, x.among(r.Rows))...)
	}
	if len(changed) > 0 {
		s.Apply = append(s.Apply, w.Quiet(r.Table, x.updates(changed))...)
	}
	s.Apply = append(s.Apply, x.inserts(added)...)
	if len(added) > 0 {
		s.Undo = append(s.Undo, w.Unguarded(r.Table, x.takeOut(added))...)
	}
	if len(changed) > 0 {
		s.Undo = append(s.Undo, w.Quiet(r.Table, []string{w.Restore(r, columns, x.live)})...)
	}
	if !r.Fresh {
		s.Undo = append(s.Undo, "DROP TABLE "+w.QuoteTable(r.Keep))
	}
	return s
}

// setting is a step in the making.
type setting struct {
	*RowWords
	engine.RowUpsert
}

// told gives the columns that tell rows apart, of a table with this alias.
func (x setting) told(alias string) func(string) string {
	name := engine.Aliased(x.Quote, alias)
	if x.Compared == nil {
		return name
	}
	return func(c string) string { return x.Compared(x.Table.Column(c), name(c)) }
}

// live is the condition of rows that are not deleted, " AND " before it; "" where none is.
func (x setting) live(alias string) string {
	if x.Table.SoftDelete == "" {
		return ""
	}
	return " AND " + engine.Aliased(x.Quote, alias)(x.Table.SoftDelete) + " IS NULL"
}

// among is the condition of these rows.
func (x setting) among(rows []engine.RowValues) string {
	return engine.IsAny(x.told(""), x.By, keysOf(rows)) + x.live("")
}

func keysOf(rows []engine.RowValues) (keys [][]string) {
	for _, row := range rows {
		keys = append(keys, row.Key)
	}
	return keys
}

func (x setting) updates(rows []engine.RowValues) (out []string) {
	for _, row := range rows {
		var set []string
		for _, c := range row.Change {
			set = append(set, x.Quote(c)+" = "+row.Values[slices.Index(row.Columns, c)])
		}
		out = append(out, fmt.Sprintf("UPDATE %s SET %s WHERE %s%s",
			x.QuoteTable(x.Table.Name), strings.Join(set, ", "), engine.IsRow(x.told(""), x.By, row.Key), x.live("")))
	}
	return out
}

func (x setting) inserts(rows []engine.RowValues) (out []string) {
	table := x.QuoteTable(x.Table.Name)
	for _, row := range rows {
		var columns []string
		for _, c := range row.Columns {
			columns = append(columns, x.Quote(c))
		}
		out = append(out, fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s%s WHERE NOT EXISTS (SELECT 1 FROM %s WHERE %s%s)",
			table, strings.Join(columns, ", "), strings.Join(row.Values, ", "), x.FromOne,
			as(table, x.There), engine.IsRow(x.told(x.There), x.By, row.Key), x.live(x.There)))
	}
	return out
}

// takeOut deletes rows that were inserted, but those that were there before.
func (x setting) takeOut(rows []engine.RowValues) string {
	sql := fmt.Sprintf("DELETE FROM %s WHERE %s", x.QuoteTable(x.Table.Name), x.among(rows))
	if !x.Fresh {
		sql += " AND " + engine.IsAmong(
			x.told(""),
			x.By,
			true,
			fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(x.told(x.Kept), x.By),
				as(x.QuoteTable(x.RowUpsert.Keep), x.Kept)),
		)
	}
	if x.Order != nil {
		sql += x.Order(x.Table, x.By, keysOf(rows))
	}
	return sql
}

func as(table, alias string) string {
	if alias == "" {
		return table
	}
	return table + " AS " + alias
}
