package cli

// This file tells why a run failed, and what is left of it.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
)

// seen is what was found of a run behind a lost connection; err is what is left to say.
type seen struct{ err error }

// afterLoss looks, where the connection was lost at the end of a migration that is one
// transaction, whether the server has it: nobody else can know. It takes the lock first,
// so that nothing of the lost session is under way any more. nil: there was no such loss,
// or the server is not up again.
func (r *applying) afterLoss(ctx context.Context, lost error) ([]*migration.Migration, *seen) {
	var half *runner.InterruptedError
	if !errors.Is(lost, engine.ErrLost) || errors.As(lost, &half) {
		return nil, nil
	}
	if ctx.Err() != nil { // stopped while the end was on its way: that is looked up all the same
		var stop func()
		ctx, stop = context.WithTimeout(context.WithoutCancel(ctx), 2*engine.EndWait)
		defer stop()
	}
	l, err := r.openWaiting(ctx, r.p, r.l.Name, engine.ReadWrite, false, min(r.o.wait, time.Minute))
	if err != nil {
		return nil, nil
	}
	defer l.Close()
	if err := l.db.Lock(ctx, r.o.wait); err != nil {
		return nil, nil
	}
	defer l.db.Unlock(context.WithoutCancel(ctx))
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return nil, nil
	}
	s := runner.StatusOf(r.files, applied, l.engine)
	var there []*migration.Migration // that was not known to be through
	for _, m := range r.files {
		if slices.ContainsFunc(s.Applied, func(x runner.Applied) bool { return x.ID == m.ID }) &&
			!slices.Contains(r.done, m) && m.ID > lastOr(r.done, r.o.stoodAt) {
			there = append(there, m)
		}
	}
	if len(there) == 0 {
		return nil, &seen{
			fmt.Errorf("%w; the server is back, and nothing of the interrupted migration was applied: erbario apply",
				lost),
		}
	}
	if !r.json {
		for _, m := range there {
			r.out.line(r.out.sign("+", m.ID) + "  is applied; the connection was lost after it")
		}
	}
	if len(s.Pending) > 0 && r.o.to == "" {
		return there, &seen{
			fmt.Errorf("%w after %s, which is applied; others are pending: erbario apply", lost,
				there[len(there)-1].ID),
		}
	}
	return there, &seen{}
}

// resumed tells that a migration that was left halfway has come to its end.
func (a *app) resumed(m *migration.Migration, applied bool) {
	if a.json {
		return
	}
	if applied {
		a.out.line(a.out.sign("+", m.ID) + "  was interrupted; resumed and completed")
	} else {
		a.out.line(a.out.paint(styleDim, m.ID+" was interrupted; rolling it back"))
	}
}

// applyQuietly applies without output, for a command that tells it itself.
func (a *app) applyQuietly(ctx context.Context, p *project.Project, name string, answers map[string]string) error {
	l, err := a.open(ctx, p, name, engine.ReadWrite, false)
	if err != nil {
		return err
	}
	defer l.Close()
	files, err := p.Migrations(l.engine)
	if err != nil {
		return err
	}
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	if err := a.doubtful(l, runner.StatusOf(files, applied, l.engine).Pending); err != nil {
		return err
	}
	_, err = runner.Apply(ctx, l.db, l.engine, files,
		runner.Options{Wait: time.Minute, Proved: l.Protected, Answers: answers, Home: l.Throwaway, Waits: true})
	var waits *runner.InTheWay
	if errors.As(err, &waits) && waits.Wait && newest(files, waits.Migration) {
		return nil
	}
	return err
}

func lastOr(done []*migration.Migration, otherwise string) string {
	if n := len(done); n > 0 {
		return done[n-1].ID
	}
	return otherwise
}

func spent(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", max(d.Milliseconds(), 1))
	case d < time.Minute:
		return fmt.Sprintf("%.1f s", d.Seconds())
	}
	return d.Round(time.Second).String()
}

// runFailed tells why a run stopped, with the rows that block it.
func (a *app) runFailed(l *live, err error, done int) error {
	var way *runner.InTheWay
	var open *runner.NeedsAnswers
	var already *runner.AlreadyThereError
	var half *runner.InterruptedError
	var step *runner.StepError
	switch {
	case errors.As(err, &way):
		return a.blockedRun(l, way, done)
	case errors.As(err, &open):
		return a.openRun(l, open, done)
	case errors.As(err, &already):
		return err
	}
	stopped := errors.As(err, &half)
	if !stopped && errors.Is(err, engine.ErrLost) {
		return fmt.Errorf(
			"%w; the migration in progress was applied completely or not at all: erbario status shows which",
			err,
		)
	}
	if errors.As(err, &step) {
		if !a.json && step.SQL != "" {
			for line := range strings.Lines(clean(step.SQL)) {
				a.err.line("    " + strings.TrimRight(line, "\n"))
			}
		}
		if !stopped {
			return fmt.Errorf("%w; %s is as it was before this migration", err, l.Name)
		}
	}
	if stopped {
		if a.json {
			a.document(map[string]any{"database": l.Name, "interrupted": jsonHalfOf(half.Half), "applied_before": done})
		}
		return &exitError{
			code: exitHalfway,
			err: fmt.Errorf("%w\n%s stopped halfway on %s (%s): erbario apply resumes it, erbario undo rolls it back",
				err, half.Half.ID, l.Name, half.Half.Where()),
		}
	}
	return err
}

// blockedRun tells which rows block a migration, or that it is not due yet.
func (a *app) blockedRun(l *live, way *runner.InTheWay, done int) error {
	if a.json {
		a.document(map[string]any{
			"database":       l.Name,
			"migration":      way.Migration,
			"when":           way.When,
			"blocking":       way.Sentence,
			"rows":           way.Count,
			"columns":        way.Sample.Columns,
			"values":         way.Sample.Values,
			"flags":          fillFlags(way),
			"applied_before": done,
		})
	}
	if way.Wait {
		if !a.json {
			a.waiting(a.err, way)
		}
		return fmt.Errorf("%s is not due yet; %s is unchanged", way.Migration, l.Name)
	}
	if !a.json {
		a.inTheWay(way)
	}
	return fmt.Errorf("%s (%s) is blocked by existing rows; %s is unchanged", way.Migration, way.When, l.Name)
}

// openRun tells what a migration asks each database for.
func (a *app) openRun(l *live, open *runner.NeedsAnswers, done int) error {
	type jsonNeed struct {
		For  string `json:"for"`
		Type string `json:"type"`
		Home string `json:"drafted_with"`
		Rows int64  `json:"rows"`
		Flag string `json:"flag"`
	}
	var list []jsonNeed
	for i, n := range open.Needs {
		list = append(list, jsonNeed{n.For, n.Type, n.Home, n.Rows, "--fill " + n.For + "=VALUE"})
		if a.json {
			continue
		}
		a.err.printf("%s each database is asked for %s, and %s of %s need a value (drafted with %s)",
			a.err.paint(styleWarn, fmt.Sprintf("question %d:", i+1)), cell(n.For), rows(n.Rows), l.Name,
			cell(n.Home))
		a.err.printf("    --fill %s=VALUE, or in a file for --answers: fill.%s = \"VALUE\"", cell(n.For),
			tomlText(n.For))
	}
	if a.json {
		a.document(map[string]any{
			"database": l.Name, "migration": open.Migration, "questions": list, "applied_before": done,
		})
	}
	return &exitError{
		code: exitQuestion,
		err: fmt.Errorf("%s has %s to answer: %s is unchanged", open.Migration,
			plural(len(open.Needs), "question", "questions"), l.Name),
	}
}
