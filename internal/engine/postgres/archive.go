package postgres

// This file puts values aside before they go, and back. A table that goes is set aside as
// it is. Values of columns are copied into a kept table, with the row's key and the time
// of its creation, by which a value finds its row again. Those of enum types and others
// of the database are kept as texts, so that their type can go. Columns that stay in a
// table in use: see inuse.go.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/ddl"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Drop gives the step that drops a table and keeps its rows.
func (Engine) Drop(d engine.TableDrop) engine.Change {
	t := d.Table
	if d.Keep == "" || t.Options.Foreign {
		return engine.Change{Steps: []engine.Step{{
			Title: "drop " + t.Name, Loses: []engine.Loss{{Table: t.Name}},
			Apply: []string{"DROP TABLE " + quoteTable(t.Name)}, Undo: tableStatements(t),
		}}}
	}
	return engine.Change{Steps: []engine.Step{keepWhole(t, d.Keep)}}
}

// keepWhole is the step that sets a table aside as it is, with its rows.
func keepWhole(t *sqlschema.Table, keep string) engine.Step {
	s := engine.Step{Title: "drop " + t.Name, Loses: []engine.Loss{{Table: t.Name}}, Kept: true,
		Note: "keeps its rows in " + keep}
	s.Apply, s.Undo = setAside(t, keep)
	apply, undo := asTexts(t, keep)
	s.Apply, s.Undo = append(s.Apply, apply...), append(undo, s.Undo...)
	for _, g := range t.Triggers {
		if ofEnum(t, g.SQL.Text) {
			create, drop := Engine{}.Trigger(t, g)
			s.Apply, s.Undo = append(drop, s.Apply...), append(s.Undo, create...)
		}
	}
	return s
}

// ofEnum tells whether SQL names a column whose type can go.
func ofEnum(t *sqlschema.Table, sql string) bool {
	return slices.ContainsFunc(t.Columns,
		func(c *sqlschema.Column) bool { return passing(c) && mentions(sql, c.Name) })
}

// asTexts gives the statements that make the values of such types in a table which was set
// aside texts, so that their types can go, and those that turn them back.
func asTexts(t *sqlschema.Table, keep string) (apply, undo []string) {
	from := t.Clone()
	from.Name, from.Text, from.ForeignKeys, from.Triggers = keep, "", nil, nil
	aside := func(name string) string { return schema.Cut(keep + "_" + name) }
	if from.PrimaryKey != nil && from.PrimaryKey.Name != "" {
		from.PrimaryKey.Name = aside(from.PrimaryKey.Name)
	}
	for _, x := range from.Indexes {
		x.Name = aside(x.Name)
	}
	to := from.Clone()
	a := engine.Between(from, to)
	for i, c := range to.Columns {
		if !passing(c) {
			continue
		}
		old := from.Columns[i]
		c.Type, c.SQLType, c.Values, c.Default = schema.Type{Kind: schema.Text}, "text", nil, nil
		c.OwnType = false
		a.Forward[c.Name] = engine.Source{SQL: quote(c.Name) + "::text", Converts: true}
		a.Back[c.Name] = engine.Source{SQL: quote(c.Name) + "::text::" + old.SQLType, Converts: true}
	}
	if len(a.Forward) == 0 {
		return nil, nil
	}
	to.Checks = slices.DeleteFunc(to.Checks, func(k *sqlschema.Check) bool { return ofEnum(t, k.SQL.Text) })
	to.Indexes = slices.DeleteFunc(to.Indexes, func(x *sqlschema.Index) bool {
		return x.Where != nil && ofEnum(t, x.Where.Text) ||
			slices.ContainsFunc(x.Parts, func(p sqlschema.Part) bool { return p.Expr != nil && ofEnum(t, p.Expr.Text) })
	})
	for _, step := range (Engine{}).Alter(a).Steps {
		apply, undo = append(apply, step.Apply...), append(slices.Clone(step.Undo), undo...)
	}
	return apply, undo
}

