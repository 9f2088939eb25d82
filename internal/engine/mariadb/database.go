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
	"time"

	"github.com/go-sql-driver/mysql"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Database is one connection to one database, held until Close.
type Database struct {
	pool      *sql.DB
	conn      *sql.Conn
	config    *mysql.Config
	server    server
	name      string // of the database
	id        string // of the connection
	node      string // the server, as it calls itself
	clustered bool   // it is one of a cluster
	unasked   string // why nobody knows whether the one who has the lease is at work
	session   string // what names the connection to others
	readOnly  bool
	inTx      bool
	holds     int    // how often the lock is held beyond transactions
	lease     *lease // that this run has; nil: none
	wait      time.Duration
	locked    bool // tables are locked
	latched   bool // by LockTables: until UnlockTables
	dirty     bool // rows were put in, or changed, in this transaction
	loose     bool // references are not held until the transaction ends
	loosened  []string
	temporary []string // tables of the session
	later     []string // kept tables that are dropped once the transaction is committed
	waits     waits
	scratch   *scratchPlace // that it goes back to when it is closed
	events    map[string]eventSaid
}

var _ engine.Database = (*Database)(nil)

// raw runs one statement; args fill its ? marks.
func (d *Database) raw(ctx context.Context, statement string, args ...any) error {
	sure := true
	if d.scratch != nil {
		statement, sure = d.asleep(statement)
	}
	if _, err := d.change(ctx, statement, args...); err != nil || sure {
		return err
	}
	return d.disableEvents(ctx)
}

// change runs one statement and tells how many rows it changed.
func (d *Database) change(ctx context.Context, statement string, args ...any) (n int64, err error) {
	err = d.guarded(ctx, func(ctx context.Context) error {
		r, err := d.conn.ExecContext(ctx, statement, args...)
		if err == nil {
			n, err = r.RowsAffected()
		}
		return err
	})
	return n, d.plain(err)
}

// guarded runs a statement. Where the run is stopped, the server is told to end it: the
// driver would close the connection, and the server would go on by itself. Where nothing
// comes through to the server any more, the connection is given up.
func (d *Database) guarded(ctx context.Context, f func(ctx context.Context) error) error {
	if err := ctx.Err(); err != nil {
		return err
	}
	if ctx.Done() == nil {
		return f(ctx)
	}
	until, giveUp := context.WithCancel(context.WithoutCancel(ctx))
	defer giveUp()
	done := make(chan error, 1)
	go func() { done <- f(until) }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	ended, told := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(told)
		for unanswered := 0; unanswered < 2; { // it may be about to begin, so it is told again
			if d.killQuery() {
				unanswered = 0
			} else {
				unanswered++
			}
			select {
			case <-ended:
				return
			case <-time.After(200 * time.Millisecond):
			}
		}
		giveUp()
	}()
	err := <-done
	close(ended)
	<-told
	if err == nil { // it was through before
		return nil
	}
	return ctx.Err()
}

// killQuery tells the server on another connection to end what the session runs, and tells
// whether it answered.
func (d *Database) killQuery() bool {
	ctx, stop := context.WithTimeout(context.Background(), engine.EndWait)
	answered := make(chan bool, 1)
	go func() {
		defer stop()
		reached := false
		d.besideHere(ctx, func(b *Database) error {
			_, err := b.conn.ExecContext(ctx, "KILL QUERY "+d.id)
			var said *mysql.MySQLError
			reached = err == nil || errors.As(err, &said)
			return err
		})
		answered <- reached
	}()
	select {
	case reached := <-answered:
		return reached
	case <-ctx.Done():
		return false
	}
}

