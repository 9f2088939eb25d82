package runner

// This file runs migrations, forward and back.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// Engine is what running migrations needs of an engine.
type Engine interface {
	Name() string
	Caps() engine.Caps
	OwnTables() engine.OwnTables
	SQL() engine.Dialect
	DDL() engine.Compiler
	Scripts() engine.Scripter
	Scratch(ctx context.Context) (engine.Database, error)
}

// Options say how far to go, and what to tell on the way.
type Options struct {
	To     string // forward: the last to apply; back: the one that stays; a part of its name
	Start  bool   // back: all of them
	Count  int    // back: so many; 0 with neither To nor Start: one
	Wait   time.Duration
	Proved bool // only migrations that are proved may run
	// Answers are the values of parameters, as people type them, by table.column.
	Answers map[string]string
	// Progress is told how far a step in batches is.
	Progress func(engine.Progress)
	// Home lets a parameter that nobody answered have the value that it had where
	// the migration was drafted.
	Home bool
	// Revive lets an undo bring deleted rows back: what it takes away is about to
	// be put back.
	Revive bool
	// Declared gives reference rows that an undo kept the values that are declared
	// now, since the migration is not the one that was undone. Otherwise they
	// come back as people left them.
	Declared bool
	// Former are reference rows that the migrations inserted in whose place this one
	// comes, and that are no longer declared: they came back with the rest, and go.
	Former []engine.StepRows
	// Confirm is asked before an undo runs a text that only the database has.
	Confirm func(a Applied) error
	// Stayed is told the reference rows that a migration did not take out, since
	// others refer to them.
	Stayed func(table string, keys []string)
	// Room makes room for a migration before its first step, in its transaction where it
	// has one; nil: none is needed.
	Room func(m *migration.Migration) error
	// Done is told each migration that is through.
	Done func(Run)

	// Stop leaves the finished steps of a migration where one of them failed.
	Stop bool
	// Resumed is told that a migration that was left halfway came to its end.
	Resumed func(m *migration.Migration, applied bool)

	// Answered is told for how many rows a value is that was given for a column, before the
	// migration that asks for it begins.
	Answered func(column string, rows int64)

	// Waits has migrations wait for what time may mend; else that is not asked.
	Waits bool

	begun, noted bool // the table of history is there, and that of the journal
	// alone is set where nobody else can have applied anything since the run began; kept
	// are the tables of kept values that there were then.
	alone bool
	kept  []string
	// owed takes the end of a migration that is not one transaction, which can wait for the
	// next; more tells that one follows that can take it along.
	owed *owed
	more bool
}

// Run is a migration that is through.
type Run struct {
	*migration.Migration
	Took     time.Duration
	Restored []Restored // what was put back
}

// InTheWay says which rows stand against a requirement.
type InTheWay struct {
	Migration string
	When      string // before apply, before undo, or step 3
	Sentence  string // with the number in it
	Query     string
	Count     int64
	Sample    engine.Rows
	Wait      bool // time may mend it
	// Ungiven are the columns, as table.column, for whose rows an undo can be told a value.
	Ungiven []string
}

func (e *InTheWay) Error() string {
	return fmt.Sprintf("%s (%s): nothing was changed", e.Sentence, e.When)
}

// StepError says which step failed, and why.
type StepError struct {
	Migration string
	Step      int // from 1; 0: none, but the end of the migration
	Title     string
	SQL       string
	Err       error
}

func (e *StepError) Error() string {
	if e.Step == 0 {
		return fmt.Sprintf("%s: %v", e.Migration, e.Err)
	}
	return fmt.Sprintf("%s, step %d (%s): %v", e.Migration, e.Step, e.Title, e.Err)
}

func (e *StepError) Unwrap() error { return e.Err }

// Ask asks one requirement; it returns nil, an *InTheWay, or what went wrong.
func Ask(ctx context.Context, db engine.Database, m string, when string, r engine.Requirement) error {
	n, sample, err := engine.InTheWay(ctx, db, r.Query)
	if err != nil {
		return fmt.Errorf("%s, %s: the query of a requirement failed: %w", m, when, err)
	}
	if n == 0 {
		return nil
	}
	return &InTheWay{
		Migration: m,
		When:      when,
		Sentence:  Sentence(r.Sentence, n),
		Query:     r.Query,
		Count:     n,
		Sample:    sample,
		Wait:      r.Wait,
		Ungiven:   r.Ungiven,
	}
}

