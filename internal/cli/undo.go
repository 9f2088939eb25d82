package cli

// This file is the command undo.

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
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

func (a *app) undoCommand() *cli.Command {
	var o runner.Options
	var to string
	var dryRun bool
	f := answerFlags{engines: a.engines}
	return &cli.Command{
		Name: "undo", Usage: "undo migrations, newest first (by default only the newest)",
		Description: "The rows stay: what a migration dropped is restored, and what it added is kept for\nthe next apply.\n\n  erbario undo --dry-run\n  erbario undo --count 2",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "count", Usage: "undo `N` migrations", Destination: &o.Count},
			&cli.StringFlag{
				Name:        "to",
				Usage:       "undo everything after this migration (any unique part of its `ID`), or to start",
				Destination: &to,
			},
			&cli.BoolFlag{
				Name:        "dry-run",
				Usage:       "show what would be done and check every requirement; read only",
				Destination: &dryRun,
			},
			&cli.StringSliceFlag{
				Name:        "fill",
				Usage:       "for rows to which a required column returns and for which nothing is kept: `TABLE.COLUMN=VALUE`",
				Destination: &f.fill,
			},
			&cli.DurationFlag{
				Name:        "wait",
				Usage:       "how long to wait for others",
				Value:       10 * time.Minute,
				Destination: &o.Wait,
			},
		},
		DisableSliceFlagSeparator: true,
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := atMost(c, 0); err != nil {
				return err
			}
			if c.IsSet("count") && (o.Count < 1 || to != "") {
				return wrongUse("--count takes a number from 1, and cannot be used with --to")
			}
			o.To, o.Start = to, to == "start"
			values, err := f.values()
			if err != nil {
				return err
			}
			o.Answers = values
			p, err := a.project()
			if err != nil {
				return err
			}
			return a.onEach(ctx, p, a.eachName(p), func(name string) error { return a.undo(ctx, p, name, o, dryRun) })
		},
	}
}

func (a *app) undo(ctx context.Context, p *project.Project, name string, o runner.Options, dryRun bool) error {
	mode := engine.ReadWrite
	d, err := p.Database(name)
	if err != nil {
		return err
	}
	if dryRun {
		mode = engine.ReadOnly
	} else if err := a.confirmOn(d, "an undo"); err != nil {
		return err
	}
	e, err := d.Engine()
	if err != nil {
		return err
	}
	files, err := p.Migrations(e)
	if err != nil {
		return err
	}
	l, err := a.openWaiting(ctx, p, name, mode, false, o.Wait)
	if err != nil {
		return err
	}
	defer l.Close()
	o.Confirm = func(ap runner.Applied) error {
		if !l.Protected || a.yesOn == l.Name {
			return nil
		}
		for line := range strings.Lines(clean(ap.Text)) {
			a.err.line("    " + strings.TrimRight(line, "\n"))
		}
		return a.confirmOn(l.Database, "running the undo above, which only the database has,")
	}
	if dryRun {
		if half, err := a.half(ctx, l); err != nil || half != nil {
			return errors.Join(err, a.dryHalf(ctx, l, half, true))
		}
		return a.dryUndo(ctx, l, files, o)
	}
	runs := []jsonRun{}
	o.Resumed = a.resumed
	o.Done = func(r runner.Run) {
		run := jsonRunOf(r)
		run.Kept = putAside(ctx, l, r.Migration)
		runs = append(runs, run)
		if !a.json {
			a.out.line(a.out.sign("-", r.ID) + "  undone, " + spent(r.Took))
			a.restored(r)
			for _, k := range run.Kept {
				a.out.printf("    %s of %s %s kept, and restored when it is applied again", rows(k.Rows), cell(k.Of),
					oneMany(int(k.Rows), "is", "are"))
			}
		}
	}
	watching := a.watch(l)
	o.Progress = watching.show
	done, err := runner.Undo(ctx, l.db, e, files, o)
	watching.end()
	if err != nil {
		return a.runFailed(l, err, len(done))
	}
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	at := runner.StatusOf(files, applied, e).At()
	if a.json {
		return a.document(map[string]any{"database": l.Name, "undone": runs, "current": at})
	}
	switch {
	case len(done) == 0:
		a.out.printf("%s: nothing to undo", l.Name)
	case at == "":
		a.out.printf("%s is at the start", l.Name)
	default:
		a.out.printf("%s is at %s", l.Name, at)
	}
	return nil
}

