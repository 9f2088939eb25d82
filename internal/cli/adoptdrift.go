package cli

// This file is adopt with the names of tables that models declare: what somebody changed in them
// outside of Erbario comes into the models and into a migration.

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"erbario/internal/adopt"
	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/project"
	"erbario/internal/sqlschema"
)

// drifting is a run of adopt for tables that models declare.
type drifting struct {
	*adopting
	state   *draft.State
	changes []diff.Change // that are adopted
	files   []adopt.File
	keeps   []string
}

// drifted tells whether all the names are those of tables that models declare, or of columns of them.
func (o *adopting) drifted() (bool, error) {
	if len(o.names) == 0 || o.url != "" {
		return false, nil
	}
	p, err := o.project()
	if err != nil {
		return false, err
	}
	d, err := p.Database(o.database)
	if err != nil {
		return false, err
	}
	e, err := d.Engine()
	if err != nil {
		return false, err
	}
	wanted, err := o.wanted(p, e)
	if err != nil {
		return false, err
	}
	declared := 0
	for _, n := range o.names {
		table, _, _ := sqlschema.CutTable(n, wanted)
		t := wanted.Table(table)
		if whole := wanted.Table(n); whole != nil { // a name with a dot in it
			t = whole
		}
		if d := objects.TableNamed(wanted.Objects, table); d != nil {
			return false, fmt.Errorf("%s is declared in SQL: write what was changed into %s, as "+
				"erbario look --sql %s shows it", d.Name, d.Path, typed(d.Name))
		}
		if t != nil && t.Outside() {
			return false, fmt.Errorf("%s is declared as outside: remove model %s, and adopt it then", t.Name, t.Model())
		}
		if t != nil {
			declared++
		}
	}
	if declared > 0 && declared < len(o.names) {
		return false, wrongUse("some of these tables are declared and others are not: adopt them separately")
	}
	return declared > 0, nil
}

// adoptDrift adopts what was changed outside.
func (o *adopting) adoptDrift(ctx context.Context) (err error) {
	if o.outside || len(o.except) > 0 {
		return wrongUse("--outside and --except are for tables that no model declares yet")
	}
	if o.p, err = o.project(); err != nil {
		return err
	}
	if o.l, err = o.open(ctx, o.p, o.database, engine.ReadOnly, false); err != nil {
		return err
	}
	defer func() { o.l.Close() }()
	r := &drifting{adopting: o}
	if err := r.look(ctx); err != nil || len(r.changes) == 0 {
		return err
	}
	if err := r.draft(ctx); err != nil {
		return err
	}
	recorded := false
	if !o.dry {
		for _, f := range r.files {
			if err := project.WriteFile(filepath.Join(o.p.Dir, f.Path), f.Text); err != nil {
				return err
			}
		}
		if err := project.WriteFile(filepath.Join(o.p.MigrationsDir(), o.m.FileName()), o.m.Text); err != nil {
			return err
		}
		if recorded, err = o.record(ctx, r.keeps); err != nil {
			return err
		}
	}
	return r.tell(recorded)
}

// look finds out what was changed, and which of it is adopted.
func (r *drifting) look(ctx context.Context) (err error) {
	if r.state, err = r.app.state(ctx, r.p, r.l); err != nil {
		return err
	}
	s := r.state.Status
	if err := s.Problem(); err != nil {
		return err
	}
	if len(s.Pending) > 0 {
		return fmt.Errorf("%s is pending here: apply it first, or undo what is in its way", s.Pending[0].ID)
	}
	if len(s.Newer) > 0 {
		return fmt.Errorf("%s is applied here and has no file in this checkout: restore its file first", s.Newer[0])
	}
	all, err := r.state.Drift(ctx)
	if err != nil {
		return err
	}
	var triggers []string
	all = slices.DeleteFunc(all, func(c diff.Change) bool {
		if g, ok := c.Object.(*sqlschema.Trigger); ok && g.Purpose == "" { // no model declares it
			triggers = append(triggers, c.Name)
			return true
		}
		return false
	})
	if len(triggers) > 0 && !r.json {
		r.warn("a trigger comes into a file of SQL, not into a model: erbario adopt %s", typed(triggers[0]))
	}
	for _, name := range r.names {
		var mine []diff.Change
		whole := r.state.Wanted.Table(name) != nil
		for _, c := range all {
			if whole && strings.EqualFold(c.Table, name) || !whole && r.ofColumn(c, name) {
				mine = append(mine, c)
			}
		}
		if len(mine) == 0 {
			return r.same(name)
		}
		r.changes = append(r.changes, mine...)
	}
	diff.Group(r.changes)
	return r.refuse()
}

