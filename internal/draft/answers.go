package draft

// This file reads the names in answers: people write models and fields, or
// tables and columns, and mean the same.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/plan"
)

// table is the name of a table that was named so, or by its model.
func (s *State) table(name string) string {
	for _, t := range s.Wanted.Tables {
		if t.Model == name {
			return t.Name
		}
	}
	if t := s.Wanted.Table(name); t != nil {
		return t.Name
	}
	return name
}

// column is the name of a column that was named so, or by its field.
func (s *State) column(table, name string) string {
	if t := s.Wanted.Table(table); t != nil {
		for _, c := range t.Columns {
			if c.Field == name || strings.EqualFold(c.Name, name) {
				return c.Name
			}
		}
	}
	return name
}

// said leaves out, of answers as they were given, those that answered nothing.
func (s *State) said(list, unused []string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(flag string) bool {
		return slices.Contains(unused, flag) || slices.Contains(unused, s.flagKey(flag))
	})
}

// flagKey is a flag without its value, with the names of tables and columns.
func (s *State) flagKey(flag string) string {
	kind, rest, _ := strings.Cut(flag, " ")
	key, _, _ := strings.Cut(strings.Trim(rest, "'"), "=")
	table, column, dotted := strings.Cut(key, ".")
	key = s.table(table)
	if dotted {
		key += "." + s.column(key, column)
	}
	return kind + " " + key
}

// names turns the names in answers into those of tables and columns, and checks
// the renames. With carried, a rename that no longer is one is left out.
func (s *State) names(a plan.Answers, carried bool) (plan.Answers, error) {
	out := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{}, Deleted: map[string]plan.Fate{}}
	for key, f := range a.Fill {
		t, c, ok := strings.Cut(key, ".")
		if !ok {
			return a, fmt.Errorf("--fill %s: write TABLE.COLUMN=VALUE", key)
		}
		t = s.table(t)
		out.Fill[t+"."+s.column(t, c)] = f
	}
	for key, f := range a.Deleted {
		out.Deleted[s.table(key)] = f
	}
	for key := range a.Drop {
		t, c, ok := strings.Cut(key, ".")
		if s.Ahead.Table(t) == nil {
			t = s.table(t)
		}
		if ok {
			t += "." + c
		}
		out.Drop[t] = true
	}
	for _, r := range a.Rename {
		r, err := s.rename(r, a.Rename)
		if err != nil && carried {
			continue
		}
		if err != nil {
			return a, err
		}
		out.Rename = append(out.Rename, r)
	}
	// Columns before tables: a column is renamed under its table's old name.
	slices.SortStableFunc(out.Rename, func(a, b plan.Rename) int {
		if (a.Column == "") == (b.Column == "") {
			return 0
		}
		if a.Column != "" {
			return -1
		}
		return 1
	})
	return out, nil
}

// rename reads the names of one rename among all of them, and checks that it is
// one.
func (s *State) rename(r plan.Rename, all []plan.Rename) (plan.Rename, error) {
	old := s.Ahead.Table(r.Table)
	if r.Column == "" {
		r.To = s.table(r.To)
		if old == nil || s.Wanted.Table(r.Table) != nil {
			return r, fmt.Errorf("--rename %s: there is no table %s that the models no longer declare", r, r.Table)
		}
		if s.Wanted.Table(r.To) == nil || s.Ahead.Table(r.To) != nil && !strings.EqualFold(r.To, r.Table) {
			return r, fmt.Errorf("--rename %s: %s is no new table of the models", r, r.To)
		}
		r.Table = old.Name
		return r, nil
	}
	if old == nil {
		if old = s.Ahead.Table(s.table(r.Table)); old == nil {
			return r, fmt.Errorf("--rename %s: there is no table %s", r, r.Table)
		}
	}
	r.Table = old.Name
	if r.Value != "" {
		r.Column = s.column(r.Table, r.Column)
		return r, nil
	}
	now := r.Table // its name in the models
	for _, o := range all {
		if o.Column == "" && strings.EqualFold(o.Table, r.Table) {
			now = s.table(o.To)
		}
	}
	r.To = s.column(now, r.To)
	c, w := old.Column(r.Column), s.Wanted.Table(now)
	switch {
	case c == nil:
		return r, fmt.Errorf("--rename %s: %s has no column %s", r, r.Table, r.Column)
	case w == nil || w.Column(r.To) == nil || w.Column(r.Column) != nil && !strings.EqualFold(r.Column, r.To):
		return r, fmt.Errorf("--rename %s: the models do not turn %s into %s", r, r.Column, r.To)
	case old.Column(r.To) != nil && !strings.EqualFold(r.Column, r.To):
		return r, fmt.Errorf("--rename %s: %s has a column %s already", r, r.Table, r.To)
	}
	r.Column = c.Name
	return r, nil
}