// Sentence puts the number into a requirement's sentence.
func Sentence(s string, n int64) string {
	if n == 1 {
		s = strings.NewReplacer("{n} rows of", "1 row of", "{n} sessions wrote", "1 session wrote", "{n} values of", "1 value of", "{n} columns of", "1 column of", " were added ", " was added ", " do not ", " does not ", " are ", " is ", " would have ", " would have ", " have ", " has ", " refer to ", " refers to ", " break the ", " breaks the ", " stand in ", " stands in ", " occur in ", " occurs in ", " depend on ", " depends on ", " use ", " uses ", "{n} triggers", "1 trigger", "{n} references", "1 reference").
			Replace(s)
	}
	return strings.ReplaceAll(s, "{n}", words.Thousands(n))
}

// Apply brings a database forward. It returns the migrations that were applied
// and stands at the boundary of a migration whatever happens.
func Apply(ctx context.Context, db engine.Database, e Engine, files []*migration.Migration,
	o Options) (done []*migration.Migration, err error) {
	if _, err := finish(ctx, db, e, o, true); err != nil {
		return nil, err
	}
	applied, err := History(ctx, db)
	if err != nil {
		return nil, err
	}
	s := StatusOf(files, applied, e)
	if err := s.Problem(); err != nil {
		return nil, err
	}
	todo, err := upTo(s.Pending, files, o.To)
	if err != nil {
		return nil, err
	}
	if err := unwritten(todo); err != nil {
		return nil, err
	}
	if err := runnable(todo, e, o.Proved); err != nil {
		return nil, err
	}
	if err := checkPermissions(ctx, db, e, todo, false); err != nil {
		return nil, err
	}
	through := func(m *migration.Migration, began time.Time, back []Restored) {
		done = append(done, m)
		if o.Done != nil {
			o.Done(Run{m, time.Since(began), back})
		}
	}
	if e.Caps().CommitsChanges && len(todo) > 1 { // one lock for all of them
		if err := db.Lock(ctx, o.Wait); err != nil {
			return nil, err
		}
		defer func() { err = errors.Join(err, db.Unlock(context.WithoutCancel(ctx))) }()
		if o.kept, err = db.Kept(ctx, schema.KeptPrefix); err != nil {
			return nil, err
		}
		if o.Room == nil {
			o.owed = &owed{through: func(m *migration.Migration, began time.Time) { through(m, began, nil) }}
			defer func() {
				if e := o.owed.settle(false, err); e != nil {
					err = e
				}
			}()
		}
	}
	for i, m := range todo {
		began := time.Now()
		var skip bool
		var back []Restored
		if !m.Atomic() {
			if err := makeRoom(ctx, db, e, m, o); err != nil {
				return done, err
			}
			o.more = i+1 < len(todo) && !todo[i+1].Atomic()
			if skip, back, err = stepByStep(ctx, db, e, m, o, began); err != nil {
				return done, already(ctx, db, e, m, err)
			}
		} else if err := inTurn(ctx, db, o.Wait, func() (err error) {
			if skip, back, err = Forward(ctx, db, e, m, began, o); err == nil && skip { // somebody else applied it while we waited
				err = db.Rollback()
			}
			return err
		}); err != nil {
			return done, already(ctx, db, e, m, err)
		}
		if skip {
			continue
		}
		o.begun, o.noted = true, o.noted || !m.Atomic()
		o.alone = e.Caps().CommitsChanges // since it looked into the history under the lock that it has
		if o.owed == nil || o.owed.s == nil {
			through(m, began, back)
		}
	}
	return done, nil
}

// inTurn runs f in a transaction under the lock. Where f meets a lock of somebody
// else's, all of it is undone and tried again: nobody waits behind us for long.
func inTurn(ctx context.Context, db engine.Database, wait time.Duration, f func() error) error {
	deadline := time.Now().Add(wait)
	for pause := 50 * time.Millisecond; ; pause = min(2*pause, time.Second) {
		if err := db.Begin(ctx, max(time.Until(deadline), 0)); err != nil {
			return err
		}
		err := f()
		if err == nil {
			return nil
		}
		if e := db.Rollback(); e != nil {
			return errors.Join(err, e)
		}
		if !errors.Is(err, engine.ErrBusy) || time.Now().Add(pause).After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(pause + rand.N(pause)):
		}
	}
}

func runnable(list []*migration.Migration, e Engine, proved bool) error {
	for _, m := range list {
		if proved && !m.Proved() {
			return fmt.Errorf(
				"%s is not proved in its present form, and the database is protected: prove it first with erbario prove %s",
				m.ID, m.ID)
		}
		if !m.Atomic() && !e.Caps().Journal {
			return fmt.Errorf(
				"%s has a step outside the migration's transaction, which %s does not support: remove the words in brackets",
				m.ID, m.Engine)
		}
	}
	return nil
}

