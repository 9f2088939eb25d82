package runner

// This file runs steps that go over a table in batches: some rows in the order of the
// key, each batch in a transaction of its own, so that nobody waits for more than a
// moment. The key that a batch ended with is in the journal, in that very
// transaction: a run that was cut off goes on behind it.

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"erbario/internal/engine"
)

// A batch has as many rows as are done in about the time that others may wait.
const (
	firstBatch   = 1000
	largestBatch = 50_000
	batchTime    = 30 * time.Millisecond
)

// batches runs one direction of a step in batches.
func (s *stepwise) batches(n int, apply bool) error {
	step := &s.bound.Steps[n-1]
	list, state := step.Apply, stateGoing
	if !apply {
		list, state = step.Undo, stateUndoing
	}
	switch turned := s.half.Cut == n && s.half.Undoing == apply; {
	case turned && s.half.Until != "": // the second turn: the first one ends before
		if err := s.batches(n, !apply); err != nil {
			return err
		}
		return s.batches(n, apply)
	case turned: // what was done of the other direction is all that this one has to do
		if s.half.Place == "" {
			err := s.inTurn(func() error {
				if err := s.mark(n, apply); err != nil {
					return err
				}
				return s.db.Commit(s.ctx)
			})
			if err != nil {
				return err
			}
			s.now(n, apply)
			return nil
		}
		s.half.Place, s.half.Until = "", s.half.Place
		if err := s.begins(n, state); err != nil {
			return err
		}
	case s.half.Cut != n:
		s.half.Place, s.half.Until = "", ""
		if err := s.begins(n, state); err != nil {
			return err
		}
	}
	s.half.Cut, s.half.Undoing = n, !apply
	w := newWalk(s, step.Batches)
	progress := engine.Progress{Table: step.Batches.Table}
	if s.o.Progress != nil && len(list) > 0 {
		total, err := s.db.Count(s.ctx, "SELECT 1 FROM "+w.table+" WHERE "+w.among())
		if err != nil {
			return err
		}
		progress.Total = total
	}
	for size, last := firstBatch, len(list) == 0; ; {
		place := ""
		var took time.Duration
		tries := 0
		err := s.inTurn(func() error {
			if tries++; tries > 1 { // fewer rows meet fewer locks of others
				size = max(size/4, 1)
			}
			which := w.behind()
			if len(list) > 0 {
				var err error
				if which, place, last, err = w.next(size); err != nil {
					return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, Err: err}
				}
			}
			began := time.Now()
			for _, st := range list {
				sql := s.e.SQL().Bind(st.SQL, map[string]string{engine.Batch: which})
				if err := s.db.Step(s.ctx, sql); err != nil {
					return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, SQL: sql, Err: err}
				}
			}
			took = time.Since(began)
			if last {
				if err := s.mark(n, apply); err != nil {
					return err
				}
			} else if s.note {
				if err := s.db.Exec(s.ctx, "UPDATE erbario_journal SET text = ?, at = ? WHERE migration = ? AND step = ?", place, nowText(), s.m.ID, n); err != nil {
					return err
				}
			}
			return s.db.Commit(s.ctx)
		})
		if err != nil {
			return err
		}
		w.done(size)
		if s.half.Place = place; last {
			if s.o.Progress != nil {
				progress.Done = progress.Total
				s.o.Progress(progress)
			}
			s.now(n, apply)
			return nil
		}
		if progress.Done += int64(size); s.o.Progress != nil {
			progress.Total = max(progress.Total, progress.Done)
			s.o.Progress(progress)
		}
		switch {
		case took < batchTime/2 && w.few == "": // a list of keys stays short
			size = min(2*size, largestBatch)
		case took > 2*batchTime:
			size = max(size/2, 1)
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
	}
}

// walk finds the rows of one batch after another.
type walk struct {
	s           *stepwise
	table, few  string
	keys, found []string // found: those of the few rows that are still to be done
	all         bool     // and behind them there are none
}

func newWalk(s *stepwise, b *engine.Batches) *walk {
	w := &walk{s: s, table: s.e.SQL().Quote(b.Table), few: b.Where}
	for _, k := range b.Key {
		w.keys = append(w.keys, w.table+"."+s.e.SQL().Quote(k))
	}
	return w
}

// behind is the condition of the rows that are still to be done.
func (w *walk) behind() string {
	var terms []string
	if w.s.half.Place != "" {
		terms = append(terms, w.s.e.SQL().CompareKey(w.keys, ">", w.s.half.Place))
	}
	if w.s.half.Until != "" {
		terms = append(terms, w.s.e.SQL().CompareKey(w.keys, "<=", w.s.half.Until))
	}
	return cmp.Or(strings.Join(terms, " AND "), "true")
}

// among is the same of those that the step is about.
func (w *walk) among() string {
	if w.few == "" {
		return w.behind()
	}
	return w.few + " AND " + w.behind()
}

// next is the condition of the next rows, of which place is the key of the last; "" where
// no rows are left behind them.
func (w *walk) next(size int) (which, place string, last bool, err error) {
	if w.few == "" {
		places, err := w.places(1, size-1)
		if err != nil || len(places) == 0 {
			return w.behind(), "", true, err
		}
		return w.behind() + " AND " + w.s.e.SQL().CompareKey(w.keys, "<=", places[0]), places[0], false, nil
	}
	if len(w.found) == 0 && !w.all { // without a lock on any row on the way
		if w.found, err = w.places(largestBatch, 0); err != nil {
			return "", "", false, err
		}
		w.all = len(w.found) < largestBatch
	}
	some := w.found[:min(size, len(w.found))]
	if last = w.all && len(some) == len(w.found); !last {
		place = some[len(some)-1]
	}
	if len(some) == 0 {
		return "false", "", true, nil
	}
	return fmt.Sprintf("(%s) IN (%s)", strings.Join(w.keys, ", "), strings.Join(some, ", ")), place, last, nil
}

// done tells that the rows of a batch of that size are done.
func (w *walk) done(size int) { w.found = w.found[min(size, len(w.found)):] }

// places are the keys of so many rows, behind as many others.
func (w *walk) places(limit, offset int) (out []string, err error) {
	rows, err := w.s.db.Sample(
		w.s.ctx,
		fmt.Sprintf("SELECT %[1]s FROM %[2]s WHERE %[3]s ORDER BY %[1]s LIMIT %[4]d OFFSET %[5]d",
			strings.Join(w.keys, ", "), w.table, w.among(), limit, offset),
		limit,
	)
	for _, v := range rows.Values {
		out = append(out, "("+strings.Join(v, ", ")+")")
	}
	return out, err
}

// begins notes that one direction of a step in batches begins at the first row.
func (s *stepwise) begins(n int, state string) error {
	if !s.note {
		return nil
	}
	return s.inTurn(func() error {
		if err := s.mark(n, false); err != nil {
			return err
		}
		if err := s.state(n, state, ""); err != nil {
			return err
		}
		if err := s.db.Exec(s.ctx, "UPDATE erbario_journal SET answers = ? WHERE migration = ? AND step = ?", s.half.Until, s.m.ID, n); err != nil {
			return err
		}
		return s.db.Commit(s.ctx)
	})
}
