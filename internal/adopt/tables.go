package adopt

// This file declares tables in SQL that models do not say exactly: by the very statements that the server
// has of them.

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// ofTables are the kinds of creations that are parts of a table.
var ofTables = []string{
	"table", "index", "reference", "check", "default", "part of", "column", "constraint", "clustering of", "identity of",
}

// beside are the kinds of creations that belong to a table, and are declared by themselves.
var beside = []string{"trigger", "policy", "rule", "statistics", "comment", "rights on", "owner of", "row security of",
	"state of trigger", "state of rule", engine.Exclusion}

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
	made, err := TableSQL(ctx, t.Engine, t.DB, t.Live, list)
	if err != nil {
		return false, err
	}
	for _, table := range list {
		statements := made[table.Name]
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

// TableSQL gives, by their names, the statements that declare tables of a database in SQL, in the words of
// the server. It leaves out what a file of SQL cannot declare.
func TableSQL(ctx context.Context, e runner.Engine, db engine.Database, live *sqlschema.Schema,
	list []*sqlschema.Table) (map[string][]engine.Creation, error) {
	// All tables, since a reference is created only to one of them.
	part := &sqlschema.Schema{Tables: live.Tables, Others: live.Others, Elsewhere: live.Elsewhere,
		Collation: live.Collation}
	all, err := e.DDL().CreateAll(part), error(nil)
	if v, ok := engine.As[engine.Verbatim](db); ok {
		all, err = v.Verbatim(ctx, part)
	}
	out := map[string][]engine.Creation{}
	for _, table := range list {
		if statements := statementsOf(e, table.Name, all); statements != nil {
			out[table.Name] = statements
		}
	}
	return out, err
}

// statementsOf are those that declare a table; nil: a file of SQL cannot.
func statementsOf(e runner.Engine, table string, all []engine.Creation) []engine.Creation {
	var out []engine.Creation
	for _, c := range all {
		of := c.Of
		if c.Kind == "table" {
			of = c.Name
		}
		switch {
		case of != table || c.OfKind != "" || slices.Contains(beside, c.Kind) || isPart(c):
		case !slices.Contains(ofTables, c.Kind) || c.Before != "":
			return nil
		default:
			out = append(out, c)
		}
	}
	made := []*objects.Object{{Make: out}}
	list, wrong := objects.Parse(e.SQL(), "", objects.Text(e.Scripts(), made), nil)
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

// enumObjects are the enum types among others that no choice says: they are declared in SQL.
func (o *Outcome) enumObjects(others []*sqlschema.Other) []*objects.Object {
	var out []*objects.Object
	for _, x := range others {
		if x.Kind == sqlschema.EnumType && o.choices[x.Name] == "" {
			object := &objects.Object{ObjectKey: engine.ObjectKey{Kind: x.Kind, Name: x.Name}}
			for _, sql := range x.Make {
				object.Make = append(object.Make, engine.Creation{Kind: x.Kind, Name: x.Name, SQL: sql})
			}
			out = append(out, object)
		}
	}
	return out
}
