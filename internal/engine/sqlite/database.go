package sqlite

// This file is the connection. Dates are never scanned as such and values are
// read by quote(), since the driver turns a DATE's text into a time and back
// into something else.

import (
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	driver "modernc.org/sqlite" // the driver "sqlite"
	codes "modernc.org/sqlite/lib"

	"erbario/internal/engine"
	"erbario/internal/schema"
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

// path is the file of a URL, "" for a database in memory, and the cache that it
// asks for in kB, 0 for SQLite's own.
func path(rawURL string) (p string, cache int, err error) {
	p = strings.TrimPrefix(rawURL, "sqlite:")
	if i := strings.LastIndex(p, "?cache="); i >= 0 { // any other ? is a part of the path
		size := p[i+len("?cache="):]
		n := strings.TrimRight(size, "kMGB")
		unit := map[string]int{"kB": 1, "MB": 1 << 10, "GB": 1 << 20}[size[len(n):]]
		if cache, err = strconv.Atoi(n); err != nil || unit == 0 || cache < 1 || cache > (64<<20)/unit {
			return "", 0, fmt.Errorf("?cache=%s is not a cache size: write one such as ?cache=64MB", size)
		}
		p, cache = p[:i], cache*unit
	}
	if strings.HasPrefix(p, "//") && !strings.HasPrefix(p, "///") {
		return "", 0, errors.New("sqlite URLs have no host: write sqlite:PATH")
	}
	if p == "" {
		return "", 0, errors.New("the URL names no file: write sqlite:PATH")
	}
	if strings.ContainsRune(p, 0) {
		return "", 0, errors.New("the path has a NUL byte in it")
	}
	if p == ":memory:" {
		return "", cache, nil
	}
	return p, cache, nil
}

// Open connects to the file of a URL.
func (Engine) Open(ctx context.Context, rawURL string, mode engine.Mode) (engine.Database, error) {
	p, cache, err := path(rawURL)
	if err != nil {
		return nil, err
	}
	if p == "" {
		return open(ctx, "", "file::memory:", cache)
	}
	abs, err := filepath.Abs(p)
	if err != nil {
		return nil, err
	}
	p = short(p)
	info, err := os.Stat(abs)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if mode != engine.Make {
			return nil, fmt.Errorf("the file %s %w", p, engine.ErrMissing)
		}
		if _, err := os.Stat(filepath.Dir(abs)); err != nil {
			return nil, fmt.Errorf("the folder %s does not exist: create it first", filepath.Dir(p))
		}
	case err != nil:
		return nil, fmt.Errorf("the file %s cannot be read: %w", p, err)
	case info.IsDir():
		return nil, fmt.Errorf("%s is a folder, not a database file", p)
	default:
		if err := looksRight(abs, p); err != nil {
			return nil, err
		}
	}
	params := map[engine.Mode]string{engine.ReadOnly: "ro", engine.ReadWrite: "rw", engine.Make: "rwc"}
	u := url.URL{Scheme: "file", Path: abs, RawQuery: "mode=" + params[mode]}
	db, err := open(ctx, p, u.String(), cache)
	if err != nil && mode == engine.ReadOnly && info != nil && inWAL(abs) && !errors.Is(err, engine.ErrBusy) {
		// To read it SQLite writes beside it, but where nobody can have written to it.
		if wal, failed := os.Stat(abs + "-wal"); failed == nil && wal.Size() > 0 {
			return nil, fmt.Errorf("the file %s is in WAL mode and holds changes in %s-wal, which can be read only where its folder can be written. Give the right to write there, or have the application close it", p, p)
		}
		u.RawQuery += "&immutable=1"
		return open(ctx, p, u.String(), cache)
	}
	return db, err
}

// inWAL tells whether a database file is in WAL mode, from its head.
func inWAL(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 20)
	_, err = io.ReadFull(f, head)
	return err == nil && head[18] == 2 && head[19] == 2
}

// short is a path as one would write it from here.
func short(p string) string {
	wd, err := os.Getwd()
	if err != nil {
		return p
	}
	if rel, err := filepath.Rel(wd, p); err == nil && len(rel) < len(p) {
		return rel
	}
	return p
}

