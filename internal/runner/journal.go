package runner

// This file runs migrations that are not one transaction: each step in one of its
// own, or outside of any, and noted in the journal, so that whatever happens the next
// run knows where it stands, and goes on or back from there. A step that fails has the
// finished ones undone, newest first.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
)

// The states of a step in the journal.
const (
	stateHead    = "head"
	stateApplied = "applied"
	stateGoing   = "being applied"
	stateUndoing = "being undone"
	stateFormer  = "being taken back" // stateUndoing, as earlier versions wrote it
	stateFailed  = "failed"           // a row beside the steps, with the error
)

// failedRow is the step under which the error stands.
const failedRow = -1

// stepwise is one migration that runs step by step.
type stepwise struct {
	ctx   context.Context
	db    engine.Database
	e     Engine
	m     *migration.Migration // whole
	bound *migration.Migration // with its parameters' values
	o     Options
	half  *Interrupted
	said  []string
	note  bool // in the journal
	noted bool // it is, that the first step begins
	// fills put values aside before the undo of a step, for the undo of others.
	fills map[int][]string
}

// stepByStep brings one migration forward step by step and records it. done tells that
// somebody else has applied it in the meantime.
func stepByStep(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, o Options,
	began time.Time) (skip bool, back []Restored, err error) {
	if err := db.Lock(ctx, o.Wait); err != nil {
		return false, nil, err
	}
	defer func() { err = errors.Join(err, db.Unlock(context.WithoutCancel(ctx))) }()
	s := &stepwise{ctx: ctx, db: db, e: e, m: m, o: o, note: true}
	sealing := false
	err = inTurn(ctx, db, o.Wait, func() error {
		sealing = false
		if err := o.owed.write(); err != nil {
			return err
		}
		if err := execAll(ctx, db, before(e, m, o.noted)); err != nil {
			return err
		}
		if !o.alone {
			there, err := db.Select(ctx, "SELECT 1 FROM erbario_history WHERE id = ?", m.ID)
			if err != nil {
				return err
			}
			if skip = len(there) > 0; skip {
				return db.Commit(ctx)
			}
		}
		values, said, err := answered(ctx, db, e, m, o)
		if err != nil {
			return err
		}
		s.bound, s.said = m.Bound(e, values, nil), said
		if err := MakeFound(ctx, db, s.bound); err != nil {
			return err
		}
		for _, r := range s.bound.BeforeApply {
			if r.Wait && !o.Waits {
				continue
			}
			if err := Ask(ctx, db, m.ID, "before apply", r); err != nil {
				return err
			}
		}
		if err := takePlace(ctx, db, e, m); err != nil {
			return err
		}
		if names, err := s.kept(); err != nil {
			return err
		} else if len(names) > 0 && len(refilled(m)) > 0 {
			list, err := ArchivedBy(ctx, db, m)
			if err != nil {
				return err
			}
			if sealing = len(list) > 0; sealing {
				return db.Commit(ctx)
			}
		}
		return s.begin()
	})
	if err == nil && sealing { // each by itself: a name that changes commits on some servers
		err = inTurn(ctx, db, o.Wait, func() error {
			if err := seal(ctx, db, e, m); err != nil {
				return err
			}
			return db.Commit(ctx)
		})
		if err == nil {
			err = inTurn(ctx, db, o.Wait, s.begin)
		}
	}
	if e := o.owed.settle(err == nil, err); e != nil {
		return false, nil, e
	}
	if err != nil || skip {
		return skip, nil, err
	}
	back, err = s.forward(began)
	return false, back, err
}

// owed is the end of a migration that waits for the transaction with which the next one
// begins: a commit costs such a server a good part of what a change of a table does. Until
// then the journal has the migration, and whoever reads that next finds its last step done.
type owed struct {
	s       *stepwise // nil: nothing is owed
	began   time.Time
	through func(m *migration.Migration, began time.Time) // told what is in the history
}

