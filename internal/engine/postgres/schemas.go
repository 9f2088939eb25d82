package postgres

// This file reads what lies in other schemas than that of the session, but belongs to the project: names are
// looked up where they always are, so that a name of another schema has that before it.

import (
	"context"
	"slices"

	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// qualifiedHere is that as qualified gives it.
const qualifiedHere = "pg_catalog.quote_ident(pg_catalog.current_schema())::regnamespace::oid"

// place is which schema is read, and where names are looked up at that time.
type place struct {
	schema string // empty: that of the path
	path   string // empty: that of the session
}

// besides adds to what was read of the session's own schema what the others hold that belong to the project.
func (d *database) besides(ctx context.Context, r *reading) error {
	if len(d.schemas) == 0 {
		return nil
	}
	rows, err := d.Select(ctx, "SELECT nspname FROM pg_namespace WHERE nspname = ANY (?::name[]) ORDER BY oid",
		"{"+quoteArray(d.schemas)+"}")
	if err != nil {
		return err
	}
	for _, name := range firsts(rows) {
		o, err := d.reading(ctx, place{schema: name})
		if err != nil {
			return err
		}
		r.add(o)
	}
	r.needs = slices.DeleteFunc(r.needs, func(n string) bool { return slices.Contains(d.schemas, n) })
	return nil
}

// add adds what was read of another schema. What belongs to the whole database is told with each.
func (r *reading) add(o *reading) {
	r.s.Tables, r.s.Views = append(r.s.Tables, o.s.Tables...), append(r.s.Views, o.s.Views...)
	r.early, r.needs = append(r.early, o.early...), append(r.needs, o.needs...)
	r.early = append(r.early, dated{0, otherSchema(o.at.schema)})
	for _, x := range o.s.Others {
		same := func(y *sqlschema.Other) bool { return y.Kind == x.Kind && y.Name == x.Name }
		if !slices.ContainsFunc(r.s.Others, same) {
			r.s.Others = append(r.s.Others, x)
		}
	}
}

// order puts what was created before tables in the order in which it was, before the rest.
func (r *reading) order() {
	slices.SortStableFunc(r.early, func(a, b dated) int { return a.oid - b.oid })
	var list []*sqlschema.Other
	for _, o := range r.early {
		list = append(list, o.other)
	}
	r.s.Others = append(list, r.s.Others...)
}

// name is the name of what lies in the schema that is read.
func (r *reading) name(own string) string { return schema.InSchema(r.at.schema, own) }

// sql is that as SQL.
func (r *reading) sql(own string) string { return quoteTable(r.name(own)) }

// target is the name of a table that a reference is to: in the schema that is read, or in another.
func (r *reading) target(in, own string) string {
	switch {
	case in == "":
		return r.name(own)
	case in == r.main && r.at.path == "":
		return schema.InSchema("", own)
	}
	return schema.InSchema(in, own)
}

// owner is the column to which a sequence belongs, with the schema of its table.
func (r *reading) owner(column string) string {
	if r.at.schema == "" {
		return column
	}
	return quote(r.at.schema) + "." + column
}
