package cli

// This file is what the command line knows of staged pairs of migrations: which engine
// of a project drafts two, and how it is told that the second waits.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/runner"
)

// defaultStagedWait is how long nobody may have written as before, unless the project
// says otherwise.
const defaultStagedWait = time.Hour

// drafter drafts for one engine of a project: one migration, or a staged pair.
type drafter struct {
	staged bool
	wait   time.Duration
	f      *answerFlags
}

// drafter tells how a draft is made.
func (a *app) drafter(p *project.Project, staged bool, f *answerFlags) (drafter, error) {
	d := drafter{staged: staged, wait: defaultStagedWait, f: f}
	if text := p.Settings.Plan.StagedWait; text != "" {
		var err error
		if d.wait, err = time.ParseDuration(text); err != nil || d.wait < 0 {
			return d, fmt.Errorf("erbario.toml: plan.staged_wait is %q; write a time such as 30m or 1h", text)
		}
	}
	if staged && !slices.ContainsFunc(p.Engines(), func(e engine.Engine) bool { return e.Caps().Stages }) {
		return d, fmt.Errorf("--staged is for servers, where others write while a migration runs: draft without it")
	}
	return d, nil
}

// make drafts. Where an engine of a project with several needs no pair, its first
// migration holds the whole change, and there is no second.
func (d drafter) make(ctx context.Context, s *draft.State, r draft.Request) (first, second *draft.Draft, err error) {
	if !d.staged || !s.Engine.Caps().Stages {
		first, err = s.Make(ctx, r)
		return first, nil, err
	}
	first, second, err = s.Staged(ctx, r, d.wait)
	if errors.Is(err, plan.ErrOneIsEnough) && len(d.f.defaults)+len(d.f.optional) > 0 { // an answer made it so
		first, err = s.Make(ctx, r)
	}
	return first, second, err
}

// migrationsOf are those of the drafts that hold one.
func migrationsOf(drafts ...*draft.Draft) []*migration.Migration {
	var out []*migration.Migration
	for _, d := range drafts {
		if d != nil && d.Migration != nil {
			out = append(out, d.Migration)
		}
	}
	return out
}

// waiting tells that a migration waits for what time may mend, and what that is.
func (a *app) waiting(to *printer, w *runner.InTheWay) {
	to.printf("%s  %s", to.paint(styleWarn, "waits "+w.Migration), clean(w.Sentence))
	for _, line := range sample(w.Sample, "    ") {
		to.line(line)
	}
	if left := w.Count - int64(len(w.Sample.Values)); left > 0 {
		to.printf("    and %d more", left)
	}
	to.line("    apply again when only the new application writes, or now with --at-once")
}

type jsonWaits struct {
	Migration string     `json:"migration"`
	Sentence  string     `json:"sentence"`
	Rows      int64      `json:"rows"`
	Columns   []string   `json:"columns"`
	Values    [][]string `json:"values"`
}

func jsonWaitsOf(w *runner.InTheWay) *jsonWaits {
	return &jsonWaits{w.Migration, w.Sentence, w.Count, w.Sample.Columns, w.Sample.Values}
}

// newest tells whether nothing stands behind a migration.
func newest(files []*migration.Migration, id string) bool {
	return !slices.ContainsFunc(files, func(m *migration.Migration) bool { return strings.Compare(m.ID, id) > 0 })
}
