package postgres

// This file is the connection: one session, with its settings pinned. All values
// go to and fro as text, so that none depends on what a driver makes of it, and
// every statement is unnamed, so that it also runs through a pooler.

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

type database struct {
	conn       *pgx.Conn
	user       string
	schema     string   // in which everything is looked up and made that does not say its schema
	schemas    []string // that are read next to it
	lock       int64    // of the advisory lock under which one run works at a time
	held       bool     // the lock stays beyond the transaction
	holds      int      // Holds within the first
	inTx       bool
	recovering bool // the server is a standby
	readOnly   bool
	notices    bool                    // the server can see that a client is gone
	pooled     bool                    // a pooler stands between: what is set stays not beyond a transaction
	path       string                  // where names are looked up
	deferred   []deferredKey           // references that are held at the end alone, for now
	dependents map[string]func() error // make again what stood on views and columns that went, by their names
	own        map[string]func() error // give views of ours what they had, by their names
	waits      waits                   // for whom its statements wait
	loadedMu   sync.Mutex
	loaded     map[string][]uint32 // the types of columns that rows were loaded into, by their names
	scratch    *scratchPlace       // that it goes back to when it is closed
}

// lockTimeout is how long a statement of a migration waits for a lock: whoever
// comes behind it waits as long.
const lockTimeout = "150ms"

// sessionSettings are the same on every connection, whatever the server says. Bodies of functions are not
// checked, since they may name each other, and some do not work: scratch is asked for those.
var sessionSettings = []string{
	"TIME ZONE 'UTC'", "DateStyle = 'ISO, YMD'", "IntervalStyle = 'postgres'", "bytea_output = 'hex'",
	"standard_conforming_strings = on", "synchronous_commit = on", "client_min_messages = warning",
	"extra_float_digits = 1", "check_function_bodies = off",
}

// settings prepares a session and learns in which schema it works. Through a pooler
// whose sessions are others' too nothing is set but within transactions.
func (d *database) settings(ctx context.Context, path string) error {
	find := qualified(
		"SELECT current_schema(), current_database(), current_setting('search_path'), current_setting('server_version_num'), pg_backend_pid(), pg_is_in_recovery()",
	)
	if path != "" {
		find = "BEGIN; SET LOCAL search_path = " + path + "; " + find + "; COMMIT"
	}
	results, err := d.pg().Exec(ctx, find).ReadAll()
	if err != nil {
		return d.plain(err)
	}
	row := texts(results[len(results)/2])[0]
	if row[0] == "" {
		return fmt.Errorf("the database has no schema of the path %s: create it, or fix the URL", row[2])
	}
	if n, _ := strconv.Atoi(row[3]); n < oldestServer {
		return fmt.Errorf("the server is PostgreSQL %d, and erbario works with %d and newer", n/10000,
			oldestServer/10000)
	} else if n >= 140000 {
		d.notices = true
	}
	// A pooler answers in the server's name, under a number of its own.
	d.recovering = row[5] == "t"
	d.pooled = row[4] != fmt.Sprint(d.pg().PID())
	d.schema, d.path = row[0], path
	if slices.Contains(d.schemas, d.schema) {
		return fmt.Errorf("%s is the schema of the project itself: remove schema %q from the models, or fix the URL",
			d.schema, d.schema)
	}
	if path == "" {
		d.path = quote(d.schema)
	}
	sum := sha256.Sum256([]byte("erbario " + row[1] + " " + d.schema))
	d.lock = int64(binary.BigEndian.Uint64(sum[:8]))
	if d.pooled {
		return nil
	}
	list := d.set("SET ")
	if d.readOnly {
		list += "; SET default_transaction_read_only = on"
	}
	if d.scratch != nil { // nobody needs it after a crash
		list += "; SET synchronous_commit = off"
	}
	if d.notices { // a server that sees that the tool was killed lets its lock go within a second
		list += "; SET client_connection_check_interval = 500"
	}
	return d.Exec(ctx, list)
}

