package runner

// This file runs the steps of a migration that is not one transaction.

import (
	"errors"
	"fmt"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// steps runs what is missing of one direction, each group in its turn.
func (s *stepwise) steps(apply bool) error {
	all := groups(s.bound.Steps)
	if !apply {
		slices.Reverse(all)
	}
	for _, group := range all {
		var todo []int
		for _, n := range group {
			if applied := slices.Contains(s.half.Done, n); apply && (!applied || s.half.Cut == n) ||
				!apply && (applied || s.half.Cut == n) {
				todo = append(todo, n)
			}
		}
		if !apply {
			slices.Reverse(todo)
		}
		if err := s.group(todo, apply); err != nil {
			return err
		}
	}
	return nil
}

// groups are the steps that run together: those of the migration's one transaction
// that follow each other, and each of the others by itself. Steps count from 1.
func groups(list []migration.Step) [][]int {
	var out [][]int
	for i, s := range list {
		if i > 0 && s.Kind == engine.InTransaction && list[i-1].Kind == engine.InTransaction {
			out[len(out)-1] = append(out[len(out)-1], i+1)
			continue
		}
		out = append(out, []int{i + 1})
	}
	return out
}

// group runs a few steps together.
func (s *stepwise) group(list []int, apply bool) error {
	if len(list) == 0 {
		return nil
	}
	switch s.bound.Steps[list[0]-1].Kind {
	case engine.OutsideTransaction:
		return s.outside(list[0], apply)
	case engine.InBatches:
		return s.batches(list[0], apply)
	}
	if !apply {
		if err := s.keepEarly(list); err != nil {
			return err
		}
	}
	err := s.inTurn(func() error {
		for _, n := range list {
			if err := s.one(n, apply); err != nil {
				return err
			}
			if err := s.mark(n, apply); err != nil {
				return err
			}
		}
		if err := s.db.CheckIntegrity(s.ctx); err != nil {
			return err
		}
		return s.db.Commit(s.ctx)
	})
	if err == nil {
		for _, n := range list {
			s.now(n, apply)
		}
	}
	return err
}

// now notes in memory that a step is applied, or no more.
func (s *stepwise) now(n int, applied bool) {
	s.half.Done = slices.DeleteFunc(s.half.Done, func(o int) bool { return o == n })
	if applied {
		s.half.Done = append(s.half.Done, n)
	}
	if s.half.Cut == n {
		s.half.Cut, s.half.Place, s.half.Until = 0, "", ""
	}
}

// mark notes in the journal that a step is applied, or no more.
func (s *stepwise) mark(n int, applied bool) error {
	if !s.note {
		return nil
	}
	if err := s.db.Exec(s.ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", s.m.ID, n); err != nil ||
		!applied {
		return err
	}
	return s.state(n, stateApplied, "")
}

func (s *stepwise) state(n int, state, place string) error {
	return s.db.Exec(s.ctx,
		"INSERT INTO erbario_journal (migration, step, state, at, session, text) VALUES (?, ?, ?, ?, ?, ?)", s.m.ID, n,
		state, nowText(), s.half.Session, place)
}

// change gives a step that is in the journal another state.
func (s *stepwise) change(n int, state, place string) error {
	return s.db.Exec(s.ctx, "UPDATE erbario_journal SET state = ?, at = ?, text = ? WHERE migration = ? AND step = ?",
		state, nowText(), place, s.m.ID, n)
}

// one runs one step of one direction inside the transaction that was begun.
func (s *stepwise) one(n int, apply bool) error {
	step := &s.bound.Steps[n-1]
	fail := func(sql string, err error) error {
		return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, SQL: sql, Err: err}
	}
	alone := *s.bound
	alone.Steps = []migration.Step{*step}
	list := step.Apply
	if !apply {
		list = step.Undo
		if step.NoUndo {
			return fail("", errors.New("the file has no undo for it"))
		}
	}
	if err := s.db.TrackIntegrity(s.ctx, alone.SQL(!apply), nil); err != nil {
		return fail("", err)
	}
	when, needs := fmt.Sprintf("step %d", n), step.Here
	if !apply {
		when, needs = "the undo of "+when, step.HereUndo
	}
	for _, r := range needs {
		if err := Ask(s.ctx, s.db, s.m.ID, when, r); err != nil {
			return err
		}
	}
	if !apply {
		for _, sql := range s.fills[n] {
			if err := s.db.Step(s.ctx, sql); err != nil {
				return fail(sql, err)
			}
		}
		if !s.keptEarly(n) {
			if err := archive(s.ctx, s.db, s.e, &alone); err != nil {
				return fail("", err)
			}
		}
		if err := keepRows(s.ctx, s.db, s.e, s.bound, step); err != nil {
			return fail("", err)
		}
	}
	for _, st := range list {
		if err := s.db.Step(s.ctx, st.SQL); err != nil {
			return fail(st.SQL, err)
		}
	}
	if apply {
		if err := restoreRows(s.ctx, s.db, s.e, s.bound, step, s.o); err != nil {
			return fail("", err)
		}
	}
	return nil
}

// outside runs a step outside of any transaction. It is noted before and after; where
// it was cut off, what is there tells how far it came.
func (s *stepwise) outside(n int, apply bool) error {
	step := &s.bound.Steps[n-1]
	start := 0
	if noted := s.noted; noted {
		s.noted = false
	} else if s.half.Cut == n {
		was := sqls(step.Apply)
		if s.half.Undoing {
			was = sqls(step.Undo)
		}
		done, err := reached(s.ctx, s.db, was, s.half.Place)
		switch {
		case err != nil:
			return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, Err: err}
		case s.half.Undoing != apply: // in the same direction
			start = done
		case done == 0: // nothing of the other direction is there
			if apply {
				if err := s.notKept(step); err != nil {
					return err
				}
			}
			return s.through(n, apply)
		default: // what was begun is brought to its end, and then turned
			if err := s.run(n, !apply, done); err != nil {
				return err
			}
		}
	}
	if s.half.Cut != n || s.half.Undoing == apply {
		if err := s.begun(n, apply); err != nil {
			return err
		}
	}
	if err := s.run(n, apply, start); err != nil {
		return err
	}
	return s.through(n, apply)
}

