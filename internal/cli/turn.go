package cli

// This file undoes and applies again on one database of a redraft, and turns back where that fails.

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"erbario/internal/draft"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
)

// turn is the run on one database, until the new migration stands.
type turn struct {
	*remaking
	l        *live
	apart    bool                          // it is not one transaction
	gone     []*migration.Migration        // undone, newest first
	come     []*migration.Migration        // others that were applied
	returned []draft.Returned              // values that another migration's columns have now
	handed   []func(context.Context) error // undo what was changed of kept tables
	now      *migration.Migration          // which they were handed to
}

func (r *remaking) turnOn(ctx context.Context, l *live) (*turn, error) {
	t := &turn{remaking: r, l: l, apart: l.engine.Caps().CommitsChanges}
	if t.apart {
		return t, l.db.Lock(ctx, time.Minute)
	}
	return t, l.db.Begin(ctx, time.Minute)
}

// end lets the new migration stand.
func (t *turn) end(ctx context.Context) error {
	if t.apart {
		t.gone, t.come, t.handed, t.returned, t.now = nil, nil, nil, nil, nil
		return t.l.db.Unlock(ctx)
	}
	return t.l.db.Commit(ctx)
}

// back makes the database as it was, unless the new migration stands.
func (t *turn) back(ctx context.Context) error {
	if !t.apart {
		return t.l.db.Rollback()
	}
	ctx = context.WithoutCancel(ctx)
	db, e, o := t.l.db, t.l.engine, runner.Options{Home: true, Revive: true, Wait: time.Minute}
	var err error
	if t.now != nil {
		err = runner.Unseal(ctx, db, e, t.now)
	}
	for _, back := range slices.Backward(t.handed) {
		err = errors.Join(err, back(ctx))
	}
	for _, r := range t.returned {
		err = errors.Join(err, r.Again(ctx, db, e))
	}
	for _, m := range slices.Backward(t.come) {
		if err == nil {
			_, err = runner.UndoOne(ctx, db, e, m, o)
		}
	}
	for _, m := range slices.Backward(t.gone) {
		if err == nil {
			_, err = runner.ApplyOne(ctx, db, e, m, time.Now(), o)
		}
	}
	t.gone, t.come, t.handed, t.returned, t.now = nil, nil, nil, nil, nil
	if err != nil {
		err = fmt.Errorf("and what was undone could not be applied again (see erbario status): %w", err)
	}
	return errors.Join(err, db.Unlock(ctx))
}

// try makes the whole run. Flags are what a person answered: then everything has been
// undone, and it is to be tried again.
func (r *remaking) try(ctx context.Context, l *live, others []string) (flags []string, err error) {
	t, err := r.turnOn(ctx, l)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(unfit(err), t.back(ctx)) }()
	began := time.Now()
	r.lines = nil
	t.gone, err = draft.TakeBack(ctx, l.db, r.e, r.old)
	was := len(t.gone) > 0
	if err != nil {
		return nil, t.notTakenBack(err)
	}
	if was {
		if err := t.others(ctx); err != nil {
			return nil, err
		}
	}
	s, err := r.look(ctx, l)
	if err != nil {
		return nil, err
	}
	done := r.slow("proving on a scratch copy…")
	d, to, err := r.draft(ctx, s, l)
	done()
	if err != nil {
		return nil, err
	}
	if len(d.Plan.Questions) > 0 && r.interactive() {
		if err := t.back(ctx); err != nil {
			return nil, err
		}
		return r.ask(ctx, s, d.Plan.Questions)
	}
	if !r.json {
		r.outerNames(d.Plan.Outer)
		r.breaks(d.Plan.Breaks)
	}
	if err := r.refused(ctx, l, d, "redraft"); err != nil {
		return nil, err
	}
	more, err := r.draftOthers(ctx, r.p, change{home: s, draft: d, f: r.f, title: r.title, again: r})
	if err != nil {
		return nil, err
	}
	written := slices.Sorted(maps.Keys(r.p.Edited))
	files := r.swap(append(migrationsOf(d), more...))
	if err := files.write(); err != nil {
		return nil, errors.Join(err, files.back())
	}
	o := &outcome{live: l, draft: d, more: more, undone: was}
	if o.run, err = t.forward(ctx, d, to, began); err == nil {
		err = t.end(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, files.back())
	}
	if err := errors.Join(files.remove(), r.p.Save()); err != nil {
		return nil, err
	}
	for _, line := range r.lines {
		r.tell(line)
	}
	for _, path := range written {
		r.tell(r.out.sign("~", path))
	}
	r.outcome(o)
	for _, name := range others {
		if err := r.follow(ctx, name, d.Migration, to); err != nil {
			return nil, fmt.Errorf("%s has the new migration, and %s does not yet: %w", l.Name, name, err)
		}
		o.also = append(o.also, name)
	}
	return nil, r.outcomeDocument(o)
}