// putAside counts what the undo of a migration has kept. What cannot be
// counted is left out.
func putAside(ctx context.Context, l *live, m *migration.Migration) []jsonAside {
	var out []jsonAside
	list, err := runner.ArchivedBy(ctx, l.db, m)
	if err != nil {
		return nil
	}
	for _, x := range list {
		query := "SELECT 1 FROM " + l.engine.SQL().QuoteTable(x.Name)
		one, err := l.db.Sample(ctx, "SELECT * FROM "+l.engine.SQL().QuoteTable(x.Name), 1)
		if err != nil || len(one.Values) == 0 {
			continue
		}
		// Of columns alone the rows are kept by their keys: those that hold nothing do not count.
		var values []string
		keyed := false
		for _, c := range one.Columns {
			keyed = keyed || strings.HasPrefix(c, "key_")
			if !strings.HasPrefix(c, "key_") && !strings.HasPrefix(c, "filled_") {
				values = append(values, l.engine.SQL().Quote(c)+" IS NOT NULL")
			}
		}
		if keyed && len(values) > 0 {
			query += " WHERE " + strings.Join(values, " OR ")
		}
		n, err := l.db.Count(ctx, query)
		if err != nil || n == 0 {
			continue
		}
		// Several tables may hold values of the same rows.
		if i := slices.IndexFunc(out, func(o jsonAside) bool { return o.Of == x.Table }); i >= 0 {
			out[i].Rows = max(out[i].Rows, n)
		} else {
			out = append(out, jsonAside{Of: x.Table, Rows: n})
		}
	}
	return out
}

// wouldKeep counts the rows whose values the undo of a migration would keep: of a whole
// table, or of the columns that it takes away.
func wouldKeep(ctx context.Context, l *live, s *sqlschema.Schema, m *migration.Migration) ([]jsonAside, error) {
	out := []jsonAside{}
	for _, step := range m.Steps {
		for _, loss := range step.UndoLoses {
			name, column, isColumn := loss.String(), loss.Column, loss.Column != ""
			t := s.Table(loss.Table)
			if t == nil || isColumn && t.Column(column) == nil {
				continue // another undo before it takes it away
			}
			query := "SELECT 1 FROM " + l.engine.SQL().QuoteTable(t.Name)
			if isColumn {
				query += " WHERE " + l.engine.SQL().Quote(column) + " IS NOT NULL"
			}
			n, err := l.db.Count(ctx, query)
			if err != nil {
				return nil, err
			}
			if n > 0 && !slices.ContainsFunc(out, func(o jsonAside) bool { return o.Of == name }) {
				out = append(out, jsonAside{Of: name, Rows: n})
			}
		}
	}
	return out, nil
}

func (a *app) dryUndo(ctx context.Context, l *live, files []*migration.Migration, o runner.Options) error {
	o.Confirm = nil
	todo, err := runner.ToUndo(ctx, l.db, l.engine, files, o)
	if err != nil {
		return err
	}
	type jsonUndo struct {
		Migration string      `json:"migration"`
		InTheWay  []string    `json:"blocking"`
		Keeps     []jsonAside `json:"would_keep"`
		SQL       []string    `json:"sql"`
	}
	live, err := l.db.Inspect(ctx)
	if err != nil {
		return err
	}
	if err := runner.UnusedFills(todo, o.Answers); err != nil {
		return err
	}
	doc := []jsonUndo{}
	failed := 0
	for i, m := range todo {
		if m, err = runner.ForUndo(l.engine, m, o.Answers); err != nil {
			return err
		}
		keeps, err := wouldKeep(ctx, l, live, m)
		if err != nil {
			return err
		}
		j := jsonUndo{Migration: m.ID, InTheWay: []string{}, Keeps: keeps, SQL: m.SQL(true)}
		if !a.json {
			a.out.line(a.out.paint(styleHead, m.ID))
		}
		for _, r := range m.BeforeUndo {
			if i > 0 {
				break // about a state that does not exist yet
			}
			err := runner.Ask(ctx, l.db, m.ID, "before undo", r)
			var way *runner.InTheWay
			if errors.As(err, &way) {
				failed++
				j.InTheWay = append(j.InTheWay, way.Sentence)
				if !a.json {
					a.inTheWay(way)
				}
			} else if err != nil {
				return err
			}
		}
		if !a.json {
			for _, k := range keeps {
				a.out.printf("  %s of %s would be kept", rows(k.Rows), cell(k.Of))
			}
			for n := len(m.Steps) - 1; n >= 0; n-- {
				a.out.printf("  step %d  %s", n+1, cell(m.Steps[n].Title))
				for _, st := range m.Steps[n].Undo {
					for line := range strings.Lines(clean(st.SQL) + ";") {
						a.out.line("    " + a.out.paint(styleDim, strings.TrimRight(line, "\n")))
					}
				}
			}
		}
		doc = append(doc, j)
	}
	if a.json {
		a.document(map[string]any{"database": l.Name, "migrations": doc, "requirements_failed": failed})
	} else if len(todo) == 0 {
		a.out.printf("%s: nothing to undo", l.Name)
	}
	if failed > 0 {
		return &exitError{
			code: exitFailed,
			err:  fmt.Errorf("%s would block it; nothing was changed", plural(failed, "requirement", "requirements")),
		}
	}
	return nil
}
