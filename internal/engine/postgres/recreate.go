package postgres

// This file makes an empty database hold what another does: the tables, what nobody
// declared, and what other schemas have that these need.

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// CreateAll gives what makes an empty database hold the same as s. What tables ask of a function
// comes after both, since functions may take and give the rows of tables.
func (Engine) CreateAll(s *sqlschema.Schema) []engine.Creation {
	var tables, keys, rest, late []engine.Creation
	of := "" // the table that a thing belongs to
	add := func(to *[]engine.Creation, kind, name string, list ...string) {
		for _, sql := range list {
			*to = append(*to, engine.Creation{Kind: kind, Name: name, SQL: sql, Of: of})
		}
	}
	for _, o := range append(slices.Clone(s.Elsewhere), s.Others...) {
		to := &tables
		if o.Late {
			to = &late
		}
		add(to, cmp.Or(o.Kind, "owner of"), o.Name, o.Make...)
		if o.Form != "" {
			(*to)[len(*to)-1].Form = o.Form
		}
	}
	calls := func(x *sqlschema.SQL) bool { return x != nil && callsOthers(s, x.Text) }
	for _, t := range s.Tables {
		if t.Options.Foreign { // its rows are another's
			continue
		}
		of = t.Name
		alone := t.Clone()
		alone.ForeignKeys = nil
		alone.Columns = append(alone.Columns, t.Aside...) // policies and others' views may stand on them
		for _, c := range alone.Columns {
			if calls(c.Default) {
				add(&rest, "default", t.Name+"."+c.Name,
					alterTable(t.Name)+"ALTER COLUMN "+quote(c.Name)+" SET DEFAULT "+c.Default.Make())
				c.Default = nil
			}
		}
		alone.Checks = slices.DeleteFunc(alone.Checks, func(k *sqlschema.Check) bool {
			if k.NotValid || !calls(&k.SQL) {
				return false
			}
			add(&rest, "check", k.Name, alterTable(t.Name)+"ADD "+named(k.Name)+checkDefinition(k))
			return true
		})
		asSerial(alone)
		create, own := serials(t.Name, alone.Columns...)
		add(&tables, "sequence of", t.Name, create...)
		bare := *alone
		bare.Others = nil
		add(&tables, "table", t.Name, createTable(&bare, t.Name))
		add(&tables, "sequence of", t.Name, own...)
		for _, k := range t.ForeignKeys {
			in, _ := schema.SplitName(k.Table)
			elsewhere := in != "" && slices.ContainsFunc(s.Elsewhere,
				func(o *sqlschema.Other) bool { return o.Kind == schemaKind && o.Name == in })
			if s.Table(k.Table) != nil || elsewhere {
				add(&keys, "reference", k.Name, Engine{}.AddReference(t, k)...)
			}
		}
		for _, x := range alone.Indexes {
			if !x.Constraint {
				add(&rest, "index", x.Name, createIndex(t.Name, x))
			}
		}
		for _, k := range alone.Others {
			add(&rest, engine.Exclusion, k.Name, alterTable(t.Name)+"ADD "+named(k.Name)+k.Text)
		}
		alone.Indexes = nil
		add(&rest, "part of", t.Name, dependents(alone)...)
		if slices.ContainsFunc(t.Triggers, func(g *sqlschema.Trigger) bool { return g.Purpose == schema.ForBridge }) {
			add(&tables, "table", "erbario_former", formerTable, notedFunction) // the bridge notes there
		}
	}
	of = ""
	for _, v := range sqlschema.ViewsInOrder(s.Views, rules.Names) {
		rest = append(rest, engine.Creation{Kind: "view", Name: v.Name, SQL: v.SQL.Make(), Form: v.SQL.Text})
	}
	rest = append(rest, triggers(s)...)
	return slices.Concat(tables, partsInOrder(s.Tables), rest, keys, late)
}

// serialTypes are the words for a column of a type with a sequence of its own.
var serialTypes = map[string]string{"smallint": "smallserial", "integer": "serial", "bigint": "bigserial"}

// asSerial gives the columns of a table one word for their type, their sequence and their default, where the
// server gives the sequence the name that it has.
func asSerial(t *sqlschema.Table) {
	for _, c := range t.Columns {
		if word := serialTypes[c.SQLType]; word != "" && c.NotNull && c.Serial != "" &&
			bare(c.Serial) == sequenceName(bare(t.Name), c.Name) {
			c.SQLType, c.Serial, c.Default, c.NotNull = word, "", nil, false
		}
	}
}

// triggers gives what creates the triggers of tables.
func triggers(s *sqlschema.Schema) []engine.Creation {
	var out []engine.Creation
	for _, t := range s.Tables {
		if t.Options.Foreign {
			continue
		}
		for _, g := range t.Triggers {
			create, _ := Engine{}.Trigger(t, g)
			for _, sql := range create {
				out = append(out, engine.Creation{Kind: "trigger", Name: g.Name, SQL: sql, Of: t.Name})
			}
			if g.SQL.Stored != "" {
				out[len(out)-1].Form = g.SQL.Text
			}
		}
	}
	return out
}

// callsOthers tells whether an expression may call a function that nobody declared.
func callsOthers(s *sqlschema.Schema, text string) bool {
	if !strings.Contains(text, "(") {
		return false
	}
	return slices.ContainsFunc(s.Others, func(o *sqlschema.Other) bool {
		name, _, _ := strings.Cut(o.Name, "(")
		return o.Kind == "function" && mentions(text, name)
	})
}
