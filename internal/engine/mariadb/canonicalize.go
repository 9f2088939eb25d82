package mariadb

// This file puts the SQL of a wanted schema into the server's own words. Types and
// collations that only some servers have are looked up by its version; expressions that
// differ are stored in a temporary table, and read again from what the server makes of
// them. Nothing is left behind, and no right is needed but that to temporary tables.

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Canonicalize puts the SQL of wanted into the words in which the server keeps it, where it
// has others for it than live has.
func (d *Database) Canonicalize(ctx context.Context, wanted, live *sqlschema.Schema) error {
	for _, t := range wanted.Tables {
		d.server.own(t)
		if old := live.Table(t.Name); old != nil && !t.Elsewhere() {
			if err := d.restateTable(ctx, t, old); err != nil {
				return err
			}
		}
	}
	return nil
}

// own puts a server's own words for types and collations in a wanted table.
func (s server) own(t *sqlschema.Table) {
	t.Options.Behind = strings.ReplaceAll(t.Options.Behind, server{}.binary(), s.binary())
	for _, c := range t.Columns {
		if c.SQLType == "uuid" && !s.uuid() {
			c.SQLType = "char(36)"
		}
	}
}

// expression is one that is to be put through the server.
type expression struct {
	name string // under which it is in the temporary table
	item string // of that table
	to   *sqlschema.SQL
	line *regexp.Regexp // that finds it again
}

// temporarily creates a table of the session alone, and gives what a query tells of it.
func (d *Database) temporarily(ctx context.Context, items []string, behind, query string) (rows [][]string, err error) {
	const table = "erbario_restated"
	if d.readOnly { // it is no change of the database
		if err := d.raw(ctx, "SET SESSION "+d.server.readOnly()+" = 0"); err != nil {
			return nil, err
		}
		defer func() {
			err = errors.Join(err, d.raw(context.WithoutCancel(ctx), "SET SESSION "+d.server.readOnly()+" = 1"))
		}()
	}
	if err := d.raw(ctx, "CREATE TEMPORARY TABLE "+table+" (\n"+strings.Join(items, ",\n")+"\n)"+behind); err != nil {
		return nil, err
	}
	rows, err = d.Select(ctx, query+table)
	if e := d.raw(context.WithoutCancel(ctx), "DROP TEMPORARY TABLE "+table); err == nil {
		err = e
	}
	return rows, err
}

// restateTypes puts types that are said in SQL into the server's words. One that the
// server does not know keeps the words that it has.
func (d *Database) restateTypes(ctx context.Context, t, old *sqlschema.Table) error {
	for _, c := range t.Columns {
		o := old.Column(c.Name)
		if c.Type.Kind != schema.Native && c.Type.As == "" || o == nil || o.SQLType == c.SQLType {
			continue
		}
		rows, err := d.temporarily(ctx, []string{quote(c.Name) + " " + c.SQLType}, t.Options.Behind,
			"SHOW COLUMNS FROM ")
		switch {
		case err == nil && len(rows) == 1:
			c.SQLType = shortType(rows[0][1], d.server)
		case ctx.Err() != nil || errors.Is(err, engine.ErrLost):
			return err
		}
	}
	return nil
}

func (d *Database) restateTable(ctx context.Context, t, old *sqlschema.Table) error {
	if err := d.restateTypes(ctx, t, old); err != nil {
		return err
	}

	var list []expression
	add := func(to *sqlschema.SQL, item, line string) {
		name := fmt.Sprintf("erbario_%d", len(list)+1)
		list = append(list, expression{
			name,
			strings.ReplaceAll(item, "{name}", quote(name)),
			to,
			regexp.MustCompile("(?m)^ *" + strings.ReplaceAll(line, "{name}", quote(name)) + "$"),
		})
	}
	for _, k := range t.Checks {
		same := func(o *sqlschema.Check) bool { return o.Name == k.Name && o.Column == k.Column && o.SQL.Same(k.SQL) }
		if !slices.ContainsFunc(old.Checks, same) {
			add(&k.SQL, "CONSTRAINT {name} CHECK ("+k.SQL.Text+")", `CONSTRAINT {name} CHECK \((.*)\),?`)
		}
	}
	for _, c := range t.Columns {
		o := old.Column(c.Name)
		if o == nil {
			continue
		}
		if c.Generated != nil && (o.Generated == nil || !o.Generated.SQL.Same(c.Generated.SQL)) {
			add(&c.Generated.SQL, "{name} "+c.SQLType+" GENERATED ALWAYS AS ("+c.Generated.SQL.Text+") VIRTUAL",
				`{name} .* GENERATED ALWAYS AS \((.*)\) VIRTUAL,?`)
		}
		if c.Default != nil && !sqlschema.SameSQL(c.Default, o.Default) {
			add(c.Default, "{name} "+c.SQLType+" DEFAULT "+defaultSQL(c.Default.Text), `{name} .* DEFAULT (.*?),?`)
		}
	}
	if len(list) == 0 {
		return nil
	}
	var items []string
	for _, c := range t.Columns {
		bare := &sqlschema.Column{Name: c.Name, SQLType: c.SQLType, Collation: c.Collation}
		items = append(items, columnDefinition(bare))
	}
	for _, x := range list {
		items = append(items, x.item)
	}
	rows, err := d.temporarily(ctx, items, t.Options.Behind, "SHOW CREATE TABLE ")
	if err != nil {
		return fmt.Errorf("the declared form of %s cannot be compared with the stored one: %w", t.Name, err)
	}
	for _, x := range list {
		m := x.line.FindStringSubmatch(rows[0][1])
		if m == nil {
			return fmt.Errorf("the server returned no form of %q of %s", x.to.Text, t.Name)
		}
		*x.to = sqlOf(m[1])
	}
	return nil
}