// Exec runs one statement; args fill its ? marks. One that commits by itself does not end
// the transaction for those that follow; beside a transaction, what changes rows is
// fenced by the lease.
func (d *Database) Exec(ctx context.Context, statement string, args ...any) error {
	if d.scratch != nil {
		if name := otherDatabase(statement); name != "" {
			return &engine.BeyondError{Names: name}
		}
	}
	if list := tokens(statement); len(list) > 3 && list[0].Is("CREATE") && list[1].Is("TEMPORARY") {
		d.temporary = append(d.temporary, list[3].Name())
		if err := d.raw(ctx, statement, args...); err != nil {
			return err
		}
		return d.indexed(ctx, list[3].Name())
	} else if len(list) == 3 && list[0].Is("DROP") && slices.Contains(d.temporary, list[2].Name()) { // by that word it ends no transaction
		d.temporary = slices.DeleteFunc(d.temporary, func(n string) bool { return n == list[2].Name() })
		return d.raw(ctx, "DROP TEMPORARY TABLE "+quote(list[2].Name()))
	}
	switch c := commits(statement); {
	case c && d.inTx:
		if table := keptDrop(statement); table != "" {
			d.later = append(d.later, table)
			return nil
		}
		if err := d.raw(ctx, statement, args...); err != nil {
			return err
		}
		return d.start(ctx)
	case !c && !d.inTx && d.lease != nil && !d.locked:
		if err := d.start(ctx); err != nil {
			return err
		}
		if err := d.raw(ctx, statement, args...); err != nil {
			return errors.Join(err, d.raw(context.WithoutCancel(ctx), "ROLLBACK"))
		}
		return d.raw(ctx, "COMMIT")
	}
	return d.raw(ctx, statement, args...)
}

// indexed gives a table of the session an index on its first column: rows that are looked
// for in one are looked for one by one.
func (d *Database) indexed(ctx context.Context, table string) error {
	rows, err := d.Select(ctx, "SHOW COLUMNS FROM "+quote(table))
	if err != nil || len(rows) == 0 {
		return err
	}
	part := quote(rows[0][0])
	if long(&sqlschema.Table{}, &sqlschema.Column{Type: typeOf(rows[0][1])}) || strings.HasSuffix(rows[0][1], "blob") {
		part += fmt.Sprintf("(%d)", indexedBeginning)
	}
	return d.raw(ctx, "ALTER TABLE "+quote(table)+" ADD INDEX ("+part+")")
}

// keptDrop is the kept table that a statement drops; "": none. In a transaction that is
// left for its end, since it would end it: what was put back would be there, and nobody
// would know.
func keptDrop(statement string) string {
	list := tokens(statement)
	if len(list) == 3 && list[0].Is("DROP") && list[1].Is("TABLE") &&
		strings.HasPrefix(list[2].Name(), schema.KeptPrefix) {
		return list[2].Name()
	}
	return ""
}

// start begins a transaction of the run that has the lease.
func (d *Database) start(ctx context.Context) error {
	if err := d.raw(ctx, "START TRANSACTION"); err != nil {
		return err
	}
	return d.fence(ctx)
}

// Begin begins a transaction, under the lock that lets only one run at a time.
func (d *Database) Begin(ctx context.Context, wait time.Duration) error {
	if d.holds == 0 && d.scratch == nil {
		d.wait = wait
		if err := d.ask(ctx, wait); err != nil {
			return err
		}
	}
	if err := d.start(ctx); err != nil {
		return errors.Join(err, d.letGo(ctx))
	}
	d.inTx, d.dirty = true, false
	return nil
}

// letGo lets the lock of a transaction go.
func (d *Database) letGo(ctx context.Context) error {
	if d.holds > 0 {
		return nil
	}
	return d.give(context.WithoutCancel(ctx))
}

// Step runs one statement of a migration.
func (d *Database) Step(ctx context.Context, statement string) error {
	if err := (Engine{}).Validate(statement); err != nil {
		return err
	}
	d.dirty = true
	if d.loose {
		if list := tokens(statement); len(list) > 2 && list[0].Is("INSERT") && list[2].Named() {
			d.loosened = append(d.loosened, list[2].Name())
		}
	}
	return d.watched(ctx, func() error { return d.Exec(ctx, statement) })
}

// TrackIntegrity notes into which tables rows come while their references are not held. What is
// destroyed is so under a lock of its own step.
func (d *Database) TrackIntegrity(_ context.Context, _, tables []string) error {
	d.loosened = append(d.loosened, tables...)
	return nil
}

