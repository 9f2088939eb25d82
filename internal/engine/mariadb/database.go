package mariadb

// This file is the connection: one session, with its settings pinned. All values come as
// text, so that none depends on what a driver makes of it.

import (
	"context"
	"database/sql"
	"errors"
	"strconv"

	"github.com/go-sql-driver/mysql"
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

// Close ends the connection.
func (d *Database) Close() error {
	var err error
	if d.conn != nil {
		err = d.conn.Close()
	}
	return errors.Join(err, d.pool.Close())
}
