package mariadb

// This file puts values aside before they go, and back. A table that goes is set aside as
// it is, and a column that goes stays in its table with another name. What an undo takes
// away is copied into a kept table, with the row's key and the time of its creation, by
// which a value finds its row again.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// Drop gives the steps that drop a table and keep its rows. Its triggers go once nobody
// writes to it any more: their names may be wanted.
func (Engine) Drop(d engine.TableDrop) engine.Change {
	t := d.Table
	var out engine.Change
	step := func(what, apply, undo string) *engine.Step { // each commits
		out.Steps = append(out.Steps,
			engine.Step{Title: "drop " + t.Name + what, Apply: []string{apply}, Undo: []string{undo}})
		return &out.Steps[len(out.Steps)-1]
	}
	if d.Keep == "" {
		for _, g := range slices.Backward(t.Triggers) {
			step(", trigger "+g.Name, "DROP TRIGGER "+quote(g.Name), g.SQL.Text)
		}
		step("", "DROP TABLE "+quote(t.Name), createTable(t, t.Name)).Loses = []engine.Loss{{Table: t.Name}}
		out.BeforeApply = []engine.Requirement{byHand(t)}
	} else {
		for _, k := range t.ForeignKeys {
			step(", its reference", Engine{}.DropReference(t, k)[0], Engine{}.AddReference(t, k)[0])
		}
		s := step("", "RENAME TABLE "+quote(t.Name)+" TO "+quote(d.Keep),
			"RENAME TABLE "+quote(d.Keep)+" TO "+quote(t.Name))
		s.Loses, s.Kept, s.Note = []engine.Loss{{Table: t.Name}}, true, "keeps its rows in "+d.Keep
		for _, g := range slices.Backward(t.Triggers) {
			step(", trigger "+g.Name, "DROP TRIGGER "+quote(g.Name), onTable(g.SQL.Text, d.Keep))
		}
	}
	return out
}

// byHand is what must hold before a table goes: that it has no column that the migration
// does not know, which would be gone with it.
func byHand(t *sqlschema.Table) engine.Requirement {
	var columns []string
	for _, c := range t.Columns {
		columns = append(columns, literal(c.Name))
	}
	return engine.Requirement{
		Sentence: fmt.Sprintf("{n} columns of %s were added outside Erbario and would be lost", t.Name),
		Query: fmt.Sprintf(
			"SELECT column_name FROM information_schema.columns WHERE table_schema = database() AND table_name = %s AND column_name NOT IN (%s)",
			literal(t.Name), strings.Join(columns, ", ")),
	}
}

// takenAlong asks for references by hand that would not let rows go by themselves.
func takenAlong(r engine.RowDeletion) engine.Requirement {
	known := ""
	if len(r.Known) > 0 {
		var list []string
		for _, t := range r.Known {
			list = append(list, literal(t))
		}
		known = " AND table_name NOT IN (" + strings.Join(list, ", ") + ")"
	}
	return engine.Requirement{
		Sentence: fmt.Sprintf(
			"{n} references not created by a migration would delete or unlink rows with the %s: declare or drop them first",
			r.What,
		),
		Query: fmt.Sprintf(
			"SELECT table_name, constraint_name, delete_rule FROM information_schema.referential_constraints WHERE unique_constraint_schema = database() AND referenced_table_name = %s AND delete_rule IN ('CASCADE', 'SET NULL', 'SET DEFAULT')%s",
			literal(r.Table.Name), known),
	}
}

// DeleteRows gives the step that takes rows out of a table; they come back as they were.
func (Engine) DeleteRows(r engine.RowDeletion) engine.Step {
	t := r.Table
	s := engine.Step{
		Title: "delete the " + r.What + " permanently",
		Here:  []engine.Requirement{takenAlong(r)},
	}
	gone := fmt.Sprintf("DELETE FROM %s WHERE %s", quote(t.Name), r.Where) + parentsFirst(t, r.By, r.Order, " DESC")
	if r.Keep == "" {
		s.Apply = unguarded(t, gone)
		return s
	}
	s.Title, s.Kept, s.Note = "set the "+r.What+" aside", true, "keeps them in "+r.Keep
	bare := bareTable(t, r.Keep)
	s.Apply = append([]string{createIfMissing(bare), copyRows(t, bare, t.Name, r.Keep, r.Where)}, unguarded(t, gone)...)
	s.Undo = quietly([]string{copyRows(bare, t, r.Keep, t.Name, "") + parentsFirst(t, r.By, r.Order, "")})
	s.Undo = append(s.Undo, "DROP TABLE "+quote(r.Keep))
	return s
}

