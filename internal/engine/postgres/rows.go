package postgres

// This file sets reference rows: those that are missing are inserted, the others
// changed where they differ, with the old values kept. Triggers keep still
// meanwhile, so that nothing else in a row changes.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
)

// SetRows gives the step that makes reference rows as they are declared.
func (Engine) SetRows(r engine.RowSetting) engine.Step {
	t := r.Table
	table := quote(t.Name)
	told := func(alias string) func(string) string { // as values of the columns are compared
		name := engine.Aliased(quote, alias)
		return func(c string) string { return compared(t.Column(c), name(c)) }
	}
	here := told("")
	live := ""
	if t.SoftDelete != "" {
		live = " AND " + quote(t.SoftDelete) + " IS NULL"
	}
	s := engine.Step{Title: r.Title, Note: r.Note}
	among := func(rows []engine.RowValues) string {
		var keys [][]string
		for _, row := range rows {
			keys = append(keys, row.Key)
		}
		return engine.IsAny(here, r.By, keys) + live
	}
	var columns []string // that are changed in any row that may be there
	var changed, added []engine.RowValues
	for _, row := range r.Rows {
		if len(row.Change) > 0 {
			changed = append(changed, row)
		}
		for _, c := range row.Change {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	}
	if !r.Fresh { // also for rows that are inserted: the undo leaves those that were there
		kept := []string{quoteAll(r.By)}
		for _, c := range columns {
			x := quote(c)
			if o := r.Table.Column(c); o != nil && o.Values != nil {
				x = toKept(o, x) + " AS " + x
			}
			kept = append(kept, x)
		}
		s.Apply = append(s.Apply, fmt.Sprintf("CREATE TABLE %s AS\nSELECT %s FROM %s WHERE %s", quote(r.Keep), strings.Join(kept, ", "), table, among(r.Rows)))
	}
	var updates []string
	for _, row := range changed {
		var set []string
		for _, c := range row.Change {
			set = append(set, quote(c)+" = "+row.Values[slices.Index(row.Columns, c)])
		}
		updates = append(updates, fmt.Sprintf("UPDATE %s SET %s WHERE %s%s", table, strings.Join(set, ", "), engine.IsRow(here, r.By, row.Key), live))
	}
	if len(updates) > 0 {
		s.Apply = append(s.Apply, quiet(updates)...)
	}
	for _, row := range r.Rows {
		if row.Add {
			added = append(added, row)
			s.Apply = append(s.Apply, fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s WHERE NOT EXISTS (SELECT 1 FROM %s WHERE %s%s)",
				table, quoteAll(row.Columns), strings.Join(row.Values, ", "), table, engine.IsRow(here, r.By, row.Key), live))
		}
	}
	if len(added) > 0 {
		gone := fmt.Sprintf("DELETE FROM %s WHERE %s", table, among(added))
		if !r.Fresh {
			gone += " AND " + engine.IsAmong(here, r.By, true, fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(here, r.By), quote(r.Keep)))
		}
		s.Undo = append(s.Undo, unguarded(r.Table, gone)...)
	}
	if len(changed) > 0 {
		var set []string
		for _, c := range columns {
			set = append(set, fmt.Sprintf("%s = %s", quote(c), fromKept(r.Table.Column(c), "kept."+quote(c))))
		}
		s.Undo = append(s.Undo, quiet([]string{fmt.Sprintf("UPDATE %s AS here SET %s FROM %s AS kept WHERE %s%s", table, strings.Join(set, ", "), quote(r.Keep), engine.Same(told("kept"), told("here"), r.By), strings.Replace(live, " AND ", " AND here.", 1))})...)
	}
	if !r.Fresh {
		s.Undo = append(s.Undo, "DROP TABLE "+quote(r.Keep))
	}
	return s
}
