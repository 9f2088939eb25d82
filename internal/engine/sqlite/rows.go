package sqlite

// This file sets reference rows: those that are missing are inserted, the others
// changed where they differ, with the old values kept. The table's triggers are
// away meanwhile, so that nothing else in a row changes.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
)

// SetRows gives the step that makes reference rows as they are declared.
func (Engine) SetRows(r engine.RowSetting) engine.Step {
	t := r.Table
	table, here := quote(t.Name), engine.Aliased(quote, "")
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
	changes := slices.DeleteFunc(slices.Clone(r.Rows), func(x engine.RowValues) bool { return len(x.Change) == 0 })
	for _, row := range changes {
		for _, c := range row.Change {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	}
	away := func() (drop, make []string) {
		for _, g := range t.Triggers {
			drop, make = append(drop, dropTrigger(g)), append(make, g.SQL.Text)
		}
		return drop, make
	}
	drop, restore := away()
	if !r.Fresh { // also for rows that are inserted: the undo leaves those that were there
		s.Apply = append(s.Apply, fmt.Sprintf("CREATE TABLE %s AS\nSELECT %s FROM %s WHERE %s", quote(r.Keep), quoteAll(append(slices.Clone(r.By), columns...)), table, among(r.Rows)))
	}
	if len(changes) > 0 {
		s.Apply = append(s.Apply, drop...)
		for _, row := range changes {
			var set []string
			for _, c := range row.Change {
				set = append(set, quote(c)+" = "+row.Values[slices.Index(row.Columns, c)])
			}
			s.Apply = append(s.Apply, fmt.Sprintf("UPDATE %s SET %s WHERE %s%s", table, strings.Join(set, ", "), engine.IsRow(here, r.By, row.Key), live))
		}
		s.Apply = append(s.Apply, restore...)
	}
	var added []engine.RowValues
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
		s.Undo = append(s.Undo, unguarded(t, gone)...)
	}
	if len(changes) > 0 {
		var set []string
		for _, c := range columns {
			set = append(set, fmt.Sprintf("%s = (SELECT k.%s FROM %s AS k WHERE %s)", quote(c), quote(c), quote(r.Keep), engine.Same(engine.Aliased(quote, "k"), engine.Aliased(quote, table), r.By)))
		}
		s.Undo = append(s.Undo, drop...)
		s.Undo = append(s.Undo, fmt.Sprintf("UPDATE %s SET %s WHERE %s%s", table, strings.Join(set, ", "), engine.IsAmong(here, r.By, false, fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(here, r.By), quote(r.Keep))), live))
		s.Undo = append(s.Undo, restore...)
	}
	if !r.Fresh {
		s.Undo = append(s.Undo, "DROP TABLE "+quote(r.Keep))
	}
	return s
}
