package mariadb

// This file has MariaDB's own words for reference rows.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

var rowWords = &ddl.RowWords{
	Quote: quote, QuoteTable: quote, FromOne: " FROM (SELECT 1) AS q", There: "there", Kept: "kept",
	Keep:  keepRows,
	Quiet: func(_ *sqlschema.Table, updates []string) []string { return quietly(updates) },
	Restore: func(r engine.RowUpsert, columns []string, live func(string) string) string {
		same := engine.Same(engine.Aliased(quote, "kept"), engine.Aliased(quote, "here"), r.By)
		var set []string
		for _, c := range columns {
			set = append(
				set,
				fmt.Sprintf("%s = (SELECT kept.%s FROM %s AS kept WHERE %s LIMIT 1)", quote(c), quote(c), quote(r.Keep),
					same),
			)
		}
		return fmt.Sprintf("UPDATE %s AS here SET %s WHERE EXISTS (SELECT 1 FROM %s AS kept WHERE %s)%s",
			quote(r.Table.Name), strings.Join(set, ", "), quote(r.Keep), same, live("here"))
	},
	Order: func(t *sqlschema.Table, by []string, keys [][]string) string {
		return parentsFirst(t, by, keys, " DESC")
	},
	Unguarded: unguarded,
}

// UpsertRows gives the step that makes reference rows as they are declared.
func (Engine) UpsertRows(r engine.RowUpsert) engine.Step { return rowWords.UpsertRows(r) }

// keepRows makes the kept table first, since that ends a transaction.
func keepRows(r engine.RowUpsert, columns []string, where string) []string {
	kept := append(slices.Clone(r.By), columns...)
	keep := bareTable(r.Table, r.Keep)
	keep.PrimaryKey = nil
	keep.Columns = slices.DeleteFunc(keep.Columns,
		func(c *sqlschema.Column) bool { return !slices.Contains(kept, c.Name) })
	for _, c := range keep.Columns {
		c.NotNull = false
	}
	return []string{createIfMissing(keep), fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s WHERE %s",
		quote(r.Keep), quoteAll(kept), quoteAll(kept), quote(r.Table.Name), where)}
}

// parentsFirst is the order in which rows of a table that refers to itself come, or with " DESC"
// behind it go, where keys are those of rows of which none refers to a later one: the
// server holds references row by row. Empty: any order will do.
func parentsFirst(t *sqlschema.Table, by []string, keys [][]string, behind string) string {
	if len(keys) < 2 || !slices.ContainsFunc(t.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return strings.EqualFold(k.Table, t.Name) }) {
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
