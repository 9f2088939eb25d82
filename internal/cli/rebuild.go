package cli

// This file is the command rebuild: a throwaway database from nothing, and no way
// to do that to any other.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/seed"
	"erbario/internal/sqlschema"
)

func (a *app) rebuildCommand() *cli.Command {
	var undeclared bool
	var with []string
	f := &seedFlags{}
	return &cli.Command{
		Name: "rebuild", Usage: "empty a throwaway database and apply every migration from scratch",
		Description: "Every table is dropped, with its rows and what was kept. Only a database marked\nthrowaway in erbario.toml is rebuilt, and nothing is emptied before the migrations\nhave run on an empty scratch database. If there are rows, it asks first.\n\n  erbario rebuild --database test --with demo",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{
				Name:        "with",
				Usage:       "then fill it from this `SEED`; repeat it for several, in order",
				Destination: &with,
			},
			&cli.Uint64Flag{
				Name:        "random",
				Usage:       "with --with: random seed: another number gives other rows: `N`",
				Destination: &f.random,
				Value:       1,
			},
			&cli.BoolFlag{Name: "today", Usage: "with --with: base dates on today", Destination: &f.today},
			&cli.BoolFlag{
				Name:        "undeclared",
				Usage:       "also drop tables that no migration created",
				Destination: &undeclared,
			},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			p, err := a.projectFor(c, 0)
			if err != nil {
				return err
			}
			f.conflict, f.wait, f.locale = "skip", time.Minute, p.Settings.Seed.Locale
			return a.rebuild(ctx, p, undeclared, with, f)
		},
	}
}

func (a *app) rebuild(ctx context.Context, p *project.Project, undeclared bool, with []string, f *seedFlags) error {
	d, err := p.Database(a.database)
	if err != nil {
		return err
	}
	if !d.Throwaway {
		return fmt.Errorf("%s is not marked throwaway in erbario.toml, so it is not emptied (no flag overrides this)",
			d.Name)
	}
	r := &rebuilding{app: a, p: p, d: d, undeclared: undeclared, with: with, f: f}
	if r.e, err = d.Engine(); err != nil {
		return err
	}
	end, err := r.tried(ctx)
	if err != nil {
		return err
	}
	if r.l, err = a.openWaiting(ctx, p, d.Name, engine.Make, true, time.Minute); err != nil {
		return err
	}
	defer r.l.Close()
	// From the first look to the last seed nobody else empties it.
	if err := r.l.db.Lock(ctx, 10*time.Minute); err != nil && !errors.Is(err, engine.ErrNoSession) {
		return err
	}
	defer r.l.db.Unlock(context.WithoutCancel(ctx))
	there, err := r.l.db.Inspect(ctx)
	if err != nil {
		return err
	}
	strangers, full, err := r.lost(ctx, there, end)
	if err != nil {
		return err
	}
	if err := r.agree(ctx, strangers, full); err != nil {
		return err
	}
	return r.remake(ctx, there)
}

// rebuilding is a run of erbario rebuild.
type rebuilding struct {
	*app
	p          *project.Project
	d          project.Database
	e          engine.Engine
	l          *live
	undeclared bool
	with       []string // seeds
	f          *seedFlags
	files      []*migration.Migration
	created    map[string]bool // tables that they create, in lower case
	wanted     *sqlschema.Schema
}

// tried tries on scratch, before anything is emptied, that the seeds and the migrations can
// be run, and returns what those make.
func (r *rebuilding) tried(ctx context.Context) (end *sqlschema.Schema, err error) {
	for _, name := range r.with {
		declared, s, err := r.seeds(r.p, r.e, name)
		if err != nil {
			return nil, err
		}
		if _, mistakes := seed.New(declared, s, r.f.options(&seed.Existing{Unknown: true})); len(mistakes) > 0 {
			what := fmt.Sprintf("the seed %s cannot be run: %s was not emptied", name, r.d.Name)
			return nil, r.mistaken(r.p, mistakes, what)
		}
	}
	if r.files, err = r.p.Migrations(r.e); err != nil {
		return nil, err
	}
	r.created = migration.Creates(r.files, r.e)
	if err := runner.StatusOf(r.files, nil, r.e).Problem(); err != nil {
		return nil, fmt.Errorf("%s was not emptied: %w", r.d.Name, err)
	}
	if r.wanted, err = r.app.wanted(r.p, r.e); err != nil {
		return nil, err
	}
	scratch, err := proof.Replay(ctx, r.e, r.files, r.wanted)
	if err != nil {
		return nil, fmt.Errorf("%s was not emptied: %w", r.d.Name, err)
	}
	defer scratch.Close()
	return scratch.Inspect(ctx)
}

// outside tells whether a table stays as it is: it is declared as of others, and no migration
// creates it.
func (r *rebuilding) outside(t *sqlschema.Table) bool {
	w := r.wanted.Table(t.Name)
	return w != nil && w.Outside() && !r.created[strings.ToLower(t.Name)]
}

// known are the tables that migrations made, also those that a later one dropped, or that
// another checkout has.
func (r *rebuilding) known(ctx context.Context, applied []runner.Applied, end *sqlschema.Schema) map[string]bool {
	known := map[string]bool{}
	add := func(s *sqlschema.Schema) {
		for _, t := range s.Tables {
			known[strings.ToLower(t.Name)] = true
		}
	}
	add(end)
	texts, err := runner.Texts(applied, nil, r.e)
	if err != nil {
		return known
	}
	if was, err := proof.Replay(ctx, r.e, texts, r.wanted); err == nil {
		if s, err := was.Inspect(ctx); err == nil {
			add(s)
		}
		was.Close()
	}
	return known
}