// CheckIntegrity looks whether rows that came while references were not held refer to something.
func (d *Database) CheckIntegrity(ctx context.Context) error {
	list := d.loosened
	d.loosened = nil
	if d.loose {
		if err := d.hold(ctx, true); err != nil {
			return err
		}
	}
	if len(list) == 0 {
		return nil
	}
	s, err := d.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, name := range list {
		t := s.Table(name)
		if t == nil {
			continue
		}
		for _, k := range t.ForeignKeys {
			var there, match []string
			for i, c := range k.Columns {
				there = append(there, "child."+quote(c)+" IS NOT NULL")
				match = append(match, fmt.Sprintf("parent.%s = child.%s", quote(k.References[i]), quote(c)))
			}
			n, err := d.Count(
				ctx,
				fmt.Sprintf("SELECT 1 FROM %s AS child WHERE %s AND NOT EXISTS (SELECT 1 FROM %s AS parent WHERE %s)",
					quote(t.Name), strings.Join(there, " AND "), quote(k.Table), strings.Join(match, " AND ")),
			)
			if err != nil {
				return err
			}
			if n > 0 {
				return fmt.Errorf("references would point to no row: %d rows of %s refer to no row of %s", n, t.Name,
					k.Table)
			}
		}
	}
	return nil
}

// EnforceReferences with false lets rows that are put in during this transaction refer to
// rows that come later; Settle looks whether they have come. With true, they are held at
// every statement again.
func (d *Database) EnforceReferences(ctx context.Context, hold bool) error {
	if hold == !d.loose || !hold && !d.inTx {
		return nil
	}
	return d.hold(ctx, hold)
}

func (d *Database) hold(ctx context.Context, hold bool) error {
	on := map[bool]string{true: "1", false: "0"}[hold]
	d.loose = !hold
	return d.raw(ctx, "SET SESSION foreign_key_checks = "+on)
}

// Commit ends the transaction.
func (d *Database) Commit(ctx context.Context) error {
	if err := engine.End(ctx, func(ctx context.Context) error { return d.raw(ctx, "COMMIT") }); err != nil {
		return err
	}
	d.inTx = false
	ctx = context.WithoutCancel(ctx) // it is done: what is left to do belongs to it
	var err error
	for _, table := range d.later {
		err = errors.Join(err, d.raw(ctx, "DROP TABLE IF EXISTS "+quote(table)))
	}
	return errors.Join(err, d.ended(ctx), d.letGo(ctx))
}

// ended makes the session as it is between transactions.
func (d *Database) ended(ctx context.Context) error {
	d.later, d.loosened = nil, nil
	for _, t := range d.temporary { // no end of a transaction takes them away
		if err := d.raw(ctx, "DROP TEMPORARY TABLE IF EXISTS "+quote(t)); err != nil &&
			!errors.Is(err, engine.ErrLost) {
			return err
		}
	}
	d.temporary = nil
	if d.loose {
		return d.hold(ctx, true)
	}
	return nil
}

// Rollback undoes what the transaction did to rows since Begin, or since the last
// statement that commits by itself.
func (d *Database) Rollback() error {
	if !d.inTx {
		return nil
	}
	d.inTx = false
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	err := d.raw(ctx, "ROLLBACK")
	if errors.Is(err, engine.ErrLost) { // the server has rolled back
		err = nil
	} else {
		err = errors.Join(err, d.raw(ctx, "SET "+quiet+" = NULL, SESSION foreign_key_checks = 1"))
	}
	return errors.Join(err, d.ended(ctx), d.letGo(ctx))
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
	return d.query(ctx, query, args, func(_ []*sql.ColumnType, values []sql.RawBytes) {
		if values != nil {
			f(values)
		}
	})
}

