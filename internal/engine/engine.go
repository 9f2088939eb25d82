// Package engine says what every database can do for Erbario, as small roles: its SQL as
// text, changes put into its own words, scripts, and connections that are opened, read and
// written. Each engine is a folder of its own below this one and knows no other; nothing
// outside asks which engine it is, but what it can do:
//
//	e, err := engines.All().ForURL("sqlite:herbarium.db")
//	db, err := e.Open(ctx, "sqlite:herbarium.db", engine.ReadOnly)
//	live, err := db.Inspect(ctx)
//	for _, t := range live.Tables {
//		fmt.Println(e.SQL().QuoteTable(t.Name))
//	}
package engine

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Engine is one kind of database. All its methods but Open and Scratch are functions of
// their arguments.
type Engine interface {
	// Name is the word for the engine in file names and in the language.
	Name() string
	// Schemes are the schemes of its URLs.
	Schemes() []string
	Caps() Caps
	OwnTables() OwnTables
	SQL() Dialect
	DDL() Compiler
	Scripts() Scripter
	// Open connects to the database of a URL.
	Open(ctx context.Context, url string, mode Mode) (Database, error)
	// Scratch opens a new empty database that cannot reach any other.
	Scratch(ctx context.Context) (Database, error)
}

// Server is an Engine whose databases are on a server.
type Server interface {
	// At is the engine with the server of a URL, on which Scratch makes databases.
	At(url string) Engine
	// ProveIn is the engine with the URL of an empty database in whose place Scratch makes
	// none.
	ProveIn(url string) Engine
}

// Several is an Engine whose databases have several schemas.
type Several interface {
	// WithSchemas is the engine whose databases are read with those schemas, too.
	WithSchemas(names []string) Engine
}

// WithSchemas is the engine whose databases are read with those schemas, next to the one that their
// URLs name, if databases of it have several.
func WithSchemas(e Engine, names []string) Engine {
	if s, ok := e.(Several); ok && len(names) > 0 {
		return s.WithSchemas(names)
	}
	return e
}

// At is the engine with the server of a URL, if it has servers.
func At(e Engine, url string) Engine {
	if s, ok := e.(Server); ok {
		return s.At(url)
	}
	return e
}

// ProveIn is the engine with the URL of an empty database for proofs, if it has servers.
func ProveIn(e Engine, url string) Engine {
	if s, ok := e.(Server); ok {
		return s.ProveIn(url)
	}
	return e
}

// Caps are the ways in which an engine differs from others for whoever plans and runs
// changes.
type Caps struct {
	// Journal: a migration can be more than one transaction, and its steps are noted.
	Journal bool
	// CommitsChanges: a change of a table commits by itself, so that no migration that has
	// one is a transaction.
	CommitsChanges bool
	// OrderedColumns: the order of columns is compared, and can be mended.
	OrderedColumns bool
	// ChecksAll: a change in place fails where any view or trigger of the database does not
	// work.
	ChecksAll bool
	// ImmediateReferences: references are held at every statement, so that what is referred
	// to has to be there first; else they are held at the end.
	ImmediateReferences bool
	// PlainCollation is the collation of a text of which none is said; empty: its table's.
	PlainCollation string
	// Schemas: a database has several, and the name of a table may say in which it is.
	Schemas bool
	// IndexesPerTable: indexes of two tables can have one name.
	IndexesPerTable bool
	// ViewsFollow: views still work once a table or a column has another name.
	ViewsFollow bool
	// Depends: nothing is dropped on which something else stands.
	Depends bool
	Enums   bool // it has enum types: see EnumsOf
	Stages  bool // others write while it migrates: see StagesOf
	// EmptyRow is what stands behind INSERT INTO and a table's name for a row of defaults
	// alone.
	EmptyRow string
	// Waiting says in a sentence how long a migration keeps others waiting.
	Waiting string
	Rates   Rates
}

// Rates are how many rows a second are read, and rewritten or copied, as measured with rows of 8 columns on two
// cores (docs/performance.md): for estimates.
type Rates struct{ Reads, Rewrites int }

// OwnTables are the statements that make Erbario's own tables in a database where they are
// not there yet.
type OwnTables struct {
	History []string // the history, and what else every database needs
	// Functions are those that triggers of models call, by name: only a database that has such
	// triggers needs them.
	Functions map[string]string
	Journal   string   // of the steps of a migration under way; "" without Caps.Journal
	Seeds     []string // of the rows that seeds made
}

// Before gives what a database has to have before the statements of a text run: the history,
// and the functions that the text names.
func (o OwnTables) Before(text string) []string {
	return append(slices.Clone(o.History), o.Named(text)...)
}

// Named gives what creates the functions of ours that a text names.
func (o OwnTables) Named(text string) []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(o.Functions)) {
		if strings.Contains(text, name) {
			out = append(out, o.Functions[name])
		}
	}
	return out
}

// Registry is the engines that a program knows.
type Registry []Engine

// ByName returns the engine with that name.
func (r Registry) ByName(name string) (Engine, error) {
	for _, e := range r {
		if e.Name() == name {
			return e, nil
		}
	}
	return nil, fmt.Errorf("there is no engine %q (%s)", name, strings.Join(r.Names(), ", "))
}

// Close takes away what engines made for the time of the program, such as scratch databases.
func (r Registry) Close() {
	for _, e := range r {
		if c, ok := e.(interface{ Close() }); ok {
			c.Close()
		}
	}
}

// ForURL returns the engine of a URL by its scheme.
func (r Registry) ForURL(url string) (Engine, error) {
	scheme, _, ok := strings.Cut(url, ":")
	var known []string
	for _, e := range r {
		if ok && slices.Contains(e.Schemes(), scheme) {
			return At(e, url), nil
		}
		known = append(known, e.Schemes()...)
	}
	if !ok || strings.ContainsAny(scheme, "/\\.@ ") {
		return nil, &SchemeError{Known: known}
	}
	return nil, &SchemeError{Scheme: scheme, Known: known}
}

// SchemeError says that a URL begins with no engine's scheme.
type SchemeError struct {
	Scheme string
	Known  []string
}

func (e *SchemeError) Error() string {
	if e.Scheme == "" {
		return fmt.Sprintf("the URL has no scheme: it begins with one of %s, such as sqlite:herbarium.db",
			strings.Join(e.Known, ", "))
	}
	return fmt.Sprintf("no engine of this version takes URLs with the scheme %q; it takes %s", e.Scheme,
		strings.Join(e.Known, ", "))
}

// Names are the names of all engines.
func (r Registry) Names() []string {
	var names []string
	for _, e := range r {
		names = append(names, e.Name())
	}
	return names
}

// RefusedError says why a statement cannot be in a step of a migration.
type RefusedError struct{ Word, Why string }

func (e *RefusedError) Error() string {
	return fmt.Sprintf("%s is not allowed in a step: %s", e.Word, e.Why)
}
