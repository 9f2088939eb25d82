package cli

// This file is what most commands begin with: the project, its models, and a
// connection to a database.

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/check"
	"erbario/internal/declare"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

func (a *app) project() (*project.Project, error) { return project.Find(a.engines, a.dir) }

// projectFor is the project of a command that takes no more than most arguments.
func (a *app) projectFor(c *cli.Command, most int) (*project.Project, error) {
	if err := atMost(c, most); err != nil {
		return nil, err
	}
	return a.project()
}

// engineOfModels is the engine for which models are read where no database is needed: that of the
// database at hand, or of any other of the project.
func (a *app) engineOfModels(p *project.Project) (engine.Engine, error) {
	e, err := a.engineToProve(p)
	if list := p.Engines(); err != nil && a.database == "" && len(list) > 0 {
		return list[0], nil
	}
	return e, err
}

// models reads and resolves the models for an engine. Mistakes are shown, and
// the error is then one that has been told.
func (a *app) models(p *project.Project, e engine.Engine) (*declare.Declared, error) {
	d, _, err := a.declared(p, e)
	return d, err
}

// wanted is the schema that the models declare, in the engine's words.
func (a *app) wanted(p *project.Project, e engine.Engine) (*sqlschema.Schema, error) {
	_, s, err := a.declared(p, e)
	return s, err
}

// declared is what the models declare, and the same in the engine's words.
func (a *app) declared(p *project.Project, e engine.Engine) (*declare.Declared, *sqlschema.Schema, error) {
	files, src, diags, err := p.Parse()
	if err != nil {
		return nil, nil, err
	}
	d, s, more := check.Resolve(p, files, e)
	diags = append(diags, more...)
	if n := a.diagnostics(onlyErrors(diags), src); n > 0 {
		if a.json {
			a.document(map[string]any{"diagnostics": jsonDiagnostics(diags)})
		}
		return nil, nil, &exitError{
			code: exitFailed,
			err:  fmt.Errorf("the models have %s: nothing was done", plural(n, "error", "errors")),
		}
	}
	return d, s, nil
}

func onlyErrors(list []lang.Diagnostic) []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, d := range list {
		if !d.Warning {
			out = append(out, d)
		}
	}
	return lang.Sort(out)
}

// live is an open database of the project.
type live struct {
	project.Database
	engine engine.Engine
	db     engine.Database
	absent bool // it does not exist: db is an empty one in its place
}

// Close closes the database, once.
func (l *live) Close() {
	if l != nil && l.db != nil {
		l.db.Close()
		l.db = nil
	}
}

// open opens the database that the run works on. For reading, one that is not
// there yet and may be made stands as an empty one.
func (a *app) open(ctx context.Context, p *project.Project, name string, mode engine.Mode, create bool) (*live, error) {
	d, err := p.Database(name)
	if err != nil {
		return nil, err
	}
	e, err := d.Engine()
	if err != nil {
		return nil, err
	}
	if mode == engine.ReadWrite && (d.Throwaway || create) {
		mode = engine.Make
	}
	l := &live{Database: d, engine: e}
	url := d.URL
	if mode != engine.ReadOnly { // what is changed is changed on the server itself
		url = d.Direct
	}
	l.db, err = e.Open(ctx, url, mode)
	if errors.Is(err, engine.ErrMissing) {
		if mode == engine.ReadOnly && d.Throwaway {
			l.absent = true
			l.db, err = e.Scratch(ctx)
		} else {
			return nil, &project.DatabaseError{Name: d.Name,
				Err: fmt.Errorf("%w: create it, run erbario apply --create, or fix the url in erbario.toml", err)}
		}
	}
	if err != nil {
		return nil, &project.DatabaseError{Name: d.Name, Err: err}
	}
	if a.verbose {
		l.db = &traced{
			Database: l.db,
			tell:     func(sql string) { a.err.line(a.err.paint(styleDim, clean(d.Name+"> "+sql))) },
		}
	}
	return l, nil
}

// openWaiting opens a database to change it, and waits while somebody else holds
// all of it.
func (a *app) openWaiting(ctx context.Context, p *project.Project, name string, mode engine.Mode, create bool,
	wait time.Duration) (*live, error) {
	deadline := time.Now().Add(wait)
	for {
		l, err := a.open(ctx, p, name, mode, create)
		if !errors.Is(err, engine.ErrBusy) || time.Now().After(deadline) || ctx.Err() != nil {
			return l, err
		}
	}
}

// reading is what commands that only read a database begin with: no more than
// most arguments, the project, and its database.
func (a *app) reading(ctx context.Context, c *cli.Command, most int, f func(p *project.Project, l *live) error) error {
	if err := atMost(c, most); err != nil {
		return err
	}
	p, err := a.project()
	if err != nil {
		return err
	}
	p.ReadAhead()
	l, err := a.open(ctx, p, a.database, engine.ReadOnly, false)
	if err != nil {
		return err
	}
	defer l.Close()
	return f(p, l)
}

// confirmDatabase asks for the name of the run's database, if it is protected.
func (a *app) confirmDatabase(what string) error {
	p, err := a.project()
	if err != nil {
		return err
	}
	d, err := p.Database(a.database)
	if err != nil {
		return err
	}
	return a.confirmOn(d, what)
}

// look reads a database, and holds it against what read gives, with what earlier runs found
// out.
func look(ctx context.Context, l *live,
	read func() (*sqlschema.Schema, []*migration.Migration, error)) (*draft.State, error) {
	s, err := draft.Look(ctx, l.engine, l.db, read)
	if err == nil {
		s.Memory = project.NewMemory()
	}
	return s, err
}