// checkPermissions refuses migrations for which the user lacks a right, before anything is done. What
// is applied has to have its way back, too.
func checkPermissions(ctx context.Context, db engine.Database, e Engine, list []*migration.Migration,
	undo bool) error {
	asked, ok := engine.As[engine.PermissionChecker](db)
	if !ok {
		return nil
	}
	var statements []string
	for _, m := range list {
		statements = append(statements, m.SQL(undo)...)
		if !undo {
			statements = append(statements, m.SQL(true)...)
		}
		for _, table := range refilled(m) { // what an undo would lose, it keeps
			if strings.Contains(table, ".") && !e.Caps().Schemas {
				continue // a column: its table is named, too
			}
			statements = append(statements,
				"CREATE TABLE "+e.SQL().QuoteTable(keptByUndo(m, table))+" AS SELECT * FROM "+e.SQL().QuoteTable(table))
		}
	}
	barred, err := asked.MissingPermissions(ctx, statements)
	if err == nil && len(barred) > 0 {
		err = fmt.Errorf("nothing was done: %s", strings.Join(barred, "; "))
	}
	return err
}

// unwritten refuses a step in which nothing is written yet: once it is applied, filling it
// in comes too late.
func unwritten(list []*migration.Migration) error {
	for _, m := range list {
		for i, s := range m.Steps {
			if s.Empty() && (m.ByHand || m.ByPerson(&s)) { // a drafted one may have nothing left to do
				return fmt.Errorf(
					"step %d of %s (%s) is empty: nothing was changed. Write its apply and its undo into %s, or delete the file",
					i+1, m.ID, s.Title, cmp.Or(m.Path, m.ID))
			}
		}
	}
	return nil
}

// Forward applies one migration inside the transaction that was begun, and
// commits it. skip tells that somebody else has applied it in the meantime.
func Forward(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, began time.Time,
	o Options) (skip bool, back []Restored, err error) {
	if !o.begun {
		if err := execAll(ctx, db, e.OwnTables().History); err != nil {
			return false, nil, err
		}
	}
	there, err := db.Select(ctx, "SELECT 1 FROM erbario_history WHERE id = ?", m.ID)
	if err != nil {
		return false, nil, err
	}
	if len(there) > 0 {
		return true, nil, nil
	}
	if o.Room != nil {
		if err := o.Room(m); err != nil {
			return false, nil, err
		}
	}
	if back, err = into(ctx, db, e, m, began, o); err != nil {
		return false, nil, err
	}
	return false, back, db.Commit(ctx)
}

// together is a migration with all its steps in one transaction, for a database where
// nobody else is at work: what is built beside others is built as usual, and a batch is
// all rows.
func together(e Engine, m *migration.Migration) *migration.Migration {
	if m.Atomic() {
		return m
	}
	out := *m
	out.Steps = slices.Clone(m.Steps)
	for i := range out.Steps {
		s := &out.Steps[i]
		inside := func(list []migration.Statement) []migration.Statement {
			list = slices.Clone(list)
			for i := range list {
				switch s.Kind {
				case engine.OutsideTransaction:
					list[i].SQL = engine.Transactional(e, list[i].SQL)
				case engine.InBatches:
					list[i].SQL = e.SQL().Bind(list[i].SQL, map[string]string{engine.Batch: "true"})
				}
			}
			return list
		}
		s.Apply, s.Undo, s.Batches = inside(s.Apply), inside(s.Undo), nil
		s.Kind = engine.InTransaction
	}
	return &out
}

// Once applies one migration and records it: in one transaction, where the engine has
// any such.
func Once(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	o Options) (back []Restored, err error) {
	began := time.Now()
	if e.Caps().CommitsChanges {
		return ApplyOne(ctx, db, e, m, began, o)
	}
	if err := db.Begin(ctx, o.Wait); err != nil {
		return nil, err
	}
	if _, back, err = Forward(ctx, db, e, m, began, o); err != nil {
		return nil, errors.Join(err, db.Rollback())
	}
	return back, nil
}

// ApplyOne applies one migration and records it, inside the transaction that was
// begun, and leaves that open. Where changes of tables commit by themselves there is none,
// and its steps are in the journal.
func ApplyOne(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, began time.Time,
	o Options) ([]Restored, error) {
	if e.Caps().CommitsChanges {
		if !m.Atomic() {
			_, back, err := stepByStep(ctx, db, e, m, o, began)
			return back, err
		}
		var back []Restored
		err := inTurn(ctx, db, o.Wait, func() (err error) {
			_, back, err = Forward(ctx, db, e, m, began, o)
			return err
		})
		return back, err
	}
	return into(ctx, db, e, m, began, o)
}

