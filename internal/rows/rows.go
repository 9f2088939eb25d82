// Package rows compares reference rows with a database: which of those that are declared are
// there, which of their cells differ, and which of those that were once declared are there
// still. The database itself compares, in its own forms. testdata has cases:
//
//	shelves a: there
//	shelves b: there
//	    name is 'east'
//	shelves d: there, no longer declared
//	    2 rows of boxes refer to it
package rows

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Row is one reference row, as a database has it.
type Row struct {
	Key      string // the value that tells it from others
	Declared bool
	There    bool
	Cells    []Cell // of a declared row, by the columns of the block
	// Pointing are the rows of other tables that refer to it, of one that is
	// declared no more.
	Pointing []Pointing
}

// Cell is one value of a declared row.
type Cell struct {
	Column string
	Same   bool
	Now    string // what the database has, as a literal; empty where the row or the column is missing
}

// Pointing is how many rows of a table refer to a row.
type Pointing struct {
	Table string
	Rows  int64
}

// at once, since a statement takes only so many values.
const chunk = 100

// Known are the rows of a table that were declared once: what tells them apart, and
// their keys.
type Known struct {
	By   []schema.KeyPart
	Keys []string
}

// In is a database with what it holds.
type In struct {
	DB     engine.Queries
	Schema *sqlschema.Schema
}

// Compare holds the rows of a table against a database; known are, by table, the
// rows that were declared once. What the live table has no column for differs.
func (in In) Compare(ctx context.Context, e engine.Dialect, wanted *sqlschema.Schema, table string,
	known map[string]Known) ([]Row, error) {
	by := known[table].By
	t := wanted.Table(table)
	there := in.Schema.Table(table)
	var out []Row
	declared := map[string]bool{}
	r := t.Rows()
	if r != nil {
		for n := range r.Values {
			row := Row{Key: r.Key(n), Declared: true}
			for _, c := range r.Columns {
				row.Cells = append(row.Cells, Cell{Column: c})
			}
			declared[row.Key] = true
			out = append(out, row)
		}
	}
	if there == nil || !Has(there, by) {
		return out, nil
	}
	c := comparison{ctx: ctx, db: in.DB, e: e, table: t, wanted: wanted, live: in.Schema, there: there, known: known}
	if r != nil {
		for at := 0; at < len(out); at += chunk {
			if err := c.cells(out[at:min(at+chunk, len(out))], at); err != nil {
				return nil, err
			}
		}
	}
	gone := slices.DeleteFunc(slices.Clone(known[table].Keys), func(k string) bool { return declared[k] })
	for _, key := range gone {
		out = append(out, Row{Key: key})
	}
	return out, c.gone(out[len(out)-len(gone):], by)
}

type comparison struct {
	ctx    context.Context
	db     engine.Queries
	e      engine.Dialect
	table  *sqlschema.Table
	wanted *sqlschema.Schema
	live   *sqlschema.Schema
	there  *sqlschema.Table
	known  map[string]Known
}

// among is the condition that a row is not deleted.
func (c *comparison) among(name string) string {
	if c.table.SoftDelete == "" || c.there.Column(c.table.SoftDelete) == nil {
		return ""
	}
	return " AND " + name + "." + c.e.Quote(c.table.SoftDelete) + " IS NULL"
}

