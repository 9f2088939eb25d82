package postgres

// This file loads the rows of seeds, by binary COPY, and finds, changes and deletes
// rows by their values.

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// selected is a query for the columns that rows are loaded into.
func selected(r engine.TableRows) string {
	return "SELECT " + quoteAll(r.Columns) + " FROM " + quoteTable(r.Table.Name)
}

// Encode gives rows the binary form, once a first Load has told the columns' types.
func (d *database) Encode(r engine.TableRows) []byte {
	d.loadedMu.Lock()
	oids := d.loaded[selected(r)]
	d.loadedMu.Unlock()
	if oids == nil {
		return nil
	}
	body, err := binaryRows(r.Cells, oids)
	if err != nil {
		return nil
	}
	return body
}

// Load puts rows into a table.
func (d *database) Load(ctx context.Context, r engine.TableRows) error {
	if len(r.Cells)+len(r.Encoded) == 0 {
		return nil
	}
	head := selected(r)
	d.loadedMu.Lock()
	oids := d.loaded[head]
	d.loadedMu.Unlock()
	if oids == nil {
		res, err := d.run(ctx, head+" LIMIT 0", nil)
		if err != nil {
			return err
		}
		for _, f := range res.FieldDescriptions {
			oids = append(oids, f.DataTypeOID)
		}
		d.loadedMu.Lock()
		if d.loaded == nil {
			d.loaded = map[string][]uint32{}
		}
		d.loaded[head] = oids
		d.loadedMu.Unlock()
	}
	into := "COPY " + quoteTable(r.Table.Name) + " (" + quoteAll(r.Columns) + ") FROM STDIN"
	parts := r.Encoded
	if len(parts) == 0 {
		body, err := binaryRows(r.Cells, oids)
		if err != nil { // a type that only its own text form tells
			_, err = d.pg().CopyFrom(ctx, bytes.NewReader(textRows(r.Cells, len(r.Columns))), into)
			return d.plain(err)
		}
		parts = [][]byte{body}
	}
	body := []io.Reader{bytes.NewReader(copyHead)}
	for _, p := range parts {
		body = append(body, bytes.NewReader(p))
	}
	body = append(body, bytes.NewReader(copyEnd))
	_, err := d.pg().CopyFrom(ctx, io.MultiReader(body...), into+" WITH (FORMAT binary)")
	return d.plain(err)
}

// typed gives a value as a literal of a column's type.
func typed(v any, c *sqlschema.Column) string {
	if c == nil {
		return cellSQL(v)
	}
	return "CAST(" + cellSQL(v) + " AS " + storedType(c) + ")"
}

// storedType is the type of a column, also where it is declared alone.
func storedType(c *sqlschema.Column) string {
	if c.SQLType != "" {
		return c.SQLType
	}
	return typeName(c.Type)
}

// Find looks for rows by the values of some columns.
func (d *database) Find(ctx context.Context, f engine.Finding) ([][]any, error) {
	out := make([][]any, f.Rows())
	w := len(f.Columns)
	var names, on, take []string
	for i, c := range f.Columns {
		names = append(names, fmt.Sprintf("c%d", i))
		a, b := "t."+quote(c), fmt.Sprintf("v.c%d", i)
		if slices.Contains(f.Fold, c) {
			a, b = "pg_catalog.lower("+a+")", "pg_catalog.lower("+b+")"
		}
		on = append(on, compared(f.Table.Column(c), a)+" = "+compared(f.Table.Column(c), b))
	}
	if f.Live && f.Table.SoftDelete != "" {
		on = append(on, "t."+quote(f.Table.SoftDelete)+" IS NULL")
	}
	for _, c := range f.Take {
		take = append(take, "t."+quote(c)+"::text")
	}
	const each = 500
	for at := 0; at < len(out); at += each {
		var values []string
		for i := at; i < min(at+each, len(out)); i++ {
			cells := []string{strconv.Itoa(i)}
			for j, v := range f.Cells[i*w : (i+1)*w] {
				if i == at { // the first row tells the types of all
					cells = append(cells, typed(v, f.Table.Column(f.Columns[j])))
				} else {
					cells = append(cells, cellSQL(v))
				}
			}
			values = append(values, "("+strings.Join(cells, ", ")+")")
		}
		sql := fmt.Sprintf("WITH v(i, %s) AS (VALUES %s) SELECT v.i, %s FROM v JOIN %s AS t ON %s",
			strings.Join(names, ", "), strings.Join(values, ", "), strings.Join(take, ", "), quoteTable(f.Table.Name),
			strings.Join(on, " AND "))
		r, err := d.run(ctx, sql, nil)
		if err != nil {
			return nil, err
		}
		for _, row := range r.Rows {
			i, err := strconv.Atoi(string(row[0]))
			if err != nil {
				return nil, err
			}
			cells := make([]any, len(row)-1)
			for j, v := range row[1:] {
				if v != nil {
					cells[j] = plainText(string(v), f.Table.Column(f.Take[j]))
				}
			}
			out[i] = cells
		}
	}
	return out, nil
}

