package sqlite

// This file has SQLite's own words for reference rows. A table's triggers are dropped while
// its rows are changed.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

var rowWords = &ddl.RowWords{
	Quote: quote, QuoteTable: quote,
	Keep: func(r engine.RowUpsert, columns []string, where string) []string {
		return []string{fmt.Sprintf("CREATE TABLE %s AS\nSELECT %s FROM %s WHERE %s",
			quote(r.Keep), quoteAll(append(slices.Clone(r.By), columns...)), quote(r.Table.Name), where)}
	},
	Quiet: func(t *sqlschema.Table, updates []string) []string {
		var drop, restore []string
		for _, g := range t.Triggers {
			drop, restore = append(drop, dropTrigger(g)), append(restore, g.SQL.Text)
		}
		return slices.Concat(drop, updates, restore)
	},
	Restore: func(r engine.RowUpsert, columns []string, live func(string) string) string {
		table := quote(r.Table.Name)
		same := engine.Same(engine.Aliased(quote, "k"), engine.Aliased(quote, table), r.By)
		var set []string
		for _, c := range columns {
			set = append(set,
				fmt.Sprintf("%s = (SELECT k.%s FROM %s AS k WHERE %s)", quote(c), quote(c), quote(r.Keep), same))
		}
		kept := fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(quote, r.By), quote(r.Keep))
		return fmt.Sprintf("UPDATE %s SET %s WHERE %s%s", table, strings.Join(set, ", "),
			engine.IsAmong(quote, r.By, false, kept), live(""))
	},
	Unguarded: unguarded,
}

// UpsertRows gives the step that makes reference rows as they are declared.
func (Engine) UpsertRows(r engine.RowUpsert) engine.Step { return rowWords.UpsertRows(r) }
