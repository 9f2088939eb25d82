package seed

// This file looks at what is there for a seed, before its rows are made.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Look reads what a seed has to know of a database.
func Look(ctx context.Context, db engine.Database, e engine.Engine, d *declare.Declared,
	s *declare.Seed) (*Ground, error) {
	live, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	g := &Ground{Tables: map[string]*There{}}
	var lines func(list []*declare.SeedLine) error
	lines = func(list []*declare.SeedLine) error {
		for _, l := range list {
			if err := lookTable(ctx, db, e, d, s, g, live, l.Table); err != nil {
				return err
			}
			if err := lines(l.Lines); err != nil {
				return err
			}
		}
		return nil
	}
	return g, lines(s.Lines)
}

func lookTable(ctx context.Context, db engine.Database, e engine.Engine, d *declare.Declared, s *declare.Seed,
	g *Ground, live *sqlschema.Schema, t *schema.Table) error {
	if g.Tables[t.Name] != nil && g.Tables[t.Name].Next > 0 {
		return nil
	}
	there := live.Table(t.Name)
	if there == nil {
		return fmt.Errorf("the table %s does not exist in the database: apply the migrations first", t.Name)
	}
	for _, c := range t.Columns {
		if there.Column(c.Name) == nil {
			return fmt.Errorf("the table %s has no column %s in the database: apply the migrations first", t.Name,
				c.Name)
		}
	}
	out := &There{Next: 1}
	g.Tables[t.Name] = out
	rows, err := db.Select(ctx, "SELECT 1 FROM "+e.SQL().Quote(t.Name)+" LIMIT 1")
	if err != nil {
		return err
	}
	out.Rows = len(rows) > 0
	for _, c := range t.Columns {
		if c.Identity {
			if out.Next, err = db.NextNumber(ctx, there); err != nil {
				return err
			}
		}
	}
	for _, k := range t.ForeignKeys {
		if s.Makes(k.Table) {
			continue
		}
		target := d.Schema.Table(k.Table)
		if target == nil || live.Table(k.Table) == nil {
			return fmt.Errorf("the table %s does not exist in the database: apply the migrations first", k.Table)
		}
		to := g.Tables[k.Table]
		if to == nil {
			to = &There{Keys: map[string][][]any{}}
			g.Tables[k.Table] = to
		}
		beside := besides(d.Schema, t, k)
		name := keyName(k.References, beside)
		if to.Keys[name] != nil {
			continue
		}
		if to.Keys[name], err = lookKeys(ctx, db, e, target, live.Table(k.Table), k.References, beside); err != nil {
			return err
		}
	}
	return nil
}

func lookKeys(ctx context.Context, db engine.Database, e engine.Engine, t *schema.Table, there *sqlschema.Table,
	columns, beside []string) ([][]any, error) {
	var names, where []string
	for _, c := range columns {
		names = append(names, e.SQL().Quote(c))
		where = append(where, e.SQL().Quote(c)+" IS NOT NULL")
	}
	if t.SoftDelete != "" {
		where = append(where, e.SQL().Quote(t.SoftDelete)+" IS NULL")
	}
	order, list := strings.Join(names, ", "), names
	for _, c := range beside {
		if there.Column(c) == nil { // it has yet to come
			list = append(list, "NULL")
			continue
		}
		list = append(list, e.SQL().Quote(c))
	}
	rows, err := db.Select(
		ctx,
		fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s LIMIT %d", strings.Join(list, ", "), e.SQL().Quote(t.Name),
			strings.Join(where, " AND "), order, keysLooked),
	)
	if err != nil {
		return nil, err
	}
	out := make([][]any, len(rows))
	for i, row := range rows {
		for j, c := range slices.Concat(columns, beside) {
			out[i] = append(out[i], readBack(row[j], t.Column(c).Type))
		}
	}
	return out, nil
}