// setAside gives the statements that take a table out of the way as it is, with its rows,
// and those that bring it back: it has another name, and so have its indexes, whose own
// are free then. It refers to nothing meanwhile.
func setAside(t *sqlschema.Table, keep string) (apply, undo []string) {
	for _, k := range t.ForeignKeys {
		apply = append(apply, Engine{}.DropReference(t, k)...)
		undo = append(undo, Engine{}.AddReference(t, k)...)
	}
	var names []string
	if t.PrimaryKey != nil && t.PrimaryKey.Name != "" {
		names = append(names, t.PrimaryKey.Name)
	}
	for _, x := range t.Indexes {
		names = append(names, x.Name)
	}
	back := renameTable(keep, t.Name)
	for _, n := range names {
		aside := schema.Cut(keep + "_" + n)
		apply = append(apply, "ALTER INDEX "+quoteBeside(t.Name, n)+" RENAME TO "+quote(aside))
		back = append(back, "ALTER INDEX "+quoteBeside(t.Name, aside)+" RENAME TO "+quote(n))
	}
	return append(apply, renameTable(t.Name, keep)...), append(back, undo...)
}

// takenAlong asks for references by hand that would not let rows go by themselves.
func takenAlong(r engine.RowDeletion) engine.Requirement {
	known := ""
	if len(r.Known) > 0 {
		var list []string
		for _, t := range r.Known {
			list = append(list, "to_regclass("+literal(quoteTable(t))+")")
		}
		known = " AND conrelid <> ALL (array_remove(ARRAY[" + strings.Join(list, ", ") + "]::oid[], NULL))"
	}
	return engine.Requirement{
		Sentence: fmt.Sprintf(
			"{n} references not created by a migration would delete or unlink rows with the %s: declare or drop them first",
			r.What,
		),
		Query: fmt.Sprintf(
			"SELECT conrelid::regclass::text AS of_table, conname, pg_get_constraintdef(oid) AS is FROM pg_constraint WHERE contype = 'f' AND confrelid = to_regclass(%s)::oid AND confdeltype IN ('c', 'n', 'd')%s",
			literal(quoteTable(r.Table.Name)), known),
	}
}

// DeleteRows gives the step that takes rows out of a table; they come back as they were.
func (Engine) DeleteRows(r engine.RowDeletion) engine.Step {
	t := r.Table
	s := engine.Step{
		Title: "delete the " + r.What + " permanently",
		Here:  []engine.Requirement{takenAlong(r)},
	}
	gone := fmt.Sprintf("DELETE FROM %s WHERE %s", quoteTable(t.Name), r.Where)
	if r.Keep == "" {
		s.Apply = unguarded(t, gone)
		return s
	}
	s.Title, s.Kept, s.Note = "set the "+r.What+" aside", true, "keeps them in "+r.Keep
	bare := bareTable(t, r.Keep)
	for _, c := range bare.Columns {
		c.Identity = false
	}
	s.Apply = append(
		[]string{createTable(bare, r.Keep), copyRows(t, bare, t.Name, r.Keep, r.Where)},
		unguarded(t, gone)...)
	s.Undo = []string{copyRows(bare, t, r.Keep, t.Name, ""), "DROP TABLE " + quoteTable(r.Keep)}
	return s
}

// DeleteTogether deletes rows of several tables in one statement: references are
// looked at when all of them are gone.
func (Engine) DeleteTogether(tables, where []string) []string {
	if len(tables) == 0 {
		return nil
	}
	var parts []string
	for i, t := range tables {
		parts = append(parts, fmt.Sprintf("gone%d AS (DELETE FROM %s WHERE %s)", i, quoteTable(t), where[i]))
	}
	return []string{"WITH " + strings.Join(parts, ", ") + " SELECT 1"}
}

// passing tells whether the type of a column can go, or lose values, while values of it are kept.
func passing(c *sqlschema.Column) bool { return c.Values != nil || c.OwnType }

