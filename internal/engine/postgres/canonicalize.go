package postgres

// This file puts expressions that anyone wrote into the words in which the server
// keeps them: it stores them in a temporary table, in a transaction that is taken
// back, and reads them again. Only those are asked about that differ from what is
// there; a schema of plain types asks nothing.

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// asked is an expression of a wanted table whose stored words are to be found.
type asked struct {
	table *sqlschema.Table
	sql   *sqlschema.SQL
	make  func(name string) string // the statement that stores it on the table name
	read  string                   // the query that reads it, of the table's number in $1
}

// Canonicalize puts the SQL of a wanted schema into the server's words where it differs
// from what live has.
func (d *database) Canonicalize(ctx context.Context, wanted, live *sqlschema.Schema) error {
	var list []asked
	there, declared := typesOf(live), typesOf(wanted)
	for _, t := range wanted.Tables {
		for _, c := range t.Columns {
			c.OwnType = there(c.SQLType) || declared(c.SQLType)
		}
		old := live.Table(t.Name)
		if old == nil || t.Elsewhere() || schema.Own(t.Name) {
			continue
		}
		if err := d.restateTypes(ctx, t, old); err != nil {
			return err
		}
		list = append(list, differing(t, old)...)
	}
	if len(list) == 0 {
		return nil
	}
	inside := d.inTx
	begin, end := "BEGIN READ WRITE", "ROLLBACK"
	if d.pooled {
		begin += "; " + d.set("SET LOCAL ")
	}
	if inside {
		begin, end = "SAVEPOINT erbario_words", "ROLLBACK TO erbario_words; RELEASE erbario_words"
	}
	if err := d.Exec(ctx, begin); err != nil {
		return err
	}
	d.inTx = true
	err := d.restate(ctx, list)
	d.inTx = inside
	if e := d.Exec(context.WithoutCancel(ctx), end); err == nil {
		err = e
	}
	return err
}

// restateTypes puts types that are said in SQL into the server's words. One that the
// server does not know keeps the words that it has: a step may create it.
func (d *database) restateTypes(ctx context.Context, t, live *sqlschema.Table) error {
	for _, c := range t.Columns {
		if o := live.Column(c.Name); c.Type.Kind != schema.Native && c.Type.As == "" || o == nil ||
			o.SQLType == c.SQLType {
			continue
		}
		ask := func(sql string) (*pgconn.Result, error) {
			if d.inTx {
				if err := d.Exec(ctx, "SAVEPOINT erbario_type"); err != nil {
					return nil, err
				}
			}
			r := d.pg().ExecParams(ctx, sql, nil, nil, nil, nil).Read()
			if r.Err != nil && (d.pg().IsClosed() || ctx.Err() != nil) {
				return nil, d.plain(r.Err)
			}
			if d.inTx {
				return r, d.Exec(ctx, "ROLLBACK TO erbario_type; RELEASE erbario_type")
			}
			return r, nil
		}
		r, err := ask("SELECT NULL::" + c.SQLType)
		if err != nil {
			return err
		}
		if r.Err != nil || len(r.FieldDescriptions) != 1 {
			continue
		}
		oid, mod := fmt.Sprint(r.FieldDescriptions[0].DataTypeOID), fmt.Sprint(r.FieldDescriptions[0].TypeModifier)
		if r, err = ask("SELECT pg_catalog.format_type(" + oid + ", " + mod + ")"); err != nil || r.Err != nil {
			return err
		}
		c.SQLType = typeText(oid, mod, string(r.Rows[0][0]))
	}
	return nil
}

