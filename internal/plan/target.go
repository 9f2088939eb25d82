package plan

// This file is the table that changes lead to.

import (
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/sqlschema"
)

// target is the live table with the changes made, and nothing else: what no
// migration made stays.
func target(live *sqlschema.Table, changes []diff.Change) *sqlschema.Table {
	t := live.Clone()
	for _, c := range changes {
		t.Text = ""
		switch c.Kind {
		case diff.AddColumn:
			t.Columns = append(t.Columns, c.Object.(*sqlschema.Column))
		case diff.DropColumn:
			t.Columns = slices.DeleteFunc(t.Columns,
				func(o *sqlschema.Column) bool { return strings.EqualFold(o.Name, c.Name) })
			// What was declared with the column alone goes with it.
			t.Checks = slices.DeleteFunc(t.Checks,
				func(k *sqlschema.Check) bool { return strings.EqualFold(k.Column, c.Name) && c.Name != "" })
		case diff.ChangeType, diff.MakeRequired, diff.MakeOptional, diff.ChangeDefault, diff.ChangeColumn:
			for i, o := range t.Columns {
				if strings.EqualFold(o.Name, c.Name) {
					t.Columns[i] = c.Object.(*sqlschema.Column)
				}
			}
		case diff.ChangeKey:
			t.PrimaryKey, _ = c.Object.(*sqlschema.PrimaryKey)
		case diff.AddUnique, diff.AddIndex:
			t.Indexes = append(t.Indexes, c.Object.(*sqlschema.Index))
		case diff.DropUnique, diff.DropIndex:
			t.Indexes = slices.DeleteFunc(t.Indexes,
				func(o *sqlschema.Index) bool { return equalIndex(o, c.Object.(*sqlschema.Index)) })
		case diff.ChangeUnique, diff.ChangeIndex:
			for i, o := range t.Indexes {
				if equalIndex(o, c.Before.(*sqlschema.Index)) {
					t.Indexes[i] = c.Object.(*sqlschema.Index)
				}
			}
		case diff.AddReference:
			t.ForeignKeys = append(t.ForeignKeys, c.Object.(*sqlschema.ForeignKey))
		case diff.DropReference, diff.ChangeRef:
			gone := c.Object.(*sqlschema.ForeignKey)
			if c.Kind == diff.ChangeRef {
				gone = c.Before.(*sqlschema.ForeignKey)
			}
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
				func(o *sqlschema.ForeignKey) bool {
					return slices.Equal(o.Columns, gone.Columns) && o.Table == gone.Table
				})
			if c.Kind == diff.ChangeRef {
				t.ForeignKeys = append(t.ForeignKeys, c.Object.(*sqlschema.ForeignKey))
			}
		case diff.AddCheck:
			t.Checks = append(t.Checks, c.Object.(*sqlschema.Check))
		case diff.DropCheck:
			gone := c.Object.(*sqlschema.Check)
			t.Checks = slices.DeleteFunc(t.Checks,
				func(o *sqlschema.Check) bool { return o.Name == gone.Name && o.SQL.Same(gone.SQL) })
		case diff.ChangeCheck:
			old := c.Before.(*sqlschema.Check)
			if i := slices.IndexFunc(t.Checks,
				func(o *sqlschema.Check) bool { return o.Name == old.Name && o.SQL.Same(old.SQL) }); i >= 0 {
				t.Checks[i] = c.Object.(*sqlschema.Check)
			} else { // it went with the column whose name its own has now
				t.Checks = append(t.Checks, c.Object.(*sqlschema.Check))
			}
		case diff.AddTrigger:
			t.Triggers = append(t.Triggers, c.Object.(*sqlschema.Trigger))
		case diff.DropTrigger, diff.ChangeTrigger:
			t.Triggers = slices.DeleteFunc(t.Triggers,
				func(o *sqlschema.Trigger) bool { return strings.EqualFold(o.Name, c.Name) })
			if c.Kind == diff.ChangeTrigger {
				t.Triggers = append(t.Triggers, c.Object.(*sqlschema.Trigger))
			}
		case diff.ChangeOptions:
			t.Options = c.Object.(sqlschema.Options)
		case diff.AddComment, diff.ChangeComment, diff.DropComment:
			if o := t.Column(c.Name); c.Name != "" && o != nil {
				o.Comment = c.To
			} else if c.Name == "" {
				t.Comment = c.To
			}
		}
	}
	return t
}

func equalIndex(a, b *sqlschema.Index) bool {
	if a.Name != "" || b.Name != "" {
		return strings.EqualFold(a.Name, b.Name)
	}
	return slices.Equal(sqlschema.Names(a.Parts), sqlschema.Names(b.Parts)) && a.Unique == b.Unique
}

// reorder puts the columns of t in the declared order, and behind them those
// that no model declares.
func reorder(t, wanted *sqlschema.Table) {
	place := func(c *sqlschema.Column) int {
		i := slices.IndexFunc(wanted.Columns,
			func(w *sqlschema.Column) bool { return strings.EqualFold(w.Name, c.Name) })
		if i < 0 {
			return len(wanted.Columns)
		}
		return i
	}
	slices.SortStableFunc(t.Columns, func(a, b *sqlschema.Column) int { return place(a) - place(b) })
}

// Drifted is a table that migrations make, with changes that were made outside of them and led
// to a live table.
func Drifted(made, live *sqlschema.Table, changes []diff.Change) *sqlschema.Table {
	t := target(made, changes)
	inOrder(t, live)
	return t
}

// inOrder puts the columns of t in the declared order, and each that no model declares
// behind the one behind which it was.
func inOrder(t, wanted *sqlschema.Table) {
	var out []*sqlschema.Column
	behind := map[string]string{}
	last := ""
	for _, c := range t.Columns {
		if wanted.Column(c.Name) == nil {
			behind[c.Name] = last
		}
		last = c.Name
	}
	for _, w := range wanted.Columns {
		if c := t.Column(w.Name); c != nil {
			out = append(out, c)
		}
	}
	for _, c := range t.Columns {
		after, undeclared := behind[c.Name]
		if !undeclared {
			continue
		}
		at := slices.IndexFunc(out, func(o *sqlschema.Column) bool { return o.Name == after }) + 1
		out = slices.Insert(out, at, c)
	}
	t.Columns = out
}
