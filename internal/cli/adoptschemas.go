package cli

// This file is the schemas of a database that erbario adopt takes in, and those that it leaves out.

import (
	"context"
	neturl "net/url"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// inSchema is the schema that has all tables of a database whose URL names none.
type inSchema struct{ name string }

func (e *inSchema) Error() string { return "all tables are in the schema " + e.name }

// withSchema is a URL with the schema in which names are looked up.
func withSchema(url, name string) string {
	sign := "?"
	if strings.Contains(url, "?") {
		sign = "&"
	}
	return url + sign + "schema=" + neturl.QueryEscape(name)
}

// elsewhere is the one schema that has tables, where the one that is read has nothing and the URL names none; nil:
// there is none, or there are several.
func (o *adopting) elsewhere() error {
	var with []string
	for _, s := range o.schemas {
		if s.Tables > 0 {
			with = append(with, s.Name)
		}
	}
	if o.url == "" || len(with) != 1 || namesSchema(o.url) {
		return nil
	}
	return &inSchema{with[0]}
}

// namesSchema tells whether a URL says in which schema names are looked up.
func namesSchema(url string) bool {
	return strings.Contains(url, "schema=") || strings.Contains(url, "search_path=")
}

// allSchemas has the other schemas of the database read whose tables are adopted, too: all but those of
// projects of their own, where the URL names none.
func (o *adopting) allSchemas(ctx context.Context) error {
	all, ok := engine.As[engine.ManySchemas](o.l.db)
	if !ok {
		return nil
	}
	found, err := all.OtherSchemas(ctx)
	if err != nil || len(found) == 0 {
		return err
	}
	o.schemas = found
	if o.url != "" {
		here, err := o.l.db.Inspect(ctx)
		if err != nil {
			return err
		}
		if len(here.Tables) == 0 {
			if err := o.elsewhere(); err != nil {
				return err
			}
		}
	}
	read := slices.Clone(o.p.Schemas())
	for _, s := range found {
		asked := slices.ContainsFunc(s.Holds,
			func(x *sqlschema.Other) bool { return x.Kind != sqlschema.InDatabase && o.chosen(x.Name) })
		if asked && !s.Taken && !namesSchema(o.l.URL) && !slices.Contains(read, s.Name) {
			read = append(read, s.Name)
		}
	}
	o.schemas = slices.DeleteFunc(found, func(s engine.OtherSchema) bool { return slices.Contains(read, s.Name) })
	if len(read) == len(o.p.Schemas()) {
		return nil
	}
	o.l.Close()
	o.l.engine = engine.WithSchemas(o.l.engine, read)
	o.l.db, err = o.l.engine.Open(ctx, o.l.URL, engine.ReadOnly)
	return err
}

// otherSchemas tells of schemas that are not read.
func (o *adopting) otherSchemas() {
	for _, s := range o.schemas {
		name, tables := cell(s.Name), plural(s.Tables, "table", "tables")
		switch {
		case s.Tables == 0:
		case s.Taken:
			o.out.printf("the schema %s has %s, which a project of its own declares", name, tables)
		case namesSchema(o.l.URL):
			o.out.printf("the schema %s has %s: a project for them has ?schema=%s in its URL", name, tables,
				neturl.QueryEscape(s.Name))
		default:
			o.out.printf("the schema %s has %s: erbario adopt %s declares them", name, tables, typed(s.Name+".*"))
		}
	}
}
