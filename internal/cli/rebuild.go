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
	e, err := d.Engine()
	if err != nil {
		return err
	}
	for _, name := range with { // before anything is emptied
		declared, s, err := a.seeds(p, e, name)
		if err != nil {
			return err
		}
		if _, mistakes := seed.New(declared, s, f.options(&seed.Ground{Unknown: true})); len(mistakes) > 0 {
			return a.mistaken(p, mistakes, fmt.Sprintf("the seed %s cannot be run: %s was not emptied", name, d.Name))
		}
	}
	files, err := p.Migrations(e)
	if err != nil {
		return err
	}
	if err := runner.StatusOf(files, nil, e).Problem(); err != nil {
		return fmt.Errorf("%s was not emptied: %w", d.Name, err)
	}
	wanted, err := a.wanted(p, e)
	if err != nil {
		return err
	}
	scratch, err := proof.Replay(ctx, e, files, wanted)
	if err != nil {
		return fmt.Errorf("%s was not emptied: %w", d.Name, err)
	}
	end, err := scratch.Inspect(ctx)
	scratch.Close()
	if err != nil {
		return err
	}
	l, err := a.openWaiting(ctx, p, d.Name, engine.Make, true, time.Minute)
	if err != nil {
		return err
	}
	defer l.Close()
	// From the first look to the last seed nobody else empties it.
	if err := l.db.Lock(ctx, 10*time.Minute); err != nil && !errors.Is(err, engine.ErrNoSession) {
		return err
	}
	defer l.db.Unlock(context.WithoutCancel(ctx))
	there, err := l.db.Inspect(ctx)
	if err != nil {
		return err
	}
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	known := map[string]bool{}
	for _, t := range end.Tables {
		known[strings.ToLower(t.Name)] = true
	}
	if texts, err := runner.Texts(applied, nil, e); err == nil { // also what they made before a later one dropped it, or another checkout
		if was, err := proof.Replay(ctx, e, texts, wanted); err == nil {
			if s, err := was.Inspect(ctx); err == nil {
				for _, t := range s.Tables {
					known[strings.ToLower(t.Name)] = true
				}
			}
			was.Close()
		}
	}
	found, reference := onlyFound(files, applied, e), migration.RowsOf(files, e)
	var strangers, full []string
	created := migration.Creates(files, e)
	outside := func(t *schema.Table) bool {
		w := wanted.Table(t.Name)
		return w != nil && w.Outside && !created[strings.ToLower(t.Name)]
	}
	for _, t := range there.Tables {
		if schema.Own(t.Name) || outside(t) { // that stays as it is
			continue
		}
		n := int64(0)
		if t.Options.Virtual == "" {
			if n, err = l.db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(t.Name)); err != nil {
				return err
			}
		}
		line := fmt.Sprintf("%s (%s)", t.Name, rows(n))
		if name := strings.ToLower(t.Name); !known[name] || found[name] && n > 0 {
			strangers = append(strangers, line)
		}
		if r := reference[strings.ToLower(t.Name)]; n > 0 &&
			(r == nil || n > int64(len(r.Keys))) { // the migrations bring those back
			full = append(full, line)
		}
	}
	kept, err := runner.KeptTables(ctx, l.db, e, nil)
	if err != nil {
		return err
	}
	for _, k := range kept {
		if k.Rows > 0 {
			full = append(full, fmt.Sprintf("%s, kept (%s)", k.What, rows(k.Rows)))
		}
	}
	if len(strangers) > 0 && !undeclared {
		if a.json {
			a.document(map[string]any{"database": d.Name, "rebuilt": false, "undeclared": strangers})
		} else {
			for _, s := range strangers {
				a.err.line("    " + cell(s))
			}
		}
		return fmt.Errorf("%s that no migration created would be lost: nothing was emptied; --undeclared drops them",
			plural(len(strangers), "table", "tables"))
	}
	if len(full) > 0 {
		if !a.yes && !a.json {
			for _, s := range full {
				a.err.line("    " + cell(s))
			}
		}
		if err := a.confirm(ctx, fmt.Sprintf("delete the rows of %s in %s", plural(len(full), "table", "tables"), d.Name)); err != nil {
			return err
		}
	}
	there.Tables = slices.DeleteFunc(there.Tables, outside)
	if err := empty(ctx, l.db, e, there); err != nil {
		if e.Caps().CommitsChanges {
			return fmt.Errorf(
				"%s cannot be emptied, and some of it may be lost: %w; fix that, and run the same command again",
				d.Name, err)
		}
		return fmt.Errorf("%s cannot be emptied, and is unchanged: %w", d.Name, err)
	}
	if err := proof.MakeOutside(ctx, l.db, e, wanted, files); err != nil {
		return fmt.Errorf("%s was emptied, and no migration is applied to it: %w", d.Name, err)
	}
	done, err := runner.Apply(ctx, l.db, e, files, runner.Options{Wait: time.Minute, Home: true})
	if err != nil {
		return a.runFailed(l, err, len(done))
	}
	ids := []string{}
	for _, m := range done {
		ids = append(ids, m.ID)
	}
	if !a.json {
		at := "the start: there is no migration yet"
		if len(done) > 0 {
			at = done[len(done)-1].ID
		}
		a.out.printf("%s was emptied, and is at %s after %s", d.Name, at, plural(len(done), "migration", "migrations"))
	}
	docs := []map[string]any{}
	for _, name := range with {
		declared, s, err := a.seeds(p, e, name)
		if err != nil {
			return err
		}
		out, err := a.fill(ctx, p, l, declared, s, f)
		if err != nil {
			return err
		}
		if docs = append(docs, seedDocument(d.Name, name, f.random, out)); !a.json {
			a.seeded(d.Name, name, out)
		}
	}
	if a.json {
		return a.document(map[string]any{"database": d.Name, "rebuilt": true, "applied": ids, "seeds": docs})
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
func empty(ctx context.Context, db engine.Database, e engine.Engine, s *schema.Schema) error {
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