// plainText is a value that was read as text, in the form in which seeds have it.
func plainText(s string, c *sqlschema.Column) any {
	if c == nil {
		return s
	}
	switch typeOf(storedType(c)).Kind {
	case schema.Timestamp:
		return strings.TrimSuffix(s, "+00")
	case schema.Boolean:
		return map[string]string{"true": "1", "false": "0"}[s]
	}
	return s
}

// Change sets columns of rows; quiet keeps our triggers still.
func (d *database) Change(ctx context.Context, r engine.TableRows, by []string, quiet bool) (changed int64, err error) {
	w := len(r.Columns)
	var set, differs, where []string
	for i, c := range r.Columns {
		v := fmt.Sprintf("v.c%d", i)
		if slices.Contains(by, c) {
			where = append(where, compared(r.Table.Column(c), "t."+quote(c))+" = "+compared(r.Table.Column(c), v))
			continue
		}
		set = append(set, quote(c)+" = "+v)
		differs = append(differs,
			compared(r.Table.Column(c), "t."+quote(c))+" IS DISTINCT FROM "+compared(r.Table.Column(c), v))
	}
	if len(set) == 0 || len(r.Cells) == 0 {
		return 0, nil
	}
	if quiet {
		if err := d.Exec(ctx, "SET LOCAL erbario.quiet = 'on'"); err != nil {
			return 0, err
		}
	}
	var names []string
	for i := range r.Columns {
		names = append(names, fmt.Sprintf("c%d", i))
	}
	const each = 500
	for at := 0; at < len(r.Cells); at += each * w {
		cells := r.Cells[at:min(at+each*w, len(r.Cells))]
		sql := fmt.Sprintf("UPDATE %s AS t SET %s FROM (VALUES %s) AS v(%s) WHERE %s AND (%s)",
			quoteTable(r.Table.Name),
			strings.Join(set, ", "), d.valueRows(r, cells), strings.Join(names, ", "), strings.Join(where, " AND "),
			strings.Join(differs, " OR "))
		res, err := d.run(ctx, sql, nil)
		if err != nil {
			return changed, err
		}
		changed += res.CommandTag.RowsAffected()
	}
	if quiet {
		return changed, d.Exec(ctx, "SET LOCAL erbario.quiet = ''")
	}
	return changed, nil
}

// valueRows are rows as a list of values, of which the first tells the types.
func (d *database) valueRows(r engine.TableRows, cells []any) string {
	w := len(r.Columns)
	var out []string
	for at := 0; at < len(cells); at += w {
		row := make([]string, w)
		for i, v := range cells[at : at+w] {
			if at == 0 {
				row[i] = typed(v, r.Table.Column(r.Columns[i]))
			} else {
				row[i] = cellSQL(v)
			}
		}
		out = append(out, "("+strings.Join(row, ", ")+")")
	}
	return strings.Join(out, ", ")
}

