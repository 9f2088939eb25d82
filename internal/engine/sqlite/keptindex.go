package sqlite

// This file makes the values that come back from kept tables quick to find: a kept table has
// no index, and SQL that looks into it for each row of another would read all of it each time.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
)

// fewKept is how many kept rows are read through faster than an index is created.
const fewKept = 500

// keyed is a kept table with values of columns, and its columns for the key of their rows.
type keyed struct {
	table string
	keys  []string
}

// index is the name of the index on the keys.
func (k keyed) index() string { return k.table + "_key_index" }

// stepIndexed runs a statement while the kept tables that it looks into have an index on the
// key of the rows they belong to. The index is dropped again: a kept table is as it was.
func (d *database) stepIndexed(ctx context.Context, statement string,
	run func(ctx context.Context, sql string, args ...any) error) error {
	list, err := d.keyedIn(ctx, statement)
	if err != nil {
		return err
	}
	if len(list) > 0 && !changesRows(statement) { // such as the DROP TABLE of a kept one
		list = nil
	}
	return d.indexed(ctx, list, func() error { return run(ctx, statement) })
}

// askIndexed asks a question likewise. Outside of a transaction nothing is written to the
// database: the question then reads indexed copies, which SQLite keeps for this connection
// alone and takes in the place of tables with the same name.
func (d *database) askIndexed(ctx context.Context, query string, ask func() error) (err error) {
	list, err := d.keyedIn(ctx, query)
	if err != nil {
		return err
	}
	if d.inTx {
		return d.indexed(ctx, list, ask)
	}
	for _, k := range list {
		defer func() { // whatever happened: nothing else may read the copy
			if e := d.Exec(context.WithoutCancel(ctx), "DROP TABLE IF EXISTS temp."+quote(k.table)); err == nil {
				err = e
			}
		}()
		for _, sql := range []string{
			fmt.Sprintf("CREATE TEMP TABLE %s AS SELECT * FROM main.%[1]s ORDER BY rowid", quote(k.table)),
			fmt.Sprintf("CREATE INDEX temp.%s ON %s (%s)", quote(k.index()), quote(k.table), quoteAll(k.keys)),
		} {
			if err := d.Exec(ctx, sql); err != nil {
				return err
			}
		}
	}
	return ask()
}

// indexed does something in a transaction while kept tables have their index. Where it fails,
// the transaction takes the index back too.
func (d *database) indexed(ctx context.Context, list []keyed, do func() error) error {
	for _, k := range list {
		if err := d.Exec(ctx, fmt.Sprintf("CREATE INDEX IF NOT EXISTS %s ON %s (%s)", quote(k.index()), quote(k.table), quoteAll(k.keys))); err != nil {
			return err
		}
	}
	if err := do(); err != nil {
		return err
	}
	for _, k := range list {
		if err := d.Exec(ctx, "DROP INDEX IF EXISTS "+quote(k.index())); err != nil {
			return err
		}
	}
	return nil
}

// keyedIn are the kept tables with more than a few rows that SQL looks into by their keys.
func (d *database) keyedIn(ctx context.Context, sql string) (out []keyed, err error) {
	for _, table := range keptIn(sql) {
		columns, err := d.Select(ctx,
			"SELECT name FROM pragma_table_info(?) WHERE name LIKE 'key\\_%' ESCAPE '\\' ORDER BY cid", table)
		if err != nil {
			return nil, err
		}
		if len(columns) == 0 { // it holds a whole table
			continue
		}
		many, err := d.Select(ctx, fmt.Sprintf("SELECT 1 FROM %s LIMIT 1 OFFSET %d", quote(table), fewKept))
		if err != nil {
			return nil, err
		}
		if len(many) == 0 {
			continue
		}
		k := keyed{table: table}
		for _, c := range columns {
			k.keys = append(k.keys, c[0])
		}
		out = append(out, k)
	}
	return out, nil
}

// keptIn are the names of kept tables in SQL.
func keptIn(sql string) (out []string) {
	if !strings.Contains(strings.ToLower(sql), schema.KeptPrefix) {
		return nil
	}
	for _, t := range tokens(sql) {
		if t.Named() && strings.HasPrefix(strings.ToLower(t.Name()), schema.KeptPrefix) &&
			!slices.Contains(out, t.Name()) {
			out = append(out, t.Name())
		}
	}
	return out
}

// changesRows reports whether a statement inserts, updates or deletes rows.
func changesRows(statement string) bool {
	list := tokens(statement)
	return len(list) > 0 && (list[0].Is("UPDATE") || list[0].Is("INSERT") || list[0].Is("DELETE"))
}
