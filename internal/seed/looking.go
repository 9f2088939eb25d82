package seed

// This file looks at what is there for a seed, before its rows are made.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/declare"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Look reads what a seed has to know of a database.
func Look(ctx context.Context, db Database, e Engine, d *declare.Declared,
	s *declare.Seed) (*Existing, error) {
	live, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	l := &looking{ctx: ctx, db: db, e: e, declared: d, seed: s, live: live,
		g: &Existing{Tables: map[string]*ExistingTable{}}}
	return l.g, l.lines(s.Lines)
}

// looking is the reading of what a seed has to know.
type looking struct {
	ctx      context.Context
	db       Database
	e        Engine
	declared *declare.Declared
	seed     *declare.Seed
	live     *sqlschema.Schema
	g        *Existing
}

func (l *looking) lines(list []*declare.SeedLine) error {
	for _, line := range list {
		if err := l.table(line.Table); err != nil {
			return err
		}
		if err := l.lines(line.Lines); err != nil {
			return err
		}
	}
	return nil
}

// table reads how many rows are in a table, which number comes next, and what its rows can
// refer to.
func (l *looking) table(t *schema.Table) error {
	ctx, db, g, live := l.ctx, l.db, l.g, l.live
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
	out := &ExistingTable{Next: 1}
	g.Tables[t.Name] = out
	rows, err := db.Select(ctx, "SELECT 1 FROM "+l.e.SQL().QuoteTable(t.Name)+" LIMIT 1")
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
		if l.seed.Makes(k.Table) {
			continue
		}
		target := l.declared.Schema.Table(k.Table)
		if target == nil || live.Table(k.Table) == nil {
			return fmt.Errorf("the table %s does not exist in the database: apply the migrations first", k.Table)
		}
		to := g.Tables[k.Table]
		if to == nil {
			to = &ExistingTable{Keys: map[string][][]any{}}
			g.Tables[k.Table] = to
		}
		beside := besides(l.declared.Schema, t, k)
		name := keyName(k.References, beside)
		if to.Keys[name] != nil {
			continue
		}
		if to.Keys[name], err = l.keys(target, live.Table(k.Table), k.References, beside); err != nil {
			return err
		}
	}
	return nil
}

// keys reads the values of columns that rows can refer to, with those of others beside them.
func (l *looking) keys(t *schema.Table, there *sqlschema.Table, columns, beside []string) ([][]any, error) {
	q := l.e.SQL().Quote
	var names, where []string
	for _, c := range columns {
		names = append(names, q(c))
		where = append(where, q(c)+" IS NOT NULL")
	}
	if t.SoftDelete != "" {
		where = append(where, q(t.SoftDelete)+" IS NULL")
	}
	order, list := strings.Join(names, ", "), names
	for _, c := range beside {
		if there.Column(c) == nil { // it has yet to come
			list = append(list, "NULL")
			continue
		}
		list = append(list, q(c))
	}
	rows, err := l.db.Select(
		l.ctx,
		fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s LIMIT %d", strings.Join(list, ", "),
			l.e.SQL().QuoteTable(t.Name),
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
