package editor

// This file is what the rows say of a change that is not drafted yet: asked when a file is saved, of the database
// that the settings name for it, and never of a protected one. It only reads.

import (
	"context"
	"strings"
	"time"

	"erbario/internal/check"
	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// patience is how long the rows may take to answer.
const patience = time.Second

// askRows asks the rows, on another goroutine; what they say is shown if nothing has changed in the meantime.
func (w *workspace) askRows() {
	if w.project == nil || w.project.Settings.Editor.Database == "" || w.asking {
		return
	}
	view, edition := w.snapshot(), w.edition
	view.Read = nil // trees of its own
	w.asking = true
	w.server.checks.Add(1)
	go func() {
		defer w.server.checks.Done()
		list := rowsSay(view)
		w.server.mu.Lock()
		defer w.server.mu.Unlock()
		w.asking = false
		if edition == w.edition {
			w.live = list
			w.recheck()
		}
	}()
}

// rowsSay is what a draft would ask or be blocked by, at the lines of the models; nothing where the database cannot
// be reached, is protected, or takes too long.
func rowsSay(p *project.Project) (out []found) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	db, err := p.Database(p.Settings.Editor.Database)
	if err != nil || db.Protected {
		return nil
	}
	e, err := db.Engine()
	if err != nil {
		return nil
	}
	files, _, diags, err := p.Parse()
	if err != nil || lang.Errors(diags) {
		return nil
	}
	declared, wanted, more := check.Resolve(p, files, e)
	if lang.Errors(more) {
		return nil
	}
	conn, err := e.Open(ctx, db.URL, engine.ReadOnly)
	if err != nil {
		return nil
	}
	defer conn.Close()
	s, err := draft.Look(ctx, e, conn, func() (*sqlschema.Schema, []*migration.Migration, error) {
		list, err := p.Migrations(e)
		return wanted, list, err
	})
	if err != nil {
		return nil
	}
	pl, err := s.Changes(ctx)
	if err != nil {
		return nil
	}
	place := func(table, column string) lang.Pos {
		at := check.Place(files, declared, table, column)
		if at.Path == "" { // what is dropped has no line: its model, or the settings
			at = check.Place(files, declared, table, "")
		}
		return at
	}
	add := func(at lang.Pos, message string) {
		if at.Path != "" {
			out = append(out, found{lang.Diagnostic{Pos: at, Message: db.Name + ": " + message}, "rows"})
		}
	}
	for _, q := range pl.Questions {
		table, column, _ := strings.Cut(q.About, ".")
		add(place(table, column), q.Text)
	}
	for _, b := range pl.InTheWay {
		column := b.Requirement.About
		if r := b.Requirement.Repeats; column == "" && len(r) == 1 {
			column = r[0]
		}
		add(place(b.Requirement.Table, column), runner.Sentence(b.Requirement.Sentence, b.Rows))
	}
	for _, c := range diff.Told(pl.Changes) {
		what := string(c.Kind)
		if c.What != "" {
			what += ", " + c.What
		}
		column := c.Name
		if x, ok := c.Object.(*sqlschema.Index); ok && len(x.Parts) == 1 {
			column = x.Parts[0].Column
		}
		add(place(c.Table, column), "not drafted yet: "+what)
	}
	return out
}
