package project

// This file is the databases of a project: by name, with what the settings, .env and the
// environment say of them.

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/lang"
)

// DatabaseSettings are what erbario.toml says of one database.
type DatabaseSettings struct {
	URL       string `toml:"url"`
	Throwaway *bool  `toml:"throwaway"`
	Protected *bool  `toml:"protected"`
	Direct    string `toml:"direct"`
	Scratch   string `toml:"scratch"`
}

// Database is one of the project's databases.
type Database struct {
	Name      string
	URL       string // with its variables filled in, and a relative path made absolute
	Shown     string // the URL without a password
	Throwaway bool
	Protected bool
	Unset     string // a variable of the URL that has no value; then URL is empty
	Direct    string // the URL of the server itself, where URL goes through a pooler; else URL
	Scratch   string // the URL of an empty database for proofs; empty: one is made

	engines engine.Registry
	schemas func() []string // of the project; nil: it has none
}

// database is a database of the settings, with what .env and the environment say of it.
func (p *Project) database(path, name string, d DatabaseSettings) (Database, error) {
	if d.URL == "" {
		return Database{}, fmt.Errorf("%s: database.%s has no url, such as sqlite:herbarium.db", path, name)
	}
	db := Database{Name: name, engines: p.engines}
	expanded, unset := p.expand(d.URL)
	if unset != "" {
		db.Unset = unset
	} else {
		db.URL = p.absolute(expanded)
	}
	db.Shown = Shown(expanded)
	for _, more := range []struct {
		text string
		to   *string
	}{{d.Direct, &db.Direct}, {d.Scratch, &db.Scratch}} {
		text, unset := p.expand(more.text)
		if unset != "" && db.Unset == "" {
			db.Unset, db.URL = unset, ""
		}
		*more.to = text
	}
	if db.Direct == "" {
		db.Direct = db.URL
	}
	local := db.Unset == "" && Local(db.URL)
	db.Throwaway = d.Throwaway != nil && *d.Throwaway
	switch {
	case d.Protected != nil:
		db.Protected = *d.Protected
	case d.Throwaway != nil:
		db.Protected = false
	default:
		db.Protected = !local
	}
	if db.Protected && db.Throwaway {
		return Database{}, fmt.Errorf("%s: database.%s is both protected and throwaway", path, name)
	}
	return db, nil
}

// Absolute makes a relative path of an sqlite URL one from a folder.
func Absolute(dir, u string) string {
	path, ok := strings.CutPrefix(u, "sqlite:")
	if !ok || path == "" || path == ":memory:" || filepath.IsAbs(path) || strings.HasPrefix(path, "//") {
		return u
	}
	return "sqlite:" + filepath.Join(dir, path)
}

// Shown is a URL as it may be shown: without a password.
func Shown(raw string) string {
	scheme, rest, ok := strings.Cut(raw, "://")
	if !ok {
		return raw
	}
	i := strings.LastIndexByte(rest, '@')
	if i >= 0 {
		userinfo := rest[:i]
		if j := strings.IndexByte(userinfo, ':'); j >= 0 {
			userinfo = userinfo[:j]
		}
		rest = userinfo + rest[i:]
	}
	if j := strings.IndexByte(rest, '?'); j >= 0 {
		if q, err := url.ParseQuery(rest[j+1:]); err == nil && (q.Has("password") || q.Has("sslpassword")) {
			q.Del("password")
			q.Del("sslpassword")
			rest = rest[:j] + "?" + q.Encode()
		}
	}
	return scheme + "://" + rest
}

// Local tells whether a URL is of a file or of a server on this machine.
func Local(raw string) bool {
	if strings.HasPrefix(raw, "sqlite:") {
		return true
	}
	u, err := url.Parse(raw)
	if err != nil {
		return false
	}
	host := u.Hostname()
	if host == "localhost" || host == "" || strings.HasPrefix(host, "/") {
		return true
	}
	ip := net.ParseIP(host)
	return ip != nil && ip.IsLoopback()
}

// absolute makes a relative path of an sqlite URL one from the project's folder.
func (p *Project) absolute(u string) string { return Absolute(p.Dir, u) }

// Names are the names of the project's databases, the default first.
func (p *Project) Names() []string {
	var names []string
	for n := range p.databases {
		names = append(names, n)
	}
	def := p.Default()
	slices.SortFunc(names, func(a, b string) int {
		if (a == def) != (b == def) {
			if a == def {
				return -1
			}
			return 1
		}
		return strings.Compare(a, b)
	})
	return names
}

// Default is the name of the database that a command works on when none is
// named.
func (p *Project) Default() string {
	if v, ok := p.Getenv("ERBARIO_DATABASE"); ok && v != "" {
		return v
	}
	if p.Settings.Project.Default != "" {
		return p.Settings.Project.Default
	}
	if len(p.databases) == 1 {
		for n := range p.databases {
			return n
		}
	}
	return "dev"
}

// Database returns the database with that name; "" is the default one.
func (p *Project) Database(name string) (Database, error) {
	if name == "" {
		name = p.Default()
	}
	db, ok := p.databases[name]
	if !ok {
		known := p.Names()
		hint := lang.DidYouMean(name, known)
		if hint == "" {
			hint = "there are: " + strings.Join(known, ", ")
		}
		if len(known) == 0 {
			hint = "erbario.toml names none: add [database.dev] with a url"
		}
		return db, fmt.Errorf("there is no database %q; %s", name, hint)
	}
	return db, nil
}

// Engine is the engine of a database.
func (db Database) Engine() (engine.Engine, error) {
	if db.Unset != "" {
		return nil, &DatabaseError{
			db.Name,
			fmt.Errorf("its URL needs %s, which has no value: set it in the environment or in .env", db.Unset),
		}
	}
	e, err := db.engines.ForURL(db.Direct)
	if err == nil && db.Scratch != "" {
		e = engine.ProveIn(e, db.Scratch)
	}
	if err == nil && e.Caps().Schemas && db.schemas != nil {
		e = engine.WithSchemas(e, db.schemas())
	}
	var scheme *engine.SchemeError
	if errors.As(err, &scheme) && lang.Nearest(scheme.Scheme, scheme.Known) != "" {
		return nil, &DatabaseError{db.Name, fmt.Errorf("%w; %s", err, lang.DidYouMean(scheme.Scheme, scheme.Known))}
	}
	if err != nil {
		return nil, &DatabaseError{db.Name, err}
	}
	return e, nil
}

// DatabaseError is why a database of a project cannot be used.
type DatabaseError struct {
	Name string // in erbario.toml
	Err  error
}

func (d *DatabaseError) Error() string { return "database " + d.Name + ": " + d.Err.Error() }

// Unwrap gives the reason alone.
func (d *DatabaseError) Unwrap() error { return d.Err }
