package sqlite

// This file says how all that a file holds is created: by the very statements that it keeps.

import (
	"context"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Verbatim gives the statements that a file keeps of a part of what it holds.
func (d *database) Verbatim(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	rows, err := d.Select(ctx, "SELECT type, name, tbl_name, sql FROM sqlite_schema WHERE sql IS NOT NULL ORDER BY rowid")
	if err != nil {
		return nil, err
	}
	in := map[string]bool{}
	for _, t := range s.Tables {
		in[strings.ToLower(t.Name)] = true
	}
	for _, v := range s.Views {
		in[strings.ToLower(v.Name)] = true
	}
	order := map[string]int{"table": 0, "index": 1, "view": 2, "trigger": 3}
	lists := make([][]engine.Creation, len(order))
	for _, r := range rows {
		if !in[strings.ToLower(r[2])] || schema.Own(r[1]) {
			continue
		}
		c := engine.Creation{Kind: r[0], Name: r[1], SQL: r[3]}
		if r[0] == "index" || r[0] == "trigger" {
			c.Of = r[2]
			if s.View(r[2]) != nil {
				c.OfKind = "view"
			}
		}
		lists[order[r[0]]] = append(lists[order[r[0]]], c)
	}
	var out []engine.Creation
	for _, list := range lists {
		out = append(out, list...)
	}
	return out, nil
}

// Objects gives the views and triggers of a file that no model declares.
func (d *database) Objects(ctx context.Context, s *sqlschema.Schema) ([]engine.Creation, error) {
	list, err := d.Verbatim(ctx, s)
	if err != nil {
		return nil, err
	}
	for i := range list {
		list[i].Form = canonical(list[i].SQL)
	}
	return engine.Objects(s, list), nil
}

// CreateObject is the statement of a view or a trigger.
func (Engine) CreateObject(c engine.Creation) string { return c.SQL }

// DropObject gives the statement that drops a view or a trigger.
func (Engine) DropObject(c engine.Creation) []string {
	return []string{"DROP " + strings.ToUpper(c.Kind) + " " + quote(c.Name)}
}

// ReplaceObject gives none: nothing is replaced in place.
func (Engine) ReplaceObject(_, _ engine.Creation) string { return "" }

// AgainObject gives none: all that is declared in SQL is a thing of its own.
func (Engine) AgainObject(engine.Creation) string { return "" }
