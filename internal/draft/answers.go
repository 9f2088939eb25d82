package draft

// This file reads the names in answers: people write models and fields, or
// tables and columns, and mean the same.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/plan"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// table is the name of a table that was named so, or by its model.
func (s *State) table(name string) string {
	for _, t := range s.Wanted.Tables {
		if t.Model() == name {
			return t.Name
		}
	}
	if t := s.Wanted.Find(name); t != nil && (s.Upcoming == nil || s.Upcoming.Table(name) == nil) {
		return t.Name
	}
	return name
}

// cut cuts the name of a column as answers have it behind its table.
func (s *State) cut(name string) (table, rest string, found bool) {
	return sqlschema.CutTable(name, s.Upcoming, s.Wanted)
}

// column is the name of a column that was named so, or by its field.
func (s *State) column(table, name string) string {
	if t := s.Wanted.Table(table); t != nil {
		for _, c := range t.Columns {
			if c.Field() == name || strings.EqualFold(c.Name, name) {
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
	key, _, _ := strings.Cut(rest, "=")
	table, column, dotted := s.cut(key)
	key = s.table(table)
	if dotted {
		key += "." + s.column(key, column)
	}
	return kind + " " + key
}

// names turns the names in answers into those of tables and columns, checks the renames,
// and orders them. With carried, a rename that no longer is one is left out.
func (s *State) names(a plan.Answers, carried bool) (plan.Answers, error) {
	out := plan.Answers{Fill: map[string]plan.Fill{}, Drop: map[string]bool{}, Deleted: map[string]plan.DeletedRows{}}
	for key, f := range a.Fill {
		t, c, ok := s.cut(key)
		if !ok {
			return a, fmt.Errorf("--fill %s: write TABLE.COLUMN=VALUE", key)
		}
		t = s.table(t)
		if !f.Literal {
			f.SQL = s.inBraces(t, f.SQL)
		}
		out.Fill[t+"."+s.column(t, c)] = f
	}
	for key, f := range a.Deleted {
		out.Deleted[s.table(key)] = f
	}
	for key := range a.Drop {
		t, c, ok := s.cut(key)
		if s.Upcoming.Table(t) == nil {
			t = s.table(t)
		}
		if ok {
			t += "." + c
		}
		out.Drop[t] = true
	}
	renames, err := s.renames(a, carried)
	if err != nil {
		return a, err
	}
	for _, r := range renames {
		back := func(o plan.Rename) bool { return o.Column == "" && o.Table == r.To && o.To == r.Table }
		if r.Column == "" && plan.SameElsewhere(s.Engine, r.Table, r.To) &&
			slices.ContainsFunc(renames, back) {
			return a, fmt.Errorf("%s and %s cannot change places in one migration, since their indexes have the same "+
				"names: draft it in two, the first of which gives one of them another name", r.Table, r.To)
		}
	}
	renames = append(renames, s.replaced(renames, out.Drop)...)
	out.Rename = plan.InOrder(renames, plan.Names{
		There:    func(table, column string) bool { return has(s.Upcoming, table, column) },
		Declared: func(table, column string) bool { return has(s.Wanted, called(renames, table), column) },
	})
	for _, r := range out.Rename {
		if !r.Aside {
			continue
		}
		was, now := r.Table, r.To
		if r.Column != "" {
			was, now = called(renames, r.Table)+"."+r.Column, called(renames, r.Table)+"."+r.To
		}
		if out.Drop[was] {
			delete(out.Drop, was)
			out.Drop[now] = true
		}
	}
	return out, nil
}

// inBraces is an expression over a table's rows with {field} by the name of its column.
func (s *State) inBraces(table, sql string) string {
	return schema.Braces(sql, func(name string) string { return s.Engine.SQL().Quote(s.column(table, name)) })
}

// has tells whether a schema has a column; with column "", whether it has the table.
func has(s *sqlschema.Schema, table, column string) bool {
	t := s.Table(table)
	return t != nil && (column == "" || t.Column(column) != nil)
}

// called is the name of a live table after the renames.
func called(renames []plan.Rename, table string) string {
	for _, r := range renames {
		if r.Column == "" && strings.EqualFold(r.Table, table) {
			return r.To
		}
	}
	return table
}

// renames reads the names of renames, and checks that they go together.
func (s *State) renames(a plan.Answers, carried bool) ([]plan.Rename, error) {
	var out []plan.Rename
	for _, r := range a.Rename {
		r, err := s.rename(r, a.Rename)
		for _, o := range out {
			switch {
			case err != nil || o.Value != "" || r.Value != "" || !strings.EqualFold(o.Table, r.Table) &&
				r.Column != "" || (o.Column == "") != (r.Column == ""):
			case strings.EqualFold(o.Old(), r.Old()):
				err = fmt.Errorf("--rename %s: %s cannot be called %s too", r, r.Old(), o.To)
			case strings.EqualFold(o.To, r.To):
				err = fmt.Errorf("--rename %s: %s is to be called %s already", r, o.Old(), r.To)
			}
		}
		if err != nil && carried {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	for carried { // what no answer frees, and what is declared still, has its name
		n := len(out)
		out = slices.DeleteFunc(slices.Clone(out), func(r plan.Rename) bool {
			if r.Value != "" {
				return false
			}
			now, old := called(out, r.Table), r.Old()
			if r.Column == "" {
				now = ""
			}
			taken, declared := has(s.Upcoming, r.Table, r.To), has(s.Wanted, now, old)
			drop := a.Drop[now+"."+r.To]
			if r.Column == "" {
				taken, declared, drop = has(s.Upcoming, r.To, ""), has(s.Wanted, old, ""), a.Drop[r.To]
			}
			beside := func(is func(o plan.Rename) bool) bool {
				return slices.ContainsFunc(out, func(o plan.Rename) bool {
					return o.Value == "" && (o.Column == "") == (r.Column == "") &&
						(r.Column == "" || o.Table == r.Table) && is(o)
				})
			}
			frees := beside(func(o plan.Rename) bool { return strings.EqualFold(o.Old(), r.To) })
			takes := beside(func(o plan.Rename) bool { return strings.EqualFold(o.To, old) })
			return taken && !frees && !drop || declared && !takes
		})
		if len(out) == n {
			break
		}
	}
	return out, nil
}

// replaced are the columns that answers drop though they are declared: with another type, as
// new columns.
func (s *State) replaced(renames []plan.Rename, drop map[string]bool) []plan.Rename {
	var out []plan.Rename
	for _, t := range s.Upcoming.Tables {
		now := called(renames, t.Name)
		w := s.Wanted.Table(now)
		for _, c := range t.Columns {
			if w == nil || !drop[now+"."+c.Name] {
				continue
			}
			d := w.Column(c.Name)
			moves := slices.ContainsFunc(renames, func(r plan.Rename) bool {
				return r.Column != "" && r.Value == "" && r.Table == t.Name &&
					(strings.EqualFold(r.Column, c.Name) || strings.EqualFold(r.To, c.Name))
			})
			if d != nil && !moves && d.SQLType != c.SQLType {
				out = append(out, plan.Rename{Table: t.Name, Column: c.Name, Aside: true})
			}
		}
	}
	return out
}

// rename reads the names of one rename among all of them, and checks that there is what it
// is about.
func (s *State) rename(r plan.Rename, all []plan.Rename) (plan.Rename, error) {
	old := s.Upcoming.Table(r.Table)
	if r.Column == "" {
		r.To = s.table(r.To)
		if old == nil || s.Wanted.Table(r.Table) != nil && s.Wanted.Table(r.Table).Elsewhere() {
			return r, fmt.Errorf("--rename %s: there is no table %s that can have another name", r, r.Table)
		}
		if w := s.Wanted.Table(r.To); w == nil || w.Elsewhere() {
			return r, fmt.Errorf("--rename %s: the models declare no table %s", r, r.To)
		}
		if r.Table = old.Name; r.Table == r.To {
			return r, fmt.Errorf("--rename %s: that is its name already", r)
		}
		return r, nil
	}
	// A table has the name that it has, or the one that it gets.
	now := s.table(r.Table)
	for _, o := range all {
		switch to := s.table(o.To); {
		case o.Column != "":
		case old != nil && strings.EqualFold(o.Table, old.Name) && old.Column(r.Column) != nil:
			now = to
		case strings.EqualFold(to, s.table(r.Table)) && s.Upcoming.Table(o.Table) != nil &&
			s.Upcoming.Table(o.Table).Column(r.Column) != nil && (old == nil || old.Column(r.Column) == nil):
			old, now = s.Upcoming.Table(o.Table), to
		}
	}
	if old == nil {
		if old = s.Upcoming.Table(s.table(r.Table)); old == nil {
			return r, fmt.Errorf("--rename %s: there is no table %s", r, r.Table)
		}
	}
	r.Table = old.Name
	if r.Value != "" {
		r.Column = s.column(r.Table, r.Column)
		return r, nil
	}
	r.To = s.column(now, r.To)
	c, w := old.Column(r.Column), s.Wanted.Table(now)
	switch {
	case c == nil:
		return r, fmt.Errorf("--rename %s: %s has no column %s", r, r.Table, r.Column)
	case w == nil || w.Column(r.To) == nil:
		return r, fmt.Errorf("--rename %s: the models declare no column %s of %s", r, r.To, now)
	}
	r.Column = c.Name
	if r.Column == r.To {
		return r, fmt.Errorf("--rename %s: that is its name already", r)
	}
	return r, nil
}
