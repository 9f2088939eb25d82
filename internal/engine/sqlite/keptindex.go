package sqlite

// This file makes the values that come back from kept tables quick to find: a kept table has
// no index, and a statement that looks into it for each row of another would read all of it
// each time.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
)

// fewKept is how many kept rows are read through faster than an index is made.
const fewKept = 500

// whileIndexed runs a statement while the kept tables that it looks into have an index on the
// key of the rows they belong to. The index goes again: a kept table is as it was.
func (d *database) whileIndexed(ctx context.Context, statement string, run func(ctx context.Context, sql string, args ...any) error) error {
	list := tokens(statement)
	if len(list) == 0 || !list[0].is("UPDATE") && !list[0].is("INSERT") && !list[0].is("DELETE") {
		return run(ctx, statement)
	}
	made, err := d.indexKept(ctx, statement)
	if err != nil {
		return err
	}
	if err := run(ctx, statement); err != nil {
		return err // the transaction takes the index back too
	}
	return d.dropIndexes(ctx, made)
}

// askIndexed asks a question likewise, where it is asked inside of the transaction that changes
// the rows.
func (d *database) askIndexed(ctx context.Context, query string, ask func() error) error {
	if !d.inTx {
		return ask()
	}
	made, err := d.indexKept(ctx, query)
	if err != nil {
		return err
	}
	if err := ask(); err != nil {
		return err
	}
	return d.dropIndexes(ctx, made)
}

// indexKept makes the indexes, and gives their names.
func (d *database) indexKept(ctx context.Context, sql string) (made []string, err error) {
	for _, table := range keptIn(sql) {
		columns, err := d.Select(ctx, "SELECT name FROM pragma_table_info(?) WHERE name LIKE 'key\\_%' ESCAPE '\\' ORDER BY cid", table)
		if err != nil {
			return nil, err
		}
		if len(columns) == 0 { // a whole table, or it is made by the statement
			continue
		}
		many, err := d.Select(ctx, fmt.Sprintf("SELECT 1 FROM %s LIMIT 1 OFFSET %d", quote(table), fewKept))
		if err != nil {
			return nil, err
		}
		if len(many) == 0 {
			continue
		}
		var keys []string
		for _, c := range columns {
			keys = append(keys, c[0])
		}
		name := table + "_key_index"
		if err := d.Exec(ctx, fmt.Sprintf("CREATE INDEX IF NOT EXISTS %s ON %s (%s)", quote(name), quote(table), quoteAll(keys))); err != nil {
			return nil, err
		}
		made = append(made, name)
	}
	return made, nil
}

func (d *database) dropIndexes(ctx context.Context, names []string) error {
	for _, name := range names {
		if err := d.Exec(ctx, "DROP INDEX IF EXISTS "+quote(name)); err != nil {
			return err
		}
	}
	return nil
}

// keptIn are the kept tables that SQL names.
func keptIn(sql string) (out []string) {
	if !strings.Contains(strings.ToLower(sql), schema.KeptPrefix) {
		return nil
	}
	for _, t := range tokens(sql) {
		if t.named() && strings.HasPrefix(strings.ToLower(t.name()), schema.KeptPrefix) && !slices.Contains(out, t.name()) {
			out = append(out, t.name())
		}
	}
	return out
}