// DeleteEqual deletes one row for each of those given, also past a guard.
func (d *database) DeleteEqual(ctx context.Context, r engine.TableRows) (deleted int64, err error) {
	if r.Table.Guarded() {
		around := quiet(nil)
		if err := d.Exec(ctx, around[0]); err != nil {
			return 0, err
		}
		defer func() {
			if err == nil {
				err = d.Exec(ctx, around[1])
			}
		}()
	}
	w := len(r.Columns)
	for at := 0; at < len(r.Cells); at += w {
		var where []string
		for i, c := range r.Columns {
			where = append(
				where,
				compared(r.Table.Column(c), quote(c))+" IS NOT DISTINCT FROM "+compared(r.Table.Column(c),
					typed(r.Cells[at+i], r.Table.Column(c))),
			)
		}
		res, err := d.run(
			ctx,
			fmt.Sprintf("DELETE FROM %s WHERE ctid = (SELECT ctid FROM %s WHERE %s LIMIT 1)", quoteTable(r.Table.Name),
				quoteTable(r.Table.Name), strings.Join(where, " AND ")),
			nil,
		)
		if err != nil {
			return deleted, err
		}
		deleted += res.CommandTag.RowsAffected()
	}
	return deleted, nil
}

// NextNumber is the number that the next row gets.
func (d *database) NextNumber(ctx context.Context, t *sqlschema.Table) (int64, error) {
	key := t.Key()[0]
	rows, err := d.Select(
		ctx,
		fmt.Sprintf(
			"SELECT greatest(coalesce((SELECT max(%s) FROM %s), 0), coalesce(pg_sequence_last_value(pg_get_serial_sequence(?, ?)::regclass), 0))",
			quote(key), quoteTable(t.Name)),
		quoteTable(t.Name),
		key,
	)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(rows[0][0], 10, 64)
	return n + 1, err
}

// Reserve lets nobody else get the numbers up to last.
func (d *database) Reserve(ctx context.Context, t *sqlschema.Table, last int64) error {
	key := t.Key()[0]
	_, err := d.Select(ctx,
		"SELECT setval(s, greatest(?::bigint, coalesce(pg_sequence_last_value(s::regclass), 1))) FROM pg_get_serial_sequence(?, ?) AS s",
		last, quoteTable(t.Name), key)
	return err
}

// NextOf is the value that a sequence gives next.
func (d *database) NextOf(ctx context.Context, sequence string) (int64, error) {
	rows, err := d.Select(ctx,
		"SELECT last_value + CASE WHEN is_called THEN (SELECT seqincrement FROM pg_sequence WHERE seqrelid = ?::regclass) ELSE 0 END FROM "+quote(
			sequence), quoteTable(sequence))
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// StartAt has a sequence give this value next; one that had come to its end stays there.
func (d *database) StartAt(ctx context.Context, sequence string, next int64) error {
	_, err := d.Select(ctx,
		"SELECT setval(s.seqrelid::regclass, greatest(s.seqmin, least(s.seqmax, ?::bigint)), ?::bigint > s.seqmax OR ?::bigint < s.seqmin) FROM pg_sequence s WHERE s.seqrelid = ?::regclass",
		next, next, next, quoteTable(sequence))
	return err
}

// Insert is the statement that puts rows into a table.
func (Engine) Insert(r engine.TableRows) string {
	return sqltext.Insert(r, quoteTable(r.Table.Name), quote, cellSQL)
}

// ScriptChange are the statements that set columns of rows.
func (Engine) ScriptChange(r engine.TableRows, by []string, still bool) []string {
	out := sqltext.Updates(r, quoteTable(r.Table.Name), by, quote, cellSQL)
	if still {
		out = quiet(out)
	}
	for i := range out {
		out[i] += ";"
	}
	return out
}

// cellSQL is a value of a seed as a literal.
func cellSQL(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case int64:
		return strconv.FormatInt(v, 10)
	case bool:
		return strconv.FormatBool(v)
	case []byte:
		return literal(string(textOf(v)))
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	case string:
		return literal(v)
	}
	return literal(fmt.Sprint(v))
}