// set are the settings of a session or of a transaction.
func (d *database) set(word string) string {
	list := word + strings.Join(sessionSettings, "; "+word) + "; " + word + "search_path = " + d.path
	if word == "SET LOCAL " {
		list = strings.Replace(list, "SET LOCAL TIME ZONE 'UTC'", "SET LOCAL TimeZone = 'UTC'", 1)
	}
	return list
}

// within puts a query into a transaction with its settings, where the session is not
// ours to set.
func (d *database) within(ctx context.Context, f func() error) error {
	if !d.pooled || d.inTx {
		return f()
	}
	if err := d.Exec(ctx, "BEGIN; "+d.set("SET LOCAL ")); err != nil {
		return err
	}
	d.inTx = true
	err := f()
	d.inTx = false
	end := "COMMIT"
	if err != nil {
		end = "ROLLBACK"
	}
	if d.pg().IsClosed() {
		return err
	}
	if _, e := d.pg().Exec(context.WithoutCancel(ctx), end).ReadAll(); err == nil {
		err = d.plain(e)
	}
	return err
}

// oldestServer is the first version that has all that is used.
const oldestServer = 130000

// pg is the connection of the protocol.
func (d *database) pg() *pgconn.PgConn { return d.conn.PgConn() }

// Exec runs a statement; without arguments there may be several.
func (d *database) Exec(ctx context.Context, sql string, args ...any) error {
	if len(args) == 0 {
		if err := d.identify(ctx, sql, "DELETE FROM ", "UPDATE "); err != nil { // it may be published since
			return d.plain(err)
		}
		_, err := d.pg().Exec(ctx, sql).ReadAll()
		if err == nil {
			err = d.identify(ctx, sql, "CREATE TABLE ")
		}
		return d.plain(err)
	}
	_, err := d.run(ctx, sql, args)
	return err
}

// identify lets rows of a table without a key that Erbario keeps values in change and go where a
// publication has all tables in it: the server refuses that unless it is told by what to know them. The
// statement is about that table, and begins with one of the words.
func (d *database) identify(ctx context.Context, sql string, begins ...string) error {
	if !slices.ContainsFunc(begins, func(words string) bool { return strings.HasPrefix(sql, words) }) {
		return nil
	}
	name := ""
	for _, t := range tokens(sql[:min(len(sql), 300)])[1:] {
		if !t.Is("TABLE") && !t.Is("FROM") && !t.Is("IF") && !t.Is("NOT") && !t.Is("EXISTS") {
			name = t.Name()
			break
		}
	}
	if !strings.HasPrefix(name, schema.KeptPrefix) && name != "erbario_seed_rows" {
		return nil
	}
	rows, err := d.Select(ctx,
		"SELECT 1 FROM pg_publication WHERE puballtables UNION ALL SELECT 1 FROM pg_publication_namespace")
	if err != nil || len(rows) == 0 {
		return err
	}
	_, err = d.pg().Exec(ctx, alterTable(name)+"REPLICA IDENTITY FULL").ReadAll()
	return err
}

// run runs one statement with its arguments.
func (d *database) run(ctx context.Context, sql string, args []any) (*pgconn.Result, error) {
	values := make([][]byte, len(args))
	for i, a := range args {
		values[i] = textOf(a)
	}
	if len(args) > 0 {
		sql = numbered(sql)
	}
	return d.read(d.pg().ExecParams(ctx, sql, values, nil, nil, nil))
}

// read reads a result whole, and its columns also where there are no rows.
func (d *database) read(rr *pgconn.ResultReader) (*pgconn.Result, error) {
	r := &pgconn.Result{}
	for rr.NextRow() {
		row := make([][]byte, len(rr.Values()))
		for i, v := range rr.Values() {
			row[i] = bytes.Clone(v)
		}
		r.Rows = append(r.Rows, row)
	}
	r.FieldDescriptions = slices.Clone(rr.FieldDescriptions())
	r.CommandTag, r.Err = rr.Close()
	return r, d.plain(r.Err)
}

