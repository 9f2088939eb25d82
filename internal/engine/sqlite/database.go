package sqlite

// This file is the connection. Dates are never scanned as such and values are
// read by quote(), since the driver turns a DATE's text into a time and back
// into something else.

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	// the driver "sqlite"

	"erbario/internal/engine"
)

type database struct {
	pool    *sql.DB
	conn    *sql.Conn
	path    string
	inTx    bool
	timeout time.Duration         // how long SQLite itself waits for a lock
	aside   map[string][][]string // by the old table's name: what stood with it and the migration does not know
	touched map[string]bool       // the tables that the steps touch, in lower case
	report  func(engine.Progress) // told how far a copy is; nil: nobody
	before  map[string]bool       // their references without a row before the steps

	hold *sql.DB // of the file that Hold locks; nil: it is not held

	statements map[string]*sql.Stmt // for the rows of a seed, by their text
}

// OnProgress sets what is told how far a copy is.
func (d *database) OnProgress(report func(engine.Progress)) { d.report = report }

// brief gives the context for a statement. One that is over at once is not interrupted: the
// driver starts a goroutine for each statement that can be, which takes as long as the
// statement itself. What is cancelled already is not begun.
func brief(ctx context.Context, sql string) context.Context {
	if ctx.Err() != nil {
		return ctx
	}
	switch {
	case strings.HasPrefix(sql, "INSERT INTO erbario_history "),
		strings.HasPrefix(sql, "SELECT 1 FROM erbario_history WHERE id = "),
		strings.HasPrefix(sql, "CREATE TABLE ") && !strings.Contains(strings.ToUpper(sql), " AS"):
		return context.WithoutCancel(ctx)
	}
	return ctx
}

func (d *database) Exec(ctx context.Context, sql string, args ...any) error {
	if _, err := d.conn.ExecContext(brief(ctx, sql), sql, args...); err != nil {
		return plain(err)
	}
	return nil
}

func (d *database) Select(ctx context.Context, query string, args ...any) ([][]string, error) {
	rows, err := d.values(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	var out [][]string
	for _, values := range rows {
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = v.String
		}
		out = append(out, row)
	}
	return out, nil
}

