package postgres

// This file makes scratch databases: databases of their own on the same server,
// on connections that cannot reach any other. One is made when it is first needed,
// emptied before it is used again, and dropped when the program ends; one that was left by a
// program that was killed is dropped by the next.

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgproto3"

	"erbario/internal/engine"
)

// scratchPrefix begins the names of scratch databases.
const scratchPrefix = "erbario_scratch_"

// scratchPlace is a server's scratch databases.
type scratchPlace struct {
	config *pgx.ConnConfig
	given  bool // one database that was named, instead of those that are made
	mu     sync.Mutex
	idle   []*pgx.Conn // of a named one, to an empty database; else it is emptied when it is taken
	made   []string
	uses   map[*pgx.Conn]int
	// inside are the schemas in which a named database is used a second time and more,
	// while the first use of it goes on: there is one alone.
	inside map[*pgx.Conn]string
	out    bool // the first use of a named database goes on
}

// usesOfOne is how often a scratch database is used before another takes its place:
// what was dropped leaves room behind in the catalogues, and every reading of them
// takes longer.
const usesOfOne = 100

var (
	placesMu sync.Mutex
	places   = map[string]*scratchPlace{}
)

// Close drops the scratch databases of all servers.
func (Engine) Close() {
	placesMu.Lock()
	list := places
	places = map[string]*scratchPlace{}
	placesMu.Unlock()
	for _, p := range list {
		p.drop()
	}
}

// Scratch opens a new empty database on the engine's server.
func (e Engine) Scratch(ctx context.Context) (engine.Database, error) {
	if e.scratch != "" {
		return e.given(ctx)
	}
	if e.url == "" {
		return nil, errors.New(
			"no PostgreSQL server is known for a scratch database. Name a throwaway database on one in erbario.toml, or add scratch = \"URL\" next to the url of another",
		)
	}
	c, path, err := config(e.url)
	if err != nil {
		return nil, err
	}
	placesMu.Lock()
	key := fmt.Sprintf("%s:%d %s", c.Host, c.Port, c.User)
	for _, f := range c.Fallbacks {
		key += fmt.Sprintf(" %s:%d", f.Host, f.Port)
	}
	p := places[key]
	if p == nil {
		p = &scratchPlace{config: c}
		places[key] = p
	}
	placesMu.Unlock()
	conn, err := p.take(ctx)
	if err != nil {
		return nil, err
	}
	first, _, _ := strings.Cut(path, ",") // what names its own schema finds it
	return p.ready(ctx, conn, first, e.read())
}

// given opens the database that was named for scratch. It has to be empty: what is in it
// would be gone.
func (e Engine) given(ctx context.Context) (engine.Database, error) {
	c, _, err := config(e.scratch)
	if err != nil {
		return nil, fmt.Errorf("the scratch database: %w", err)
	}
	placesMu.Lock()
	key := "given " + c.ConnString()
	p := places[key]
	if p == nil {
		p = &scratchPlace{config: c, given: true}
		places[key] = p
	}
	placesMu.Unlock()
	conn, err := p.take(ctx)
	if err != nil {
		return nil, fmt.Errorf("the scratch database: %w", err)
	}
	return p.ready(ctx, conn, "", e.read())
}

// ready prepares a scratch database that is empty, with the schema in which it works,
// "": public, and those that are read next to it.
func (p *scratchPlace) ready(ctx context.Context, conn *pgx.Conn, first string,
	schemas []string) (engine.Database, error) {
	d := &database{conn: conn, user: p.config.User, scratch: p, schemas: schemas}
	p.mu.Lock()
	inside := p.inside[conn]
	schema := cmp.Or(inside, first, "public")
	p.mu.Unlock()
	if inside != "" && len(schemas) > 0 {
		err := fmt.Errorf("the scratch database %s is in use, and has no room for a second schema %s: "+
			"give the user the right CREATEDB, and remove scratch from erbario.toml", p.config.Database, schemas[0])
		return nil, errors.Join(err, d.Close())
	}
	if schema == "public" {
	} else if _, err := conn.PgConn().Exec(ctx, "CREATE SCHEMA IF NOT EXISTS "+schema).ReadAll(); err != nil {
		return nil, errors.Join(d.plain(err), d.Close())
	}
	if err := d.settings(ctx, schema); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	for _, sql := range ownFunctions {
		if err := d.Exec(ctx, sql); err != nil {
			return nil, errors.Join(err, d.Close())
		}
	}
	return d, nil
}

// markSchema is in a named scratch database while a run uses it: what is there beside
// it was left by one that was killed.
const markSchema = scratchPrefix + "in_use"

