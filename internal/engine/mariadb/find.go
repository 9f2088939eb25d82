package mariadb

// This file finds, changes and deletes rows by their values, for seeds and reference
// rows.

import (
	"context"
	gosql "database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// together is how many rows one statement asks for.
const together = 500

// typed gives a value as a literal of a column's type, where the server would else
// compare texts or floating numbers.
func typed(v any, c *sqlschema.Column) string {
	if c == nil || v == nil {
		return cellSQL(v)
	}
	switch kindOf(c).Kind {
	case schema.Decimal, schema.Date, schema.Time, schema.Timestamp, schema.Datetime:
		return "CAST(" + cellSQL(v) + " AS " + castType(typeOrStored(c)) + ")"
	}
	return cellSQL(v)
}

// valueRows are rows as a table of the columns c0, c1 and so on, with the number of each.
func valueRows(r engine.TableRows, from, to int) string {
	w := len(r.Columns)
	var rows []string
	for i := from; i < to; i++ {
		cells := []string{strconv.Itoa(i) + " AS i"}
		for j, v := range r.Cells[i*w : (i+1)*w] {
			cells = append(cells, typed(v, r.Table.Column(r.Columns[j]))+fmt.Sprintf(" AS c%d", j))
		}
		rows = append(rows, "SELECT "+strings.Join(cells, ", "))
	}
	return "(" + strings.Join(rows, " UNION ALL ") + ") AS v"
}

// Find looks for rows by the values of some columns.
func (d *Database) Find(ctx context.Context, f engine.Finding) ([][]any, error) {
	out := make([][]any, f.Rows())
	var on, take []string
	for i, c := range f.Columns {
		a, b := "t."+quote(c), fmt.Sprintf("v.c%d", i)
		if slices.Contains(f.Fold, c) {
			a, b = "lcase("+a+")", "lcase("+b+")"
		}
		on = append(on, a+" = "+b)
	}
	if f.Live && f.Table.SoftDelete != "" {
		on = append(on, "t."+quote(f.Table.SoftDelete)+" IS NULL")
	}
	for _, c := range f.Take {
		take = append(take, "t."+quote(c))
	}
	for at := 0; at < len(out); at += together {
		sql := "SELECT " + strings.Join(append([]string{"v.i"}, take...), ", ") + " FROM " + valueRows(f.TableRows, at,
			min(at+together, len(out))) + " JOIN " + quote(f.Table.Name) + " AS t ON " + strings.Join(
			on,
			" AND ",
		)
		err := d.each(ctx, sql, nil, func(values []gosql.RawBytes) {
			i, err := strconv.Atoi(string(values[0]))
			if err != nil {
				return // it is a number of ours
			}
			cells := make([]any, len(take))
			for j, v := range values[1:] {
				if v != nil {
					cells[j] = plainText(string(v), f.Table.Column(f.Take[j]))
				}
			}
			out[i] = cells
		})
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

// plainText is a value that was read as text, in the form in which seeds have it: a time
// without the parts of a second that it has not.
func plainText(s string, c *sqlschema.Column) any {
	if c == nil {
		return s
	}
	switch kindOf(c).Kind {
	case schema.Timestamp, schema.Datetime, schema.Time:
		if strings.Contains(s, ".") {
			return strings.TrimSuffix(strings.TrimRight(s, "0"), ".")
		}
	}
	return s
}

// Change sets columns of rows; quiet keeps our triggers still.
func (d *Database) Change(ctx context.Context, r engine.TableRows, by []string, still bool) (changed int64, err error) {
	var set, differs, where []string
	for i, c := range r.Columns {
		v := fmt.Sprintf("v.c%d", i)
		if slices.Contains(by, c) {
			where = append(where, "t."+quote(c)+" = "+v)
			continue
		}
		set = append(set, "t."+quote(c)+" = "+v)
		differs = append(differs, "NOT (t."+quote(c)+" <=> "+v+")")
	}
	if len(set) == 0 || len(r.Cells) == 0 {
		return 0, nil
	}
	d.dirty = true
	if still {
		if err := d.raw(ctx, "SET "+quiet+" = 1"); err != nil {
			return 0, err
		}
	}
	for at := 0; at < r.Rows(); at += together {
		n, err := d.change(
			ctx,
			fmt.Sprintf("UPDATE %s AS t JOIN %s ON %s SET %s WHERE %s", quote(r.Table.Name),
				valueRows(r, at, min(at+together, r.Rows())), strings.Join(where, " AND "), strings.Join(set, ", "),
				strings.Join(differs, " OR ")),
		)
		if err != nil {
			return changed, err
		}
		changed += n
	}
	if still {
		return changed, d.raw(ctx, "SET "+quiet+" = NULL")
	}
	return changed, nil
}

// DeleteEqual deletes one row for each of those given, also past a guard.
func (d *Database) DeleteEqual(ctx context.Context, r engine.TableRows) (deleted int64, err error) {
	if r.Table.Guarded() {
		around := quietly([]string{""})
		if err := d.raw(ctx, around[0]); err != nil {
			return 0, err
		}
		defer func() { err = errors.Join(err, d.raw(context.WithoutCancel(ctx), around[2])) }()
	}
	w := len(r.Columns)
	for at := 0; at < len(r.Cells); at += w {
		var where []string
		for i, c := range r.Columns {
			where = append(where, quote(c)+" <=> "+typed(r.Cells[at+i], r.Table.Column(c)))
		}
		n, err := d.change(ctx,
			fmt.Sprintf("DELETE FROM %s WHERE %s LIMIT 1", quote(r.Table.Name), strings.Join(where, " AND ")))
		if err != nil {
			return deleted, err
		}
		deleted += n
	}
	return deleted, nil
}

// NextNumber is the number that the next row gets.
func (d *Database) NextNumber(ctx context.Context, t *sqlschema.Table) (int64, error) {
	rows, err := d.Select(
		ctx,
		fmt.Sprintf(
			"SELECT greatest(coalesce((SELECT max(%s) FROM %s), 0) + 1, coalesce((SELECT auto_increment FROM information_schema.tables WHERE table_schema = database() AND table_name = ?), 1))",
			quote(t.Key()[0]), quote(t.Name)),
		t.Name,
	)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// Reserve lets nobody else get the numbers up to last. Setting the counter of a table
// ends the transaction: where rows were put in by it already the counter is left to
// follow the rows as they come.
func (d *Database) Reserve(ctx context.Context, t *sqlschema.Table, last int64) error {
	if d.inTx && d.dirty {
		return nil
	}
	next, err := d.NextNumber(ctx, t)
	if err != nil || next > last {
		return err
	}
	return d.Exec(ctx, fmt.Sprintf("ALTER TABLE %s AUTO_INCREMENT = %d", quote(t.Name), last+1))
}

// NextOf is the value that a sequence gives next.
func (d *Database) NextOf(ctx context.Context, sequence string) (int64, error) {
	rows, err := d.Select(ctx, "SELECT next_not_cached_value FROM "+quote(sequence))
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// StartAt has a sequence give this value next. Setting it changes no table, and ends no
// transaction.
func (d *Database) StartAt(ctx context.Context, sequence string, next int64) error {
	_, err := d.Select(ctx, "SELECT setval("+quote(sequence)+", "+strconv.FormatInt(next, 10)+", 0)")
	return err
}

// Insert is the statement that puts rows into a table.
func (Engine) Insert(r engine.TableRows) string {
	return sqltext.Insert(r, quote(r.Table.Name), quote, cellSQL)
}

// ScriptChange are the statements that set columns of rows.
func (Engine) ScriptChange(r engine.TableRows, by []string, still bool) []string {
	out := sqltext.Updates(r, quote(r.Table.Name), by, quote, cellSQL)
	if still {
		out = quietly(out)
	}
	for i := range out {
		out[i] += ";"
	}
	return out
}
