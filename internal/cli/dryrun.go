package cli

// This file tells what a run would do, without doing it.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// dryRun shows what an apply would do. It asks the requirements of migrations
// whose tables are there; those about what an earlier one makes are told as
// asked later.
func (a *app) dryRun(ctx context.Context, l *live, s *runner.LineStatus, to string) error {
	if err := s.Problem(); err != nil {
		return err
	}
	todo, err := upTo(s.Pending, s.Files, to)
	if err != nil {
		return err
	}
	r := &dryRunning{app: a, l: l, list: []jsonDry{}}
	if r.size, err = a.sizes(ctx, l); err != nil {
		return err
	}
	for i, m := range todo {
		if err := r.migration(ctx, m.Bound(l.engine, nil, nil), i == 0); err != nil {
			return err
		}
	}
	if a.json {
		a.document(map[string]any{"database": l.Name, "migrations": r.list, "requirements_failed": r.failed})
	} else if len(todo) == 0 {
		a.out.printf("%s: up to date (nothing pending)", l.Name)
	} else {
		a.out.line("")
		a.out.line("lock: " + l.engine.Caps().Waiting)
	}
	if r.failed > 0 {
		return &exitError{
			code: exitFailed,
			err: fmt.Errorf("%s would block it; nothing was changed",
				plural(r.failed, "requirement", "requirements")),
		}
	}
	return nil
}

type jsonDryStep struct {
	Title string   `json:"title"`
	Note  string   `json:"note,omitempty"`
	Lock  string   `json:"lock"`
	SQL   []string `json:"sql"`
}

type jsonDryNeed struct {
	Sentence string `json:"sentence"`
	Rows     int64  `json:"rows"`
	Asked    bool   `json:"asked"`
}

type jsonDry struct {
	Migration    string        `json:"migration"`
	Requirements []jsonDryNeed `json:"requirements"`
	Steps        []jsonDryStep `json:"steps"`
}

// dryRunning is a run that changes nothing.
type dryRunning struct {
	*app
	l      *live
	size   map[string]int64 // rows by table
	list   []jsonDry
	failed int // requirements that would block it
}

// migration shows one migration; first: all that it needs is there.
func (r *dryRunning) migration(ctx context.Context, m *migration.Migration, first bool) error {
	out := jsonDry{Migration: m.ID, Requirements: []jsonDryNeed{}}
	if !r.json {
		if !first {
			r.out.line("")
		}
		r.out.line(r.out.paint(styleHead, m.ID))
	}
	for _, q := range m.BeforeApply {
		need, err := r.requirement(ctx, m, q, first && len(m.Found) == 0)
		if err != nil {
			return err
		}
		out.Requirements = append(out.Requirements, need)
	}
	for n := range m.Steps {
		out.Steps = append(out.Steps, r.step(ctx, m, n))
	}
	r.list = append(r.list, out)
	return nil
}

// requirement asks a requirement; there: what it asks about is there already.
func (r *dryRunning) requirement(ctx context.Context, m *migration.Migration, q engine.Requirement,
	there bool) (jsonDryNeed, error) {
	n, err := r.l.db.Count(ctx, q.Query)
	need := jsonDryNeed{Sentence: runner.Sentence(q.Sentence, n), Rows: n, Asked: err == nil}
	switch {
	case err != nil && !there:
		need.Sentence = q.Sentence
		if !r.json {
			r.out.printf("  checked later, after the migrations before it: %s",
				strings.ReplaceAll(q.Sentence, "{n}", "0"))
		}
	case err != nil:
		return need, fmt.Errorf("%s: the query of a requirement failed: %w", m.ID, err)
	case n > 0 && q.Wait:
		if !r.json {
			r.out.line(r.out.paint(styleWarn, "  waits: ") + clean(need.Sentence))
		}
	case n > 0:
		r.failed++
		var way *runner.InTheWay
		if !r.json && errors.As(runner.Ask(ctx, r.l.db, m.ID, "before apply", q), &way) {
			r.inTheWay(way)
		}
	case !r.json:
		r.out.printf("  holds: %s", runner.Sentence(q.Sentence, 0))
	}
	return need, nil
}