// numbered gives the ? marks of a statement of ours their numbers.
func numbered(sql string) string {
	var b strings.Builder
	last, n := 0, 0
	for _, t := range tokens(sql) {
		if t.Kind == sqltok.Mark && t.Text == "?" {
			n++
			b.WriteString(sql[last:t.Start] + "$" + strconv.Itoa(n))
			last = t.End
		}
	}
	return b.String() + sql[last:]
}

// textOf is a value as text of the protocol; nil for NULL.
func textOf(v any) []byte {
	switch v := v.(type) {
	case nil:
		return nil
	case string:
		return []byte(v)
	case []byte:
		return []byte(`\x` + hex.EncodeToString(v))
	case float64:
		return []byte(strconv.FormatFloat(v, 'g', -1, 64))
	}
	return fmt.Append(nil, v)
}

// Select runs a query of our own.
func (d *database) Select(ctx context.Context, sql string, args ...any) (out [][]string, err error) {
	return d.query(ctx, qualified(sql), args...)
}

// query runs a query as it is.
func (d *database) query(ctx context.Context, sql string, args ...any) (out [][]string, err error) {
	err = d.within(ctx, func() error {
		r, err := d.run(ctx, sql, args)
		if err == nil {
			out = texts(r)
		}
		return err
	})
	return out, err
}

func texts(r *pgconn.Result) [][]string {
	var out [][]string
	for _, row := range r.Rows {
		values := make([]string, len(row))
		for i, v := range row {
			values[i] = string(v)
		}
		out = append(out, values)
	}
	return out
}