// cells asks for declared rows, the first of which is row first of the block.
func (c *comparison) cells(list []Row, first int) error {
	r := c.table.Rows()
	names := []string{"i"}
	var asked []int // by place in the query: the column
	for i, column := range r.Columns {
		if c.there.Column(column) != nil {
			names = append(names, "c"+strconv.Itoa(len(asked)))
			asked = append(asked, i)
		}
	}
	var values []string
	for n := range list {
		cells := []string{strconv.Itoa(n)}
		for _, i := range asked {
			sql, err := c.literal(first+n, i)
			if err != nil {
				return err
			}
			if n == 0 { // the first row tells the types of all
				sql = c.e.Cast(sql, c.typeOf(i))
			}
			cells = append(cells, sql)
		}
		values = append(values, "("+strings.Join(cells, ", ")+")")
	}
	take := []string{"d.i AS i"}
	var key []string
	for n, i := range asked {
		now := c.now(i)
		if slices.Contains(r.By, r.Columns[i]) {
			key = append(key, fmt.Sprintf("%s = d.c%d", now, n))
		}
		take = append(
			take,
			fmt.Sprintf("CASE WHEN %s = d.c%d OR %s IS NULL AND d.c%d IS NULL THEN 1 ELSE 0 END AS same%d", now, n, now,
				n, n),
			fmt.Sprintf("%s AS now%d", now, n),
		)
	}
	query := fmt.Sprintf("WITH d(%s) AS (VALUES %s)\nSELECT %s FROM d JOIN %s AS t ON %s%s", strings.Join(names, ", "),
		strings.Join(values, ", "), strings.Join(take, ", "), c.e.QuoteTable(c.there.Name), strings.Join(key, " AND "),
		c.among("t"))
	rows, err := c.db.Sample(c.ctx, query, 0)
	if err != nil {
		return fmt.Errorf("the rows of %s cannot be compared with the database: %w", c.table.Name, err)
	}
	for _, v := range rows.Values {
		n, err := strconv.Atoi(v[0])
		if err != nil {
			return err
		}
		list[n].There = true
		for j, i := range asked {
			list[n].Cells[i].Same = v[1+2*j] == "1"
			list[n].Cells[i].Now = v[2+2*j]
		}
	}
	return nil
}

// typeOf is the stored type of a declared value: that of the column that it is
// compared with.
func (c *comparison) typeOf(column int) string {
	if link := c.table.Rows().Refers[column]; link != nil {
		if t := c.live.Table(link.Table); t != nil && t.Column(link.By) != nil {
			return t.Column(link.By).SQLType
		}
	}
	return c.there.Column(c.table.Rows().Columns[column]).SQLType
}

// literal is the declared value of a cell, as SQL.
func (c *comparison) literal(row, column int) (string, error) {
	return Literal(c.e, c.table, row, column, false)
}

// now is what the database has in a column, in the terms of the block.
func (c *comparison) now(column int) string {
	q, r := c.e.Quote, c.table.Rows()
	name := "t." + q(r.Columns[column])
	if link := r.Refers[column]; link != nil && c.live.Table(link.Table) != nil &&
		c.live.Table(link.Table).Column(link.By) != nil {
		live := ""
		if link.Marked != "" && c.live.Table(link.Table).Column(link.Marked) != nil {
			live = " AND l." + q(link.Marked) + " IS NULL"
		}
		return fmt.Sprintf("(SELECT l.%s FROM %s AS l WHERE l.%s = %s%s)", q(link.By), c.e.QuoteTable(link.Table),
			q(link.Column),
			name, live)
	}
	return name
}

// Literal is a declared value as SQL: its own, or, where it names a row of another
// table and take is set, the query for the value that the reference takes.
func Literal(e engine.Dialect, t *sqlschema.Table, row, column int, take bool) (string, error) {
	r := t.Rows()
	v, col := r.Values[row][column], t.Column(r.Columns[column])
	link := r.Refers[column]
	if link == nil || v.Kind == schema.NullValue {
		return e.Literal(v, col.Type)
	}
	sql, err := e.Literal(v, link.Type)
	if err != nil || !take {
		return sql, err
	}
	live := ""
	if link.Marked != "" {
		live = " AND " + e.Quote(link.Marked) + " IS NULL"
	}
	return fmt.Sprintf("(SELECT %s FROM %s WHERE %s = %s%s)", e.Quote(link.Column), e.QuoteTable(link.Table),
		e.Quote(link.By), sql, live), nil
}

// Has tells whether a table has the columns of a key.
func Has(t *sqlschema.Table, by []schema.KeyPart) bool {
	return len(by) > 0 && !slices.ContainsFunc(by, func(k schema.KeyPart) bool { return t.Column(k.Column) == nil })
}

// Names are the columns of a key.
func Names(by []schema.KeyPart) []string {
	var out []string
	for _, k := range by {
		out = append(out, k.Column)
	}
	return out
}

// DeclaredKey is the key of a declared row, as SQL.
func DeclaredKey(e engine.Dialect, t *sqlschema.Table, row int) ([]string, error) {
	var out []string
	for _, c := range t.Rows().By {
		sql, err := Literal(e, t, row, t.Rows().Place(c), true)
		if err != nil {
			return nil, err
		}
		out = append(out, sql)
	}
	return out, nil
}

