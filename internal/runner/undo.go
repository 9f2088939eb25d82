package runner

// This file undoes migrations, the newest first.

import (
	"context"
	"fmt"
	"slices"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// reviving is a migration whose undo lets deleted rows come back.
func reviving(m *migration.Migration) *migration.Migration {
	out := *m
	revives := func(r engine.Requirement) bool { return r.Revives }
	out.BeforeUndo = slices.DeleteFunc(slices.Clone(m.BeforeUndo), revives)
	out.Steps = slices.Clone(m.Steps)
	for i := range out.Steps {
		out.Steps[i].HereUndo = slices.DeleteFunc(slices.Clone(out.Steps[i].HereUndo), revives)
	}
	return &out
}

// refilled are the tables into which values that an earlier undo kept may come
// back. A name with a dot in it may be a table's or a column's.
func refilled(m *migration.Migration) []string {
	var out []string
	for _, s := range m.Steps {
		for _, l := range s.UndoLoses {
			out = append(out, l.Tables()...)
		}
	}
	return out
}

// ToUndo are the migrations that an undo would undo, newest first.
func ToUndo(ctx context.Context, db engine.Database, e Engine, files []*migration.Migration,
	o Options) ([]*migration.Migration, error) {
	applied, err := History(ctx, db)
	if err != nil {
		return nil, err
	}
	kept, err := Texts(applied, nil, e)
	if err != nil {
		return nil, err
	}
	stay := 0
	switch {
	case o.Start:
	case o.To != "":
		m, err := migration.Find(kept, o.To)
		if err != nil {
			return nil, fmt.Errorf("among the applied migrations: %w", err)
		}
		for stay < len(kept) && kept[stay].ID <= m.ID {
			stay++
		}
	default:
		stay = max(0, len(kept)-max(o.Count, 1))
	}
	var out []*migration.Migration
	for i := len(kept) - 1; i >= stay; i-- {
		m := kept[i]
		for _, f := range files {
			if f.ID == m.ID && f.Checksum() == applied[i].Checksum { // else what is undone is what was done
				m = f
			}
		}
		if m.Path == "history of "+m.ID && o.Confirm != nil {
			if err := o.Confirm(applied[i]); err != nil {
				return nil, err
			}
		}
		out = append(out, m)
	}
	return out, runnable(out, e, false)
}

// finish goes on with a migration that was left halfway, or back.
func finish(ctx context.Context, db engine.Database, e Engine, o Options,
	apply bool) (*migration.Migration, error) {
	if !e.Caps().Journal {
		return nil, nil
	}
	half, err := FindInterrupted(ctx, db)
	if err != nil || half == nil {
		return nil, err
	}
	m, back, err := resume(ctx, db, e, o, apply)
	if err != nil || m == nil {
		return nil, err
	}
	if o.Resumed != nil {
		o.Resumed(m, apply)
	}
	if o.Done != nil && !apply {
		o.Done(Run{m, 0, back})
	}
	return m, nil
}

// Undo takes migrations back, newest first, each in its own transaction. One that was
// left halfway is undone, and no other with it unless that is asked for.
func Undo(ctx context.Context, db engine.Database, e Engine, files []*migration.Migration,
	o Options) ([]*migration.Migration, error) {
	half, err := finish(ctx, db, e, o, false)
	if err != nil {
		return nil, err
	}
	if half != nil && !o.Start && o.To == "" && o.Count <= 1 {
		return []*migration.Migration{half}, nil
	}
	todo, err := ToUndo(ctx, db, e, files, o)
	if err != nil {
		return nil, err
	}
	if err := UnusedFills(todo, o.Answers); err != nil {
		return nil, err
	}
	if err := checkPermissions(ctx, db, e, todo, true); err != nil {
		return nil, err
	}
	var done []*migration.Migration
	for _, m := range todo {
		began := time.Now()
		var back []Restored
		if !m.Atomic() {
			back, err = separatelyBack(ctx, db, e, m, o)
		} else {
			err = inTurn(ctx, db, o.Wait, func() (err error) {
				back, err = backward(ctx, db, e, m, o)
				return err
			})
		}
		if err != nil {
			return done, err
		}
		done = append(done, m)
		if o.Done != nil {
			o.Done(Run{m, time.Since(began), back})
		}
	}
	return done, nil
}

// undoable is an error for a migration that has no undo.
func undoable(m *migration.Migration) error {
	n := m.OneWay()
	if n == 0 {
		return nil
	}
	return fmt.Errorf(
		"%s cannot be undone, and neither can what was applied before it: its step %d (%s) has no undo. Write the reverse as a new migration: erbario draft TITLE --by-hand",
		m.ID, n, m.Steps[n-1].Title)
}

func backward(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) ([]Restored, error) {
	if err := newest(ctx, db, m); err != nil {
		return nil, err
	}
	back, err := away(ctx, db, e, m, o)
	if err != nil {
		return nil, err
	}
	return back, db.Commit(ctx)
}

// newest tells whether a migration is still the newest one here.
func newest(ctx context.Context, db engine.Database, m *migration.Migration) error {
	rows, err := db.Select(ctx, "SELECT max(id) FROM erbario_history")
	if err != nil {
		return err
	}
	if len(rows) == 0 || rows[0][0] != m.ID {
		return fmt.Errorf(
			"%s is no longer the newest migration here: another run changed the database; see erbario status",
			m.ID,
		)
	}
	return nil
}

// UndoOne takes one migration back and strikes it from the history, inside the
// transaction that was begun, and leaves that open; or step by step, as ApplyOne.
func UndoOne(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) ([]Restored, error) {
	if e.Caps().CommitsChanges {
		if !m.Atomic() {
			return separatelyBack(ctx, db, e, m, o)
		}
		var back []Restored
		err := inTurn(ctx, db, o.Wait, func() (err error) {
			back, err = backward(ctx, db, e, m, o)
			return err
		})
		return back, err
	}
	return away(ctx, db, e, m, o)
}

func away(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) ([]Restored, error) {
	if err := undoable(m); err != nil {
		return nil, err
	}
	bound, err := ForUndo(e, m, o.Answers)
	if err != nil {
		return nil, err
	}
	bound = together(e, bound)
	if o.Revive {
		bound = reviving(bound)
	}
	count, err := restoring(ctx, db, e, m, true)
	if err != nil {
		return nil, err
	}
	if err := Steps(ctx, db, e, bound, true); err != nil {
		return nil, err
	}
	back, err := count()
	if err != nil {
		return nil, err
	}
	if err := followRenames(ctx, db, e, m, true); err != nil {
		return nil, err
	}
	return back, db.Exec(ctx, "DELETE FROM erbario_history WHERE id = ?", m.ID)
}
