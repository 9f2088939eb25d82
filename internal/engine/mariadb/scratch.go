package mariadb

// This file makes scratch databases on the same server. One is made when it is first
// needed, made again between uses, and dropped when the program ends; one that was left
// by a program that was killed is dropped by the next. A statement on scratch that names
// a database is refused: the server would let it reach any.

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"

	"erbario/internal/engine"
)

// scratchPrefix begins the names of scratch databases.
const scratchPrefix = "erbario_scratch_"

// scratchPlace is a server's scratch databases.
type scratchPlace struct {
	config *mysql.Config
	given  bool // one database that was named, instead of those that are made
	mu     sync.Mutex
	idle   []*Database
	made   []string
	out    bool // the named one is in use
	swept  bool
}

var (
	placesMu sync.Mutex
	places   = map[string]*scratchPlace{}
)

// url is a URL of the connection's server, without a word of how it is guarded.
func (d *Database) url() string { return urlOf(d.config) }

// configs are the configurations by the URLs that stand for them within the program.
var configs sync.Map

func urlOf(c *mysql.Config) string {
	u := url.URL{Scheme: "mariadb", Host: c.Addr, Path: "/" + c.DBName, User: url.User(c.User)}
	key := u.String()
	configs.Store(key, c)
	return key
}

// configOf is the configuration of a URL.
func configOf(raw string) (*mysql.Config, error) {
	if c, ok := configs.Load(raw); ok {
		return c.(*mysql.Config), nil
	}
	return config(raw)
}

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
	raw, given := e.url, e.scratch != ""
	if given {
		raw = e.scratch
	}
	if raw == "" {
		return nil, errors.New(
			"no MariaDB server is known for a scratch database. Name a throwaway database on one in erbario.toml, or add scratch = \"URL\" next to the url of another",
		)
	}
	c, err := configOf(raw)
	if err != nil {
		return nil, err
	}
	placesMu.Lock()
	key := fmt.Sprintf("%s %s", c.Addr, c.User)
	if given {
		key = "given " + key + " " + c.DBName
	}
	p := places[key]
	if p == nil {
		p = &scratchPlace{config: c, given: given}
		places[key] = p
	}
	placesMu.Unlock()
	d, err := p.take(ctx)
	if err != nil && given {
		err = fmt.Errorf("the scratch database: %w", err)
	}
	if err != nil {
		return nil, err
	}
	d.scratch = p
	return d, nil
}

// take gives a connection to an empty scratch database.
func (p *scratchPlace) take(ctx context.Context) (*Database, error) {
	p.mu.Lock()
	for len(p.idle) > 0 {
		n := len(p.idle) - 1
		d := p.idle[n]
		p.idle = p.idle[:n]
		if err := d.raw(ctx, "DO 1"); err == nil {
			p.mu.Unlock()
			return d, nil
		}
		d.conn.Close() // the server was started again
		d.pool.Close()
	}
	if p.given {
		defer p.mu.Unlock()
		if p.out {
			return nil, errors.New(
				"it is in use already, and two are needed at once: let the user create databases instead (GRANT ALL ON `erbario\\_scratch\\_%`.* TO …)",
			)
		}
		d, err := openConfig(ctx, p.config, false)
		if err != nil {
			return nil, err
		}
		rows, err := d.Select(ctx,
			"SELECT table_name FROM information_schema.tables WHERE table_schema = database() LIMIT 1")
		if err == nil && len(rows) > 0 {
			err = fmt.Errorf("%s is not empty (%s): its contents would be lost", p.config.DBName, rows[0][0])
		}
		if err != nil {
			return nil, errors.Join(err, d.Close())
		}
		p.out = true
		return d, nil
	}
	sweep := !p.swept
	p.swept = true
	p.mu.Unlock()
	c := *p.config
	c.DBName = ""
	admin, err := openConfig(ctx, &c, false)
	if err != nil {
		return nil, err
	}
	defer admin.Close()
	if sweep {
		p.sweep(ctx, admin)
	}
	random := make([]byte, 6)
	rand.Read(random)
	name := fmt.Sprintf("%s%d_%s", scratchPrefix, time.Now().Unix(), hex.EncodeToString(random))
	if err := admin.raw(ctx, createScratch(name, admin.server)); err != nil {
		if errors.Is(err, engine.ErrDenied) {
			return nil, fmt.Errorf(
				"the user %s has no right to create a scratch database, on which migrations are proved. Grant it with GRANT ALL ON `erbario\\_scratch\\_%%`.* TO %s, or name an empty database for it with scratch = \"URL\" in erbario.toml",
				p.config.User, p.config.User)
		}
		return nil, fmt.Errorf("no scratch database can be created: %w", err)
	}
	p.mu.Lock()
	p.made = append(p.made, name)
	p.mu.Unlock()
	c.DBName = name
	d, err := openMade(ctx, &c)
	if err == nil { // who may not see others' sessions sees the lock
		_, _ = d.Select(ctx, "SELECT GET_LOCK("+literal(name)+", 0)")
	}
	return d, err
}