// keptType is the type in which a column's values are kept. Those of a type that can go are
// kept as texts.
func keptType(c *sqlschema.Column) string {
	if passing(c) {
		return "text"
	}
	return c.SQLType
}

// toKept and fromKept turn a value of a column into one that is kept, and back.
func toKept(c *sqlschema.Column, sql string) string {
	if passing(c) {
		return sql + "::text"
	}
	return sql
}

func fromKept(c *sqlschema.Column, sql string) string {
	if c != nil && passing(c) {
		return sql + "::text::" + c.SQLType
	}
	return sql
}

// bareTable is the table without anything that could refuse or touch a row: its
// columns' names and types, and its key.
func bareTable(t *sqlschema.Table, name string) *sqlschema.Table {
	b := t.Clone()
	b.Name, b.ForeignKeys, b.Checks, b.Indexes, b.Triggers, b.Others, b.Options = name, nil, nil, nil, nil, nil,
		sqlschema.Options{}
	b.Comment = ""
	b.Columns = slices.DeleteFunc(b.Columns, func(c *sqlschema.Column) bool { return c.Generated != nil })
	for _, c := range b.Columns {
		c.SQLType, c.Values, c.OwnType = keptType(c), nil, false
		c.Default, c.NotNull, c.Comment, c.IdentityAlways = nil, false, "", false
		c.Identity, c.Serial, c.Start = c.Identity || c.Serial != "", "", 0
	}
	if b.PrimaryKey != nil {
		b.PrimaryKey.Name, b.PrimaryKey.Options = "", ""
	}
	return b
}

// copyRows fills a table from another; where chooses rows, empty for all.
func copyRows(from, to *sqlschema.Table, fromName, toName, where string) string {
	var columns, values []string
	given := ""
	for _, c := range to.Columns {
		if o := from.Column(c.Name); o == nil || c.Generated != nil || o.Generated != nil {
			continue
		}
		if c.IdentityAlways {
			given = " OVERRIDING SYSTEM VALUE"
		}
		columns = append(columns, quote(c.Name))
		switch o := from.Column(c.Name); {
		case passing(o) && passing(c):
			values = append(values, quote(c.Name))
		case passing(o):
			values = append(values, toKept(o, quote(c.Name)))
		default:
			values = append(values, fromKept(c, quote(c.Name)))
		}
	}
	s := ""
	if len(columns) == 0 { // nothing of the old rows goes on but that they are there
		s = fmt.Sprintf("INSERT INTO %s SELECT FROM %s", quoteTable(toName), quoteTable(fromName))
	} else {
		list := strings.Join(columns, ", ")
		s = fmt.Sprintf("INSERT INTO %s (%s)%s\nSELECT %s FROM %s", quoteTable(toName), list, given,
			strings.Join(values, ", "), quoteTable(fromName))
	}
	if where != "" {
		s += " WHERE " + where
	}
	return s
}

// sequences lets the numbers of a table go on in another from where they were.
func sequences(t *sqlschema.Table, from, to string) []string {
	var out []string
	for _, c := range t.Columns {
		if c.Identity || c.Serial != "" {
			out = append(
				out,
				fmt.Sprintf(
					"SELECT pg_catalog.setval(pg_catalog.pg_get_serial_sequence(%s, %s), pg_catalog.pg_sequence_last_value(pg_catalog.pg_get_serial_sequence(%s, %s)::regclass))",
					literal(quoteTable(to)), literal(c.Name), literal(quoteTable(from)), literal(c.Name)),
			)
		}
	}
	return out
}

// keptMatch is the condition that a kept row belongs to a row of a table.
func keptMatch(t *sqlschema.Table, keys []string, kept, row string) string {
	var terms []string
	for i, k := range keys {
		same := "="
		if k == "created_at" && i == len(keys)-1 && i > 0 { // it need not be there
			same = "IS NOT DISTINCT FROM"
		}
		c := t.Column(k)
		terms = append(terms, compared(c, kept+"."+quote("key_"+k))+" "+same+" "+compared(c, row+"."+quote(k)))
	}
	return strings.Join(terms, " AND ")
}

