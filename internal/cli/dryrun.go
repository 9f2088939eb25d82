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
	todo := s.Pending
	if to != "" {
		m, err := migration.Find(s.Files, to)
		if err != nil {
			return err
		}
		for i, w := range todo {
			if w.ID > m.ID {
				todo = todo[:i]
				break
			}
		}
	}
	type jsonStep struct {
		Title string   `json:"title"`
		Note  string   `json:"note,omitempty"`
		Lock  string   `json:"lock"`
		SQL   []string `json:"sql"`
	}
	type jsonNeed struct {
		Sentence string `json:"sentence"`
		Rows     int64  `json:"rows"`
		Asked    bool   `json:"asked"`
	}
	type jsonMigration struct {
		Migration    string     `json:"migration"`
		Requirements []jsonNeed `json:"requirements"`
		Steps        []jsonStep `json:"steps"`
	}
	doc := []jsonMigration{}
	failed := 0
	size, err := a.sizes(ctx, l)
	if err != nil {
		return err
	}
	roomOf := func(table string) (string, bool) {
		n, ok := size[strings.ToLower(table)]
		if !ok {
			return "", false
		}
		bytes, err := l.db.TableSize(ctx, table)
		if err != nil {
			bytes = 0
		}
		return plan.SizeWords(n, bytes), true
	}
	for i, m := range todo {
		m = m.Bound(l.engine, nil, nil)
		jm := jsonMigration{Migration: m.ID, Requirements: []jsonNeed{}}
		if !a.json {
			if i > 0 {
				a.out.line("")
			}
			a.out.line(a.out.paint(styleHead, m.ID))
		}
		for _, r := range m.BeforeApply {
			n, err := l.db.Count(ctx, r.Query)
			need := jsonNeed{Sentence: runner.Sentence(r.Sentence, n), Rows: n, Asked: err == nil}
			switch {
			case err != nil && (i > 0 || len(m.Found) > 0):
				need.Sentence = r.Sentence
				if !a.json {
					a.out.printf("  checked later, after the migrations before it: %s",
						strings.ReplaceAll(r.Sentence, "{n}", "0"))
				}
			case err != nil:
				return fmt.Errorf("%s: the query of a requirement failed: %w", m.ID, err)
			case n > 0 && r.Wait:
				if !a.json {
					a.out.line(a.out.paint(styleWarn, "  waits: ") + clean(need.Sentence))
				}
			case n > 0:
				failed++
				if !a.json {
					var way *runner.InTheWay
					if errors.As(runner.Ask(ctx, l.db, m.ID, "before apply", r), &way) {
						a.inTheWay(way)
					}
				}
			case !a.json:
				a.out.printf("  holds: %s", runner.Sentence(r.Sentence, 0))
			}
			jm.Requirements = append(jm.Requirements, need)
		}
		for j, st := range m.Steps {
			js := jsonStep{Title: st.Title, Note: st.Note, Lock: "the whole database, for writers", SQL: []string{}}
			note, here := st.Note, ""
			if _, locks := plan.LockWords(l.engine, statementTexts(st.Apply), engine.Step{}, roomOf); len(locks) > 0 {
				// What it locks here, rather than where it was drafted.
				here, _ = plan.LockWords(l.engine, statementTexts(st.Apply), engine.Step{Work: st.Work, Kind: st.Kind},
					roomOf)
				js.Lock, note = here, here
			}
			if !a.json {
				head := fmt.Sprintf("  step %d  %s", j+1, cell(st.Title))
				switch {
				case here != "":
					head += "  (" + cell(note) + ")"
				case note != "":
					head += "  (" + cell(note) + touchedSizes(m, j, l.engine, size) + ")"
				}
				if st.Kind != engine.InTransaction {
					head += "  (" + string(st.Kind) + ")"
				}
				a.out.line(head)
			}
			for _, sql := range st.Apply {
				js.SQL = append(js.SQL, sql.SQL)
				if !a.json {
					for line := range strings.Lines(clean(sql.SQL) + ";") {
						a.out.line("    " + a.out.paint(styleDim, strings.TrimRight(line, "\n")))
					}
				}
			}
			jm.Steps = append(jm.Steps, js)
		}
		doc = append(doc, jm)
	}
	if a.json {
		a.document(map[string]any{"database": l.Name, "migrations": doc, "requirements_failed": failed})
	} else if len(todo) == 0 {
		a.out.printf("%s: up to date (nothing pending)", l.Name)
	} else {
		a.out.line("")
		a.out.line("lock: " + l.engine.Caps().Waiting)
	}
	if failed > 0 {
		return &exitError{
			code: exitFailed,
			err:  fmt.Errorf("%s would block it; nothing was changed", plural(failed, "requirement", "requirements")),
		}
	}
	return nil
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
			"SELECT 1 FROM "+l.engine.SQL().Quote(t.Name)); err != nil {
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