// differing are the expressions of a table that are not those of the live one.
func differing(t, live *sqlschema.Table) []asked {
	var out []asked
	n := 0
	name := func() string { n++; return "erbario_q" + strconv.Itoa(n) }
	add := func(sql *sqlschema.SQL, make func(string) string, read string) {
		out = append(out, asked{t, sql, make, read})
	}
	for _, c := range t.Columns {
		o := live.Column(c.Name)
		if o == nil {
			continue
		}
		if c.Default != nil && o.Default != nil && !c.Default.Same(*o.Default) {
			x := quote(c.Name)
			add(
				c.Default,
				func(table string) string {
					return "ALTER TABLE " + table + " ALTER COLUMN " + x + " SET DEFAULT " + defaultSQL(c.Default.Text)
				},
				"SELECT pg_get_expr(d.adbin, d.adrelid, true) FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = $1::oid AND a.attname = "+literal(
					c.Name,
				),
			)
		}
		if c.Generated != nil && o.Generated != nil && !c.Generated.SQL.Same(o.Generated.SQL) {
			k := name()
			add(&c.Generated.SQL, func(table string) string {
				return "ALTER TABLE " + table + " ADD COLUMN " + k + " " + c.SQLType + " GENERATED ALWAYS AS (" + c.Generated.SQL.Text + ") STORED"
			}, "SELECT pg_get_expr(d.adbin, d.adrelid, true) FROM pg_attrdef d JOIN pg_attribute a ON a.attrelid = d.adrelid AND a.attnum = d.adnum WHERE d.adrelid = $1::oid AND a.attname = "+literal(k))
		}
	}
	for _, c := range t.Checks {
		differs := true
		there := false
		for _, o := range live.Checks {
			if o.Name == c.Name {
				there = true
			}
			if o.SQL.Same(c.SQL) {
				differs = false
			}
		}
		if differs && (there || len(live.Checks) > 0) {
			k := name()
			add(
				&c.SQL,
				func(table string) string {
					return "ALTER TABLE " + table + " ADD CONSTRAINT " + k + " CHECK (" + c.SQL.Text + ")"
				},
				"SELECT pg_get_expr(conbin, conrelid, true) FROM pg_constraint WHERE conrelid = $1::oid AND conname = "+literal(
					k,
				),
			)
		}
	}
	for _, x := range t.Indexes {
		var old *sqlschema.Index
		for _, o := range live.Indexes {
			if o.Name == x.Name {
				old = o
			}
		}
		if old == nil || sqlschema.SameIndex(old, x) {
			continue
		}
		if x.Where != nil && old.Where != nil && !x.Where.Same(*old.Where) {
			k := name()
			add(
				x.Where,
				func(table string) string {
					return "CREATE INDEX " + k + " ON " + table + " ((1)) WHERE " + x.Where.Text
				},
				"SELECT pg_get_expr(i.indpred, i.indrelid, true) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = $1::oid AND c.relname = "+literal(
					k,
				),
			)
		}
		for i, p := range x.Parts {
			if p.Expr != nil && i < len(old.Parts) && old.Parts[i].Expr != nil && !p.Expr.Same(*old.Parts[i].Expr) {
				k := name()
				add(
					x.Parts[i].Expr,
					func(table string) string { return "CREATE INDEX " + k + " ON " + table + " ((" + p.Expr.Text + "))" },
					"SELECT pg_get_indexdef(i.indexrelid, 1, true) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indrelid = $1::oid AND c.relname = "+literal(
						k,
					),
				)
			}
		}
	}
	return out
}

// restate stores and reads each expression. One that the server refuses keeps the
// words that it has: whoever applies it is told why.
func (d *database) restate(ctx context.Context, list []asked) error {
	made := map[*sqlschema.Table]string{}
	for _, q := range list {
		id, ok := made[q.table]
		if !ok {
			var columns []string
			for _, c := range q.table.Columns {
				if c.Generated == nil {
					columns = append(columns,
						columnDefinition(&sqlschema.Column{Name: c.Name, SQLType: c.SQLType, Collation: c.Collation}))
				}
			}
			if err := d.Exec(ctx, "SAVEPOINT erbario_word; CREATE TEMPORARY TABLE "+quote(
				bare(q.table.Name))+" ("+strings.Join(columns, ", ")+")"); err != nil {
				if errors.Is(err, engine.ErrDenied) {
					return fmt.Errorf("what the models say in SQL cannot be compared without temporary tables: %w", err)
				}
				if e := d.Exec(ctx, "ROLLBACK TO erbario_word"); e != nil {
					return e
				}
			} else {
				rows, err := d.Select(ctx, "SELECT to_regclass(?)::oid", "pg_temp."+quote(bare(q.table.Name)))
				if err != nil {
					return err
				}
				id = rows[0][0]
			}
			made[q.table] = id
		}
		if id == "" {
			continue
		}
		if err := d.Exec(ctx, "SAVEPOINT erbario_word; "+q.make("pg_temp."+quote(bare(q.table.Name)))); err != nil {
			if d.pg().IsClosed() || ctx.Err() != nil {
				return err
			}
			if e := d.Exec(ctx, "ROLLBACK TO erbario_word"); e != nil {
				return e
			}
			continue
		}
		r := d.pg().ExecParams(ctx, qualified(q.read), [][]byte{[]byte(id)}, nil, nil, nil).Read()
		if r.Err != nil {
			return d.plain(r.Err)
		}
		if len(r.Rows) != 1 {
			return fmt.Errorf("the server did not keep %s", q.sql.Text)
		}
		text, stored := q.sql.Text, string(r.Rows[0][0])
		q.sql.Canon = func(s string) string {
			if s == text {
				return canon(stored)
			}
			return canon(s)
		}
	}
	return nil
}