// keepValues keeps values, and finds them by their keys.
func keepValues(a engine.Alteration, lost, filled []string) []string {
	out, keys := keeping.Values(a, lost, filled)
	if len(keys) > 0 {
		out = append(out, fmt.Sprintf("CREATE INDEX ON %s (%s)", quoteTable(a.Keep), strings.Join(keys, ", ")))
	}
	return out
}

var keeping = ddl.Keeping{
	Quote: quote, QuoteTable: quoteTable, Value: toKept,
	Column: func(name string, c *sqlschema.Column) string {
		return columnDefinition(&sqlschema.Column{Name: name, SQLType: keptType(c), Collation: c.Collation})
	},
}

// Archive puts values of a table aside before it, or columns of it, go.
func (Engine) Archive(t *sqlschema.Table, columns []string, kept string) (makes, fills []string) {
	if len(columns) > 0 {
		list := keepValues(engine.Alteration{From: t, To: t, Lost: columns, Keep: kept}, columns, nil)
		return list[:1], list[1:]
	}
	bare := bareTable(t, kept)
	rows := copyRows(t, bare, t.Name, kept, "")
	if from := " FROM " + quoteTable(t.Name); !t.Partitioned() { // what inherits from it has rows of its own
		rows = strings.TrimSuffix(rows, from) + " FROM ONLY " + quoteTable(t.Name)
	}
	return []string{createTable(bare, kept)}, append([]string{rows}, sequences(t, t.Name, kept)...)
}

// Restore brings kept values back. A whole table's rows go in as they were; values
// of columns go into the rows that they came from, and nothing else changes.
func (Engine) Restore(t, kept *sqlschema.Table, stay bool) []string {
	var columns, keys, list []string
	for _, c := range kept.Columns {
		if key, ok := strings.CutPrefix(c.Name, "key_"); ok && t.Column(c.Name) == nil {
			if key == "created_at" && t.Column(key) == nil {
				continue // it was there between two steps alone
			}
			keys = append(keys, key)
			list = append(list, quote(c.Name))
		} else if o := t.Column(c.Name); o != nil && o.Generated == nil {
			columns = append(columns, c.Name)
		}
	}
	if len(keys) == 0 {
		out := []string{copyRows(kept, t, kept.Name, t.Name, "")}
		for _, c := range t.Columns {
			if o := kept.Column(c.Name); (c.Identity || c.Serial != "") && o != nil && o.Identity {
				out = append(out, sequences(&sqlschema.Table{Columns: []*sqlschema.Column{c}}, kept.Name, t.Name)...)
			}
		}
		if !stay {
			out = append(out, "DROP TABLE "+quoteTable(kept.Name))
		}
		return out
	}
	match := keptMatch(t, keys, "kept", "here")
	var out, set []string
	for _, c := range columns {
		value := fromKept(t.Column(c), "kept."+quote(c))
		if t.Column(c).NotNull { // it had none where it was undone before it was filled
			value = "coalesce(" + value + ", here." + quote(c) + ")"
		}
		set = append(set, quote(c)+" = "+value)
	}
	if len(set) > 0 {
		by := strings.Join(list, ", ")
		out = quiet([]string{
			fmt.Sprintf(
				"UPDATE %s AS here SET %s FROM (SELECT DISTINCT ON (%s) * FROM %s ORDER BY %s, ctid DESC) AS kept WHERE %s",
				quoteTable(t.Name), strings.Join(set, ", "), by, quoteTable(kept.Name), by, match),
		})
	}
	if !stay {
		out = append(out,
			fmt.Sprintf("DELETE FROM %s AS kept USING %s AS here WHERE %s", quoteTable(kept.Name),
				quoteTable(t.Name), match))
	}
	return out
}