func into(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, began time.Time,
	o Options) ([]Restored, error) {
	if err := execAll(ctx, db, e.OwnTables().Named(m.Text)); err != nil {
		return nil, err
	}
	values, said, err := answered(ctx, db, e, m, o)
	if err != nil {
		return nil, err
	}
	if err := takePlace(ctx, db, e, m); err != nil {
		return nil, err
	}
	count, err := restoring(ctx, db, e, m, false)
	if err != nil {
		return nil, err
	}
	if err := steps(ctx, db, e, together(e, m.Bound(e, values, nil)), false, o); err != nil {
		return nil, err
	}
	if err := dropFormer(ctx, db, e, m, o.Former); err != nil {
		return nil, err
	}
	if o.Stayed != nil {
		if err := stayed(ctx, db, e, m, o.Stayed); err != nil {
			return nil, err
		}
	}
	back, err := count()
	if err != nil {
		return nil, err
	}
	if err := followRenames(ctx, db, e, m, false); err != nil {
		return nil, err
	}
	return back, record(ctx, db, m, said, time.Since(began))
}

// Steps runs the steps of one direction, with their requirements, inside a
// transaction that was begun, and leaves it open.
func Steps(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, undo bool) error {
	return steps(ctx, db, e, m, undo, Options{})
}

func steps(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, undo bool,
	o Options) error {
	p := &pass{ctx: ctx, db: db, e: e, m: m.Bound(e, nil, nil), undo: undo, o: o}
	if err := p.before(); err != nil {
		return err
	}
	for i := range p.m.Steps {
		n := i
		if undo {
			n = len(p.m.Steps) - 1 - i
		}
		if err := p.step(n); err != nil {
			return err
		}
	}
	return p.after()
}

// pass is the run of a migration, or of its undo, in one transaction.
type pass struct {
	ctx  context.Context
	db   engine.Database
	e    Engine
	m    *migration.Migration
	undo bool
	o    Options
}

// before does what comes before the first step: it takes the locks, asks the requirements under
// them, and keeps what an undo destroys.
func (p *pass) before() error {
	when, needs := "before apply", p.m.BeforeApply
	var tables []string
	if p.undo {
		when, needs = "before undo", p.m.BeforeUndo
	} else {
		if err := MakeFound(p.ctx, p.db, p.m); err != nil {
			return err
		}
		if tables = refilled(p.m); len(tables) > 0 {
			kept, err := p.db.Kept(p.ctx, p.m.Kept()+"undo_")
			if err != nil {
				return err
			}
			if len(kept) == 0 {
				tables = nil
			}
		}
	}
	if err := p.db.TrackIntegrity(p.ctx, p.m.SQL(p.undo), tables); err != nil {
		return err
	}
	for _, r := range needs {
		if r.Wait && !p.o.Waits {
			continue
		}
		if err := Ask(p.ctx, p.db, p.m.ID, when, r); err != nil {
			return err
		}
	}
	if p.undo {
		return archive(p.ctx, p.db, p.e, p.m)
	}
	return nil
}

// step runs the n-th step.
func (p *pass) step(n int) error {
	step := &p.m.Steps[n]
	fail := func(sql string, err error) error {
		return &StepError{Migration: p.m.ID, Step: n + 1, Title: step.Title, SQL: sql, Err: err}
	}
	list, needs, when := step.Apply, step.Here, fmt.Sprintf("step %d", n+1)
	if p.undo {
		list, needs, when = step.Undo, step.HereUndo, "the undo of "+when
	}
	for _, r := range needs {
		if err := Ask(p.ctx, p.db, p.m.ID, when, r); err != nil {
			return err
		}
	}
	if p.undo {
		if err := keepRows(p.ctx, p.db, p.e, p.m, step); err != nil {
			return fail("", err)
		}
		if step.NoUndo {
			return fail("", errors.New("the file has no undo for it"))
		}
	}
	for _, st := range list {
		if err := p.db.Step(p.ctx, st.SQL); err != nil {
			return fail(st.SQL, err)
		}
	}
	if !p.undo {
		if err := restoreRows(p.ctx, p.db, p.e, p.m, step, p.o); err != nil {
			return fail("", err)
		}
	}
	return nil
}

// after restores what was kept, and checks what holds together.
func (p *pass) after() error {
	settle := func() error { return settleKept(p.ctx, p.db, p.e, p.m, true) }
	if !p.undo {
		after, err := restore(p.ctx, p.db, p.e, p.m)
		if err != nil {
			return err
		}
		settle = after
	}
	if err := p.db.CheckIntegrity(p.ctx); err != nil {
		return &StepError{Migration: p.m.ID, Err: err}
	}
	if settle == nil {
		return nil
	}
	return settle()
}