// state reads a database and holds it against models and migrations.
func (a *app) state(ctx context.Context, p *project.Project, l *live) (*draft.State, error) {
	s, err := look(ctx, l, func() (*sqlschema.Schema, []*migration.Migration, error) {
		wanted, err := a.wanted(p, l.engine)
		if err != nil {
			return nil, nil, err
		}
		files, err := p.Migrations(l.engine)
		return wanted, files, err
	})
	if err != nil {
		return nil, err
	}
	s.InUse = p.Online()
	if a.verbose {
		s.Lacking = func(l engine.LeftOut) {
			a.err.line(a.err.paint(styleDim, clean(fmt.Sprintf("the scratch database lacks %s: %v", l, l.Err))))
		}
		for _, l := range s.Missing {
			s.Lacking(l)
		}
	}
	return s, nil
}

// tellNewer warns of a database that is ahead of this checkout.
func (a *app) tellNewer(name string, newer []string) {
	if len(newer) > 0 {
		a.warn("%s has %s unknown to this checkout, the newest %s: is it out of date?", name,
			plural(len(newer), "migration", "migrations"), newer[len(newer)-1])
	}
}

// traced tells each statement before it is sent.
type traced struct {
	engine.Database
	tell func(sql string)
}

// Unwrap is the database itself.
func (t *traced) Unwrap() engine.Database { return t.Database }

func (t *traced) Exec(ctx context.Context, sql string, args ...any) error {
	t.tell(sql)
	return t.Database.Exec(ctx, sql, args...)
}

func (t *traced) Select(ctx context.Context, sql string, args ...any) ([][]string, error) {
	t.tell(sql)
	return t.Database.Select(ctx, sql, args...)
}

func (t *traced) Count(ctx context.Context, query string) (int64, error) {
	t.tell("count of " + query)
	return t.Database.Count(ctx, query)
}

func (t *traced) Sample(ctx context.Context, query string, limit int) (engine.Rows, error) {
	t.tell(query)
	return t.Database.Sample(ctx, query, limit)
}

func (t *traced) Load(ctx context.Context, r engine.TableRows) error {
	t.tell(fmt.Sprintf("load of %s into %s", rows(int64(r.Rows())), r.Table.Name))
	return t.Database.Load(ctx, r)
}

func (t *traced) Find(ctx context.Context, f engine.Finding) ([][]any, error) {
	t.tell(fmt.Sprintf("search for %s of %s by %s", rows(int64(f.Rows())), f.Table.Name, strings.Join(f.Columns, ", ")))
	return t.Database.Find(ctx, f)
}

func (t *traced) Change(ctx context.Context, r engine.TableRows, by []string, quiet bool) (int64, error) {
	t.tell(fmt.Sprintf("change of %s of %s by %s", rows(int64(r.Rows())), r.Table.Name, strings.Join(by, ", ")))
	return t.Database.Change(ctx, r, by, quiet)
}

func (t *traced) Step(ctx context.Context, sql string) error {
	t.tell(sql)
	return t.Database.Step(ctx, sql)
}

func (t *traced) ExecAutocommit(ctx context.Context, sql string) error {
	t.tell(sql)
	a, ok := engine.As[engine.Autocommitter](t.Database)
	if !ok {
		return t.Database.Exec(ctx, sql)
	}
	return a.ExecAutocommit(ctx, sql)
}

func (t *traced) LockTables(ctx context.Context, tables, statements []string) error {
	if len(tables) > 0 {
		t.tell("lock of " + strings.Join(tables, ", "))
	}
	if l, ok := engine.As[engine.TableLocker](t.Database); ok {
		return l.LockTables(ctx, tables, statements)
	}
	return nil
}

func (t *traced) UnlockTables(ctx context.Context) error {
	if l, ok := engine.As[engine.TableLocker](t.Database); ok {
		return l.UnlockTables(ctx)
	}
	return nil
}

func (t *traced) DeleteEqual(ctx context.Context, r engine.TableRows) (int64, error) {
	t.tell(fmt.Sprintf("deletion of %s from %s", rows(int64(r.Rows())), r.Table.Name))
	return t.Database.DeleteEqual(ctx, r)
}

func (t *traced) Rollback() error {
	t.tell("rollback")
	return t.Database.Rollback()
}

func (t *traced) Begin(ctx context.Context, wait time.Duration) error {
	t.tell("begin")
	return t.Database.Begin(ctx, wait)
}

func (t *traced) Commit(ctx context.Context) error {
	t.tell("commit")
	return t.Database.Commit(ctx)
}

// confirmOn asks for the name of a protected database before something is taken
// back or deleted there.
func (a *app) confirmOn(d project.Database, what string) error {
	if !d.Protected || a.yesOn == d.Name {
		return nil
	}
	if !isTerminal(a.stdin) {
		return &exitError{
			code: exitQuestion,
			err: fmt.Errorf("%s on the protected database %s must be confirmed by name: add --yes-on %s", what, d.Name,
				d.Name),
		}
	}
	fmt.Fprintf(a.err.w, "%s on the protected database %s. Type its name to continue: ", upperFirst(what), d.Name)
	answer, _ := bufio.NewReader(a.stdin).ReadString('\n')
	if strings.TrimSpace(answer) != d.Name {
		return fmt.Errorf("the name does not match: nothing was changed")
	}
	return nil
}

// fileOf is a migration's path as one would type it.
func fileOf(m *migration.Migration) string {
	return project.MigrationsFolder + "/" + m.FileName()
}