// ofColumn tells whether a change belongs to a column, given as table.column.
func (r *drifting) ofColumn(c diff.Change, name string) bool {
	column, ok := strings.CutPrefix(strings.ToLower(name), strings.ToLower(c.Table)+".")
	if !ok {
		return false
	}
	is := func(n string) bool { return strings.EqualFold(n, column) }
	switch o := c.Object.(type) {
	case *sqlschema.Column:
		return is(c.Name)
	case *sqlschema.Index:
		names := sqlschema.Names(o.Parts)
		return len(names) == 1 && is(names[0])
	case *sqlschema.ForeignKey:
		return len(o.Columns) == 1 && is(o.Columns[0])
	case *sqlschema.Check:
		return is(o.Column)
	case *sqlschema.Trigger:
		return is(o.Column)
	}
	return is(c.Name)
}

// same says that nothing was changed.
func (r *drifting) same(name string) error {
	r.changes = nil
	if r.json {
		return r.document(map[string]any{"database": r.l.Name, "changes": []any{}, "migration": nil})
	}
	r.out.printf("nothing to adopt: %s is as the migrations make it", cell(name))
	return nil
}

// refuse refuses what is not to be guessed: a table that is gone, and what may be a rename.
func (r *drifting) refuse() error {
	gone, come := map[string]string{}, map[string]string{}
	for _, c := range r.changes {
		switch c.Kind {
		case diff.DropTable, diff.ChangeEnum, diff.DropEnum:
			return fmt.Errorf("%s was changed as a whole (%s), which cannot be adopted: change its model, and draft",
				c.Table, c.Kind)
		case diff.DropColumn:
			gone[c.Table] = c.Name
		case diff.AddColumn:
			come[c.Table] = c.Name
		}
	}
	for table, from := range gone {
		to := come[table]
		named := func(column string) bool { return slices.Contains(r.names, table+"."+column) }
		if to == "" || named(from) && named(to) {
			continue
		}
		return &exitError{code: exitQuestion, err: fmt.Errorf(
			"%[1]s has lost %[2]s and has got %[3]s. If they are two: erbario adopt %[1]s.%[2]s %[1]s.%[3]s. If %[2]s was "+
				"renamed: rename it in the model, and draft on a database that has the old name; nothing was written",
			table, from, to)}
	}
	return nil
}

// draft finds out what would be written.
func (r *drifting) draft(ctx context.Context) error {
	files, _, _, err := r.p.Parse()
	if err != nil {
		return err
	}
	declared, err := r.models(r.p, r.l.engine)
	if err != nil {
		return err
	}
	made, err := r.state.Made(ctx)
	if err != nil {
		return err
	}
	in := adopt.Input{Engine: r.l.engine, DB: r.l.db, Live: r.state.Live, Declared: declared, Files: files,
		Rules: r.p.Rules()}
	if r.files, err = in.Follow(ctx, made, r.state.Wanted, r.changes); err != nil {
		return err
	}
	tables := tablesOf(r.changes)
	title := "adopted " + strings.Join(tables, " ")
	if len(tables) > 3 {
		title = fmt.Sprintf("adopted %d tables", len(tables))
	}
	d, err := r.state.Adopt(ctx, r.changes, draft.Request{Title: title, Now: time.Now()})
	if err != nil {
		return err
	}
	switch r.m = d.Migration; {
	case len(d.Plan.Questions) > 0:
		return &exitError{code: exitQuestion, err: fmt.Errorf("it cannot be adopted: %s; nothing was written",
			d.Plan.Questions[0].Text)}
	case r.m == nil:
		return errors.New("no migration makes this change: nothing was written")
	case !d.Outcome.Proved():
		return fmt.Errorf("the migration of it was %s: nothing was written", d.Outcome.Sentence())
	}
	r.keeps = adopt.Keeps(r.l.engine, d.Outcome.After, r.state.Live)
	return nil
}

// tablesOf are the tables that changes are about.
func tablesOf(list []diff.Change) []string {
	var out []string
	for _, c := range list {
		if !slices.Contains(out, c.Table) {
			out = append(out, c.Table)
		}
	}
	return out
}

// tell tells what came of it.
func (r *drifting) tell(recorded bool) error {
	if r.json {
		paths := []string{}
		for _, f := range r.files {
			paths = append(paths, f.Path)
		}
		return r.document(map[string]any{
			"database": r.l.Name, "changes": jsonChanges(r.changes, nil), "files": paths, "migration": r.m.ID,
			"recorded": recorded, "dry_run": r.dry,
		})
	}
	r.app.changes(r.changes, nil)
	r.out.line("")
	for _, f := range r.files {
		r.out.line(r.out.sign("~", f.Path))
	}
	r.showDraft(r.m)
	if recorded {
		r.out.printf("%s is recorded in %s", r.m.ID, r.l.Name)
	}
	for _, e := range r.p.Others(r.l.engine.Name()) {
		r.out.printf("the next draft writes it for %s", e.Name())
	}
	switch {
	case r.dry:
		r.out.line("nothing was written")
		r.next(r.again())
	case recorded:
		r.next("erbario " + onDatabase(r.p, r.l.Name) + "diff")
	default:
		r.next("erbario " + onDatabase(r.p, r.l.Name) + "adopt --at " + r.m.ID)
	}
	return nil
}
