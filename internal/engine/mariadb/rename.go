package mariadb

// This file gives tables and columns other names, and what refers to them with them.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Rename gives the steps that rename a table, or a column of one, with the triggers and
// the view of live rows that name it, and the schema after it. While a column has its
// new name and a trigger the old one, nobody gets at the table.
func (Engine) Rename(s *sqlschema.Schema, table, column, to string) ([]engine.Step, *sqlschema.Schema) {
	var t *sqlschema.Table
	var view *sqlschema.View
	if s != nil {
		s = s.Clone()
		if t = s.Table(table); t != nil {
			for _, v := range s.Views {
				if v.LiveOf != "" && strings.EqualFold(v.LiveOf, t.Name) {
					view = v
				}
			}
		}
	}
	title := fmt.Sprintf("rename %s to %s", table, to)
	apply, undo := []string{
		"RENAME TABLE " + quote(table) + " TO " + quote(to),
	}, []string{
		"RENAME TABLE " + quote(to) + " TO " + quote(table),
	}
	if column != "" {
		title = fmt.Sprintf("rename %s.%s to %s", table, column, to)
		sql := func(a, b string) string {
			return "ALTER TABLE " + quote(table) + " RENAME COLUMN " + quote(a) + " TO " + quote(b)
		}
		apply, undo = []string{sql(column, to)}, []string{sql(to, column)}
	}
	if t == nil {
		return []engine.Step{{Title: title, Work: engine.Keeps, Apply: apply, Undo: undo}}, s
	}
	old := t.Clone()
	if column == "" {
		t.Name = to
		for _, g := range t.Triggers {
			g.SQL = sqlOf(onTable(g.SQL.Text, to))
		}
		for _, o := range s.Tables {
			for _, k := range o.ForeignKeys {
				if strings.EqualFold(k.Table, table) {
					k.Table = to
				}
			}
		}
	} else {
		again, back := renameColumnWithTriggers(t, old, column, to)
		if len(again) > 0 {
			apply, undo = underLock(table, "", append(apply, again...)...),
				underLock(table, "", append(undo, back...)...)
		}
	}
	out := []engine.Step{{Title: title, Work: engine.Keeps, Apply: apply, Undo: undo}}
	if view == nil {
		return out, s
	}
	first, last := viewAgain(view, t, column, to)
	return slices.Concat([]engine.Step{first}, out, []engine.Step{last}), s
}

// renameColumnWithTriggers gives a column of a table another name, and the statements that
// make its triggers again, and back; old is the table as it was.
func renameColumnWithTriggers(t, old *sqlschema.Table, column, to string) (again, back []string) {
	renameColumn(t, column, to)
	for i, g := range old.Triggers {
		n := t.Triggers[i]
		text := renameIn(g.SQL.Text, map[string]string{column: to})
		if text == g.SQL.Text || g.Purpose == schema.ForBridge { // that goes before
			continue
		}
		if g.Purpose.OfTrigger() && strings.EqualFold(g.Column, column) {
			n.Column = to
			n.Name = triggerName(t, t.Column(to), g.Purpose)
			text = strings.Replace(text, "CREATE TRIGGER "+quote(g.Name), "CREATE TRIGGER "+quote(n.Name), 1)
			switch g.Purpose {
			case schema.ForImmutable:
				text = immutableTrigger(t, t.Column(to)).SQL.Text
			case schema.ForStamped:
				text = stampTrigger(t, t.Column(to)).SQL.Text
			}
		}
		n.SQL = sqlOf(text)
		there, was := inPlace(old.Triggers[i:], text, nil), inPlace(t.Triggers[i:], g.SQL.Text, nil)
		if n.Name == g.Name {
			again = append(again, "DROP TRIGGER "+quote(g.Name), there)
			back = append(back, "DROP TRIGGER "+quote(g.Name), was)
		} else { // the new one is there before the old one goes
			again = append(again, there, "DROP TRIGGER "+quote(g.Name))
			back = append(back, was, "DROP TRIGGER "+quote(n.Name))
		}
	}
	return again, back
}