// looksRight tells a file that is no database, or cannot be read, before SQLite
// meets it and speaks of something else.
func looksRight(abs, shown string) error {
	f, err := os.Open(abs)
	if err != nil {
		if errors.Is(err, fs.ErrPermission) {
			return fmt.Errorf("the file %s cannot be read: you have no right to", shown)
		}
		return fmt.Errorf("the file %s cannot be read: %w", shown, err)
	}
	defer f.Close()
	head := make([]byte, 16)
	n, _ := f.Read(head)
	if n > 0 && string(head[:n]) != "SQLite format 3\x00"[:n] {
		return fmt.Errorf("the file %s is not an SQLite database: nothing was changed; check the URL", shown)
	}
	return nil
}

func open(ctx context.Context, shown, dsn string, cache int) (engine.Database, error) {
	pool, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, plain(err)
	}
	pool.SetMaxOpenConns(1)
	conn, err := pool.Conn(ctx)
	if err != nil {
		pool.Close()
		return nil, plain(err)
	}
	d := &database{pool: pool, conn: conn, path: shown, timeout: 5 * time.Second}
	settings := []string{"PRAGMA busy_timeout = 5000", "PRAGMA foreign_keys = OFF", "PRAGMA trusted_schema = OFF", fmt.Sprintf("PRAGMA cache_size = %d", -cmp.Or(cache, usualCache))}
	for _, s := range settings {
		if err := d.Exec(ctx, s); err != nil {
			d.Close()
			return nil, err
		}
	}
	if _, err := d.Select(ctx, "SELECT count(*) FROM sqlite_schema"); err != nil {
		d.Close()
		if errors.Is(err, engine.ErrBusy) {
			return nil, fmt.Errorf("the file %s %w; try again when they are done", shown, engine.ErrBusy)
		}
		return nil, fmt.Errorf("the file %s cannot be read: %w", shown, err)
	}
	return d, nil
}

// usualCache is how many kilobytes of a database are held in memory where its URL does not
// say. SQLite's own 2 MB are too few for several indexes into which values come at random.
const usualCache = 8000

// scratchName stands for the path of a scratch database.
const scratchName = "scratch"

// Scratch opens a new empty database in memory. It is a database of its own,
// and statements that could reach another are refused.
func (Engine) Scratch(ctx context.Context) (engine.Database, error) {
	return open(ctx, scratchName, "file::memory:", 0)
}

// plain says what an error of SQLite means to the one who reads it.
func plain(err error) error {
	var e *driver.Error
	if !errors.As(err, &e) {
		return err
	}
	text := strings.TrimSpace(e.Error())
	if i := strings.LastIndex(text, " ("); i > 0 && strings.HasSuffix(text, ")") {
		text = text[:i] // the number of the error
	}
	for _, noise := range []string{"SQL logic error: ", "constraint failed: "} {
		text = strings.TrimPrefix(text, noise)
	}
	switch e.Code() & 0xff {
	case codes.SQLITE_BUSY, codes.SQLITE_LOCKED:
		return fmt.Errorf("the database %w; try again when they are done", engine.ErrBusy)
	case codes.SQLITE_NOTADB:
		return errors.New("this is not an SQLite database, or it is encrypted")
	case codes.SQLITE_CORRUPT:
		return errors.New("the database file is damaged: restore it from a backup")
	case codes.SQLITE_FULL:
		return errors.New("the disk is full: free space and run the same command again; nothing was changed")
	case codes.SQLITE_READONLY:
		return errors.New("the database cannot be written: check the rights of the file and its folder")
	case codes.SQLITE_CANTOPEN:
		return errors.New("the database file cannot be opened: check the rights of the file and its folder")
	case codes.SQLITE_IOERR:
		return fmt.Errorf("the disk failed while the database was used (%s)", text)
	}
	return errors.New(text)
}

// OnProgress sets what is told how far a copy is.
func (d *database) OnProgress(report func(engine.Progress)) { d.report = report }

// sliceRows is how many rows of a copy are one statement: so many that no time is
// lost between them, so few that a copy can be watched, and stopped.
const sliceRows = 20000

// copying tells whether a statement fills a new table from the one renamed aside,
// as a copy of a table does.
func copying(statement string) bool {
	return strings.HasPrefix(statement, "INSERT INTO ") && copyTail(statement) >= 0
}

// copyTail is the offset of the statement's end " ORDER BY rowid" behind the name
// of a table renamed aside; -1 if it has no such end.
func copyTail(statement string) int {
	i := strings.LastIndex(statement, " ORDER BY ")
	if i < 0 {
		return -1
	}
	from := strings.LastIndex(statement[:i], " FROM ")
	switch strings.ToLower(statement[i+len(" ORDER BY "):]) {
	case "rowid", "_rowid_", "oid":
	default:
		return -1
	}
	list := tokens(statement[max(from, 0):i])
	if from < 0 || len(list) != 2 || !list[1].Named() || !strings.HasPrefix(list[1].Name(), asideName("")) {
		return -1
	}
	return i
}

