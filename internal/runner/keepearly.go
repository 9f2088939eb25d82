package runner

// This file keeps what the undo of steps destroys, where each step commits by itself.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
)

// before gives the step before whose undo the values are kept that the undo of step n
// destroys: what is kept is what was there before any step of the undo changed rows of the
// table. 0: none does before step n itself. Steps count from 1.
func (s *stepwise) before(n int) int {
	var tables []string
	for _, l := range s.bound.Steps[n-1].UndoLoses {
		for _, table := range l.Tables() {
			tables = append(tables, strings.ToLower(table))
		}
	}
	if len(tables) == 0 {
		return 0
	}
	for m := len(s.bound.Steps); m > n; m-- {
		step := &s.bound.Steps[m-1]
		if step.Kind != engine.InTransaction && step.Kind != engine.OwnTransaction ||
			len(step.Rows) > 0 { // reference rows are kept by themselves
			continue
		}
		for _, st := range step.Undo {
			list := s.e.SQL().Lex(st.SQL)
			if !sqltext.ChangesRows(list) {
				continue
			}
			t := sqltext.Touches(list, nil)
			if t.Unsure != "" || slices.ContainsFunc(t.Tables,
				func(name string) bool { return slices.Contains(tables, strings.ToLower(name)) }) {
				return m
			}
		}
	}
	return 0
}

// keptEarly tells whether the undo of a step finds what it destroys kept already.
func (s *stepwise) keptEarly(n int) bool { return s.before(n) > 0 }

// keepEarly makes the tables into which the undo of some steps is to put values first, for
// the sake of others that destroy them. It is done before any transaction, which a new
// table ends on some servers; the values are put aside in the transaction of the undo.
func (s *stepwise) keepEarly(list []int) error {
	s.fills = map[int][]string{}
	for n := range s.bound.Steps {
		m := s.before(n + 1)
		if m == 0 || !slices.Contains(list, m) {
			continue
		}
		alone := *s.bound
		alone.Steps = []migration.Step{s.bound.Steps[n]}
		live, err := s.db.Inspect(s.ctx)
		if err != nil {
			return err
		}
		keep, err := archives(live, rowsOf(s.ctx, s.db, s.e), s.e, &alone)
		if err != nil {
			return err
		}
		for _, a := range keep {
			for _, sql := range a.makes {
				if err := s.db.Exec(s.ctx, sql); err != nil {
					return err
				}
			}
			s.fills[m] = append(append(s.fills[m], "DELETE FROM "+s.e.SQL().QuoteTable(a.kept)), a.fills...)
		}
	}
	return nil
}

// keepUnderLock keeps what the undo of a step outside of any transaction destroys, and
// lets nobody else at it until that is done.
func (s *stepwise) keepUnderLock(step *migration.Step, list []string) (ended func() error, err error) {
	ended = func() error { return nil }
	if s.note {
		if err := s.noteNumbers(step); err != nil {
			return ended, err
		}
	}
	some := false // rows, of which something could be lost
	for _, l := range step.UndoLoses {
		rows, err := s.db.Sample(s.ctx, "SELECT 1 FROM "+s.e.SQL().QuoteTable(l.Table), 1)
		if some = some || err != nil || len(rows.Values) > 0; some {
			break
		}
	}
	if !some {
		return ended, nil
	}
	alone := *s.bound
	alone.Steps = []migration.Step{*step}
	live, err := s.db.Inspect(s.ctx)
	if err != nil {
		return ended, err
	}
	keep, err := archives(live, rowsOf(s.ctx, s.db, s.e), s.e, &alone)
	if err != nil || len(keep) == 0 {
		return ended, err
	}
	var tables, fills []string
	for _, a := range keep {
		for _, sql := range a.makes { // before the lock: it commits
			if err := s.db.Exec(s.ctx, sql); err != nil {
				return ended, err
			}
		}
		tables = append(tables, a.table, a.kept)
		fills = append(append(fills, "DELETE FROM "+s.e.SQL().QuoteTable(a.kept)), a.fills...)
	}
	unlock, err := lockTables(s.ctx, s.db, tables, list)
	if err != nil {
		return ended, err
	}
	ended = unlock
	for _, sql := range fills {
		if err := outside(s.ctx, s.db, sql); err != nil {
			return ended, err
		}
	}
	return ended, nil
}

// noteNumbers notes the next numbers of the tables that the undo of a step drops.
func (s *stepwise) noteNumbers(step *migration.Step) error {
	makes := slices.ContainsFunc(step.Objects, func(o engine.StepObject) bool { return makesSequence(*step, o) })
	if !makes && !slices.ContainsFunc(step.UndoLoses, func(l engine.Loss) bool { return l.Column == "" }) {
		return nil
	}
	live, err := s.db.Inspect(s.ctx)
	if err != nil {
		return err
	}
	alone := *s.m
	alone.Steps = []migration.Step{*step}
	return noteNumbers(s.ctx, s.db, live, &alone)
}

// notKept takes away what was kept for the undo of a step that was not begun: its values
// are where they were.
func (s *stepwise) notKept(step *migration.Step) error {
	names, err := s.db.Kept(s.ctx, s.m.Kept()+"undo_")
	if err != nil {
		return err
	}
	for _, l := range step.UndoLoses {
		table, column := l.Table, l.Column
		for _, n := range openNames(s.m, table) {
			if !slices.Contains(names, n) {
				continue
			}
			of, err := s.db.Sample(s.ctx, "SELECT * FROM "+s.e.SQL().QuoteTable(n), 1)
			if err != nil {
				return err
			}
			if column != "" && !slices.Contains(of.Columns, column) {
				continue // of another step
			}
			if err := s.db.Exec(s.ctx, "DELETE FROM "+s.e.SQL().QuoteTable(n)); err != nil {
				return err
			}
		}
	}
	return nil
}
