package mariadb

// This file creates a copy of a schema.

import (
	"slices"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// CreateAll gives what makes an empty database hold the same as s. References are not
// checked while it runs, since they may go in circles.
func (Engine) CreateAll(s *sqlschema.Schema) []engine.Creation {
	var out []engine.Creation
	add := func(kind, name string, list ...string) {
		for _, sql := range list {
			out = append(out, engine.Creation{Kind: kind, Name: name, SQL: sql})
		}
	}
	if s.Collation != "" {
		add("", "", "ALTER DATABASE COLLATE "+s.Collation)
	}
	for _, o := range s.Others { // which keep the mode in which they are created
		add(o.Kind, o.Name, o.Make...)
	}
	add("", "", "SET foreign_key_checks = 0")
	for _, t := range s.Tables {
		text := t.Text
		if text == "" {
			text = createTable(t, t.Name)
		}
		add("table", t.Name, text)
	}
	if slices.ContainsFunc(s.Tables, func(t *sqlschema.Table) bool {
		return slices.ContainsFunc(t.Triggers, func(g *sqlschema.Trigger) bool { return g.Purpose == schema.ForBridge })
	}) {
		add("table", "erbario_former", formerTable) // the bridge notes there
	}
	add("", "", "SET foreign_key_checks = 1")
	for _, v := range sqlschema.ViewsInOrder(s.Views, rules.Names) {
		add("view", v.Name, v.SQL.Text)
	}
	for _, t := range s.Tables {
		for _, g := range t.Triggers {
			add("trigger", g.Name, inMode(g.SQL.Text, g.Mode, ""))
		}
	}
	return out
}
