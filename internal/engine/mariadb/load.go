package mariadb

// This file loads the rows of seeds: by LOAD DATA out of a pipe, or by INSERT where the
// server takes no data from its clients. What the server would cut, or leave out with a
// warning alone, is an error in either form.

import (
	"bytes"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync/atomic"

	"github.com/go-sql-driver/mysql"

	"erbario/internal/engine"
)

// perInsert is how many rows go into one INSERT.
const perInsert = 1000

// pipes numbers the readers from which data is loaded: their names are the driver's own,
// and no file is ever read.
var pipes atomic.Int64

// Encode gives rows the form in which LOAD DATA takes them.
func (d *Database) Encode(r engine.TableRows) []byte {
	out := make([]byte, 0, len(r.Cells)*16)
	for i, v := range r.Cells {
		if i%len(r.Columns) > 0 {
			out = append(out, '\t')
		} else if i > 0 {
			out = append(out, '\n')
		}
		out = appendField(out, v)
	}
	return append(out, '\n')
}

// appendField gives a value as a field; bytes are spelled, since a field is text.
func appendField(out []byte, v any) []byte {
	switch v := v.(type) {
	case nil:
		return append(out, `\N`...)
	case int64:
		return strconv.AppendInt(out, v, 10)
	case float64:
		return strconv.AppendFloat(out, v, 'g', -1, 64)
	case bool:
		if v {
			return append(out, '1')
		}
		return append(out, '0')
	case []byte:
		return hex.AppendEncode(out, v)
	}
	for _, b := range []byte(fmt.Sprint(v)) {
		switch b {
		case '\t':
			out = append(out, '\\', 't')
		case '\n':
			out = append(out, '\\', 'n')
		case '\\':
			out = append(out, '\\', b)
		case 0:
			out = append(out, '\\', '0')
		default:
			out = append(out, b)
		}
	}
	return out
}

// Load puts rows into a table. References are not held: the rows of a seed are right by
// the way they are made. After an error some of the rows may be there: it is called
// within a transaction, which is then undone.
func (d *Database) Load(ctx context.Context, r engine.TableRows) error {
	if len(r.Cells)+len(r.Encoded) == 0 {
		return nil
	}
	d.dirty = true
	held := !d.loose
	if held {
		if err := d.hold(ctx, false); err != nil {
			return err
		}
	}
	err := d.loadData(ctx, r)
	var own *mysql.MySQLError
	if errors.As(err, &own) && (own.Number == 1148 || own.Number == 3948 || own.Number == 4166) { // it takes none
		err = d.insertAll(ctx, r)
	}
	if held {
		err = errors.Join(d.plain(err), d.hold(context.WithoutCancel(ctx), true))
	}
	return d.plain(err)
}

// loadData loads rows by LOAD DATA. From a client the server takes what does not fit
// with a warning, and leaves out what is there: both are looked for.
func (d *Database) loadData(ctx context.Context, r engine.TableRows) error {
	parts := r.Encoded
	if len(parts) == 0 {
		parts = [][]byte{d.Encode(r)}
	}
	lines := int64(0)
	var body []io.Reader
	for _, p := range parts {
		lines += int64(bytes.Count(p, []byte{'\n'})) // one within a value is spelled
		body = append(body, bytes.NewReader(p))
	}
	name := fmt.Sprintf("erbario_%d", pipes.Add(1))
	mysql.RegisterReaderHandler(name, func() io.Reader { return io.MultiReader(body...) })
	defer mysql.DeregisterReaderHandler(name)
	var into, set []string
	for i, c := range r.Columns {
		if col := r.Table.Column(c); col != nil && binary(typeOrStored(col)) {
			v := fmt.Sprintf("@erbario_%d", i)
			into, set = append(into, v), append(set, quote(c)+" = unhex("+v+")")
			continue
		}
		into = append(into, quote(c))
	}
	sql := "LOAD DATA LOCAL INFILE " + literal("Reader::"+name) + " INTO TABLE " + quote(
		r.Table.Name,
	) + " CHARACTER SET utf8mb4 FIELDS TERMINATED BY '\\t' ESCAPED BY '\\\\' LINES TERMINATED BY '\\n' (" + strings.Join(
		into,
		", ",
	) + ")"
	if len(set) > 0 {
		sql += " SET " + strings.Join(set, ", ")
	}
	var n int64
	err := d.guarded(ctx, func(ctx context.Context) error {
		res, err := d.conn.ExecContext(ctx, sql)
		if err == nil {
			n, err = res.RowsAffected()
		}
		return err
	})
	if err != nil {
		return err
	}
	warnings, err := d.Select(ctx, "SHOW WARNINGS LIMIT 1")
	if err != nil {
		return err
	}
	if len(warnings) > 0 {
		return fmt.Errorf("the rows cannot be loaded: %s", warnings[0][2])
	}
	if n != lines {
		return fmt.Errorf("%d of %d rows of %s were loaded", n, lines, r.Table.Name)
	}
	return nil
}

// insertAll loads rows by INSERT.
func (d *Database) insertAll(ctx context.Context, r engine.TableRows) error {
	var rows []string
	insert := func() error {
		if len(rows) == 0 {
			return nil
		}
		err := d.Exec(ctx,
			"INSERT INTO "+quote(r.Table.Name)+" ("+quoteAll(r.Columns)+") VALUES "+strings.Join(rows, ", "))
		rows = rows[:0]
		return err
	}
	add := func(cells []string) error {
		rows = append(rows, "("+strings.Join(cells, ", ")+")")
		if len(rows) < perInsert {
			return nil
		}
		return insert()
	}
	w := len(r.Columns)
	for i := range len(r.Cells) / w {
		cells := make([]string, w)
		for j, v := range r.Cells[i*w : (i+1)*w] {
			cells[j] = cellSQL(v)
		}
		if err := add(cells); err != nil {
			return err
		}
	}
	for _, part := range r.Encoded {
		for line := range bytes.Lines(part) {
			fields := bytes.Split(bytes.TrimSuffix(line, []byte{'\n'}), []byte{'\t'})
			cells := make([]string, w)
			for j, c := range r.Columns {
				col := r.Table.Column(c)
				cells[j] = fieldSQL(fields[j], col != nil && binary(typeOrStored(col)))
			}
			if err := add(cells); err != nil {
				return err
			}
		}
	}
	return insert()
}

// unspelled gives what Encode spells in a field.
var unspelled = strings.NewReplacer(`\t`, "\t", `\n`, "\n", `\\`, `\`, `\0`, "\x00")

// fieldSQL is a field of encoded rows as SQL; hidden tells that it spells bytes.
func fieldSQL(field []byte, hidden bool) string {
	switch {
	case string(field) == `\N`:
		return "NULL"
	case hidden:
		return "x'" + string(field) + "'"
	}
	return literal(unspelled.Replace(string(field)))
}

// cellSQL gives a value of a row as SQL.
func cellSQL(v any) string {
	switch v := v.(type) {
	case nil:
		return "NULL"
	case string:
		return literal(v)
	case []byte:
		return "x'" + hex.EncodeToString(v) + "'"
	case bool:
		return map[bool]string{true: "1", false: "0"}[v]
	case float64:
		return strconv.FormatFloat(v, 'g', -1, 64)
	}
	return fmt.Sprint(v)
}