// copyInSlices runs a copy by ranges of row numbers, in their order.
func (d *database) copyInSlices(ctx context.Context, statement string, _ ...any) error {
	tail := copyTail(statement)
	row := statement[tail+len(" ORDER BY "):]
	aside := tokens(statement[strings.LastIndex(statement[:tail], " FROM "):tail])[1].Name()
	ends, err := d.Select(ctx, fmt.Sprintf("SELECT count(*), coalesce(min(%s), 0), coalesce(max(%s), 0) FROM %s", row, row, quote(aside)))
	if err != nil {
		return err
	}
	var n, low, high int64
	for i, to := range []*int64{&n, &low, &high} {
		if *to, err = strconv.ParseInt(ends[0][i], 10, 64); err != nil {
			return err
		}
	}
	span := uint64(high) - uint64(low) // of row numbers, which may have gaps
	if n <= sliceRows {
		return d.Exec(ctx, statement)
	}
	width := span/uint64(n/sliceRows) + 1
	for at, done := low, int64(0); ; {
		last := uint64(high)-uint64(at) < width
		end := high
		if !last {
			end = at + int64(width) - 1
		}
		res, err := d.conn.ExecContext(ctx, fmt.Sprintf("%s WHERE %s BETWEEN %d AND %d%s", statement[:tail], row, at, end, statement[tail:]))
		if err != nil {
			return plain(err)
		}
		if some, err := res.RowsAffected(); err == nil {
			done += some
		}
		if d.report != nil {
			d.report(engine.Progress{Table: strings.TrimPrefix(aside, asideName("")), Done: done, Total: n})
		}
		if last {
			return nil
		}
		at = end + 1
	}
}

// brief gives the context for a statement. One that is over at once is not interrupted: the
// driver starts a goroutine for each statement that can be, which takes as long as the
// statement itself. What is cancelled already is not begun.
func brief(ctx context.Context, sql string) context.Context {
	if ctx.Err() != nil {
		return ctx
	}
	switch {
	case strings.HasPrefix(sql, "INSERT INTO erbario_history "), strings.HasPrefix(sql, "SELECT 1 FROM erbario_history WHERE id = "), strings.HasPrefix(sql, "CREATE TABLE ") && !strings.Contains(strings.ToUpper(sql), " AS"):
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
	text := fmt.Sprintf("WITH q(%s) AS (\n%s\n) SELECT %s FROM q", strings.Join(names, ", "), query, strings.Join(quoted, ", "))
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
			return fmt.Errorf("the database %w, still after %s; nothing was changed; --wait gives them longer", engine.ErrBusy, wait)
		}
		if !errors.Is(err, engine.ErrBusy) {
			return err
		}
	}
	d.inTx, d.aside, d.before, d.touched = true, map[string][][]string{}, nil, nil
	return nil
}

// Step runs one statement of a migration. A table renamed aside for a copy
// keeps its old name wherever it is referred to.
func (d *database) Step(ctx context.Context, statement string) error {
	if err := (Engine{}).Validate(statement); err != nil {
		return err
	}
	legacy := legacyRename(statement)
	if legacy {
		if err := d.takeAside(ctx, statement); err != nil {
			return err
		}
		if err := d.Exec(ctx, "PRAGMA legacy_alter_table = ON"); err != nil {
			return err
		}
	}
	run := d.Exec
	if copying(statement) {
		run = d.copyInSlices
	}
	err := d.stepIndexed(ctx, statement, run)
	if legacy {
		if e := d.Exec(context.WithoutCancel(ctx), "PRAGMA legacy_alter_table = OFF"); err == nil {
			err = e
		}
	}
	if err != nil {
		return err
	}
	return d.handBack(ctx, statement)
}

// takeAside drops the indexes and triggers that still stand with a table that is
// about to be renamed aside. The migration does not know them: somebody made
// them by hand on this database. handBack makes them again once the old table is
// gone.
func (d *database) takeAside(ctx context.Context, statement string) error {
	table := tokens(statement)[2].Name()
	rows, err := d.Select(ctx, "SELECT type, name, sql FROM sqlite_schema WHERE lower(tbl_name) = lower(?) AND type IN ('index', 'trigger') AND sql IS NOT NULL ORDER BY rowid", table)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if err := d.Exec(ctx, "DROP "+strings.ToUpper(r[0])+" "+quote(r[1])); err != nil {
			return err
		}
	}
	if len(rows) > 0 {
		d.aside[strings.ToLower(asideName(table))] = rows
	}
	return nil
}