// Count is the number of rows of a query that anyone wrote.
func (d *database) Count(ctx context.Context, query string) (int64, error) {
	rows, err := d.query(ctx, "SELECT pg_catalog.count(*) FROM (\n"+query+"\n) AS q")
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// Sample returns the first rows of a query that anyone wrote, as literals.
func (d *database) Sample(ctx context.Context, query string, limit int) (engine.Rows, error) {
	var out engine.Rows
	if limit > 0 {
		query = fmt.Sprintf("SELECT * FROM (\n%s\n) AS q LIMIT %d", query, limit)
	}
	var r *pgconn.Result
	err := d.within(ctx, func() (err error) {
		r, err = d.run(ctx, query, nil)
		return err
	})
	if err != nil {
		return out, err
	}
	for _, f := range r.FieldDescriptions {
		out.Columns = append(out.Columns, f.Name)
	}
	for _, row := range r.Rows {
		values := make([]string, len(row))
		for i, v := range row {
			values[i] = valueLiteral(v, r.FieldDescriptions[i].DataTypeOID)
		}
		out.Values = append(out.Values, values)
	}
	return out, nil
}

// valueLiteral is a value of a result as a literal.
func valueLiteral(v []byte, oid uint32) string {
	if v == nil {
		return "NULL"
	}
	switch s := string(v); oid {
	case oidBool:
		if s == "t" {
			return "true"
		}
		return "false"
	case oidInt2, oidInt4, oidInt8, oidFloat4, oidFloat8, oidNumeric:
		if s != "" && strings.Trim(s, "0123456789.e+-") == "" {
			return s
		}
		return literal(s)
	default:
		return literal(s)
	}
}

// The types by number that results and catalogues know without being asked.
const (
	oidBool        = 16
	oidBytea       = 17
	oidInt8        = 20
	oidInt2        = 21
	oidInt4        = 23
	oidText        = 25
	oidFloat4      = 700
	oidFloat8      = 701
	oidVarchar     = 1043
	oidDate        = 1082
	oidTime        = 1083
	oidTimestamp   = 1114
	oidTimestamptz = 1184
	oidNumeric     = 1700
	oidUUID        = 2950
	oidJSONB       = 3802
)

// Close ends the session. A scratch database is emptied for the next to come.
func (d *database) Close() error {
	err := d.Rollback()
	d.waits.closeBeside()
	if d.scratch != nil {
		return errors.Join(err, d.scratch.back(d))
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	return errors.Join(err, d.conn.Close(ctx))
}

// Kept are the names of the tables that begin with prefix.
func (d *database) Kept(ctx context.Context, prefix string) ([]string, error) {
	rows, err := d.Select(ctx,
		"SELECT relname FROM pg_class WHERE relnamespace = "+here+" AND relkind IN ('r', 'p') AND lower(left(relname, length(?::text))) = lower(?::text) ORDER BY relname",
		prefix, prefix)
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	return out, err
}

// TableSize is the room that a table takes with its indexes.
func (d *database) TableSize(ctx context.Context, table string) (int64, error) {
	rows, err := d.Select(ctx, "SELECT coalesce(pg_total_relation_size(to_regclass(?)), 0)", quoteTable(table))
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(rows[0][0], 10, 64)
}

// HasHistory tells whether the table of history is there.
func (d *database) HasHistory(ctx context.Context) (bool, error) {
	rows, err := d.Select(ctx, "SELECT to_regclass('erbario_history') IS NOT NULL")
	return err == nil && rows[0][0] == "t", err
}

// ours are the numbers of the schemas that the project has, as SQL behind IN.
func (d *database) ours() string {
	list := here
	for _, name := range d.schemas {
		list += ", (SELECT oid FROM pg_namespace WHERE nspname = " + literal(name) + ")"
	}
	return "(" + list + ")"
}

// own tells whether a name is one of Erbario's.
func own(name string) bool { return schema.Own(name) }

// deferredKey is a reference that is held at the end of the transaction for now.
type deferredKey struct{ table, name string }

// EnforceReferences with false lets rows that are loaded in this transaction refer to
// rows that come later: references in a circle are held at its end. With true, and
// before the transaction ends, they are held at every statement again.
func (d *database) EnforceReferences(ctx context.Context, hold bool) error {
	if hold {
		return d.holdAgain(ctx)
	}
	if !d.inTx || len(d.deferred) > 0 {
		return nil
	}
	rows, err := d.Select(ctx, `WITH RECURSIVE edge AS (
			SELECT conrelid, confrelid, conname, condeferrable FROM pg_constraint WHERE contype = 'f' AND conparentid = '0' AND connamespace IN `+d.ours()+`
		), reach (a, b) AS (
			SELECT conrelid, confrelid FROM edge UNION SELECT r.a,
				e.confrelid FROM reach r JOIN edge e ON e.conrelid = r.b
		)
		SELECT c.relname, e.conname, CASE WHEN c.relnamespace = `+here+` THEN '' ELSE c.relnamespace::regnamespace::text END FROM edge e JOIN reach r ON r.a = e.confrelid AND r.b = e.conrelid JOIN pg_class c ON c.oid = e.conrelid WHERE NOT e.condeferrable`)
	if err != nil {
		return err
	}
	for _, r := range rows {
		name := schema.InSchema(strings.Trim(r[2], `"`), r[0])
		if err := d.Exec(ctx, fmt.Sprintf("ALTER TABLE %s ALTER CONSTRAINT %s DEFERRABLE INITIALLY DEFERRED",
			quoteTable(name), quote(r[1]))); err != nil {
			return err
		}
		d.deferred = append(d.deferred, deferredKey{name, r[1]})
	}
	return nil
}

func (d *database) holdAgain(ctx context.Context) error {
	if len(d.deferred) == 0 {
		return nil
	}
	if err := d.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE"); err != nil {
		return fmt.Errorf("references would point to no row: %w", err)
	}
	for _, k := range d.deferred {
		if err := d.Exec(ctx, fmt.Sprintf("ALTER TABLE %s ALTER CONSTRAINT %s NOT DEFERRABLE", quoteTable(k.table),
			quote(k.name))); err != nil {
			return err
		}
	}
	d.deferred = nil
	return nil
}

// CheckAtOnce has deferred constraints checked with each statement of the transaction.
func (d *database) CheckAtOnce(ctx context.Context) error {
	return d.Exec(ctx, "SET CONSTRAINTS ALL IMMEDIATE")
}
