package cli

// This file is apply --direct, which changes a throwaway database without a
// migration, and what the next draft makes of it.

import (
	"context"
	"fmt"
	"slices"
	"time"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/runner"
)

// direct makes a throwaway database as the models declare without a file. What it
// did is in the database's history, so that it can be undone, and that
// the next draft makes a migration of it.
func (a *app) direct(ctx context.Context, p *project.Project, f *answerFlags, o applyOptions) error {
	if o.dryRun || o.to != "" {
		return wrongUse("--direct cannot be used with --dry-run or --to: erbario diff --sql shows what it would do")
	}
	l, err := a.openWaiting(ctx, p, a.database, engine.ReadWrite, o.create, o.wait)
	if err != nil {
		return err
	}
	defer l.Close()
	if !l.Throwaway {
		return fmt.Errorf(
			"%s is not marked throwaway in erbario.toml: write the change as a migration, with erbario draft TITLE",
			l.Name,
		)
	}
	d, err := a.directDraft(ctx, p, l, f)
	if err != nil {
		return err
	}
	if err := a.refused(ctx, l, d, "apply --direct"); err != nil {
		return err
	}
	if d.Migration == nil {
		if a.json {
			return a.document(map[string]any{"database": l.Name, "applied": nil, "changes": []jsonChange{}})
		}
		a.out.printf("%s matches the models", l.Name)
		return nil
	}
	m := d.Migration
	m.Direct = true
	m.Text = migration.WithHead(m)
	watching := a.watch(l)
	began := time.Now()
	back, err := runner.Once(ctx, l.db, l.engine, m, runner.Options{Home: true, Wait: o.wait})
	watching.end()
	if err != nil {
		return a.runFailed(l, err, 0)
	}
	if err := p.Save(); err != nil {
		return err
	}
	if a.json {
		return a.document(map[string]any{
			"database": l.Name,
			"applied":  m.ID,
			"changes":  jsonChanges(d.Plan.Changes, d.Plan.Effects),
			"steps":    len(m.Steps),
		})
	}
	a.changes(d.Plan.Changes, d.Plan.Effects)
	a.out.line("")
	a.out.printf("%s matches the models, without a file, %s", l.Name, spent(time.Since(began)))
	a.restored(runner.Run{Migration: m, Restored: back})
	a.next("erbario draft TITLE, to write it as a migration; or erbario undo")
	return nil
}

// directDraft drafts what apply --direct applies.
func (a *app) directDraft(ctx context.Context, p *project.Project, l *live, f *answerFlags) (*draft.Draft, error) {
	look := func() (*draft.State, error) {
		s, err := a.state(ctx, p, l)
		if err == nil {
			s.InUse = false // here nobody else is at work
		}
		return s, err
	}
	_, d, err := a.settle(
		ctx,
		p,
		f,
		look,
		func(s *draft.State, answers plan.Answers, said []string) (*draft.Draft, error) {
			if err := s.Status.Problem(); err != nil {
				return nil, err
			}
			if n := len(s.Status.Pending); n > 0 {
				return nil, fmt.Errorf("%s: apply them first with erbario apply",
					plural(n, "migration is pending", "migrations are pending"))
			}
			return s.Make(ctx, draft.Request{
				Title:       "direct",
				Answers:     answers,
				Said:        said,
				NoKeep:      f.noKeep,
				LeaveBroken: f.leaveBroken,
				Now:         time.Now(),
				Rows:        true,
			})
		},
	)
	return d, err
}

// directOnes are the migrations that were applied to a database without a file.
func directOnes(ctx context.Context, l *live) ([]*migration.Migration, error) {
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return nil, err
	}
	return runner.Texts(slices.DeleteFunc(applied, func(ap runner.Applied) bool { return !ap.Direct() }), nil, l.engine)
}

// draftDirect makes a migration of what was applied without one: it is undone
// and applied again as the file that every database gets.
func (a *app) draftDirect(ctx context.Context, p *project.Project, d project.Database, f *answerFlags, title string,
	old []*migration.Migration) error {
	e, err := d.Engine()
	if err != nil {
		return err
	}
	files, err := p.Migrations(e)
	if err != nil {
		return err
	}
	r := &remaking{app: a, p: p, f: f, title: title, e: e, files: files, old: old, rest: files}
	return r.remake(ctx, d.Name, nil)
}