// occupied refuses a named database that is not empty, or that another run uses. One
// that has just ended may hold its lock a moment longer.
func (p *scratchPlace) occupied(ctx context.Context, conn *pgx.Conn) error {
	ask := func(sql string) (string, error) {
		r := conn.PgConn().ExecParams(ctx, sql, nil, nil, nil, nil).Read()
		if r.Err != nil {
			return "", r.Err
		}
		return string(r.Rows[0][0]), nil
	}
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		got, err := ask("SELECT pg_try_advisory_lock(4711)")
		if err != nil {
			return err
		}
		if got == "t" {
			break
		}
		if time.Now().After(until) || ctx.Err() != nil {
			return fmt.Errorf("%s is used by another run: try again when it is done", p.config.Database)
		}
	}
	things, err := ask(
		`SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname::text NOT LIKE 'pg\_%' AND n.nspname <> 'information_schema'`,
	)
	if err != nil {
		return err
	}
	marked, err := ask("SELECT count(*) FROM pg_namespace WHERE nspname = " + literal(markSchema))
	if err != nil {
		return err
	}
	if things != "0" && marked == "0" {
		return fmt.Errorf("%s has %s objects, which a proof would drop: name an empty one", p.config.Database, things)
	}
	sql := "CREATE SCHEMA " + markSchema
	if marked != "0" {
		drops, err := ask(
			`SELECT coalesce(string_agg('DROP SCHEMA ' || quote_ident(nspname) || ' CASCADE; ', ''), '') FROM pg_namespace WHERE nspname::text NOT LIKE 'pg\_%' AND nspname NOT IN ('information_schema', ` + literal(
				markSchema,
			) + `)`,
		)
		if err != nil {
			return err
		}
		sql = drops + createPublic
	}
	if _, err := conn.PgConn().Exec(ctx, sql).ReadAll(); err != nil {
		return err
	}
	p.mu.Lock()
	p.out = true
	p.mu.Unlock()
	return nil
}

// within makes a schema in a named database for another use of it.
func (p *scratchPlace) within(ctx context.Context, conn *pgx.Conn) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.inside == nil {
		p.inside = map[*pgx.Conn]string{}
	}
	name := ""
	for n := 2; name == ""; n++ {
		name = "erbario_scratch_" + strconv.Itoa(n)
		for _, taken := range p.inside {
			if taken == name {
				name = ""
				break
			}
		}
	}
	if _, err := conn.PgConn().Exec(ctx, "CREATE SCHEMA "+name).ReadAll(); err != nil {
		return err
	}
	p.inside[conn] = name
	return nil
}

// take gives a connection to an empty scratch database.
func (p *scratchPlace) take(ctx context.Context) (*pgx.Conn, error) {
	if conn, err := p.takeIdle(ctx); conn != nil || err != nil {
		return conn, err
	}
	p.mu.Lock()
	first := !p.out
	p.mu.Unlock()
	if p.given {
		conn, err := connect(ctx, p.config)
		if err != nil {
			return nil, err
		}
		if first {
			err = p.occupied(ctx, conn)
		} else {
			err = p.within(ctx, conn)
		}
		if err != nil {
			return nil, errors.Join(err, conn.Close(ctx))
		}
		return conn, nil
	}
	c, err := primary(ctx, p.config)
	if err != nil {
		return nil, fmt.Errorf("no scratch database can be created: %w", err)
	}
	if c != p.config {
		p.mu.Lock()
		p.config = c
		p.mu.Unlock()
	}
	admin, err := connectBeside(ctx, c)
	if err != nil {
		return nil, err
	}
	defer admin.Close(context.WithoutCancel(ctx))
	p.sweep(ctx, admin)
	random := make([]byte, 6)
	rand.Read(random)
	name := fmt.Sprintf("%s%d_%s", scratchPrefix, time.Now().Unix(), hex.EncodeToString(random))
	_, err = admin.PgConn().
		Exec(ctx, "CREATE DATABASE "+name+" TEMPLATE template0 ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C'").
		ReadAll()
	var pg *pgconn.PgError
	if errors.As(err, &pg) && pg.Code == "42501" {
		return nil, fmt.Errorf(
			"the user %s has no right to create a scratch database, on which migrations are proved. Grant it with ALTER ROLE %s CREATEDB, or name an empty database for it with scratch = \"URL\" in erbario.toml",
			p.config.User, quote(p.config.User))
	}
	if pg != nil && pg.Code == "25006" {
		return nil, fmt.Errorf(
			"the server at %s is read only, as a standby is, and no scratch database can be created on it. Name the primary in the URL, or scratch = \"URL\" in erbario.toml",
			net.JoinHostPort(c.Host, fmt.Sprint(c.Port)),
		)
	}
	if err != nil {
		return nil, fmt.Errorf("no scratch database can be created: %s", last(err))
	}
	p.mu.Lock()
	p.made = append(p.made, name)
	p.mu.Unlock()
	c = c.Copy()
	c.Database = name
	return connect(ctx, c)
}