// DeleteTogether deletes rows of several tables, which may refer to each other: one
// statement a table, while references are not held.
func (Engine) DeleteTogether(tables, where []string) []string {
	out := []string{"SET SESSION foreign_key_checks = 0"}
	for i, t := range tables {
		out = append(out, fmt.Sprintf("DELETE FROM %s WHERE %s", quote(t), where[i]))
	}
	return append(out, "SET SESSION foreign_key_checks = 1")
}

func createIfMissing(t *sqlschema.Table) string {
	return strings.Replace(createTable(t, t.Name), "CREATE TABLE", "CREATE TABLE IF NOT EXISTS", 1)
}

// bareTable is the table without anything that could refuse or touch a row: its columns'
// names and types, and its key.
func bareTable(t *sqlschema.Table, name string) *sqlschema.Table {
	b := t.Clone()
	b.Name, b.ForeignKeys, b.Checks, b.Indexes, b.Triggers, b.Others, b.Text, b.Comment = name, nil, nil, nil, nil,
		nil, "", ""
	if i := strings.Index(b.Options.Behind, " PARTITION BY"); i >= 0 {
		b.Options.Behind = b.Options.Behind[:i]
	}
	b.Options.Behind = strings.ReplaceAll(b.Options.Behind, " WITH SYSTEM VERSIONING", "")
	b.Columns = slices.DeleteFunc(b.Columns, func(c *sqlschema.Column) bool { return c.Generated != nil })
	for _, c := range b.Columns {
		c.Default, c.NotNull, c.Comment, c.Identity, c.OnUpdate, c.Invisible = nil, false, "", false, "", false
		for _, k := range t.Key() {
			c.NotNull = c.NotNull || k == c.Name
		}
	}
	return b
}

// copyRows fills a table from another; where chooses rows, empty for all.
func copyRows(from, to *sqlschema.Table, fromName, toName, where string) string {
	var columns []string
	for _, c := range to.Columns {
		if o := from.Column(c.Name); o != nil && c.Generated == nil && o.Generated == nil {
			columns = append(columns, quote(c.Name))
		}
	}
	list := strings.Join(columns, ", ")
	s := fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s", quote(toName), list, list, quote(fromName))
	if list == "" { // nothing of the old rows goes on but that they are there
		s = fmt.Sprintf("INSERT INTO %s (%s)\nSELECT DEFAULT(%s) FROM %s, %s", quote(toName), quote(to.Columns[0].Name),
			quote(to.Columns[0].Name), quote(toName), quote(fromName))
	}
	if where != "" {
		s += " WHERE " + where
	}
	return s
}

// keptKey is the index of a kept table by which its rows find theirs. keptByKey has a query
// take it: the server believes for a while that a table which has just been filled is
// empty, and goes over all of it for each row.
const keptKey = "erbario_kept_key"

var keptByKey = " FORCE INDEX (" + quote(keptKey) + ")"

// keptMatch is the condition that a kept row belongs to a row of a table; both are names
// as SQL.
func keptMatch(keys []string, kept, row string) string {
	var terms []string
	for i, k := range keys {
		same := "="
		if k == "created_at" && i == len(keys)-1 && i > 0 { // it need not be there
			same = "<=>"
		}
		terms = append(terms, fmt.Sprintf("%s.%s %s %s.%s", kept, quote("key_"+k), same, row, quote(k)))
	}
	return strings.Join(terms, " AND ")
}

// keptColumns are the columns of a kept table, with the expression over the row for each.
func keptColumns(a engine.Alteration, lost, filled []string) (columns []*sqlschema.Column, values, keys []string) {
	add := func(name string, c *sqlschema.Column, value string) {
		columns = append(columns, &sqlschema.Column{Name: name, SQLType: c.SQLType, Collation: c.Collation})
		values = append(values, value)
	}
	for _, k := range a.Match() {
		add("key_"+k, a.From.Column(k), quote(k))
		keys = append(keys, "key_"+k)
	}
	for _, k := range lost {
		add(k, a.From.Column(k), quote(k))
	}
	for _, k := range filled {
		add(k, a.From.Column(k), quote(k))
		add("filled_"+k, a.To.Column(k), a.Forward[k].Fill)
	}
	return columns, values, keys
}

