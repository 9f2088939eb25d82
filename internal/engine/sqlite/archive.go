package sqlite

// This file keeps values before they go, and restores them.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/sqlschema"
)

// Drop gives the step that drops a table and keeps its rows. They are copied
// rather than left in the renamed table: its references would go on to hold
// back or delete rows elsewhere, and its indexes' names would stay taken.
func (Engine) Drop(d engine.TableDrop) engine.Change {
	t := d.Table
	if t.Options.Virtual != "" {
		return engine.Change{Steps: dropVirtual(t, d.Keep)}
	}
	s := engine.Step{Title: "drop " + t.Name, Loses: []engine.Loss{{Table: t.Name}}, Kept: d.Keep != ""}
	if !s.Kept {
		s.Apply = []string{"DROP TABLE " + quote(t.Name)}
		s.Undo = tableStatements(t)
		return engine.Change{Steps: []engine.Step{s}}
	}
	bare := bareTable(t)
	bare.Name = d.Keep
	s.Note = "keeps its rows in " + d.Keep
	s.Apply = append(s.Apply, createTable(bare, d.Keep))
	s.Apply = append(s.Apply, copyRows(t, bare, [2]string{t.Name, d.Keep}, nil, "")...)
	s.Apply = append(s.Apply, "DROP TABLE "+quote(t.Name))
	s.Undo = append(s.Undo, createTable(t, t.Name))
	s.Undo = append(s.Undo, copyRows(bare, t, [2]string{d.Keep, t.Name}, nil, "")...)
	s.Undo = append(s.Undo, "DROP TABLE "+quote(d.Keep))
	s.Undo = append(s.Undo, dependents(t)...)
	return engine.Change{Steps: []engine.Step{s}, Copies: true, BeforeApply: []engine.Requirement{carried(t)}}
}

// DeleteRows gives the step that takes rows out of a table; they come back as they
// were, but for row numbers that are no key: others may have them by then.
func (Engine) DeleteRows(r engine.RowDeletion) engine.Step {
	t := r.Table
	s := engine.Step{Title: "delete the " + r.What + " permanently"}
	gone := fmt.Sprintf("DELETE FROM %s WHERE %s", quote(t.Name), r.Where)
	if r.Keep == "" {
		s.Apply = unguarded(t, gone)
		return s
	}
	s.Title, s.Kept, s.Note = "set the "+r.What+" aside", true, "keeps them in "+r.Keep
	bare := bareTable(t)
	bare.Name = r.Keep
	s.Apply = append(s.Apply, createTable(bare, r.Keep))
	// Without the sequence: the rows that stay hold it.
	s.Apply = append(s.Apply, copyRows(t, bare, [2]string{t.Name, r.Keep}, nil, r.Where)[0])
	s.Apply = append(s.Apply, unguarded(t, gone)...)
	numberless := bare.Clone()
	numberless.Options.WithoutRowid = true
	back := copyRows(numberless, t, [2]string{r.Keep, t.Name}, nil, "")[0]
	if row := rowidName(bare); row != "" {
		back += " ORDER BY " + row
	}
	s.Undo = []string{back, "DROP TABLE " + quote(r.Keep)}
	return s
}

// bareTable is the table without anything that could refuse or touch a row:
// its columns' names and types, and its key.
func bareTable(t *sqlschema.Table) *sqlschema.Table {
	b := t.Clone()
	b.ForeignKeys, b.Checks, b.Indexes, b.Triggers = nil, nil, nil, nil
	b.Columns = slices.DeleteFunc(b.Columns, func(c *sqlschema.Column) bool { return c.Generated != nil })
	for _, c := range b.Columns {
		c.Default = nil
		if b.PrimaryKey == nil || !b.Options.WithoutRowid {
			c.NotNull, c.Conflict = false, ""
		}
	}
	if b.PrimaryKey != nil {
		b.PrimaryKey.Conflict = ""
	}
	return b
}

// keptMatch is the condition that a kept row belongs to a row of a table.
func keptMatch(keys []string, kept, row string) string {
	var terms []string
	for _, k := range keys {
		terms = append(terms, fmt.Sprintf("%s.%s IS %s.%s", quote(kept), quote("key_"+k), quote(row), quote(k)))
	}
	return strings.Join(terms, " AND ")
}

// keepValues keeps values in a table of their own.
func keepValues(a engine.Alteration, lost, filled []string) []string {
	out, _ := keeping.Values(a, lost, filled)
	return out
}

var keeping = ddl.Keeping{
	Quote: quote, QuoteTable: quote,
	Column: func(name string, c *sqlschema.Column) string {
		return strings.TrimSpace(quote(name) + " " + sqlType(c.SQLType))
	},
}

// Archive puts values of a table aside before it, or columns of it, go.
func (Engine) Archive(t *sqlschema.Table, columns []string, kept string) (makes, fills []string) {
	if len(columns) > 0 && t.Options.Virtual != "" {
		return archiveHeld(t, t.Name, columns, kept)
	}
	if len(columns) > 0 {
		list := keepValues(engine.Alteration{From: t, To: t, Lost: columns, Keep: kept}, columns, nil)
		return list[:1], list[1:]
	}
	if t.Options.Virtual != "" {
		return archiveVirtual(t, kept)
	}
	bare := bareTable(t)
	bare.Name = kept
	return []string{createTable(bare, kept)}, copyRows(t, bare, [2]string{t.Name, kept}, nil, "")
}

// Restore brings kept values back. A whole table's rows go in as they were;
// values of columns go into the rows that they came from, with the table's
// triggers away, so that nothing else changes.
func (Engine) Restore(t, kept *sqlschema.Table, stay bool) []string {
	if t.Options.Virtual != "" && kept.Column(rowNumber) != nil {
		return restoreHeld(t, kept, stay)
	}
	if t.Options.Virtual != "" {
		return restoreVirtual(t, kept, stay)
	}
	var columns, keys []string
	for _, c := range kept.Columns {
		if key, ok := strings.CutPrefix(c.Name, "key_"); ok && t.Column(c.Name) == nil {
			keys = append(keys, key)
		} else if o := t.Column(c.Name); o != nil && o.Generated == nil {
			columns = append(columns, c.Name)
		}
	}
	if len(keys) == 0 {
		out := copyRows(kept, t, [2]string{kept.Name, t.Name}, nil, "")
		if !stay {
			out = append(out, "DROP TABLE "+quote(kept.Name))
		}
		return out
	}
	match := keptMatch(keys, kept.Name, t.Name)
	var out, set []string
	for _, g := range t.Triggers {
		out = append(out, dropTrigger(g))
	}
	for _, c := range columns {
		set = append(
			set,
			fmt.Sprintf("%s = (SELECT %s FROM %s WHERE %s ORDER BY %s.rowid DESC LIMIT 1)", quote(c), quote(c),
				quote(kept.Name), match, quote(kept.Name)),
		)
	}
	if len(set) > 0 {
		out = append(
			out,
			fmt.Sprintf("UPDATE %s SET %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(t.Name),
				strings.Join(set, ", "), quote(kept.Name), match),
		)
	}
	if !stay {
		out = append(
			out,
			fmt.Sprintf("DELETE FROM %s WHERE EXISTS (SELECT 1 FROM %s WHERE %s)", quote(kept.Name), quote(t.Name),
				match),
		)
	}
	for _, g := range t.Triggers {
		out = append(out, g.SQL.Text)
	}
	return out
}