func (d *database) handBack(ctx context.Context, statement string) error {
	list := tokens(statement)
	if len(d.aside) == 0 || len(list) != 3 || !list[0].Is("DROP") || !list[1].Is("TABLE") {
		return nil
	}
	key := strings.ToLower(list[2].Name())
	for _, r := range d.aside[key] {
		if err := d.Exec(ctx, r[2]); err != nil {
			return fmt.Errorf("the %s %s, which was not created by a migration, cannot be kept (%w): drop it first", r[0], r[1], err)
		}
	}
	delete(d.aside, key)
	return nil
}

// TrackIntegrity notes which references of the tables that are touched point at no row
// already.
func (d *database) TrackIntegrity(ctx context.Context, statements, tables []string) error {
	d.touched, d.before = map[string]bool{}, nil
	for _, t := range tables {
		d.touched[strings.ToLower(t)] = true
	}
	for _, s := range statements {
		if !orphaning(s) {
			continue
		}
		for _, t := range tablesOf(s) {
			d.touched[strings.ToLower(t)] = true
		}
	}
	if len(d.touched) == 0 {
		return nil
	}
	var err error
	d.before, err = d.orphans(ctx)
	return err
}

// orphaning tells whether a statement could leave a reference without its row:
// what only makes something new cannot.
func orphaning(statement string) bool {
	list := tokens(statement)
	if len(list) == 0 || list[0].Is("CREATE") || list[0].Is("SELECT") {
		return false
	}
	return !(list[0].Is("ALTER") && len(list) > 3 && (list[3].Is("ADD") || list[3].Is("RENAME") && !legacyRename(statement)))
}

// orphans lists the rows whose reference points at no row, as text, for the
// references of touched tables and to them.
func (d *database) orphans(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	references, err := d.Select(ctx, "SELECT m.name, f.\"table\" FROM sqlite_schema m, pragma_foreign_key_list(m.name) f WHERE m.type = 'table'")
	if err != nil {
		return nil, err
	}
	checked := map[string]bool{}
	for _, r := range references {
		table := r[0]
		if checked[table] || !d.touched[strings.ToLower(table)] && !d.touched[strings.ToLower(r[1])] {
			continue
		}
		checked[table] = true
		rows, err := d.Select(ctx, "SELECT \"table\", rowid, parent, fkid FROM pragma_foreign_key_check("+literal(table)+")")
		if err != nil {
			// One reference to something that cannot be referred to makes the
			// whole check an error. It was so before, or the steps made it so.
			out["mismatch "+table+": "+err.Error()] = true
			continue
		}
		for _, r := range rows {
			out[fmt.Sprintf("row %s of %s refers to no row of %s", r[1], r[0], r[2])] = true
		}
	}
	return out, nil
}

// CheckIntegrity looks for references that the steps left without a row.
func (d *database) CheckIntegrity(ctx context.Context) error {
	if d.before == nil {
		return nil
	}
	after, err := d.orphans(ctx)
	if err != nil {
		return err
	}
	var fresh []string
	for o := range after {
		if !d.before[o] {
			fresh = append(fresh, o)
		}
	}
	if len(fresh) == 0 {
		return nil
	}
	slices.Sort(fresh)
	shown := fresh
	if len(shown) > 5 {
		shown = append(slices.Clone(shown[:5]), fmt.Sprintf("and %d more", len(fresh)-5))
	}
	return fmt.Errorf("references would point to no row: %s", strings.Join(shown, "; "))
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
	if _, err := d.conn.ExecContext(context.Background(), "ROLLBACK"); err != nil && !strings.Contains(err.Error(), "no transaction") {
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

const historyTable = `CREATE TABLE IF NOT EXISTS erbario_history (
    id TEXT NOT NULL PRIMARY KEY,
    checksum TEXT NOT NULL,
    applied_at TEXT NOT NULL,
    applied_by TEXT NOT NULL,
    took_ms INTEGER NOT NULL,
    text TEXT NOT NULL,
    answers TEXT
)`

// Canonicalize has nothing to do: SQLite keeps SQL as it was written.
func (d *database) Canonicalize(context.Context, *schema.Schema, *schema.Schema) error { return nil }

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
	rows, err := d.Select(ctx, "SELECT name FROM sqlite_schema WHERE type = 'table' AND lower(substr(name, 1, length(?1))) = lower(?1) ORDER BY name", prefix)
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