// leftAfter is how old a scratch database has to be for nobody to be just about to
// connect to it.
const leftAfter = 10 * time.Minute

// sweep drops the scratch databases that a program that was killed left behind:
// nobody is connected to them, and they are not of this moment.
func (p *scratchPlace) sweep(ctx context.Context, admin *pgx.Conn) {
	r := admin.PgConn().
		ExecParams(ctx, `SELECT d.datname FROM pg_database d WHERE d.datname::text LIKE 'erbario\_scratch\_%'
		AND NOT EXISTS (SELECT 1 FROM pg_stat_activity a WHERE a.datid = d.oid) AND pg_has_role(d.datdba,
			'USAGE')`, nil, nil, nil, nil).
		Read()
	for _, row := range r.Rows {
		made, _, _ := strings.Cut(strings.TrimPrefix(string(row[0]), scratchPrefix), "_")
		if n, err := strconv.ParseInt(made, 10, 64); err == nil && time.Since(time.Unix(n, 0)) > leftAfter {
			_, _ = admin.PgConn().Exec(ctx, "DROP DATABASE IF EXISTS "+quote(string(row[0]))).ReadAll()
		}
	}
}

// takeIdle gives a connection whose use has ended, to a database that is empty again; nil: there is
// none.
func (p *scratchPlace) takeIdle(ctx context.Context) (*pgx.Conn, error) {
	for {
		p.mu.Lock()
		n := len(p.idle)
		if n == 0 {
			p.mu.Unlock()
			return nil, nil
		}
		conn := p.idle[n-1]
		p.idle, p.out = p.idle[:n-1], true
		p.mu.Unlock()
		if p.given {
			return conn, nil
		}
		d := &database{conn: conn, user: p.config.User, scratch: p}
		many, err := p.fewer(ctx, d)
		if err == nil && !many {
			err = p.empty(ctx, d)
		}
		if err == nil && !many {
			return conn, nil
		}
		name := conn.Config().Database // another takes its place
		if err := conn.Close(context.WithoutCancel(ctx)); err != nil {
			return nil, err
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err := p.dropOne(ctx, name); err != nil {
			return nil, err
		}
	}
}

// createPublic creates the schema that every new database has, as it is there.
const createPublic = "CREATE SCHEMA public; COMMENT ON SCHEMA public IS 'standard public schema'"

// empty drops all that is in a scratch database, and what its session was set to.
func (p *scratchPlace) empty(ctx context.Context, d *database) error {
	rows, err := d.Select(ctx,
		"SELECT quote_ident(nspname) FROM pg_namespace WHERE nspname::text NOT LIKE 'pg\\_%' AND nspname::text NOT LIKE 'erbario\\_scratch\\_%' AND nspname <> 'information_schema'")
	if err != nil {
		return err
	}
	ofAll, err := d.Select(ctx, "SELECT 'EVENT TRIGGER ' || quote_ident(evtname) FROM pg_event_trigger UNION ALL SELECT 'PUBLICATION ' || quote_ident(pubname) FROM pg_publication")
	if err != nil {
		return err
	}
	var drop []string
	for _, r := range ofAll { // in no schema; event triggers first, since they may refuse the rest
		drop = append(drop, "DROP "+r[0])
	}
	for _, r := range rows {
		drop = append(drop, "DROP SCHEMA "+r[0]+" CASCADE")
	}
	if err = d.Exec(ctx, strings.Join(append(drop, createPublic, "DISCARD TEMP"), "; ")); err != nil {
		return err
	}
	if p.given { // with the lock on it
		return d.Exec(ctx, "RESET ALL")
	}
	return d.Exec(ctx, "DISCARD ALL")
}

// back takes a scratch database back, for the next use. A named one is emptied now, since it is not
// dropped at the end.
func (p *scratchPlace) back(d *database) error {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	if d.pg().IsClosed() {
		return nil
	}
	p.mu.Lock()
	inside := p.inside[d.conn]
	delete(p.inside, d.conn)
	p.mu.Unlock()
	if inside != "" {
		return errors.Join(d.Exec(ctx, "DROP SCHEMA "+inside+" CASCADE"), d.conn.Close(ctx))
	}
	if p.given {
		_, err := p.fewer(ctx, d)
		if err == nil {
			err = p.empty(ctx, d)
		}
		if err != nil { // it cannot be used again
			p.mu.Lock()
			p.out = false
			p.mu.Unlock()
			return d.conn.Close(ctx)
		}
	}
	p.mu.Lock()
	p.out = false
	if p.uses == nil {
		p.uses = map[*pgx.Conn]int{}
	}
	p.uses[d.conn]++
	spent := p.uses[d.conn] >= usesOfOne && !p.given
	if spent {
		delete(p.uses, d.conn)
	} else {
		p.idle = append(p.idle, d.conn)
	}
	p.mu.Unlock()
	if !spent {
		return nil
	}
	name := d.conn.Config().Database
	if err := d.conn.Close(ctx); err != nil {
		return err
	}
	return p.dropOne(ctx, name)
}

// fewer sees to it that a scratch database can be emptied in one transaction, which holds a
// lock on all that it drops: of a named one, tables go by and by; many: ours is dropped
// whole instead.
func (p *scratchPlace) fewer(ctx context.Context, d *database) (many bool, err error) {
	const tables = "SELECT c.oid::regclass FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.relkind IN ('r', 'p') AND n.nspname::text NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'"
	rows, err := d.Select(ctx, tables)
	if err != nil || len(rows) < manyTables {
		return false, err
	}
	if !p.given {
		return true, nil
	}
	for some := range slices.Chunk(rows, together) {
		var names []string
		for _, r := range some {
			names = append(names, r[0])
		}
		if err := d.Exec(ctx, "DROP TABLE IF EXISTS "+strings.Join(names, ", ")+" CASCADE"); err != nil {
			return false, err
		}
	}
	return false, nil
}

// dropOne drops a scratch database of ours, to which nobody is connected.
func (p *scratchPlace) dropOne(ctx context.Context, name string) error {
	err := p.dropNow(ctx, name)
	p.mu.Lock()
	p.made = slices.DeleteFunc(p.made, func(n string) bool { return n == name })
	p.mu.Unlock()
	return err
}

func (p *scratchPlace) dropNow(ctx context.Context, name string) error {
	admin, err := connectBeside(ctx, p.config)
	if err != nil {
		return err
	}
	defer admin.Close(ctx)
	return dropDatabase(ctx, admin, name)
}

// drop drops the scratch databases of this program.
func (p *scratchPlace) drop() {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, conn := range p.idle {
		if p.given {
			_, _ = conn.PgConn().Exec(ctx, "DROP SCHEMA IF EXISTS "+markSchema).ReadAll()
		}
		_ = conn.Close(ctx)
	}
	var all sync.WaitGroup
	for _, name := range p.made { // one that stays is dropped by a later run: see sweep
		all.Go(func() { p.leave(ctx, name) })
	}
	all.Wait()
	p.idle, p.made = nil, nil
}

// leaveAfter is how long the end of a program waits for a scratch database to be dropped.
const leaveAfter = 100 * time.Millisecond

// leave has the server drop a scratch database, and soon waits for it no longer. Before it
// drops one, the server writes to disk whatever of all its databases is not written yet, which
// takes seconds where something large was just loaded, and is nothing that the end of a
// program needs. That the session ends is told it in the same breath, so that it is surprised by
// nothing.
func (p *scratchPlace) leave(ctx context.Context, name string) {
	admin, err := connectBeside(ctx, p.config)
	if err != nil {
		return
	}
	session, err := admin.PgConn().Hijack()
	if err != nil {
		return
	}
	defer session.Conn.Close()
	session.Frontend.Send(&pgproto3.Query{String: dropSQL(name)})
	session.Frontend.Send(&pgproto3.Terminate{})
	if session.Frontend.Flush() != nil || session.Conn.SetReadDeadline(time.Now().Add(leaveAfter)) != nil {
		return
	}
	for {
		switch m, err := session.Frontend.Receive(); m.(type) {
		case *pgproto3.ErrorResponse: // it has to be tried again
			_ = p.dropNow(ctx, name)
			return
		case *pgproto3.CommandComplete:
			return
		default:
			if err != nil {
				return
			}
		}
	}
}

func dropSQL(name string) string { return "DROP DATABASE IF EXISTS " + name + " WITH (FORCE)" }

// dropDatabase drops a scratch database, and ends the sessions in it. The server's own
// maintenance may be one of them, which a plain user has no right to end and which is gone
// in a moment: so it tries again for some seconds.
func dropDatabase(ctx context.Context, admin *pgx.Conn, name string) error {
	for until := time.Now().Add(5 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		_, err := admin.PgConn().Exec(ctx, dropSQL(name)).ReadAll()
		var pg *pgconn.PgError
		if !errors.As(err, &pg) || pg.Code != "42501" && pg.Code != "55006" || time.Now().After(until) {
			return err
		}
	}
}
