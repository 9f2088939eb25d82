package runner

// This file is a migration that stopped between two steps: what the journal tells of it, and going on from there.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// Interrupted is a migration under way, or one that was cut off.
type Interrupted struct {
	ID       string
	Text     string
	Session  string // of the run that began it
	Since    string
	Answers  []string // as table.column = value
	Done     []int    // the steps that are applied, from 1
	Cut      int      // the step that was under way; 0: none
	Undoing  bool     // that step was being undone
	Place    string   // the key behind which that step has yet to go over rows, as SQL
	Until    string   // the key up to which it has to, as SQL; empty: to the end
	Recorded bool     // it is in the history: it was being undone
	Error    string   // what the run that began it ended with, where it could still say so
}

// Next is the step at which the migration stands, from 1: the one that was cut off, or
// else the one that comes next in the direction in which it went; 0: none.
func (h *Interrupted) Next() int {
	if h.Cut > 0 {
		return h.Cut
	}
	if h.Recorded {
		return slices.Max(append([]int{0}, h.Done...))
	}
	n := 1
	for slices.Contains(h.Done, n) {
		n++
	}
	return n
}

// InterruptedError says that a migration was left between two steps.
type InterruptedError struct {
	Half *Interrupted
	Err  error
}

func (e *InterruptedError) Error() string { return e.Err.Error() }

func (e *InterruptedError) Unwrap() error { return e.Err }

// Stopped says that a migration was left halfway, so that nothing else can be done
// before it is at an end.
type Stopped struct{ Half *Interrupted }

func (e *Stopped) Error() string {
	return fmt.Sprintf("%s was interrupted on %s (%s): erbario apply resumes it, erbario undo rolls it back", e.Half.ID,
		e.Half.Since, e.Half.Where())
}

// Where tells in words how far the migration is.
func (h *Interrupted) Where() string {
	total := strings.Count(h.Text, "-- : step ")
	s := fmt.Sprintf("%d of %d steps are applied", len(h.Done), total)
	if h.Cut > 0 {
		s += fmt.Sprintf(", step %d was interrupted", h.Cut)
	}
	return s
}

// FindInterrupted reads the journal: the migration that was left halfway, or nil.
func FindInterrupted(ctx context.Context, db engine.Database) (*Interrupted, error) {
	there, err := db.Kept(ctx, "erbario_journal")
	if err != nil || !slices.Contains(there, "erbario_journal") {
		return nil, err
	}
	rows, err := db.Select(ctx,
		"SELECT migration, step, state, at, session, text, answers FROM erbario_journal ORDER BY step")
	if err != nil || len(rows) == 0 {
		return nil, err
	}
	h := &Interrupted{}
	for _, r := range rows {
		n, _ := strconv.Atoi(r[1])
		switch r[2] {
		case stateHead:
			h.ID, h.Text, h.Session, h.Since = r[0], r[5], r[4], r[3]
			if r[6] != "" {
				h.Answers = strings.Split(r[6], "\n")
			}
		case stateApplied:
			h.Done = append(h.Done, n)
		case stateFailed:
			h.Error = r[5]
		default:
			h.Cut, h.Undoing, h.Place, h.Until = n, r[2] == stateUndoing || r[2] == stateFormer, r[5], r[6]
			if h.Undoing {
				h.Done = append(h.Done, n)
			}
		}
	}
	if h.ID == "" {
		return nil, errors.New("the journal has steps of a migration but not its text: check erbario_journal")
	}
	there2, err := db.Select(ctx, "SELECT 1 FROM erbario_history WHERE id = ?", h.ID)
	h.Recorded = len(there2) > 0
	return h, err
}

// RefuseInterrupted gives a *Stopped where a migration was left halfway, for all that can do nothing
// before it is at an end.
func RefuseInterrupted(ctx context.Context, db engine.Database, e Engine) error {
	if !e.Caps().Journal {
		return nil
	}
	half, err := FindInterrupted(ctx, db)
	if err == nil && half != nil {
		err = &Stopped{Half: half}
	}
	return err
}

// resume goes on with a migration that was left halfway, forward or back. It waits
// until nothing of the run that began it is left on the server.
func resume(ctx context.Context, db engine.Database, e Engine, o Options,
	apply bool) (m *migration.Migration, back []Restored, err error) {
	if err := db.Lock(ctx, o.Wait); err != nil {
		return nil, nil, err
	}
	defer func() { err = errors.Join(err, db.Unlock(context.WithoutCancel(ctx))) }()
	half, err := endOfSession(ctx, db, o.Wait)
	if err != nil || half == nil {
		return nil, nil, err
	}
	if m, err = migration.Parse("journal of "+half.ID, half.Text, e); err != nil {
		return nil, nil, fmt.Errorf("the text of %s in the journal cannot be read: %w", half.ID, err)
	}
	o.Answers = map[string]string{}
	for _, a := range half.Answers {
		if name, value, ok := strings.Cut(a, " = "); ok {
			o.Answers[name] = value
		}
	}
	values, said := map[string]string{}, half.Answers
	for _, x := range m.Parameters {
		if raw, ok := o.Answers[x.For]; ok && !x.Undo {
			if values[x.For], err = literal(e, x, raw); err != nil {
				return nil, nil, err
			}
		}
	}
	s := &stepwise{
		ctx:   ctx,
		db:    db,
		e:     e,
		m:     m,
		bound: m.Bound(e, values, nil),
		o:     o,
		half:  half,
		said:  said,
		note:  true,
	}
	if err := db.Exec(ctx, "UPDATE erbario_journal SET session = ? WHERE migration = ? AND step = 0", sessionOf(db),
		half.ID); err != nil {
		return nil, nil, err
	}
	if err := db.Exec(ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", half.ID,
		failedRow); err != nil {
		return nil, nil, err
	}
	if apply {
		if err := s.steps(true); err != nil {
			return m, nil, s.turn(err, half.Recorded)
		}
		back, err = s.end(time.Now())
		if err != nil {
			err = s.left(err)
		}
		return m, back, err
	}
	if err := s.steps(false); err != nil {
		return m, nil, s.left(err)
	}
	if half.Recorded {
		back, err = s.gone()
		return m, back, err
	}
	if err := s.inTurn(func() error {
		if err := settleKept(ctx, db, s.e, m, true); err != nil {
			return err
		}
		if err := s.forget(); err != nil {
			return err
		}
		return db.Commit(ctx)
	}); err != nil {
		return m, nil, s.left(err)
	}
	return m, nil, nil
}

// endOfSession waits until nothing of an interrupted run is active any more, and returns what
// it left; nil: it has come to its end since. What was there before we had the lock may have
// done so, and that run may wait for us.
func endOfSession(ctx context.Context, db engine.Database, wait time.Duration) (*Interrupted, error) {
	deadline := time.Now().Add(max(wait, time.Second))
	for {
		half, err := FindInterrupted(ctx, db)
		if err != nil || half == nil {
			return nil, err
		}
		gone, err := SessionEnded(ctx, db, half.Session)
		if err != nil {
			return nil, err
		}
		if gone || half.Session == sessionOf(db) {
			return FindInterrupted(ctx, db) // its last word may have come through
		}
		if time.Now().After(deadline) {
			return nil, fmt.Errorf(
				"the run that began %s is still active on the server (process %s): wait for it; --wait gives it longer",
				half.ID, strings.Fields(half.Session)[0])
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
