package mariadb

// This file is the connection: one session, with its settings pinned. All values come as
// text, so that none depends on what a driver makes of it.

import (
	"context"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/go-sql-driver/mysql"

	"erbario/internal/engine"
)

// Database is one connection to one database, held until Close.
type Database struct {
	pool   *sql.DB
	conn   *sql.Conn
	config *mysql.Config
	server server
	name   string // of the database
}

// Exec runs one statement; args fill its ? marks.
func (d *Database) Exec(ctx context.Context, statement string, args ...any) error {
	_, err := d.conn.ExecContext(ctx, statement, args...)
	return d.plain(err)
}

// Select runs a query of our own and returns its values as text, NULL as "".
func (d *Database) Select(ctx context.Context, query string, args ...any) ([][]string, error) {
	var out [][]string
	err := d.each(ctx, query, args, func(values []sql.RawBytes) {
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = string(v)
		}
		out = append(out, row)
	})
	return out, err
}

// each gives every row of a query; the values hold until the next.
func (d *Database) each(ctx context.Context, query string, args []any, f func(values []sql.RawBytes)) error {
	rows, err := d.conn.QueryContext(ctx, query, args...)
	if err != nil {
		return d.plain(err)
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return d.plain(err)
	}
	values := make([]sql.RawBytes, len(names))
	to := make([]any, len(names))
	for i := range values {
		to[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return d.plain(err)
		}
		f(values)
	}
	return d.plain(rows.Err())
}

// Count is the number of rows of a query that anyone wrote.
func (d *Database) Count(ctx context.Context, query string) (int64, error) {
	rows, err := d.Select(ctx, "SELECT count(*) FROM (\n"+query+"\n) AS q")
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// Sample returns the first rows of a query that anyone wrote, as literals.
func (d *Database) Sample(ctx context.Context, query string, limit int) (engine.Rows, error) {
	var out engine.Rows
	if limit > 0 {
		query = fmt.Sprintf("SELECT * FROM (\n%s\n) AS q LIMIT %d", query, limit)
	}
	rows, err := d.conn.QueryContext(ctx, query)
	if err != nil {
		return out, d.plain(err)
	}
	defer rows.Close()
	types, err := rows.ColumnTypes()
	if err != nil {
		return out, d.plain(err)
	}
	values, to := make([]sql.RawBytes, len(types)), make([]any, len(types))
	for i, t := range types {
		out.Columns = append(out.Columns, t.Name())
		to[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(to...); err != nil {
			return out, d.plain(err)
		}
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = valueLiteral(v, types[i].DatabaseTypeName())
		}
		out.Values = append(out.Values, row)
	}
	return out, d.plain(rows.Err())
}

// valueLiteral is a value of a result as a literal.
func valueLiteral(v sql.RawBytes, typ string) string {
	if v == nil {
		return "NULL"
	}
	switch strings.TrimPrefix(typ, "UNSIGNED ") {
	case "TINYINT", "SMALLINT", "MEDIUMINT", "INT", "BIGINT", "DECIMAL", "FLOAT", "DOUBLE", "YEAR":
		return string(v)
	case "BLOB", "TINYBLOB", "MEDIUMBLOB", "LONGBLOB", "BINARY", "VARBINARY", "BIT", "GEOMETRY":
		return "x'" + hex.EncodeToString(v) + "'"
	}
	return literal(string(v))
}

// Kept are the names of the tables that begin with prefix.
func (d *Database) Kept(ctx context.Context, prefix string) ([]string, error) {
	rows, err := d.Select(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = database() AND table_type = 'BASE TABLE' AND lower(left(table_name, char_length(?))) = lower(?) ORDER BY table_name", prefix, prefix)
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out, err
}

// Size is the room that a table takes with its indexes, as the server last reckoned it.
func (d *Database) Size(ctx context.Context, table string) (int64, error) {
	rows, err := d.Select(ctx, "SELECT coalesce(data_length + index_length, 0) FROM information_schema.tables WHERE table_schema = database() AND table_name = ?", table)
	if err != nil || len(rows) == 0 {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// HasHistory tells whether the table of history is there.
func (d *Database) HasHistory(ctx context.Context) (bool, error) {
	list, err := d.Kept(ctx, "erbario_history")
	return slices.Contains(list, "erbario_history"), err
}

// Close ends the connection.
func (d *Database) Close() error {
	var err error
	if d.conn != nil {
		err = d.conn.Close()
	}
	return errors.Join(err, d.pool.Close())
}