func createScratch(name string, s server) string {
	return "CREATE DATABASE " + quote(name) + " CHARACTER SET utf8mb4 COLLATE " + s.binary()
}

// leftAfter is how old a scratch database has to be for nobody to be just about to
// connect to it.
const leftAfter = 10 * time.Minute

// sweep drops the scratch databases that a program that was killed left behind: nobody holds
// their lock, nor, as far as the user may see, is connected to them.
func (p *scratchPlace) sweep(ctx context.Context, admin *Database) {
	rows, err := admin.Select(ctx,
		"SELECT schema_name FROM information_schema.schemata s WHERE schema_name LIKE 'erbario\\_scratch\\_%' AND is_free_lock(s.schema_name) AND NOT EXISTS (SELECT 1 FROM information_schema.processlist p WHERE p.db = s.schema_name)")
	if err != nil {
		return
	}
	for _, r := range rows {
		made, _, _ := strings.Cut(strings.TrimPrefix(r[0], scratchPrefix), "_")
		if n, err := strconv.ParseInt(made, 10, 64); err == nil && time.Since(time.Unix(n, 0)) > leftAfter {
			_ = admin.raw(ctx, "DROP DATABASE IF EXISTS "+quote(r[0]))
		}
	}
}

// back empties a scratch database, so that the next use finds nothing.
func (p *scratchPlace) back(d *Database) error {
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	defer stop()
	err := d.empty(ctx, p.given)
	p.mu.Lock()
	defer p.mu.Unlock()
	if err != nil || p.given { // it cannot be used again, and is dropped at the end
		p.out = false
		d.scratch = nil
		return errors.Join(err, d.conn.Close(), d.pool.Close())
	}
	fresh := &Database{pool: d.pool, conn: d.conn, config: d.config, server: d.server, name: d.name, id: d.id}
	p.idle = append(p.idle, fresh)
	return nil
}

// empty takes everything out of a scratch database and sets the session as new.
func (d *Database) empty(ctx context.Context, given bool) error {
	list := []string{"UNLOCK TABLES"}
	if given {
		s, err := d.Inspect(ctx)
		if err != nil {
			return err
		}
		list = append(list, (Engine{}).DropAll(s)...)
	} else {
		list = append(list, "DROP DATABASE "+quote(d.name), createScratch(d.name, d.server), "USE "+quote(d.name))
	}
	list = append(list, "SET "+quiet+" = NULL", d.server.session())
	for _, sql := range list {
		if err := d.raw(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// drop drops the scratch databases of this program.
func (p *scratchPlace) drop() {
	ctx, stop := context.WithTimeout(context.Background(), 30*time.Second)
	defer stop()
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, d := range p.idle {
		d.conn.Close()
		d.pool.Close()
	}
	p.idle = nil
	if len(p.made) == 0 {
		return
	}
	c := *p.config
	c.DBName = ""
	admin, err := openConfig(ctx, &c, false)
	if err != nil {
		return
	}
	defer admin.Close()
	for _, name := range slices.Clone(p.made) {
		_ = admin.raw(ctx, "DROP DATABASE IF EXISTS "+quote(name))
	}
	p.made = nil
}
