package draft

// This file drafts for an engine of which no server can be reached. What its migrations
// make cannot be looked at then; it is worked out from what the models declare now and
// from the changes that the draft on another engine's database found: whatever that one
// changes, this one changes too. Nobody has proved such a draft. erbario prove --all does
// it later, and tells where the end is not as the models declare.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/schema"
)

// Unreached is how an engine stands of which no server can be reached. declared is what
// the models declare, and changes lead to it on another engine, from where this one
// stands too.
func Unreached(e engine.Engine, declared *schema.Schema, changes []diff.Change, files []*migration.Migration) (*State, error) {
	before := &schema.Schema{}
	if len(files) > 0 {
		var err error
		if before, err = without(declared, changes); err != nil {
			return nil, err
		}
	}
	if slices.ContainsFunc(declared.Tables, func(t *schema.Table) bool { return t.Rows != nil }) {
		return nil, fmt.Errorf("reference rows have to be looked at")
	}
	s := &State{Engine: e, unreached: true, Standing: runner.Stand(files, nil, e)}
	s.Wanted, _ = e.Realize(declared)
	s.Live, _ = e.Realize(before)
	s.Ahead, s.made = s.Live, s.Live
	return s, nil
}

// planUnreached plans without a database: there are no rows to ask.
func (s *State) planUnreached(id string, r Request) (*plan.Plan, error) {
	in := plan.Input{Engine: s.Engine, ID: id, Live: s.Live, Wanted: s.Wanted, Made: s.made, Answers: r.Answers, NoKeep: r.NoKeep, Lenient: true}
	in.Answers.Rename = nil
	for _, n := range r.Answers.Rename { // what is there has the new names already
		switch {
		case n.Value != "":
		case n.Column == "":
			n.To = s.table(n.To)
		default:
			n.Table = s.table(n.Table)
			n.To = s.column(n.Table, n.To)
			if t := s.Wanted.Table(n.Table); t != nil && t.LiveView != "" {
				return nil, fmt.Errorf("%s has a view, whose columns have to be looked at", t.Name)
			}
		}
		in.Answers.Rename = append(in.Answers.Rename, n)
		if _, ok := plan.EnumRename(s.Engine, s.Wanted, n); ok {
			return nil, fmt.Errorf("a value of an enum type cannot be renamed")
		}
	}
	if s.InUse {
		in.InUse = func(table string) bool {
			return !slices.ContainsFunc(r.Plain, func(n string) bool { return strings.EqualFold(n, table) })
		}
	}
	return plan.Make(in)
}

// without takes changes out of what is declared: what was declared before them.
func without(declared *schema.Schema, changes []diff.Change) (*schema.Schema, error) {
	out := declared.Clone()
	for _, c := range changes {
		t := out.Table(c.Table)
		if v, ok := c.Object.(*schema.View); ok && v.LiveOf != "" && c.Kind != diff.DropView {
			continue // it follows its table
		}
		if k, ok := c.Object.(*schema.Check); ok && (k.Purpose == schema.ForType || k.Purpose == schema.ForSoftDelete) {
			continue // it follows its column
		}
		if c.Kind == diff.AddTable {
			out.Tables = slices.DeleteFunc(out.Tables, func(o *schema.Table) bool { return strings.EqualFold(o.Name, c.Table) })
			continue
		}
		if t == nil {
			return nil, fmt.Errorf("%s cannot be worked out: %s", c.Target(), c.Kind)
		}
		col := t.Column(c.Name)
		switch {
		case c.Kind == diff.AddColumn && col != nil:
			takeColumn(t, col.Name)
		case c.Kind == diff.MakeRequired && col != nil:
			col.NotNull = false
		case c.Kind == diff.MakeOptional && col != nil:
			col.NotNull = true
		case c.Kind == diff.ChangeType && col != nil && c.Before.(*schema.Column).Type.Kind != schema.Native:
			col.Type = c.Before.(*schema.Column).Type
		case c.Kind == diff.DropColumn && c.Object.(*schema.Column).Type.Kind != schema.Native && c.Object.(*schema.Column).Generated == nil:
			o := *c.Object.(*schema.Column)
			o.Default, o.Collation = nil, ""
			t.Columns = append(t.Columns, &o)
		case c.Kind == diff.ChangeDefault && col != nil && c.Before.(*schema.Column).Default == nil:
			col.Value = nil
		case c.Kind == diff.AddIndex || c.Kind == diff.AddUnique:
			x := c.Object.(*schema.Index)
			t.Indexes = slices.DeleteFunc(t.Indexes, func(o *schema.Index) bool { return strings.EqualFold(o.Name, x.Name) })
		case (c.Kind == diff.ChangeUnique || c.Kind == diff.ChangeIndex) && schema.SameIndex(c.Object.(*schema.Index), c.Before.(*schema.Index)): // its name follows a column's
			for _, x := range t.Indexes {
				if x.Name == c.Object.(*schema.Index).Name {
					x.Name = c.Before.(*schema.Index).Name
				}
			}
		case c.Kind == diff.AddReference:
			k := c.Object.(*schema.ForeignKey)
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, func(o *schema.ForeignKey) bool { return slices.Equal(o.Columns, k.Columns) })
		case c.Kind == diff.AddCheck:
			if !takeCheck(t, c.Object.(*schema.Check)) {
				return nil, fmt.Errorf("%s cannot be worked out: %s", c.Target(), c.What)
			}
		case c.Kind == diff.AddTrigger && t.Column(c.Object.(*schema.Trigger).Column) == nil: // of a column that came with it
		case c.Kind == diff.AddTrigger && col != nil:
			col.Immutable = col.Immutable && c.Object.(*schema.Trigger).Purpose != schema.ForImmutable
			col.Stamped = col.Stamped && c.Object.(*schema.Trigger).Purpose != schema.ForStamped
		case c.Kind == diff.AddComment && col != nil:
			col.Comment = ""
		case c.Kind == diff.AddComment && c.Name == "":
			t.Comment = ""
		default:
			return nil, fmt.Errorf("%s cannot be worked out: %s", c.Target(), c.What)
		}
	}
	return out, nil
}

// takeColumn takes a column out of a declared table, with what stands on it.
func takeColumn(t *schema.Table, name string) {
	t.Columns = slices.DeleteFunc(t.Columns, func(o *schema.Column) bool { return o.Name == name })
	on := func(parts []schema.Part) bool { return slices.Contains(schema.Names(parts), name) }
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *schema.Index) bool { return on(x.Parts) })
	t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, name) })
	if t.SoftDelete == name {
		t.SoftDelete, t.LiveView, t.Children = "", "", false
	}
}

// takeCheck takes a check out of a declared table, where its field or a line of the
// model says it.
func takeCheck(t *schema.Table, k *schema.Check) bool {
	c := t.Column(k.Column)
	switch {
	case k.Purpose == schema.ForNonblank && c != nil:
		c.Nonblank = false
	case k.Purpose == schema.ForRange && c != nil:
		c.Range = nil
	case k.Purpose == "" || k.Purpose == schema.ForCheck:
		n := len(t.Checks)
		t.Checks = slices.DeleteFunc(t.Checks, func(o *schema.Check) bool { return o.Name == k.Name && k.Name != "" })
		return len(t.Checks) < n || c == nil && k.Column != ""
	default:
		return c == nil // of a column that came with it
	}
	return true
}
