package objects

// This file is about the tables that are declared in SQL: what the server makes of one is compared and
// changed like the table of a model.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// IsTable tells whether a statement declares a table.
func IsTable(o *sqlschema.Object) bool { return o.Kind == kindTable }

// TableNamed is the statement that declares the table of a name, or nil.
func TableNamed(list []*sqlschema.Object, name string) *sqlschema.Object {
	for _, o := range list {
		if IsTable(o) && strings.EqualFold(o.Name, name) {
			return o
		}
	}
	return nil
}

// OfTable tells whether a statement belongs to a table that others of a list declare, and is a part of it:
// an index, or what ALTER TABLE says.
func OfTable(list []*sqlschema.Object, o *sqlschema.Object) bool {
	return (o.Kind == "index" || o.Kind == "more") && o.On != "" && TableNamed(list, o.On) != nil
}

// tablesMade are the tables that are declared, as a server has them: all that they have is declared, but for
// triggers, which are objects by themselves.
func tablesMade(declared []*sqlschema.Object, s *sqlschema.Schema) []*sqlschema.Table {
	var out []*sqlschema.Table
	for _, o := range declared {
		t := s.Table(o.Name)
		if o.Kind != kindTable || t == nil {
			continue
		}
		t = t.Clone()
		t.Triggers, t.InSQL = nil, true
		for _, x := range t.Indexes {
			x.Form, x.Said = true, true
		}
		out = append(out, t)
	}
	return out
}

// Has tells whether a table that is declared in SQL could be created.
func (m *Made) Has(table string) bool {
	return slices.ContainsFunc(m.Tables, func(t *sqlschema.Table) bool { return strings.EqualFold(t.Name, table) })
}

// With is what is wanted, with the tables and the enum types that files of SQL declare in the place of what
// models say of them.
func (m *Made) With(wanted *sqlschema.Schema) *sqlschema.Schema {
	out := *wanted
	for _, o := range m.Enums {
		if out.Enum(o.Name) == nil {
			out.Others = append(slices.Clone(out.Others), o)
		}
	}
	for _, t := range m.Tables {
		out.Tables = slices.DeleteFunc(slices.Clone(out.Tables),
			func(o *sqlschema.Table) bool { return strings.EqualFold(o.Name, t.Name) })
		out.Tables = append(out.Tables, t)
	}
	out.Sort()
	return &out
}

// Alone reports statements that say more of a table which none declares, and models of tables in SQL
// that none declares. at is the place of a model.
func Alone(list []*sqlschema.Object, declared *schema.Schema, at func(*schema.Table) lang.Pos) []lang.Diagnostic {
	named := map[string]bool{}
	for _, o := range list {
		named[strings.ToLower(o.Name)] = true
	}
	var out []lang.Diagnostic
	for _, o := range list {
		if o.Kind == "more" && o.On != "" && !named[strings.ToLower(o.On)] {
			out = append(out, lang.Diagnostic{Pos: lang.Pos{Path: o.Path, Line: o.Line, Col: 1, Off: o.Off},
				Message: fmt.Sprintf("no statement declares %s, of which this says more", o.On),
				Hint:    "write CREATE TABLE, too, or change its model"})
		}
	}
	for _, t := range declared.Tables {
		if t.InSQL && TableNamed(list, t.Name) == nil {
			out = append(out, lang.Diagnostic{Pos: at(t),
				Message: fmt.Sprintf("no file of SQL declares %s, the table of %s", t.Name, t.Model),
				Hint:    "write CREATE TABLE in a file that ends with .sql"})
		}
	}
	return out
}
