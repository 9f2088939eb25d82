package runner

// This file runs steps that go over a table in batches: some rows in the order of the
// key, each batch in a transaction of its own, so that nobody waits for more than a
// moment. The key that a batch ended with stands in the journal, in that very
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
func (s *separate) batches(n int, apply bool) error {
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
	table := step.Batches.Table
	keys := make([]string, len(step.Batches.Key))
	for i, k := range step.Batches.Key {
		keys[i] = s.e.Quote(table) + "." + s.e.Quote(k)
	}
	behind := func() string {
		var terms []string
		if s.half.Place != "" {
			terms = append(terms, s.e.CompareKey(keys, ">", s.half.Place))
		}
		if s.half.Until != "" {
			terms = append(terms, s.e.CompareKey(keys, "<=", s.half.Until))
		}
		return cmp.Or(strings.Join(terms, " AND "), "true")
	}
	progress := engine.Progress{Table: table}
	if s.o.Progress != nil && len(list) > 0 {
		total, err := s.db.Count(s.ctx, "SELECT 1 FROM "+s.e.Quote(table)+" WHERE "+behind())
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
			which := behind()
			if len(list) > 0 {
				end, err := s.db.Sample(s.ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s ORDER BY %s LIMIT 1 OFFSET %d", strings.Join(keys, ", "), s.e.Quote(table), which, strings.Join(keys, ", "), size-1), 1)
				if err != nil {
					return &StepError{Migration: s.m.ID, Step: n, Title: step.Title, Err: err}
				}
				if last = len(end.Values) == 0; !last {
					place = "(" + strings.Join(end.Values[0], ", ") + ")"
					which += " AND " + s.e.CompareKey(keys, "<=", place)
				}
			}
			began := time.Now()
			for _, st := range list {
				sql := s.e.Bind(st.SQL, map[string]string{engine.Batch: which})
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
		case took < batchTime/2:
			size = min(2*size, largestBatch)
		case took > 2*batchTime:
			size = max(size/2, 1)
		}
		if err := s.ctx.Err(); err != nil {
			return err
		}
	}
}

// begins notes that one direction of a step in batches begins at the first row.
func (s *separate) begins(n int, state string) error {
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
