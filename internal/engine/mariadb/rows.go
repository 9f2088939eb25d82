package mariadb

// This file sets reference rows: those that are missing are inserted, the others changed
// where they differ, with the old values kept. Triggers keep still meanwhile, so that
// nothing else in a row changes.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// SetRows gives the step that makes reference rows as they are declared.
func (Engine) SetRows(r engine.RowSetting) engine.Step {
	t := r.Table
	table, name := quote(t.Name), engine.Aliased(quote, "")
	there, here, old := engine.Aliased(quote, "there"), engine.Aliased(quote, "here"), engine.Aliased(quote, "kept")
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
		return engine.IsAny(name, r.By, keys) + live
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
		kept := append(slices.Clone(r.By), columns...)
		keep := bareTable(t, r.Keep)
		keep.PrimaryKey = nil
		keep.Columns = slices.DeleteFunc(keep.Columns, func(c *schema.Column) bool { return !slices.Contains(kept, c.Name) })
		for _, c := range keep.Columns {
			c.NotNull = false
		}
		s.Apply = append(s.Apply, createIfMissing(keep), fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s WHERE %s", quote(r.Keep), quoteAll(kept), quoteAll(kept), table, among(r.Rows)))
	}
	var updates []string
	for _, row := range changed {
		var set []string
		for _, c := range row.Change {
			set = append(set, quote(c)+" = "+row.Values[slices.Index(row.Columns, c)])
		}
		updates = append(updates, fmt.Sprintf("UPDATE %s SET %s WHERE %s%s", table, strings.Join(set, ", "), engine.IsRow(name, r.By, row.Key), live))
	}
	s.Apply = append(s.Apply, quietly(updates)...)
	for _, row := range r.Rows {
		if row.Add {
			added = append(added, row)
			s.Apply = append(s.Apply, fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM (SELECT 1) AS q WHERE NOT EXISTS (SELECT 1 FROM %s AS there WHERE %s%s)",
				table, quoteAll(row.Columns), strings.Join(row.Values, ", "), table, engine.IsRow(there, r.By, row.Key), strings.Replace(live, " AND ", " AND there.", 1)))
		}
	}
	if len(added) > 0 {
		gone := fmt.Sprintf("DELETE FROM %s WHERE %s", table, among(added))
		if !r.Fresh {
			gone += " AND " + engine.IsAmong(name, r.By, true, fmt.Sprintf("SELECT %s FROM %s AS kept", engine.KeyList(old, r.By), quote(r.Keep)))
		}
		var keys [][]string
		for _, row := range added {
			keys = append(keys, row.Key)
		}
		gone += parentsFirst(t, r.By, keys, " DESC")
		s.Undo = append(s.Undo, unguarded(r.Table, gone)...)
	}
	if len(changed) > 0 {
		var set []string
		for _, c := range columns {
			set = append(set, fmt.Sprintf("%s = (SELECT kept.%s FROM %s AS kept WHERE %s LIMIT 1)", quote(c), quote(c), quote(r.Keep), engine.Same(old, here, r.By)))
		}
		s.Undo = append(s.Undo, quietly([]string{fmt.Sprintf("UPDATE %s AS here SET %s WHERE EXISTS (SELECT 1 FROM %s AS kept WHERE %s)%s", table, strings.Join(set, ", "), quote(r.Keep), engine.Same(old, here, r.By), strings.Replace(live, " AND ", " AND here.", 1))})...)
	}
	if !r.Fresh {
		s.Undo = append(s.Undo, "DROP TABLE "+quote(r.Keep))
	}
	return s
}

// parentsFirst is the order in which rows of a table that refers to itself come, or with " DESC"
// behind it go, where keys are those of rows of which none refers to a later one: the
// server holds references row by row. Empty: any order will do.
func parentsFirst(t *schema.Table, by []string, keys [][]string, behind string) string {
	if len(keys) < 2 || !slices.ContainsFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) }) {
		return ""
	}
	if len(by) > 1 {
		out := " ORDER BY CASE"
		for i, k := range keys {
			out += fmt.Sprintf(" WHEN %s THEN %d", engine.IsRow(quote, by, k), i)
		}
		return out + " END" + behind
	}
	var list []string
	for _, k := range keys {
		list = append(list, k[0])
	}
	return " ORDER BY FIELD(" + quote(by[0]) + ", " + strings.Join(list, ", ") + ")" + behind
}
