package runner

// This file runs migrations that are not one transaction: each step in one of its
// own, or outside of any, and noted in the journal, so that whatever happens the next
// run knows where it stands, and goes on or back from there. A step that fails has the
// finished ones taken back, newest first.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/schema"
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
	Undoing  bool     // that step was being taken back
	Place    string   // the key behind which that step has yet to go over rows, as SQL
	Until    string   // the key up to which it has to, as SQL; empty: to the end
	Recorded bool     // it stands in the history: it was being taken back
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

// HalfError says that a migration was left between two steps.
type HalfError struct {
	Half *Interrupted
	Err  error
}

func (e *HalfError) Error() string { return e.Err.Error() }
func (e *HalfError) Unwrap() error { return e.Err }

// Stopped says that a migration was left half-way, so that nothing else can be done
// before it is at an end.
type Stopped struct{ Half *Interrupted }

func (e *Stopped) Error() string {
	return fmt.Sprintf("%s was interrupted on %s (%s): erbario apply resumes it, erbario undo rolls it back", e.Half.ID, e.Half.Since, e.Half.Where())
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

// Halfway reads the journal: the migration that was left half-way, or nil.
func Halfway(ctx context.Context, db engine.Database) (*Interrupted, error) {
	there, err := db.Kept(ctx, "erbario_journal")
	if err != nil || !slices.Contains(there, "erbario_journal") {
		return nil, err
	}
	rows, err := db.Select(ctx, "SELECT migration, step, state, at, session, text, answers FROM erbario_journal ORDER BY step")
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

// Whole gives a *Stopped where a migration was left half-way, for all that can do nothing
// before it is at an end.
func Whole(ctx context.Context, db engine.Database, e engine.Engine) error {
	if !e.Caps().Journal {
		return nil
	}
	half, err := Halfway(ctx, db)
	if err == nil && half != nil {
		err = &Stopped{Half: half}
	}
	return err
}

// stepwise is one migration that runs step by step.
type stepwise struct {
	ctx   context.Context
	db    engine.Database
	e     engine.Engine
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
func stepByStep(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, o Options, began time.Time) (skip bool, back []Restored, err error) {
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
		if !o.noted {
			for _, sql := range append(e.OwnTables().History, e.OwnTables().Journal) {
				if err := db.Exec(ctx, sql); err != nil {
					return err
				}
			}
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
		there, err := s.db.Select(s.ctx, "SELECT 1 FROM erbario_history WHERE id = ?", s.m.ID) // a change of a table may have committed it
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
	h, e := Halfway(ctx, s.db)
	return e == nil && h != nil && len(h.Done) == 0 && h.Cut <= 1 && (h.Place == "" || s.m.Steps[0].Kind != engine.InBatches)
}

// left tells that the migration is left as it stands. With what the run ends is noted,
// if the server still takes it.
func (s *stepwise) left(err error) error {
	if !s.note || errors.Is(err, engine.ErrLost) {
		return &HalfError{Half: s.half, Err: err}
	}
	ctx := context.WithoutCancel(s.ctx)
	if s.db.Exec(ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", s.m.ID, failedRow) == nil {
		_ = s.db.Exec(ctx, "INSERT INTO erbario_journal (migration, step, state, at, session, text) VALUES (?, ?, ?, ?, ?, ?)", s.m.ID, failedRow, stateFailed, nowText(), s.half.Session, err.Error())
	}
	if h, e := Halfway(ctx, s.db); e == nil && h != nil {
		s.half = h
	}
	return &HalfError{Half: s.half, Err: err}
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
	count := func() ([]Restored, error) { return nil, nil }
	if len(kept) > 0 {
		if count, err = restoring(s.ctx, s.db, s.e, s.m, false); err != nil {
			return nil, err
		}
		if err := restore(s.ctx, s.db, s.e, s.m); err != nil {
			return nil, err
		}
	}
	if err := dropFormer(s.ctx, s.db, s.e, s.m, s.o.Former); err != nil {
		return nil, err
	}
	if err := s.db.CheckIntegrity(s.ctx); err != nil {
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

// steps runs what is missing of one direction, each group in its turn.
func (s *stepwise) steps(apply bool) error {
	all := groups(s.bound.Steps)
	if !apply {
		slices.Reverse(all)
	}
	for _, group := range all {
		var todo []int
		for _, n := range group {
			if applied := slices.Contains(s.half.Done, n); apply && (!applied || s.half.Cut == n) || !apply && (applied || s.half.Cut == n) {
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
	if err := s.db.Exec(s.ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", s.m.ID, n); err != nil || !applied {
		return err
	}
	return s.state(n, stateApplied, "")
}

func (s *stepwise) state(n int, state, place string) error {
	return s.db.Exec(s.ctx, "INSERT INTO erbario_journal (migration, step, state, at, session, text) VALUES (?, ?, ?, ?, ?, ?)", s.m.ID, n, state, nowText(), s.half.Session, place)
}

// change gives a step that stands in the journal another state.
func (s *stepwise) change(n int, state, place string) error {
	return s.db.Exec(s.ctx, "UPDATE erbario_journal SET state = ?, at = ?, text = ? WHERE migration = ? AND step = ?", state, nowText(), place, s.m.ID, n)
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
// touches. That is one statement, since none of the step's stands in a transaction: there
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

// before gives the step before whose undo the values are kept that the undo of step n
// destroys: what is kept is what was there before any step of the undo changed rows of the
// table. 0: none does before step n itself. Steps count from 1.
func (s *stepwise) before(n int) int {
	var tables []string
	for _, name := range s.bound.Steps[n-1].UndoLoses {
		tables = append(tables, strings.ToLower(name))
		if i := strings.LastIndexByte(name, '.'); i > 0 {
			tables = append(tables, strings.ToLower(name[:i]))
		}
	}
	if len(tables) == 0 {
		return 0
	}
	for m := len(s.bound.Steps); m > n; m-- {
		step := &s.bound.Steps[m-1]
		if step.Kind != engine.InTransaction && step.Kind != engine.OwnTransaction || len(step.Rows) > 0 { // reference rows are kept by themselves
			continue
		}
		for _, st := range step.Undo {
			list := s.e.SQL().Lex(st.SQL)
			if !sqltext.ChangesRows(list) {
				continue
			}
			t := sqltext.Touches(list, nil)
			if t.Unsure != "" || slices.ContainsFunc(t.Tables, func(name string) bool { return slices.Contains(tables, strings.ToLower(name)) }) {
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
			s.fills[m] = append(append(s.fills[m], "DELETE FROM "+s.e.SQL().Quote(a.kept)), a.fills...)
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
	for _, name := range step.UndoLoses {
		table := name
		if i := strings.LastIndexByte(name, '.'); i > 0 {
			table = name[:i]
		}
		rows, err := s.db.Sample(s.ctx, "SELECT 1 FROM "+s.e.SQL().Quote(table), 1)
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
		fills = append(append(fills, "DELETE FROM "+s.e.SQL().Quote(a.kept)), a.fills...)
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
	if !slices.ContainsFunc(step.UndoLoses, func(name string) bool { return !strings.Contains(name, ".") }) {
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
	for _, name := range step.UndoLoses {
		table, column := name, ""
		if i := strings.LastIndexByte(name, '.'); i > 0 {
			table, column = name[:i], name[i+1:]
		}
		for _, n := range openNames(s.m, table) {
			if !slices.Contains(names, n) {
				continue
			}
			of, err := s.db.Sample(s.ctx, "SELECT * FROM "+s.e.SQL().Quote(n), 1)
			if err != nil {
				return err
			}
			if column != "" && !slices.Contains(of.Columns, column) {
				continue // of another step
			}
			if err := s.db.Exec(s.ctx, "DELETE FROM "+s.e.SQL().Quote(n)); err != nil {
				return err
			}
		}
	}
	return nil
}

func sqls(list []migration.Statement) []string {
	out := make([]string, len(list))
	for i, st := range list {
		out[i] = st.SQL
	}
	return out
}

// separatelyBack takes one applied migration back step by step.
func separatelyBack(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, o Options) (back []Restored, err error) {
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

// gone strikes a migration that was taken back from the history.
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

// resume goes on with a migration that was left half-way, forward or back. It waits
// until nothing of the run that began it is left on the server.
func resume(ctx context.Context, db engine.Database, e engine.Engine, o Options, apply bool) (m *migration.Migration, back []Restored, err error) {
	if err := db.Lock(ctx, o.Wait); err != nil {
		return nil, nil, err
	}
	defer func() { err = errors.Join(err, db.Unlock(context.WithoutCancel(ctx))) }()
	var half *Interrupted
	deadline := time.Now().Add(max(o.Wait, time.Second))
	for {
		// What was there before we had the lock may have come to its end since, and that
		// run may wait for us.
		if half, err = Halfway(ctx, db); err != nil || half == nil {
			return nil, nil, err
		}
		gone, err := Gone(ctx, db, half.Session)
		if err != nil {
			return nil, nil, err
		}
		if gone || half.Session == sessionOf(db) {
			break
		}
		if time.Now().After(deadline) {
			return nil, nil, fmt.Errorf("the run that began %s is still active on the server (process %s): wait for it; --wait gives it longer", half.ID, strings.Fields(half.Session)[0])
		}
		select {
		case <-ctx.Done():
			return nil, nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
	if half, err = Halfway(ctx, db); err != nil || half == nil { // its last word came through
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
	s := &stepwise{ctx: ctx, db: db, e: e, m: m, bound: m.Bound(e, values, nil), o: o, half: half, said: said, note: true}
	if err := db.Exec(ctx, "UPDATE erbario_journal SET session = ? WHERE migration = ? AND step = 0", sessionOf(db), half.ID); err != nil {
		return nil, nil, err
	}
	if err := db.Exec(ctx, "DELETE FROM erbario_journal WHERE migration = ? AND step = ?", half.ID, failedRow); err != nil {
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
	if !half.Recorded {
		e := s.inTurn(func() error {
			if err := settleKept(ctx, db, s.e, m, true); err != nil {
				return err
			}
			if err := s.forget(); err != nil {
				return err
			}
			return db.Commit(ctx)
		})
		if e != nil {
			return m, nil, s.left(e)
		}
		return m, nil, nil
	}
	back, err = s.gone()
	return m, back, err
}

// StepByStep runs one direction of a migration that is not one transaction, step by
// step, without history: on scratch, where a proof wants to know what it does.
func StepByStep(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, undo bool) error {
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