// owe leaves the end of the migration to the next one, where nothing but its record is
// missing and a next one follows.
func (s *stepwise) owe(began time.Time) (waits bool, err error) {
	if s.o.owed == nil || !s.o.more || s.half.Recorded {
		return false, nil
	}
	if kept, err := s.kept(); err != nil || len(kept) > 0 {
		return false, err
	}
	if err := reserveNumbers(s.ctx, s.db, s.m); err != nil {
		return false, err
	}
	s.o.owed.s, s.o.owed.began = s, began
	return true, nil
}

// write ends the migration inside the transaction that was begun.
func (w *owed) write() error {
	if w == nil || w.s == nil {
		return nil
	}
	_, err := w.s.record(w.began)
	return err
}

// settle is told whether what write did was committed, and what went wrong; if it was not, it
// ends the migration in a transaction of its own, also where a person stops the run: it has
// all that it asked for. A server that is lost leaves it to the next run.
func (w *owed) settle(committed bool, wrong error) error {
	if w == nil || w.s == nil {
		return nil
	}
	s := w.s
	w.s = nil
	if errors.Is(wrong, engine.ErrLost) {
		return s.left(wrong)
	}
	if !committed {
		ctx := s.ctx
		defer func() { s.ctx = ctx }()
		var stop func()
		s.ctx, stop = context.WithTimeout(context.WithoutCancel(ctx), engine.EndWait)
		defer stop()
		there, err := s.db.Select(s.ctx, "SELECT 1 FROM erbario_history WHERE id = ?",
			s.m.ID) // a change of a table may have committed it
		if err == nil && len(there) == 0 {
			_, err = s.end(w.began)
		}
		if err != nil {
			s.ctx = ctx
			return s.turn(err, false)
		}
	}
	w.through(s.m, w.began)
	return nil
}

// kept are the tables of values that are kept for the migration.
func (s *stepwise) kept() ([]string, error) {
	if !s.o.alone || len(s.m.Redrafts) > 0 || strings.Contains(s.m.Text, schema.KeptPrefix) {
		return s.db.Kept(s.ctx, s.m.Kept())
	}
	return slices.DeleteFunc(slices.Clone(s.o.kept), func(name string) bool {
		return !strings.HasPrefix(strings.ToLower(name), s.m.Kept())
	}), nil
}

// begin begins the journal, with the first step where it is one outside of any
// transaction: what is to be noted of that need not wait for a turn of its own.
func (s *stepwise) begin() error {
	if s.bound.Steps[0].Kind != engine.OutsideTransaction {
		if err := s.head(s.said); err != nil {
			return err
		}
		return s.db.Commit(s.ctx)
	}
	before, err := noteBefore(s.ctx, s.db, sqls(s.bound.Steps[0].Apply))
	if err != nil {
		return err
	}
	if err := s.head(s.said, before); err != nil {
		return err
	}
	s.half.Cut, s.half.Place, s.noted = 1, before, true
	return s.db.Commit(s.ctx)
}

// head begins the journal, with the first step if it is told what that touches.
func (s *stepwise) head(said []string, first ...string) error {
	s.half = &Interrupted{ID: s.m.ID, Text: s.m.Text}
	const row = "(?, ?, ?, ?, ?, ?, ?)"
	sql := "INSERT INTO erbario_journal (migration, step, state, at, session, text, answers) VALUES " + row
	args := []any{s.m.ID, 0, stateHead, nowText(), sessionOf(s.db), s.m.Text, strings.Join(said, "\n")}
	for _, place := range first {
		sql += ", " + row
		args = append(args, s.m.ID, 1, stateGoing, nowText(), "", place, nil)
	}
	return s.db.Exec(s.ctx, sql, args...)
}

func nowText() string { return time.Now().UTC().Format(time.DateTime) }

// forward goes on to the end, or back where a step fails.
func (s *stepwise) forward(began time.Time) ([]Restored, error) {
	err := s.steps(true)
	var back []Restored
	if err == nil {
		if waits, e := s.owe(began); waits || e != nil {
			err = e
		} else {
			back, err = s.end(began)
		}
		if err == nil {
			return back, nil
		}
	}
	return nil, s.turn(err, false)
}