// lost are the tables that would be lost though no migration made them, and those with rows
// that would be, in words.
func (r *rebuilding) lost(ctx context.Context, there, end *sqlschema.Schema) (strangers, full []string, err error) {
	applied, err := runner.History(ctx, r.l.db)
	if err != nil {
		return nil, nil, err
	}
	known := r.known(ctx, applied, end)
	found, reference := onlyFound(r.files, applied, r.e), migration.RowsOf(r.files, r.e)
	for _, t := range there.Tables {
		if schema.Own(t.Name) || r.outside(t) {
			continue
		}
		n := int64(0)
		if t.Options.Virtual == "" {
			if n, err = r.l.db.Count(ctx, "SELECT 1 FROM "+r.e.SQL().QuoteTable(t.Name)); err != nil {
				return nil, nil, err
			}
		}
		line := fmt.Sprintf("%s (%s)", t.Name, rows(n))
		name := strings.ToLower(t.Name)
		if !known[name] || found[name] && n > 0 {
			strangers = append(strangers, line)
		}
		if of := reference[name]; n > 0 && (of == nil || n > int64(len(of.Keys))) { // the migrations bring those back
			full = append(full, line)
		}
	}
	kept, err := runner.KeptTables(ctx, r.l.db, r.e, nil)
	for _, k := range kept {
		if k.Rows > 0 {
			full = append(full, fmt.Sprintf("%s, kept (%s)", k.What, rows(k.Rows)))
		}
	}
	return strangers, full, err
}

// agree asks before anything is lost.
func (r *rebuilding) agree(ctx context.Context, strangers, full []string) error {
	show := func(list []string) {
		for _, s := range list {
			r.err.line("    " + cell(s))
		}
	}
	if len(strangers) > 0 && !r.undeclared {
		if r.json {
			r.document(map[string]any{"database": r.d.Name, "rebuilt": false, "undeclared": strangers})
		} else {
			show(strangers)
		}
		return fmt.Errorf("%s that no migration created would be lost: nothing was emptied; --undeclared drops them",
			plural(len(strangers), "table", "tables"))
	}
	if len(full) == 0 {
		return nil
	}
	if !r.yes && !r.json {
		show(full)
	}
	return r.confirm(ctx, fmt.Sprintf("delete the rows of %s in %s", plural(len(full), "table", "tables"), r.d.Name))
}

// remake empties the database, applies every migration and runs the seeds.
func (r *rebuilding) remake(ctx context.Context, there *sqlschema.Schema) error {
	there.Tables = slices.DeleteFunc(there.Tables, r.outside)
	if err := empty(ctx, r.l.db, r.e, there); err != nil {
		if r.e.Caps().CommitsChanges {
			return fmt.Errorf(
				"%s cannot be emptied, and some of it may be lost: %w; fix that, and run the same command again",
				r.d.Name, err)
		}
		return fmt.Errorf("%s cannot be emptied, and is unchanged: %w", r.d.Name, err)
	}
	if err := proof.MakeOutside(ctx, r.l.db, r.e, r.wanted, r.files); err != nil {
		return fmt.Errorf("%s was emptied, and no migration is applied to it: %w", r.d.Name, err)
	}
	done, err := runner.Apply(ctx, r.l.db, r.e, r.files, runner.Options{Wait: time.Minute, Home: true})
	if err != nil {
		return r.runFailed(r.l, err, len(done))
	}
	ids := []string{}
	for _, m := range done {
		ids = append(ids, m.ID)
	}
	if !r.json {
		at := "the start: there is no migration yet"
		if len(done) > 0 {
			at = done[len(done)-1].ID
		}
		r.out.printf("%s was emptied, and is at %s after %s", r.d.Name, at,
			plural(len(done), "migration", "migrations"))
	}
	docs := []map[string]any{}
	for _, name := range r.with {
		declared, s, err := r.seeds(r.p, r.e, name)
		if err != nil {
			return err
		}
		out, err := r.fill(ctx, r.p, r.l, declared, s, r.f)
		if err != nil {
			return err
		}
		if docs = append(docs, seedDocument(r.d.Name, name, r.f.random, out)); !r.json {
			r.seeded(r.d.Name, name, out)
		}
	}
	if r.json {
		return r.document(map[string]any{"database": r.d.Name, "rebuilt": true, "applied": ids, "seeds": docs})
	}
	return nil
}

// onlyFound are the tables, in lower case, that existed before the migrations: one found
// them, and none before it created them.
func onlyFound(files []*migration.Migration, applied []runner.Applied, e engine.Engine) map[string]bool {
	list := slices.Clone(files)
	if texts, err := runner.Texts(applied, nil, e); err == nil {
		for _, m := range texts {
			if !slices.ContainsFunc(files, func(o *migration.Migration) bool { return o.ID == m.ID }) {
				list = append(list, m)
			}
		}
	}
	slices.SortFunc(list, func(a, b *migration.Migration) int { return strings.Compare(a.ID, b.ID) })
	out, touched := map[string]bool{}, map[string]bool{}
	for _, m := range list {
		for _, f := range m.Found {
			if name := strings.ToLower(f.Table); f.Column == "" && f.Beside == "" && !touched[name] {
				out[name] = true
			}
		}
		for name := range m.Touches(e) {
			touched[name] = true
		}
	}
	return out
}

// empty drops everything that a database holds, in one transaction where the engine has
// any such.
func empty(ctx context.Context, db engine.Database, e engine.Engine, s *sqlschema.Schema) error {
	if err := db.EnforceReferences(ctx, false); err != nil {
		return err
	}
	if err := db.Begin(ctx, time.Minute); err != nil {
		return err
	}
	for _, sql := range e.DDL().DropAll(s) {
		if err := db.Exec(ctx, sql); err != nil {
			return errors.Join(err, db.Rollback())
		}
	}
	return db.Commit(ctx)
}