// viewAgain gives the steps that drop the view of live rows before a rename, and create it
// again behind it.
func viewAgain(view *sqlschema.View, t *sqlschema.Table, column, to string) (first, last engine.Step) {
	shown := t.Clone()
	if strings.EqualFold(shown.SoftDelete, column) {
		shown.SoftDelete = to
	}
	was, drop := view.SQL.Text, "DROP VIEW "+quote(view.Name)
	view.LiveOf = t.Name
	view.SQL = sqlschema.SQL{Text: liveView(view.Name, shown), Canon: viewKey}
	first = engine.Step{Title: "drop view " + view.Name, Apply: []string{drop}, Undo: []string{was}}
	last = engine.Step{Title: "create view " + view.Name, Apply: []string{view.SQL.Text}, Undo: []string{drop}}
	return first, last
}

// inPlace is the text of a trigger by which it comes where it was among those of its
// table: list begins with it, and others are those of which one has to be there.
func inPlace(list []*sqlschema.Trigger, text string, others []*sqlschema.Trigger) string {
	for _, o := range list[min(1, len(list)):] {
		if o.Purpose == schema.ForBridge || triggerEvent(o.SQL.Text) != triggerEvent(text) ||
			others != nil && !slices.ContainsFunc(others, func(x *sqlschema.Trigger) bool { return x.Name == o.Name }) {
			continue
		}
		for i, ts := 0, tokens(text); i+2 < len(ts); i++ {
			if ts[i].Is("FOR") && ts[i+1].Is("EACH") && ts[i+2].Is("ROW") {
				return text[:ts[i+2].End] + " PRECEDES " + quote(o.Name) + text[ts[i+2].End:]
			}
		}
	}
	return text
}

// triggerEvent is when a trigger runs.
func triggerEvent(text string) string {
	list := tokens(text)
	if len(list) < 5 {
		return ""
	}
	return strings.ToUpper(list[3].Text + " " + list[4].Text)
}

// onTable is the text of a trigger for a table of another name.
func onTable(text, table string) string {
	list := tokens(text)
	for i, t := range list {
		if t.Is("ON") && i+1 < len(list) && list[i+1].Named() {
			return text[:list[i+1].Start] + quote(table) + text[list[i+1].End:]
		}
	}
	return text
}

// renameColumn gives a column of a table another name, wherever it stands.
func renameColumn(t *sqlschema.Table, column, to string) {
	c := t.Column(column)
	if c == nil {
		return
	}
	column = c.Name
	names := map[string]string{column: to}
	c.Name = to
	sql := func(s *sqlschema.SQL) { *s = sqlOf(renameIn(s.Text, names)) }
	for _, o := range t.Columns {
		if o.Generated != nil {
			g := *o.Generated
			sql(&g.SQL)
			o.Generated = &g
		}
	}
	for _, k := range t.Checks {
		sql(&k.SQL)
		if k.Column == column {
			k.Column = to
		}
	}
	part := func(list []sqlschema.Part) []sqlschema.Part {
		list = slices.Clone(list)
		for i := range list {
			if list[i].Column == column {
				list[i].Column = to
			}
		}
		return list
	}
	for _, x := range t.Indexes {
		x.Parts = part(x.Parts)
	}
	if t.PrimaryKey != nil {
		t.PrimaryKey.Columns = part(t.PrimaryKey.Columns)
	}
	for _, k := range t.ForeignKeys {
		k.Columns = slices.Clone(k.Columns)
		for i := range k.Columns {
			if k.Columns[i] == column {
				k.Columns[i] = to
			}
		}
	}
	if t.SoftDelete == column {
		t.SoftDelete = to
	}
}

// newName is the name that a column has while it is to replace another.
func newName(column string) string { return schema.Cut("erbario_new_" + column) }
