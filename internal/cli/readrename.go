package cli

// This file reads what --rename says: which table, column or value gets which name.

import (
	"slices"
	"strings"

	"erbario/internal/plan"
	"erbario/internal/sqlschema"
)

// readRename reads what --rename says. A value may have points and equals signs of its own, and so may the name of a
// column.
func readRename(said string, upcoming, wanted *sqlschema.Schema) (r plan.Rename, ok bool) {
	find := func(s *sqlschema.Schema, name string) *sqlschema.Table {
		if t := s.Find(name); t != nil {
			return t
		}
		i := slices.IndexFunc(s.Tables, func(t *sqlschema.Table) bool { return t.Model() == name })
		if i < 0 {
			return &sqlschema.Table{}
		}
		return s.Tables[i]
	}
	for at := range said {
		if said[at] != '=' {
			continue
		}
		old, to := said[:at], said[at+1:]
		table, rest, dotted := sqlschema.CutTable(old, upcoming, wanted)
		one, valid := plan.Rename{Table: table, To: to}, table != "" && to != ""
		if dotted {
			var known bool
			now := find(wanted, table)
			one.Column, one.Value, known = cutColumn(rest, find(upcoming, table), now)
			valid = valid && one.Column != "" && !strings.HasSuffix(old, ".")
			if valid && known && one.Value != "" && isChoice(now, one.Column, to) {
				return one, true
			}
		}
		if r.To == "" && valid { // the first, where no other is certain
			r, ok = one, true
		}
	}
	return r, ok
}

// cutColumn cuts a column and one of its values. known: one of the tables has such a column.
func cutColumn(name string, of ...*sqlschema.Table) (column, value string, known bool) {
	has := func(column string) bool {
		return slices.ContainsFunc(of, func(t *sqlschema.Table) bool { return t.Column(column) != nil })
	}
	if has(name) {
		return name, "", true
	}
	for at := range name {
		if name[at] == '.' && has(name[:at]) {
			return name[:at], name[at+1:], true
		}
	}
	column, value, _ = strings.Cut(name, ".")
	return column, value, false
}

// isChoice tells whether a value is one of those that a column may have.
func isChoice(t *sqlschema.Table, column, value string) bool {
	c := t.Column(column)
	return c != nil && slices.Contains(c.Type.Choices, value)
}
