package sqlite

// This file opens databases: files, and scratch ones in memory.

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	driver "modernc.org/sqlite" // the driver "sqlite"
	codes "modernc.org/sqlite/lib"

	"erbario/internal/engine"
)

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
			return nil, fmt.Errorf(
				"the file %s is in WAL mode and holds changes in %s-wal, which can be read only where its folder can be written. Give the right to write there, or have the application close it",
				p, p)
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
	settings := []string{
		"PRAGMA busy_timeout = 5000",
		"PRAGMA foreign_keys = OFF",
		"PRAGMA trusted_schema = OFF",
		fmt.Sprintf("PRAGMA cache_size = %d", -cmp.Or(cache, usualCache)),
	}
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
