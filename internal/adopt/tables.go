package adopt

// This file declares tables in SQL that models do not say exactly: by the very statements that the server
// has of them.

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/sqlschema"
)

// ofTables are the kinds of creations that are parts of a table.
var ofTables = []string{
	"table", "index", "reference", "check", "default", "part of", "column", "constraint", "comment", "clustering of",
	"identity of",
}

// beside are the kinds of creations that belong to a table, and are declared by themselves.
var beside = []string{"trigger", "policy", "rule", "statistics", "rights on", "owner of", "row security of",
	"state of trigger", "state of rule"}

// toSQL declares in SQL the tables that no model says, where files of SQL can. It tells whether models have
// to be written in another way then.
func (t *taking) toSQL(ctx context.Context) (worse bool, err error) {
	if t.Outside {
		return false, nil
	}
	list := slices.Clone(t.odd)
	for _, table := range t.tables {
		if t.how[table.Name] == outside {
			list = append(list, table)
		}
	}
	list = slices.DeleteFunc(list, func(table *sqlschema.Table) bool { return t.make[table.Name] != nil })
	if len(list) == 0 {
		return false, nil
	}
	all, err := t.verbatim(ctx, list)
	if err != nil {
		return false, err
	}
	for _, table := range list {
		statements := t.statements(table.Name, all)
		if statements == nil {
			continue
		}
		t.make[table.Name] = statements
		if t.how[table.Name] == outside && !slices.Contains(t.odd, table) {
			t.how[table.Name], worse = inSQL, true
		}
	}
	return worse, nil
}

// verbatim is what creates some tables, in the words of the server.
func (t *taking) verbatim(ctx context.Context, list []*sqlschema.Table) ([]engine.Creation, error) {
	part := &sqlschema.Schema{Tables: list, Others: t.Live.Others, Elsewhere: t.Live.Elsewhere,
		Collation: t.Live.Collation}
	if v, ok := engine.As[engine.Verbatim](t.DB); ok {
		return v.Verbatim(ctx, part)
	}
	return t.Engine.DDL().CreateAll(part), nil
}

// statements are those that declare a table; nil: a file of SQL cannot.
func (t *taking) statements(table string, all []engine.Creation) []engine.Creation {
	var out []engine.Creation
	for _, c := range all {
		of := c.Of
		if c.Kind == "table" {
			of = c.Name
		}
		switch {
		case of != table || c.OfKind != "" || slices.Contains(beside, c.Kind):
		case !slices.Contains(ofTables, c.Kind) || c.Before != "":
			return nil
		default:
			out = append(out, c)
		}
	}
	made := []*objects.Object{{Make: out}}
	list, wrong := objects.Parse(t.Engine.SQL(), "", objects.Text(t.Engine.Scripts(), made), nil)
	if len(wrong) > 0 || !slices.ContainsFunc(list, objects.IsTable) {
		return nil
	}
	for _, o := range list {
		said := o.Kind == "comment" && strings.EqualFold(o.On, table)
		if !said && !objects.IsTable(o) && !objects.OfTable(list, o) {
			return nil
		}
	}
	return out
}

// tableObjects are the tables that are declared in SQL.
func (o *Outcome) tableObjects() []*objects.Object {
	var out []*objects.Object
	for _, t := range o.Tables {
		if t.InSQL {
			out = append(out, &objects.Object{ObjectKey: engine.ObjectKey{Kind: "table", Name: t.Name}, Make: t.make})
		}
	}
	return out
}
