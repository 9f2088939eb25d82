package deleted

// This file deletes rows for good. A row takes those along that refer to it and
// that its table declares to go with it: the ones that are deleted too, and those
// that are on delete cascade. A live row that is held back by nothing but the
// reference stops it.

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/schema"
	"erbario/internal/words"
)

// Purged is what a purge takes away, children first.
type Purged struct {
	Rows   []Counted // of each table
	Live   []Counted // how many of those were not deleted before
	Loosed []Counted // rows that lose their reference, by table.column
}

// Of is the number of rows of a table that go.
func (p Purged) Of(table string) int64 {
	for _, c := range p.Rows {
		if c.Table == table {
			return c.Rows
		}
	}
	return 0
}

// HeldError says that live rows refer to rows that are to go.
type HeldError struct {
	Table string // of the live rows
	Rows  int64
	To    string
}

func (e *HeldError) Error() string {
	verb, are := "refer", "are"
	if e.Rows == 1 {
		verb, are = "refers", "is"
	}
	return fmt.Sprintf(
		"%s of %s %s to deleted rows of %s and %s not deleted: delete or change them first; nothing was purged",
		words.Rows(e.Rows), e.Table, verb, e.To, are)
}

const chunk = 200

type purge struct {
	rows, live, loosed []Counted
}

func add(list *[]Counted, table string, n int64) {
	if n == 0 {
		return
	}
	for i := range *list {
		if (*list)[i].Table == table {
			(*list)[i].Rows += n
			return
		}
	}
	*list = append(*list, Counted{table, n})
}

// Purge deletes rows for good: those with the keys, or, without keys, those that
// were deleted before a time. Without commit all of it is undone again.
func (t Table) Purge(ctx context.Context, keys [][]string, before time.Time, wait time.Duration,
	commit bool) (Purged, error) {
	p := &purge{}
	err := t.inside(ctx, wait, commit, func() error {
		for _, key := range keys {
			rows, err := t.rows(ctx, t.is(key, ""), 1, false)
			if err != nil {
				return err
			}
			if len(rows) == 0 {
				return fmt.Errorf("%s has no row with %s: erbario deleted list %s shows those that are deleted", t.Name,
					t.KeyWords(key), t.Name)
			}
			if rows[0].At == "NULL" {
				return fmt.Errorf("the row %s of %s is not deleted: only deleted rows are purged", t.KeyWords(key),
					t.Name)
			}
		}
		for _, key := range keys {
			if err := t.purge(ctx, p, t.is(key, ""), nil); err != nil {
				return err
			}
		}
		if len(keys) > 0 {
			return nil
		}
		limit, err := t.SQL.
			Literal(schema.Value{Kind: schema.TextValue, Text: before.UTC().Truncate(time.Second).Format(time.DateTime)}, schema.Type{Kind: schema.Timestamp})
		if err != nil {
			return err
		}
		old := fmt.Sprintf("%s AND %s < %s", t.mark(), t.q(t.SoftDelete), limit)
		if t.Unkeyed() {
			return t.purge(ctx, p, old, nil)
		}
		for {
			rows, err := t.rows(ctx, old, chunk, false)
			if err != nil || len(rows) == 0 {
				return err
			}
			var terms []string
			for _, r := range rows {
				terms = append(terms, "("+t.is(r.Key, "")+")")
			}
			if err := t.purge(ctx, p, "("+strings.Join(terms, " OR ")+")", nil); err != nil {
				return err
			}
		}
	})
	return Purged{p.rows, p.live, p.loosed}, err
}

// purge deletes the rows that fulfil where, and before them what goes with them.
// inside are the tables on the way here, with the rows that they reached.
func (t Table) purge(ctx context.Context, p *purge, where string, inside []string) error {
	n, err := t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(t.Name), where))
	if err != nil || n == 0 {
		return err
	}
	if len(inside) > 100 {
		return fmt.Errorf(
			"rows of %s refer to each other in a circle of more than 100 steps: loosen one of the references first; nothing was purged",
			t.Name,
		)
	}
	for _, ref := range t.references() {
		c, to := ref.table, ref.to(t, where)
		switch ref.key.OnDelete {
		case schema.SetNull, schema.SetDefault:
			loose, err := t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(c.Name), to))
			if err != nil {
				return err
			}
			add(&p.loosed, c.Name+"."+strings.Join(ref.key.Columns, ", "), loose)
			continue
		case schema.Cascade:
		default:
			held := to
			if c.SoftDelete != "" {
				held += " AND " + t.q(c.SoftDelete) + " IS NULL"
			}
			n, err := t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(c.Name), held))
			if err != nil {
				return err
			}
			if n > 0 {
				return &HeldError{Table: c.Name, Rows: n, To: t.Name}
			}
		}
		keys, err := c.keysOf(ctx, to)
		if err != nil {
			return err
		}
		for part := range slices.Chunk(keys, chunk) {
			if err := c.purge(ctx, p, "("+strings.Join(part, " OR ")+")", append(inside, t.Name)); err != nil {
				return err
			}
		}
	}
	if t.SoftDelete != "" {
		live, err := t.DB.Count(ctx,
			fmt.Sprintf("SELECT 1 FROM %s WHERE (%s) AND %s IS NULL", t.table(t.Name), where, t.q(t.SoftDelete)))
		if err != nil {
			return err
		}
		add(&p.live, t.Name, live)
	} else {
		add(&p.live, t.Name, n)
	}
	if n, err = t.DB.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", t.table(t.Name), where)); err != nil {
		return err
	}
	add(&p.rows, t.Name, n)
	return t.DB.Exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE %s", t.table(t.Name), where))
}

// keysOf are the conditions that tell rows by their keys; a table without one
// has the condition itself.
func (t Table) keysOf(ctx context.Context, where string) ([]string, error) {
	if t.Unkeyed() {
		return []string{where}, nil
	}
	rows, err := t.DB.Sample(ctx,
		fmt.Sprintf("SELECT %s FROM %s WHERE %s", t.names(t.Key()), t.table(t.Name), where), 0)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, v := range rows.Values {
		out = append(out, "("+t.is(v, "")+")")
	}
	return out, nil
}
