package plan

// This file is the table that changes lead to.

import (
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/schema"
)

// target is the live table with the changes made, and nothing else: what no
// migration made stays.
func target(live *schema.Table, changes []diff.Change) *schema.Table {
	t := live.Clone()
	t.Text = ""
	for _, c := range changes {
		switch c.Kind {
		case diff.AddColumn:
			t.Columns = append(t.Columns, c.Object.(*schema.Column))
		case diff.DropColumn:
			t.Columns = slices.DeleteFunc(t.Columns,
				func(o *schema.Column) bool { return strings.EqualFold(o.Name, c.Name) })
			// What was declared with the column alone goes with it.
			t.Checks = slices.DeleteFunc(t.Checks,
				func(k *schema.Check) bool { return strings.EqualFold(k.Column, c.Name) && c.Name != "" })
		case diff.ChangeType, diff.MakeRequired, diff.MakeOptional, diff.ChangeDefault, diff.ChangeColumn:
			for i, o := range t.Columns {
				if strings.EqualFold(o.Name, c.Name) {
					t.Columns[i] = c.Object.(*schema.Column)
				}
			}
		case diff.ChangeKey:
			t.PrimaryKey, _ = c.Object.(*schema.PrimaryKey)
		case diff.AddUnique, diff.AddIndex:
			t.Indexes = append(t.Indexes, c.Object.(*schema.Index))
		case diff.DropUnique, diff.DropIndex:
			t.Indexes = slices.DeleteFunc(t.Indexes,
				func(o *schema.Index) bool { return equalIndex(o, c.Object.(*schema.Index)) })
		case diff.ChangeUnique, diff.ChangeIndex:
			for i, o := range t.Indexes {
				if equalIndex(o, c.Before.(*schema.Index)) {
					t.Indexes[i] = c.Object.(*schema.Index)
				}
			}
		case diff.AddReference:
			t.ForeignKeys = append(t.ForeignKeys, c.Object.(*schema.ForeignKey))
		case diff.DropReference, diff.ChangeRef:
			gone := c.Object.(*schema.ForeignKey)
			if c.Kind == diff.ChangeRef {
				gone = c.Before.(*schema.ForeignKey)
			}
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
				func(o *schema.ForeignKey) bool { return slices.Equal(o.Columns, gone.Columns) && o.Table == gone.Table })
			if c.Kind == diff.ChangeRef {
				t.ForeignKeys = append(t.ForeignKeys, c.Object.(*schema.ForeignKey))
			}
		case diff.AddCheck:
			t.Checks = append(t.Checks, c.Object.(*schema.Check))
		case diff.DropCheck:
			gone := c.Object.(*schema.Check)
			t.Checks = slices.DeleteFunc(t.Checks,
				func(o *schema.Check) bool { return o.Name == gone.Name && o.SQL.Same(gone.SQL) })
		case diff.ChangeCheck:
			old := c.Before.(*schema.Check)
			if i := slices.IndexFunc(t.Checks, func(o *schema.Check) bool { return o.Name == old.Name && o.SQL.Same(old.SQL) }); i >= 0 {
				t.Checks[i] = c.Object.(*schema.Check)
			} else { // it went with the column whose name its own has now
				t.Checks = append(t.Checks, c.Object.(*schema.Check))
			}
		case diff.AddTrigger:
			t.Triggers = append(t.Triggers, c.Object.(*schema.Trigger))
		case diff.DropTrigger, diff.ChangeTrigger:
			t.Triggers = slices.DeleteFunc(t.Triggers,
				func(o *schema.Trigger) bool { return strings.EqualFold(o.Name, c.Name) })
			if c.Kind == diff.ChangeTrigger {
				t.Triggers = append(t.Triggers, c.Object.(*schema.Trigger))
			}
		case diff.ChangeOptions:
			t.Options = schema.Options{}
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

func equalIndex(a, b *schema.Index) bool {
	if a.Name != "" || b.Name != "" {
		return strings.EqualFold(a.Name, b.Name)
	}
	return slices.Equal(schema.Names(a.Parts), schema.Names(b.Parts)) && a.Unique == b.Unique
}

// reorder puts the columns of t in the declared order, and behind them those
// that no model declares.
func reorder(t, wanted *schema.Table) {
	place := func(c *schema.Column) int {
		i := slices.IndexFunc(wanted.Columns, func(w *schema.Column) bool { return strings.EqualFold(w.Name, c.Name) })
		if i < 0 {
			return len(wanted.Columns)
		}
		return i
	}
	slices.SortStableFunc(t.Columns, func(a, b *schema.Column) int { return place(a) - place(b) })
}

// inOrder puts the columns of t in the declared order, and each that no model declares
// behind the one behind which it was.
func inOrder(t, wanted *schema.Table) {
	var out []*schema.Column
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
		at := slices.IndexFunc(out, func(o *schema.Column) bool { return o.Name == after }) + 1
		out = slices.Insert(out, at, c)
	}
	t.Columns = out
}
