package editor

// This file is what the rows say of a change that is not drafted yet: asked when a file is saved, of the database
// that the settings name for it, and never of a protected one. It only reads.

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"erbario/internal/check"
	"erbario/internal/declare"
	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/migration"
	"erbario/internal/project"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// notDrafted begins what is said of a change that no migration has.
const notDrafted = "not drafted yet: "

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

// looked is a database as it is held against the models.
type looked struct {
	project.Database
	state    *draft.State
	files    []*lang.File
	declared *declare.Declared
	conn     engine.Database
}

var (
	errProtected = errors.New("a protected database is left alone")
	errModels    = errors.New("the models have errors")
)

// look reads the database that the settings name for the editor.
func look(ctx context.Context, p *project.Project) (*looked, error) {
	db, err := p.Database(p.Settings.Editor.Database)
	if err != nil {
		return nil, err
	}
	if db.Protected {
		return nil, errProtected
	}
	e, err := db.Engine()
	if err != nil {
		return nil, err
	}
	files, _, diags, err := p.Parse()
	if err != nil {
		return nil, err
	}
	declared, wanted, more := check.Resolve(p, files, e)
	if lang.Errors(diags) || lang.Errors(more) {
		return nil, errModels
	}
	conn, err := e.Open(ctx, db.URL, engine.ReadOnly)
	if err != nil {
		return nil, err
	}
	s, err := draft.Look(ctx, e, conn, func() (*sqlschema.Schema, []*migration.Migration, error) {
		list, err := p.Migrations(e)
		return wanted, list, err
	})
	if err != nil {
		conn.Close()
		return nil, err
	}
	return &looked{db, s, files, declared, conn}, nil
}

// rowsSay is what a draft would ask or be blocked by, at the lines of the models; nothing where the database cannot
// be reached, is protected, or takes too long.
func rowsSay(p *project.Project) (out []found) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	l, err := look(ctx, p)
	if err != nil {
		return nil
	}
	defer l.conn.Close()
	s, db, files, declared := l.state, l.Database, l.files, l.declared
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
		add(place(c.Table, column), notDrafted+what)
	}
	return out
}

// draftCommand is what a client asks for to have the changes drafted.
const draftCommand = "erbario.draft"

// draftable says whether the editor may draft here: on a throwaway database, for one engine, and where nothing is
// declared in SQL.
func (w *workspace) draftable() bool {
	if w.project == nil || w.project.Settings.Editor.Database == "" || len(w.project.Settings.Project.Engines) > 1 {
		return false
	}
	db, err := w.project.Database(w.project.Settings.Editor.Database)
	return err == nil && db.Throwaway && !db.Protected && len(w.sqlFiles()) == 0
}

// draft writes a migration for what is not drafted yet, on another goroutine, and says what came of it.
func (w *workspace) draft() {
	if !w.draftable() {
		return
	}
	view := w.snapshot()
	view.Read = nil
	w.server.checks.Add(1)
	go func() {
		defer w.server.checks.Done()
		text, err := written(view)
		kind := 3 // information
		if err != nil {
			kind, text = 2, err.Error()
		}
		w.server.outgoing.send(func() {
			_ = w.server.conn.Notify(context.Background(), "window/showMessage",
				map[string]any{"type": kind, "message": text})
		})
		w.server.mu.Lock()
		defer w.server.mu.Unlock()
		w.live = nil
		w.recheck()
	}()
}

// written drafts and writes the file; what only a person can decide is an error that says how to go on.
func written(p *project.Project) (text string, err error) {
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	l, err := look(ctx, p)
	if err != nil {
		return "", err
	}
	defer l.conn.Close()
	d, err := l.state.Make(ctx, draft.Request{Title: "from the editor", Now: time.Now(), Rows: true})
	switch {
	case err != nil:
		return "", err
	case len(d.Plan.Questions) > 0:
		return "", fmt.Errorf("%s: answer it with erbario draft TITLE", d.Plan.Questions[0].Text)
	case len(d.InTheWay) > 0:
		r := d.InTheWay[0]
		return "", fmt.Errorf("%s: nothing was written", runner.Sentence(r.Requirement.Sentence, r.Rows))
	case d.Migration == nil:
		return "nothing to draft: " + l.Name + " matches the models", nil
	case !d.Outcome.Proved() || len(d.Barred) > 0:
		return "", errors.New("the migration cannot be proved: erbario draft TITLE says why")
	}
	path := filepath.Join(p.MigrationsDir(), d.Migration.FileName())
	if err := project.WriteFile(path, d.Migration.Text); err != nil {
		return "", err
	}
	return fmt.Sprintf("%s/%s is written: erbario apply", project.MigrationsFolder, d.Migration.FileName()), nil
}