// query gives every row of a query with the types of its columns; without rows, the types
// alone.
func (d *Database) query(ctx context.Context, query string, args []any,
	f func(types []*sql.ColumnType, values []sql.RawBytes)) error {
	return d.plain(d.guarded(ctx, func(ctx context.Context) error {
		rows, err := d.conn.QueryContext(ctx, query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		types, err := rows.ColumnTypes()
		if err != nil {
			return err
		}
		values := make([]sql.RawBytes, len(types))
		to := make([]any, len(types))
		for i := range values {
			to[i] = &values[i]
		}
		some := false
		for rows.Next() {
			if err := rows.Scan(to...); err != nil {
				return err
			}
			f(types, values)
			some = true
		}
		if !some {
			f(types, nil)
		}
		return rows.Err()
	}))
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
	err := d.query(ctx, query, nil, func(types []*sql.ColumnType, values []sql.RawBytes) {
		if out.Columns == nil {
			for _, t := range types {
				out.Columns = append(out.Columns, t.Name())
			}
		}
		if values == nil {
			return
		}
		row := make([]string, len(values))
		for i, v := range values {
			row[i] = valueLiteral(v, types[i].DatabaseTypeName())
		}
		out.Values = append(out.Values, row)
	})
	return out, err
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

// Kept are the names of the tables that begin with prefix. The server opens no table to
// tell them, as it would for its catalogue.
func (d *Database) Kept(ctx context.Context, prefix string) ([]string, error) {
	rows, err := d.Select(ctx,
		"SHOW TABLES LIKE "+literal(strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(prefix)+"%"))
	var out []string
	for _, r := range rows {
		out = append(out, r[0])
	}
	slices.Sort(out)
	return out, err
}

// TableSize is the room that a table takes with its indexes, as the server last reckoned it.
func (d *Database) TableSize(ctx context.Context, table string) (int64, error) {
	rows, err := d.Select(ctx,
		"SELECT coalesce(data_length + index_length, 0) FROM information_schema.tables WHERE table_schema = database() AND table_name = ?",
		table)
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

// InvalidObjects names the views that show what does not exist, and the triggers that name columns
// that do not exist.
func (d *Database) InvalidObjects(ctx context.Context) ([]string, error) {
	rows, err := d.Select(ctx,
		"SELECT table_name FROM information_schema.views WHERE table_schema = database() ORDER BY table_name")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, r := range rows {
		if err := d.raw(ctx, "SELECT 1 FROM "+quote(r[0])+" LIMIT 0"); err != nil {
			if errors.Is(err, engine.ErrLost) || ctx.Err() != nil {
				return nil, err
			}
			out = append(out, "the view "+r[0])
		}
	}
	rows, err = d.Select(ctx,
		"SELECT trigger_name, event_object_table, action_statement FROM information_schema.triggers WHERE trigger_schema = database() ORDER BY trigger_name")
	if err != nil || len(rows) == 0 {
		return out, err
	}
	columns := map[string]map[string]bool{}
	names, err := d.Select(ctx,
		"SELECT table_name, lower(column_name) FROM information_schema.columns WHERE table_schema = database()")
	if err != nil {
		return nil, err
	}
	for _, r := range names {
		if columns[r[0]] == nil {
			columns[r[0]] = map[string]bool{}
		}
		columns[r[0]][r[1]] = true
	}
	for _, r := range rows {
		list := tokens(r[2])
		for i := 0; i+2 < len(list); i++ {
			if (list[i].Is("NEW") || list[i].Is("OLD")) && list[i+1].Is(".") && list[i+2].Named() &&
				!columns[r[1]][strings.ToLower(list[i+2].Name())] {
				out = append(out, "the trigger "+r[0])
				break
			}
		}
	}
	return out, nil
}

// Close ends the connection. A scratch database is emptied for the next to come.
func (d *Database) Close() error {
	err := d.Rollback()
	if d.conn == nil {
		return errors.Join(err, d.pool.Close())
	}
	ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
	defer stop()
	err = errors.Join(err, d.give(ctx))
	d.waits.closeBeside()
	if d.scratch != nil {
		return errors.Join(err, d.scratch.back(d))
	}
	return errors.Join(err, d.conn.Close(), d.pool.Close())
}