// values runs a query, and tells NULL from an empty text.
func (d *database) values(ctx context.Context, query string, args ...any) ([][]sql.NullString, error) {
	rows, err := d.conn.QueryContext(brief(ctx, query), query, args...)
	if err != nil {
		return nil, plain(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		return nil, plain(err)
	}
	var out [][]sql.NullString
	dest := make([]any, len(columns))
	for rows.Next() {
		values := make([]sql.NullString, len(columns))
		for i := range values {
			dest[i] = &values[i]
		}
		if err := rows.Scan(dest...); err != nil {
			return nil, plain(err)
		}
		out = append(out, values)
	}
	return out, plain(rows.Err())
}

func (d *database) Count(ctx context.Context, query string) (int64, error) {
	var rows [][]string
	err := d.askIndexed(ctx, query, func() (err error) {
		rows, err = d.Select(ctx, "SELECT count(*) FROM (\n"+query+"\n)")
		return err
	})
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

func (d *database) Sample(ctx context.Context, query string, limit int) (out engine.Rows, err error) {
	err = d.askIndexed(ctx, query, func() error {
		out, err = d.sample(ctx, query, limit)
		return err
	})
	return out, err
}

func (d *database) sample(ctx context.Context, query string, limit int) (engine.Rows, error) {
	var out engine.Rows
	rows, err := d.conn.QueryContext(ctx, "SELECT * FROM (\n"+query+"\n) LIMIT 0")
	if err != nil {
		return out, plain(err)
	}
	out.Columns, err = rows.Columns()
	rows.Close()
	if err != nil {
		return out, plain(err)
	}
	if len(out.Columns) == 0 {
		return out, nil
	}
	var names, quoted []string
	for i := range out.Columns {
		names = append(names, fmt.Sprintf("c%d", i))
		quoted = append(quoted, fmt.Sprintf("quote(c%d)", i))
	}
	text := fmt.Sprintf("WITH q(%s) AS (\n%s\n) SELECT %s FROM q", strings.Join(names, ", "), query,
		strings.Join(quoted, ", "))
	if limit > 0 {
		text += fmt.Sprintf(" LIMIT %d", limit)
	}
	out.Values, err = d.Select(ctx, text)
	return out, err
}

// Begin takes SQLite's one lock for writers.
func (d *database) Begin(ctx context.Context, wait time.Duration) error {
	deadline := time.Now().Add(wait)
	if each := min(wait, time.Second); d.timeout != each {
		if err := d.Exec(ctx, fmt.Sprintf("PRAGMA busy_timeout = %d", each.Milliseconds())); err != nil {
			return err
		}
		d.timeout = each
	}
	for {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		err := d.Exec(context.WithoutCancel(ctx), "BEGIN IMMEDIATE") // which waits a second at most
		if err == nil {
			break
		}
		if errors.Is(err, engine.ErrBusy) && time.Now().After(deadline) {
			return fmt.Errorf("the database %w, still after %s; nothing was changed; --wait gives them longer",
				engine.ErrBusy, wait)
		}
		if !errors.Is(err, engine.ErrBusy) {
			return err
		}
	}
	d.inTx, d.aside, d.before, d.touched = true, map[string][][]string{}, nil, nil
	return nil
}

// Lock keeps others that hold the same file waiting, until Release. It is for what takes
// several transactions, and no lock of the file itself: a file beside those of the machine's
// other programs is locked in its place.
func (d *database) Lock(ctx context.Context, wait time.Duration) error {
	if d.path == "" || d.path == scratchName || d.hold != nil {
		return nil
	}
	abs, err := filepath.Abs(d.path)
	if err != nil {
		return err
	}
	if real, err := filepath.EvalSymlinks(abs); err == nil {
		abs = real
	}
	sum := sha256.Sum256([]byte(abs))
	u := url.URL{Scheme: "file", Path: filepath.Join(os.TempDir(), "erbario-"+hex.EncodeToString(sum[:8])+".lock")}
	pool, err := sql.Open("sqlite", u.String())
	if err != nil {
		return plain(err)
	}
	pool.SetMaxOpenConns(1)
	conn, err := pool.Conn(ctx)
	for deadline := time.Now().Add(wait); err == nil; {
		if _, err = conn.ExecContext(ctx, "BEGIN EXCLUSIVE"); err == nil {
			d.hold = pool
			return nil
		}
		if err = plain(err); !errors.Is(err, engine.ErrBusy) || time.Now().After(deadline) {
			break
		}
		select {
		case <-ctx.Done():
			err = ctx.Err()
		case <-time.After(50 * time.Millisecond):
			err = nil
		}
	}
	return errors.Join(err, pool.Close())
}

// Unlock lets others go on.
func (d *database) Unlock(context.Context) error {
	if d.hold == nil {
		return nil
	}
	hold := d.hold
	d.hold = nil
	return hold.Close()
}

func (d *database) Commit(ctx context.Context) error {
	if err := d.Exec(context.WithoutCancel(ctx), "COMMIT"); err != nil { // in no more than the seconds that it waits for readers
		return err
	}
	d.inTx = false
	return nil
}

func (d *database) Rollback() error {
	if !d.inTx {
		return nil
	}
	d.inTx = false
	// SQLite may have rolled back by itself, as on a full disk.
	if _, err := d.conn.ExecContext(context.Background(), "ROLLBACK"); err != nil &&
		!strings.Contains(err.Error(), "no transaction") {
		return plain(err)
	}
	return nil
}

func (d *database) Close() error {
	d.Rollback()
	d.forget()
	d.conn.Close()
	return d.pool.Close()
}

// InvalidObjects names the views and triggers that do not work as they stand: SQLite
// refuses to rename or drop any column while there is one.
func (d *database) InvalidObjects(ctx context.Context) ([]string, error) {
	s, err := d.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, v := range s.Views {
		if err := d.Exec(ctx, "EXPLAIN SELECT * FROM "+quote(v.Name)); err != nil {
			out = append(out, fmt.Sprintf("view %s (%s)", v.Name, err))
		}
	}
	for _, t := range s.Tables {
		if t.Content != "" { // it asks for the columns of that table when it is read
			if _, err := d.Select(ctx, "SELECT * FROM "+quote(t.Name)+" LIMIT 1"); err != nil {
				out = append(out, fmt.Sprintf("table %s (%s)", t.Name, err))
			}
		}
		if len(t.Triggers) == 0 || t.Options.Virtual != "" {
			continue
		}
		var columns []string
		for _, c := range t.Columns {
			if c.Generated == nil {
				columns = append(columns, c.Name)
			}
		}
		if len(columns) == 0 {
			continue
		}
		// Compiling a statement compiles the triggers that it would fire.
		var set []string
		for _, c := range columns {
			set = append(set, quote(c)+" = "+quote(c))
		}
		for _, q := range []string{
			"EXPLAIN INSERT INTO " + quote(t.Name) + " DEFAULT VALUES",
			"EXPLAIN UPDATE " + quote(t.Name) + " SET " + strings.Join(set, ", "),
			"EXPLAIN DELETE FROM " + quote(t.Name),
		} {
			if err := d.Exec(ctx, q); err != nil {
				out = append(out, fmt.Sprintf("a trigger of %s (%s)", t.Name, err))
				break
			}
		}
	}
	return out, nil
}

// EnforceReferences turns SQLite's own check of references on or off. A migration
// runs with it off: dropping a table would delete the rows that refer to it.
func (d *database) EnforceReferences(ctx context.Context, hold bool) error {
	if hold {
		return d.Exec(ctx, "PRAGMA foreign_keys = ON")
	}
	return d.Exec(ctx, "PRAGMA foreign_keys = OFF")
}

// Kept are the names of the tables that begin with prefix.
func (d *database) Kept(ctx context.Context, prefix string) ([]string, error) {
	rows, err := d.Select(ctx,
		"SELECT name FROM pragma_table_list WHERE schema = 'main' AND type IN ('table', 'virtual') AND lower(substr(name, 1, length(?1))) = lower(?1) ORDER BY name",
		prefix)
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out, err
}

// TableSize is the room that a table takes in the file, by its pages.
func (d *database) TableSize(ctx context.Context, table string) (int64, error) {
	rows, err := d.Select(ctx, "SELECT coalesce(sum(pgsize), 0) FROM dbstat WHERE name = ?", table)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// HasHistory tells whether the table of history is there.
func (d *database) HasHistory(ctx context.Context) (bool, error) {
	rows, err := d.Select(ctx, "SELECT 1 FROM sqlite_schema WHERE type = 'table' AND name = 'erbario_history'")
	return len(rows) > 0, err
}

var _ engine.Engine = Engine{}