// step shows the n-th step, with what it locks here, rather than where it was drafted.
func (r *dryRunning) step(ctx context.Context, m *migration.Migration, n int) jsonDryStep {
	st := m.Steps[n]
	out := jsonDryStep{Title: st.Title, Note: st.Note, Lock: "the whole database, for writers", SQL: []string{}}
	roomOf := func(table string) (string, bool) { return r.sizeOf(ctx, table) }
	note, here := st.Note, ""
	if _, locks := plan.LockWords(r.l.engine, statementTexts(st.Apply), engine.Step{}, roomOf); len(locks) > 0 {
		here, _ = plan.LockWords(r.l.engine, statementTexts(st.Apply), engine.Step{Work: st.Work, Kind: st.Kind},
			roomOf)
		out.Lock, note = here, here
	}
	head := fmt.Sprintf("  step %d  %s", n+1, cell(st.Title))
	switch {
	case here != "":
		head += "  (" + cell(note) + ")"
	case note != "":
		head += "  (" + cell(note) + touchedSizes(m, n, r.l.engine, r.size) + ")"
	}
	if st.Kind != engine.InTransaction {
		head += "  (" + string(st.Kind) + ")"
	}
	if !r.json {
		r.out.line(head)
	}
	for _, sql := range st.Apply {
		out.SQL = append(out.SQL, sql.SQL)
		if !r.json {
			for line := range strings.Lines(clean(sql.SQL) + ";") {
				r.out.line("    " + r.out.paint(styleDim, strings.TrimRight(line, "\n")))
			}
		}
	}
	return out
}

// sizeOf is how large a table is, in words; false where it does not exist.
func (r *dryRunning) sizeOf(ctx context.Context, table string) (string, bool) {
	n, ok := r.size[strings.ToLower(table)]
	if !ok {
		return "", false
	}
	bytes, err := r.l.db.TableSize(ctx, table)
	if err != nil {
		bytes = 0
	}
	return plan.SizeWords(n, bytes), true
}

func statementTexts(list []migration.Statement) []string {
	out := make([]string, len(list))
	for i, st := range list {
		out[i] = st.SQL
	}
	return out
}

// sizes are the numbers of rows of the live tables.
func (a *app) sizes(ctx context.Context, l *live) (map[string]int64, error) {
	s, err := l.db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, t := range s.Tables {
		if t.Options.Virtual != "" {
			continue
		}
		if out[strings.ToLower(t.Name)], err = l.db.Count(ctx,
			"SELECT 1 FROM "+l.engine.SQL().QuoteTable(t.Name)); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// upTo are the waiting migrations that a run with --to will apply.
func upTo(waiting, files []*migration.Migration, to string) ([]*migration.Migration, error) {
	if to == "" {
		return waiting, nil
	}
	last, err := migration.Find(files, to)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(slices.Clone(waiting), func(m *migration.Migration) bool { return m.ID > last.ID }), nil
}

// doubtful asks for the name of a protected database before a migration runs there whose
// proof could not try all of it.
func (a *app) doubtful(l *live, waiting []*migration.Migration) error {
	for _, m := range waiting {
		if d := m.Doubts(); d != "" {
			if err := a.confirmOn(l.Database, fmt.Sprintf("applying %s, whose proof was %s,", m.ID, d)); err != nil {
				return err
			}
		}
	}
	return nil
}

// outsideThere is an error where the migrations that are about to be applied name a table
// that the models declare as outside, and that is not in the database.
func (a *app) outsideThere(ctx context.Context, p *project.Project, l *live, waiting []*migration.Migration) error {
	if len(waiting) == 0 {
		return nil
	}
	wanted, _ := declaredQuietly(p, l.engine)
	if wanted == nil {
		return nil // what is applied are files: mistakes in the models are told elsewhere
	}
	wanted = &sqlschema.Schema{Tables: slices.DeleteFunc(wanted.Tables, func(t *sqlschema.Table) bool {
		return !t.Outside() ||
			!slices.ContainsFunc(waiting, func(m *migration.Migration) bool { return strings.Contains(m.Text, t.Name) })
	})}
	if len(wanted.Tables) == 0 {
		return nil
	}
	live, err := l.db.Inspect(ctx)
	if err != nil {
		return err
	}
	return draft.MissingOutside(l.engine, wanted, live, waiting)
}

func touchedSizes(m *migration.Migration, step int, e engine.Engine, size map[string]int64) string {
	var out []string
	seen := map[string]bool{}
	for _, st := range m.Steps[step].Apply {
		for _, t := range sqltext.Touches(e.SQL().Lex(st.SQL), nil).Tables {
			t = strings.ToLower(t)
			if n, ok := size[t]; ok && !seen[t] {
				seen[t] = true
				out = append(out, t+" has "+rows(n))
			}
		}
	}
	if len(out) == 0 {
		return ""
	}
	return "; " + out[0]
}