// turn takes the finished steps back where one failed; to tells the direction to go.
// A run that was stopped, or has lost its server, leaves them to the next.
func (s *stepwise) turn(err error, to bool) error {
	if !to && s.untouched(err) {
		ctx := s.ctx
		var stop func()
		s.ctx, stop = context.WithTimeout(context.WithoutCancel(ctx), engine.EndWait)
		defer func() { stop(); s.ctx = ctx }()
	}
	if s.ctx.Err() != nil || errors.Is(err, engine.ErrLost) || s.o.Stop {
		return s.left(err)
	}
	if e := s.steps(to); e != nil {
		return s.left(fmt.Errorf("%w; and what was done cannot be undone: %w", err, e))
	}
	if to { // what the undo had taken away and kept is there again, and has its values back
		if _, e := s.end(time.Now()); e != nil {
			return s.left(errors.Join(err, e))
		}
		return err
	}
	e := s.inTurn(func() error {
		if e := settleKept(s.ctx, s.db, s.e, s.m, true); e != nil {
			return e
		}
		if e := s.forget(); e != nil {
			return e
		}
		return s.db.Commit(s.ctx)
	})
	if e != nil {
		return s.left(errors.Join(err, e))
	}
	return err
}

// untouched tells whether a person stopped the run while it waited for its first lock: then
// nothing has to be resumed, and the journal forgets it.
func (s *stepwise) untouched(err error) bool {
	if s.ctx.Err() == nil || errors.Is(err, engine.ErrLost) || s.o.Stop {
		return false
	}
	ctx, stop := context.WithTimeout(context.WithoutCancel(s.ctx), engine.EndWait)
	defer stop()
	h, e := FindInterrupted(ctx, s.db)
	return e == nil && h != nil && len(h.Done) == 0 && h.Cut <= 1 &&
		(h.Place == "" || s.m.Steps[0].Kind != engine.InBatches)
}

// left tells that the migration is left as it stands. With what the run ends is noted,
// if the server still takes it.
func (s *stepwise) left(err error) error {
	if !s.note || errors.Is(err, engine.ErrLost) {
		return &InterruptedError{Half: s.half, Err: err}
	}
	ctx := context.WithoutCancel(s.ctx)
	if s.db.Exec(ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", s.m.ID, failedRow) == nil {
		_ = s.db.Exec(ctx,
			"INSERT INTO erbario_journal (migration, step, state, at, session, text) VALUES (?, ?, ?, ?, ?, ?)", s.m.ID,
			failedRow, stateFailed, nowText(), s.half.Session, err.Error())
	}
	if h, e := FindInterrupted(ctx, s.db); e == nil && h != nil {
		s.half = h
	}
	return &InterruptedError{Half: s.half, Err: err}
}

func (s *stepwise) forget() error {
	return s.db.Exec(s.ctx, "DELETE FROM erbario_journal WHERE migration = ?", s.m.ID)
}

func (s *stepwise) inTurn(f func() error) error { return inTurn(s.ctx, s.db, s.o.Wait, f) }

// end records what is applied, in a transaction of its own.
func (s *stepwise) end(began time.Time) (back []Restored, err error) {
	if s.note {
		if err := reserveNumbers(s.ctx, s.db, s.m); err != nil {
			return nil, err
		}
	}
	err = s.inTurn(func() (err error) {
		if back, err = s.record(began); err != nil {
			return err
		}
		return s.db.Commit(s.ctx)
	})
	return back, err
}

// record records what is applied inside the transaction that was begun: values that were
// kept come back, the history gets its row, and the journal forgets the migration.
func (s *stepwise) record(began time.Time) (back []Restored, err error) {
	kept, err := s.kept()
	if err != nil {
		return nil, err
	}
	count, settle := func() ([]Restored, error) { return nil, nil }, func() error { return nil }
	if len(kept) > 0 {
		if count, err = restoring(s.ctx, s.db, s.e, s.m, false); err != nil {
			return nil, err
		}
		after, err := restore(s.ctx, s.db, s.e, s.m)
		if err != nil {
			return nil, err
		}
		if after != nil {
			settle = after
		}
	}
	if err := dropFormer(s.ctx, s.db, s.e, s.m, s.o.Former); err != nil {
		return nil, err
	}
	if err := s.db.CheckIntegrity(s.ctx); err != nil {
		return nil, err
	}
	if err := settle(); err != nil {
		return nil, err
	}
	if s.o.Stayed != nil {
		if err := stayed(s.ctx, s.db, s.e, s.m, s.o.Stayed); err != nil {
			return nil, err
		}
	}
	if back, err = count(); err != nil || !s.note {
		return back, err
	}
	if !s.half.Recorded {
		if err := followRenames(s.ctx, s.db, s.e, s.m, false); err != nil {
			return nil, err
		}
		if err := record(s.ctx, s.db, s.m, s.said, time.Since(began)); err != nil {
			return nil, err
		}
	}
	return back, s.forget()
}

