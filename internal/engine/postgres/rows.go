package postgres

// This file has PostgreSQL's own words for reference rows.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

var rowWords = &ddl.RowWords{
	Quote: quote, QuoteTable: quoteTable, Compared: compared,
	Keep: func(r engine.RowUpsert, columns []string, where string) []string {
		kept := []string{quoteAll(r.By)}
		for _, c := range columns {
			x := quote(c)
			if o := r.Table.Column(c); o != nil && o.Values != nil {
				x = toKept(o, x) + " AS " + x
			}
			kept = append(kept, x)
		}
		return []string{fmt.Sprintf("CREATE TABLE %s AS\nSELECT %s FROM %s WHERE %s",
			quoteTable(r.Keep), strings.Join(kept, ", "), quoteTable(r.Table.Name), where)}
	},
	Quiet: func(_ *sqlschema.Table, updates []string) []string { return quiet(updates) },
	Restore: func(r engine.RowUpsert, columns []string, live func(string) string) string {
		told := func(alias string) func(string) string {
			return func(c string) string { return compared(r.Table.Column(c), engine.Aliased(quote, alias)(c)) }
		}
		var set []string
		for _, c := range columns {
			set = append(set, fmt.Sprintf("%s = %s", quote(c), fromKept(r.Table.Column(c), "kept."+quote(c))))
		}
		return fmt.Sprintf("UPDATE %s AS here SET %s FROM %s AS kept WHERE %s%s", quoteTable(r.Table.Name),
			strings.Join(set, ", "), quoteTable(r.Keep), engine.Same(told("kept"), told("here"), r.By), live("here"))
	},
	Unguarded: unguarded,
}

// UpsertRows gives the step that makes reference rows as they are declared.
func (Engine) UpsertRows(r engine.RowUpsert) engine.Step { return rowWords.UpsertRows(r) }