// keptDefinition makes the table of what is kept of columns.
func keptDefinition(a engine.Alteration, columns []*sqlschema.Column, keys []string) string {
	var items []string
	for _, c := range columns {
		items = append(items, columnDefinition(c))
	}
	var index []string
	for _, k := range keys {
		s := quote(k)
		for _, c := range columns {
			if c.Name == k && long(&sqlschema.Table{}, &sqlschema.Column{Type: typeOf(c.SQLType)}) {
				s += fmt.Sprintf("(%d)", indexedBeginning)
			}
		}
		index = append(index, s)
	}
	if len(index) > 0 {
		items = append(items, "KEY "+quote(keptKey)+" ("+strings.Join(index, ", ")+")")
	}
	return "CREATE TABLE IF NOT EXISTS " + quote(a.Keep) + " (\n    " + strings.Join(items,
		",\n    ") + "\n)" + plainOptions(a.From)
}

// keptTable makes the table in which is noted which rows had no value in columns that are
// filled, and what they were given.
func keptTable(a engine.Alteration, filled []string) string {
	columns, _, keys := keptColumns(a, nil, filled)
	return keptDefinition(a, columns, keys)
}

// noteEmpty notes those rows.
func noteEmpty(a engine.Alteration, filled []string) string {
	columns, values, _ := keptColumns(a, nil, filled)
	var names, empty []string
	for _, c := range columns {
		names = append(names, c.Name)
	}
	for _, k := range filled {
		empty = append(empty, quote(k)+" IS NULL")
	}
	return fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s WHERE %s", quote(a.Keep), quoteAll(names),
		strings.Join(values, ", "), quote(a.From.Name), strings.Join(empty, " OR "))
}

// Archive puts values of a table aside before it, or columns of it, go. What an earlier
// try left there is taken out first.
func (Engine) Archive(t *sqlschema.Table, columns []string, kept string) (makes, fills []string) {
	if len(columns) > 0 {
		a := engine.Alteration{From: t, To: t, Lost: columns, Keep: kept}
		list, values, keys := keptColumns(a, columns, nil)
		var names []string
		for _, c := range list {
			names = append(names, c.Name)
		}
		return []string{
				keptDefinition(a, list, keys),
			}, []string{
				fmt.Sprintf("INSERT INTO %s (%s)\nSELECT %s FROM %s", quote(kept), quoteAll(names),
					strings.Join(values, ", "), quote(t.Name)),
			}
	}
	bare := bareTable(t, kept)
	return []string{createIfMissing(bare)}, []string{copyRows(t, bare, t.Name, kept, "")}
}

// Restore brings kept values back. A whole table's rows go in as they were; values of
// columns go into the rows that they came from, and nothing else changes. None of the
// statements updates several tables at once: one that is interrupted there may end
// without a word.
func (Engine) Restore(t, kept *sqlschema.Table, stay bool) []string {
	var columns, keys []string
	for _, c := range kept.Columns {
		if key, ok := strings.CutPrefix(c.Name, "key_"); ok && t.Column(c.Name) == nil {
			if key == "created_at" && t.Column(key) == nil {
				continue // it was there between two steps alone
			}
			keys = append(keys, key)
		} else if o := t.Column(c.Name); o != nil && o.Generated == nil {
			columns = append(columns, c.Name)
		}
	}
	if len(keys) == 0 {
		out := []string{copyRows(kept, t, kept.Name, t.Name, "")}
		if !stay { // so that nothing is put back twice
			out = append(out, "DELETE FROM "+quote(kept.Name), "DROP TABLE "+quote(kept.Name))
		}
		return out
	}
	match, byKey := keptMatch(keys, "kept", "here"), ""
	if slices.ContainsFunc(kept.Indexes, func(x *sqlschema.Index) bool { return x.Name == keptKey }) {
		byKey = keptByKey
	}
	var out, set []string
	for _, c := range columns {
		value := fmt.Sprintf("(SELECT kept.%s FROM %s AS kept%s WHERE %s LIMIT 1)", quote(c), quote(kept.Name), byKey,
			match)
		if t.Column(c).NotNull { // it had none where it was undone before it was filled
			value = "coalesce(" + value + ", here." + quote(c) + ")"
		}
		set = append(set, quote(c)+" = "+value)
	}
	if len(set) > 0 {
		out = quietly([]string{
			fmt.Sprintf("UPDATE %s AS here SET %s WHERE EXISTS (SELECT 1 FROM %s AS kept%s WHERE %s)", quote(t.Name),
				strings.Join(set, ", "), quote(kept.Name), byKey, match),
		})
	}
	if !stay {
		out = append(
			out,
			fmt.Sprintf("DELETE kept FROM %s AS kept STRAIGHT_JOIN %s AS here ON %s", quote(kept.Name), quote(t.Name),
				match),
		)
	}
	return out
}

// plainOptions is what stands behind the columns of a table, without what only its own
// rows have: partitions, and a history of them.
func plainOptions(t *sqlschema.Table) string {
	return bareTable(&sqlschema.Table{Options: t.Options}, "").Options.Behind
}