// begun notes that one direction of a step outside of any transaction begins, and what it
// touches. That is one statement, since none of the step's is in a transaction: there
// is no moment in which the journal does not know of the step.
func (s *stepwise) begun(n int, apply bool) error {
	list, state := sqls(s.bound.Steps[n-1].Apply), stateGoing
	if !apply {
		list, state = sqls(s.bound.Steps[n-1].Undo), stateUndoing
	}
	before, err := noteBefore(s.ctx, s.db, list)
	if err != nil {
		return err
	}
	if s.note {
		note := s.change
		if apply && s.half.Cut != n {
			note = s.state
		}
		if err := note(n, state, before); err != nil {
			return err
		}
	}
	s.half.Cut, s.half.Undoing, s.half.Place = n, !apply, before
	return nil
}

// through notes that a step outside of any transaction is applied, or no more. That the
// last one is applied is told by the end of the migration, and until then by what it
// touches.
func (s *stepwise) through(n int, applied bool) error {
	if s.note && !(applied && n == len(s.bound.Steps)) {
		end := func() error { return s.change(n, stateApplied, "") }
		if !applied {
			end = func() error { return s.mark(n, false) }
		}
		if err := end(); err != nil {
			return err
		}
	}
	s.now(n, applied)
	return nil
}

// run runs the statements of one direction of a step outside of any transaction, from
// the one at start on: what is asked or kept before it, under its lock.
func (s *stepwise) run(n int, apply bool, start int) (err error) {
	step := &s.bound.Steps[n-1]
	list, here, when := sqls(step.Apply), step.Here, fmt.Sprintf("step %d", n)
	if !apply {
		list, here, when = sqls(step.Undo), step.HereUndo, "the undo of "+when
	}
	fail := func(sql string, err error) error {
		return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, SQL: sql, Err: err}
	}
	if start == len(list) {
		return nil
	}
	unlock := func() error { return nil }
	if !apply && start == 0 && s.note && len(step.UndoLoses) == 0 {
		if err := s.noteNumbers(step); err != nil {
			return fail("", err)
		}
	}
	if !apply && start == 0 && len(step.UndoLoses) > 0 && !s.keptEarly(n) {
		ended, err := s.keepUnderLock(step, list)
		unlock = ended
		defer func() { err = errors.Join(err, ended()) }()
		if err != nil {
			return fail("", err)
		}
	}
	if start > 0 && engine.OnlyLocks(s.e.SQL(), list[0]) {
		if err := outside(s.ctx, s.db, list[0]); err != nil {
			return fail(list[0], err)
		}
	}
	asked := start > 0
	for _, sql := range list[start:] {
		if !asked && !engine.OnlyLocks(s.e.SQL(), sql) {
			asked = true
			for _, r := range here {
				if err := Ask(s.ctx, s.db, s.m.ID, when, r); err != nil {
					return errors.Join(err, unlock())
				}
			}
		}
		if err := outside(s.ctx, s.db, sql); err != nil {
			return fail(sql, err)
		}
	}
	return nil
}