// notTakenBack tells why the old migrations could not be undone.
func (t *turn) notTakenBack(err error) error {
	var held *runner.InTheWay
	if !errors.As(err, &held) || t.json {
		return t.runFailed(t.l, err, 0)
	}
	t.inTheWay(held)
	for _, f := range migration.Forks(t.files, t.e) { // of two that forked, the other may do
		if other := map[string]string{f.First.ID: f.Second.ID, f.Second.ID: f.First.ID}[held.Migration]; other != "" {
			return fmt.Errorf(
				"%s cannot be undone with the existing rows, and nothing was changed. Change them, or let the other of the two follow it: erbario redraft %s. If that is applied, undo it first; the next apply restores its values",
				held.Migration, other)
		}
	}
	return fmt.Errorf(
		"%s cannot be undone with the existing rows, and nothing was changed. Change them, or write the change as a new migration with erbario draft TITLE",
		held.Migration,
	)
}

// forward hands what is kept over to the new migration, and applies it where the old ones
// were.
func (t *turn) forward(ctx context.Context, d *draft.Draft, to *draft.Handover, began time.Time) (run runner.Run,
	err error) {
	if t.l.absent { // also what was undone before has rows that are kept
		return run, nil
	}
	if err := t.hand(ctx, d.Migration, to); err != nil {
		return run, err
	}
	if len(t.gone) == 0 || d.Migration == nil {
		return run, nil
	}
	back, err := runner.ApplyOne(ctx, t.l.db, t.e, d.Migration, began,
		runner.Options{Home: true, Declared: true, Former: t.former(), Wait: time.Minute})
	if err != nil {
		err = t.runFailed(t.l, err, 0)
		if !d.Migration.Atomic() && !t.apart {
			err = fmt.Errorf(
				"%w; if one transaction cannot hold it, run erbario undo, delete its file, and draft it again",
				err,
			)
		}
		return run, err
	}
	return runner.Run{Migration: d.Migration, Took: time.Since(began), Restored: back}, nil
}

// others applies what waits of the other migrations, such as those that came with
// a merge, so that the new draft is made of what will be there.
func (t *turn) others(ctx context.Context) error {
	r, l := t.remaking, t.l
	applied, err := runner.History(ctx, l.db)
	if err != nil {
		return err
	}
	for _, m := range runner.StatusOf(r.rest, applied, r.e).Pending {
		began := time.Now()
		back, err := runner.ApplyOne(ctx, l.db, r.e, m, began,
			runner.Options{Answers: nil, Home: l.Throwaway, Wait: time.Minute})
		if err != nil {
			return r.runFailed(l, err, 0)
		}
		t.come = append(t.come, m)
		r.lines = append(r.lines,
			r.out.sign("+", m.ID)+"  "+plural(len(m.Steps), "step", "steps")+", "+spent(time.Since(began)))
		for _, b := range back {
			r.lines = append(
				r.lines,
				fmt.Sprintf("    %s of %s %s restored from what was kept", rows(b.Rows), b.Table,
					oneMany(int(b.Rows), "is", "are")),
			)
		}
	}
	return nil
}

// follow brings another database that goes together with the first to the same
// place.
func (r *remaking) follow(ctx context.Context, name string, m *migration.Migration, to *draft.Handover) (err error) {
	l, err := r.openWaiting(ctx, r.p, name, engine.ReadWrite, false, time.Minute)
	if err != nil {
		return err
	}
	defer l.Close()
	t, err := r.turnOn(ctx, l)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(unfit(err), t.back(ctx)) }()
	began := time.Now()
	r.lines = nil
	t.gone, err = draft.TakeBack(ctx, l.db, r.e, r.old)
	if err != nil || len(t.gone) == 0 {
		return err
	}
	if err := t.others(ctx); err != nil {
		return err
	}
	var run runner.Run
	if err := t.hand(ctx, m, to); err != nil {
		return err
	}
	if m != nil {
		back, err := runner.ApplyOne(ctx, l.db, r.e, m, began,
			runner.Options{Home: l.Throwaway, Declared: true, Former: r.former(), Wait: time.Minute})
		if err != nil {
			return r.runFailed(l, err, 0)
		}
		run = runner.Run{Migration: m, Restored: back}
	}
	if err := t.end(ctx); err != nil {
		return err
	}
	for _, line := range r.lines {
		r.tell(line)
	}
	r.tell(fmt.Sprintf("%s: the same, %s", name, spent(time.Since(began))))
	if m != nil {
		r.tellRestored(run)
	}
	return nil
}

// hand moves what the undo put aside to where the new migration looks for it; if
// there is none, to where nothing does.
func (t *turn) hand(ctx context.Context, m *migration.Migration, to *draft.Handover) error {
	db := t.l.db
	err := draft.Return(ctx, db, t.e, t.old, func(r draft.Returned) {
		t.returned = append(t.returned, r)
		if n := r.Rows; n > 0 {
			t.lines = append(
				t.lines,
				fmt.Sprintf("    %s of %s %s restored from what was kept", rows(n), r.Table.Name,
					oneMany(int(n), "is", "are")),
			)
		}
	})
	if err != nil {
		return err
	}
	if t.now = m; m != nil {
		to.Done = func(back func(context.Context) error) { t.handed = append(t.handed, back) }
		return to.Hand(ctx, db, t.e, t.old, m)
	}
	for _, o := range t.old {
		if err := runner.Retire(ctx, db, t.e, o); err != nil {
			return err
		}
	}
	return nil
}