// KeyLiteral is a key, as text, as SQL of its columns. A value that names a row of another
// table is the query for what the reference takes of it.
func KeyLiteral(e engine.Dialect, s *sqlschema.Schema, t *sqlschema.Table, by []schema.KeyPart,
	key string) ([]string, error) {
	var out []string
	for i, text := range schema.SplitKey(key, len(by)) {
		k, typ := by[i], t.Column(by[i].Column).Type
		target := s.Table(k.Table)
		var to string
		for _, f := range t.ForeignKeys {
			if k.Table != "" && len(f.Columns) == 1 && f.Columns[0] == k.Column {
				to = f.References[0]
			}
		}
		named := to != "" && target != nil && target.Column(k.Field) != nil
		if named {
			typ = target.Column(k.Field).Type
		}
		v, err := schema.ReadValue(text, typ)
		if err != nil {
			return nil, err
		}
		sql, err := e.Literal(v, typ)
		if err != nil {
			return nil, err
		}
		if named {
			sql = fmt.Sprintf("(SELECT %s FROM %s WHERE %s = %s%s)", e.Quote(to), e.QuoteTable(target.Name),
				e.Quote(k.Field), sql, live(e, target))
		}
		out = append(out, sql)
	}
	return out, nil
}

// live leaves out rows that are marked as deleted.
func live(e engine.Dialect, t *sqlschema.Table) string {
	if t.SoftDelete == "" {
		return ""
	}
	return " AND " + e.Quote(t.SoftDelete) + " IS NULL"
}

// gone asks which rows that are no longer declared are there, and what points at
// them.
func (c *comparison) gone(list []Row, by []schema.KeyPart) error {
	at := engine.Aliased(c.e.Quote, "t")
	var keys [][]string
	for _, row := range list {
		key, err := KeyLiteral(c.e, c.wanted, c.table, by, row.Key)
		if err != nil {
			return err
		}
		keys = append(keys, key)
	}
	for i := range list {
		n, err := c.db.Count(
			c.ctx,
			fmt.Sprintf("SELECT 1 FROM %s AS t WHERE %s%s", c.e.QuoteTable(c.there.Name),
				engine.IsRow(at, Names(by), keys[i]),
				c.among("t")),
		)
		if err != nil {
			return err
		}
		if list[i].There = n > 0; n == 0 {
			continue
		}
		for _, p := range sqlschema.Pointers(c.live, c.there) {
			where := engine.IsRow(at, Names(by), keys[i]) + c.among("t")
			managed, err := c.managed(p.Table)
			if err != nil {
				return err
			}
			where += managed
			n, err := c.db.Count(
				c.ctx,
				fmt.Sprintf("SELECT 1 FROM %s AS c JOIN %s AS t ON %s WHERE %s", c.e.QuoteTable(p.Table.Name),
					c.e.QuoteTable(c.there.Name),
					On(c.e, p, "c", "t"), where),
			)
			if err != nil {
				return err
			}
			if n > 0 {
				list[i].Pointing = append(list[i].Pointing, Pointing{Table: p.Table.Name, Rows: n})
			}
		}
	}
	return nil
}

// managed leaves out the reference rows of a table that points at a row: those
// that are declared name no row that is not, and the others go themselves.
func (c *comparison) managed(t *sqlschema.Table) (string, error) {
	w := c.wanted.Table(t.Name)
	by := c.known[t.Name].By
	if w == nil || !Has(t, by) || !Has(w, by) {
		return "", nil
	}
	keys := slices.Clone(c.known[t.Name].Keys)
	if w.Rows() != nil {
		for n := range w.Rows().Values {
			keys = append(keys, w.Rows().Key(n))
		}
	}
	if len(keys) == 0 {
		return "", nil
	}
	var list [][]string
	for _, key := range keys {
		sql, err := KeyLiteral(c.e, c.wanted, w, by, key)
		if err != nil {
			return "", err
		}
		list = append(list, sql)
	}
	return fmt.Sprintf(" AND NOT (%s)", engine.IsAny(engine.Aliased(c.e.Quote, "c"), Names(by), list)), nil
}

// On is the condition that joins a row to the one that it points at.
func On(e engine.Dialect, p sqlschema.Pointer, from, to string) string {
	var on []string
	for i, c := range p.Key.Columns {
		on = append(on, fmt.Sprintf("%s.%s = %s.%s", from, e.Quote(c), to, e.Quote(p.To[i])))
	}
	return strings.Join(on, " AND ")
}