func sqls(list []migration.Statement) []string {
	out := make([]string, len(list))
	for i, st := range list {
		out[i] = st.SQL
	}
	return out
}

// separatelyBack takes one applied migration back step by step.
func separatelyBack(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) (back []Restored, err error) {
	if err := undoable(m); err != nil {
		return nil, err
	}
	if err := db.Lock(ctx, o.Wait); err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, db.Unlock(context.WithoutCancel(ctx))) }()
	bound, err := ForUndo(e, m, o.Answers)
	if err != nil {
		return nil, err
	}
	if o.Revive {
		bound = reviving(bound)
	}
	s := &stepwise{ctx: ctx, db: db, e: e, m: m, bound: bound, o: o, note: true}
	err = inTurn(ctx, db, o.Wait, func() error {
		if err := newest(ctx, db, m); err != nil {
			return err
		}
		if err := db.Exec(ctx, e.OwnTables().Journal); err != nil {
			return err
		}
		for _, r := range bound.BeforeUndo {
			if err := Ask(ctx, db, m.ID, "before undo", r); err != nil {
				return err
			}
		}
		if err := s.head(nil); err != nil {
			return err
		}
		for n := range bound.Steps {
			if err := s.state(n+1, stateApplied, ""); err != nil {
				return err
			}
			s.half.Done = append(s.half.Done, n+1)
		}
		s.half.Recorded = true
		return db.Commit(ctx)
	})
	if err != nil {
		return nil, err
	}
	if err := s.steps(false); err != nil {
		return nil, s.turn(err, true)
	}
	return s.gone()
}

// gone strikes a migration that was undone from the history.
func (s *stepwise) gone() (back []Restored, err error) {
	err = s.inTurn(func() error {
		count, err := restoring(s.ctx, s.db, s.e, s.m, true)
		if err != nil {
			return err
		}
		if err := settleKept(s.ctx, s.db, s.e, s.m, true); err != nil {
			return err
		}
		if back, err = count(); err != nil {
			return err
		}
		if s.note {
			if err := followRenames(s.ctx, s.db, s.e, s.m, true); err != nil {
				return err
			}
			if err := s.db.Exec(s.ctx, "DELETE FROM erbario_history WHERE id = ?", s.m.ID); err != nil {
				return err
			}
			if err := s.forget(); err != nil {
				return err
			}
		}
		return s.db.Commit(s.ctx)
	})
	if err != nil {
		return nil, s.left(err)
	}
	return back, nil
}

// StepByStep runs one direction of a migration that is not one transaction, step by
// step, without history: on scratch, where a proof wants to know what it does.
func StepByStep(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, undo bool) error {
	s := &stepwise{ctx: ctx, db: db, e: e, m: m, bound: m.Bound(e, nil, nil), half: &Interrupted{ID: m.ID}}
	needs, when := s.bound.BeforeApply, "before apply"
	if undo {
		needs, when = s.bound.BeforeUndo, "before undo"
		for n := range s.bound.Steps {
			s.half.Done = append(s.half.Done, n+1)
		}
	}
	err := s.inTurn(func() error {
		if !undo {
			if err := MakeFound(ctx, db, s.bound); err != nil {
				return err
			}
		}
		for _, r := range needs {
			if r.Wait {
				continue // nobody works there
			}
			if err := Ask(ctx, db, m.ID, when, r); err != nil {
				return err
			}
		}
		return db.Commit(ctx)
	})
	if err != nil {
		return err
	}
	if err := s.steps(!undo); err != nil {
		return err
	}
	if undo {
		_, err = s.gone()
	} else {
		_, err = s.end(time.Now())
	}
	return err
}
