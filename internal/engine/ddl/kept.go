package ddl

// This file is the table in which values are kept that a change destroys.

import (
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Keeping is an engine's words for a table of kept values.
type Keeping struct {
	Quote      func(name string) string
	QuoteTable func(name string) string                       // of a table
	Column     func(name string, of *sqlschema.Column) string // its definition, of the type of another
	Value      func(c *sqlschema.Column, value string) string // as it is kept; nil: as it is
}

// Values copies the values of columns that go into a table of their own, with the row's key
// and time of creation, and notes for columns that are filled which rows had no value and what
// they were given. It gives the statements that create the table and fill it, and the columns
// of the key there.
func (w Keeping) Values(a engine.Alteration, lost, filled []string) (statements, keys []string) {
	q, t := w.Quote, a.From
	var items, columns, values []string
	add := func(name string, c *sqlschema.Column, value string) {
		if w.Value != nil {
			value = w.Value(c, value)
		}
		items, columns, values = append(items, w.Column(name, c)), append(columns, q(name)), append(values, value)
	}
	for _, k := range a.Match() {
		add("key_"+k, t.Column(k), q(k))
		keys = append(keys, q("key_"+k))
	}
	for _, k := range lost {
		add(k, t.Column(k), q(k))
	}
	var empty []string
	for _, k := range filled {
		add(k, t.Column(k), q(k))
		add("filled_"+k, a.To.Column(k), a.Forward[k].Fill)
		empty = append(empty, q(k)+" IS NULL")
	}
	where := ""
	if len(lost) == 0 {
		where = " WHERE " + strings.Join(empty, " OR ")
	}
	return []string{
		fmt.Sprintf("CREATE TABLE IF NOT EXISTS %s (\n    %s\n)", w.QuoteTable(a.Keep), strings.Join(items, ",\n    ")),
		fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s%s", w.QuoteTable(a.Keep), strings.Join(columns, ", "),
			strings.Join(values, ", "), w.QuoteTable(t.Name), where),
	}, keys
}
