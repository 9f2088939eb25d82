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
	"erbario/internal/migration"
)

// A batch has as many rows as are done in about the time that others may wait.
const (
	firstBatch   = 1000
	largestBatch = 50_000
	batchTime    = 30 * time.Millisecond
)

// batches runs one direction of a step in batches.
func (s *stepwise) batches(n int, apply bool) error {
	state := stateGoing
	if !apply {
		state = stateUndoing
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
	b := &batchRun{stepwise: s, n: n, apply: apply, step: &s.bound.Steps[n-1], size: firstBatch}
	b.list = b.step.Apply
	if !apply {
		b.list = b.step.Undo
	}
	return b.run()
}

// batchRun is a step in batches as it runs.
type batchRun struct {
	*stepwise
	n     int
	apply bool
	step  *migration.Step
	list  []migration.Statement
	walk  *walk
	size  int // rows of the next batch
}

func (b *batchRun) run() error {
	b.walk = newWalk(b.stepwise, b.step.Batches)
	progress := engine.Progress{Table: b.step.Batches.Table}
	report := func() {
		if b.o.Progress != nil {
			b.o.Progress(progress)
		}
	}
	if b.o.Progress != nil && len(b.list) > 0 {
		total, err := b.db.Count(b.ctx, "SELECT 1 FROM "+b.walk.table+" WHERE "+b.walk.among())
		if err != nil {
			return err
		}
		progress.Total = total
	}
	for {
		place, last, took, err := b.one()
		if err != nil {
			return err
		}
		b.walk.done(b.size)
		if b.half.Place = place; last {
			progress.Done = progress.Total
			report()
			b.now(b.n, b.apply)
			return nil
		}
		progress.Done += int64(b.size)
		progress.Total = max(progress.Total, progress.Done)
		report()
		switch {
		case took < batchTime/2 && b.walk.few == "": // a list of keys stays short
			b.size = min(2*b.size, largestBatch)
		case took > 2*batchTime:
			b.size = max(b.size/2, 1)
		}
		if err := b.ctx.Err(); err != nil {
			return err
		}
	}
}

// one runs one batch, and notes up to where it went.
func (b *batchRun) one() (place string, last bool, took time.Duration, err error) {
	tries := 0
	last = len(b.list) == 0
	err = b.inTurn(func() error {
		if tries++; tries > 1 { // fewer rows meet fewer locks of others
			b.size = max(b.size/4, 1)
		}
		which := b.walk.behind()
		if len(b.list) > 0 {
			var err error
			if which, place, last, err = b.walk.next(b.size); err != nil {
				return &StepError{Migration: b.m.ID, Step: b.n, Title: b.step.Title, Err: err}
			}
		}
		began := time.Now()
		for _, st := range b.list {
			sql := b.e.SQL().Bind(st.SQL, map[string]string{engine.Batch: which})
			if err := b.db.Step(b.ctx, sql); err != nil {
				return &StepError{Migration: b.m.ID, Step: b.n, Title: b.step.Title, SQL: sql, Err: err}
			}
		}
		took = time.Since(began)
		if last {
			if err := b.mark(b.n, b.apply); err != nil {
				return err
			}
		} else if b.note {
			if err := b.db.Exec(b.ctx,
				"UPDATE erbario_journal SET text = ?, at = ? WHERE migration = ? AND step = ?",
				place, nowText(), b.m.ID, b.n); err != nil {
				return err
			}
		}
		return b.db.Commit(b.ctx)
	})
	return place, last, took, err
}

// walk finds the rows of one batch after another.
type walk struct {
	s           *stepwise
	table, few  string
	keys, found []string // found: those of the few rows that are still to be done
	all         bool     // and behind them there are none
}

func newWalk(s *stepwise, b *engine.Batches) *walk {
	w := &walk{s: s, table: s.e.SQL().QuoteTable(b.Table), few: b.Where}
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
