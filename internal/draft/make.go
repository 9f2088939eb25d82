package draft

// This file makes a draft: a plan becomes a migration, is proved and gets its head.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// planned is the migration of a plan.
func planned(id string, form int, e runner.Engine, p *plan.Plan) *migration.Migration {
	m := &migration.Migration{
		ID:          id,
		Form:        form,
		Engine:      e.Name(),
		Parameters:  p.Parameters,
		BeforeApply: p.BeforeApply,
		BeforeUndo:  p.BeforeUndo,
		Schemas:     p.Schemas,
	}
	for _, f := range p.Found {
		m.Found = append(m.Found,
			migration.Found{Table: f.Table, Column: f.Column, Beside: f.Beside, Kind: f.Kind, Make: statements(f.Make)})
	}
	for _, st := range p.Steps {
		m.Steps = append(m.Steps, migration.Step{
			Title:     st.Title,
			Kind:      st.Kind,
			Work:      st.Work,
			Note:      cmp.Or(st.Note, st.Work.String()),
			Loses:     st.Loses,
			Kept:      st.Kept,
			UndoLoses: st.UndoLoses,
			Here:      st.Here,
			HereUndo:  st.HereUndo,
			Batches:   st.Batches,
			Rows:      st.Rows,
			Objects:   st.Objects,
			Apply:     statements(st.Apply),
			Undo:      statements(st.Undo),
		})
	}
	return m
}

// Request is what a draft is made of.
type Request struct {
	Title   string
	Answers plan.Answers
	Said    []string // the answers as flags, for the file's head
	Now     time.Time
	Rows    bool     // rows of the live database may be taken to the proof
	NoKeep  bool     // what goes is not kept
	Carried bool     // the answers were given to an earlier draft: those that answer nothing now are left out
	ID      string   // the id to have; empty: a new one
	Form    int      // of the file; 0: the newest
	Order   []string // tables whose columns are to stand as declared, though they are copied for it
	// LeaveBroken: what is declared in SQL, and not changed, or not declared at all may name what the
	// migration takes away.
	LeaveBroken bool
	Plain       []string // tables that are changed in the simple way, in use or not
	Steps       []HandStep
	// Redrafts are the ids of the migrations that are drafted again.
	Redrafts []string
}

// Draft is the outcome: a migration, or why there is none.
type Draft struct {
	Plan      *plan.Plan
	Migration *migration.Migration // nil: there is nothing to draft, or something is to be asked
	Outcome   *proof.Outcome
	InTheWay  []plan.InTheWay // rows of the live database that the migration would stop at
	Barred    []string        // what the user of the connection has no right to do of it
}

// Make drafts the migration that closes the difference. Nothing is written.
func (s *State) Make(ctx context.Context, r Request) (*Draft, error) {
	if newer := s.Status.Newer; len(newer) > 0 {
		return nil, fmt.Errorf(
			"%s is applied here and has no file in this checkout, so a draft would follow a migration that others do not have. Restore its file first, or undo it with erbario undo (the database has its text)",
			newer[len(newer)-1],
		)
	}
	id := cmp.Or(r.ID, s.NextID(r.Now, r.Title))
	p, err := s.plan(ctx, id, r)
	if err != nil {
		return nil, err
	}
	d := &Draft{Plan: p}
	if len(s.Status.Pending) == 0 { // else those that wait may see to them first
		d.InTheWay = p.InTheWay
	}
	if len(p.Questions) > 0 || len(p.Steps)+len(r.Steps) == 0 {
		return d, nil
	}
	if len(p.Breaks) > 0 && !r.LeaveBroken {
		return nil, &BreaksError{p.Breaks}
	}
	m := planned(id, r.Form, s.Engine, p)
	for _, old := range r.Redrafts {
		if old != id && !slices.Contains(m.Redrafts, old) {
			m.Redrafts = append(m.Redrafts, old)
		}
	}
	m.Follows, m.Answers = s.Last(), s.said(r.Said, p.Unused)
	for i := range m.Steps {
		m.Drafted = append(m.Drafted, m.Sum(&m.Steps[i]))
	}
	if err := carry(m, r.Steps); err != nil {
		return nil, err
	}
	// The file is what is proved: it is written and read again.
	if m, err = migration.Parse(m.FileName(), migration.Write(m), s.Engine); err != nil {
		return nil, fmt.Errorf("the draft cannot be read again, which is a bug in erbario: %w", err)
	}
	if s.unreached {
		d.Migration = m
		m.Text = migration.WithHead(m)
		return d, nil
	}
	in := proof.Input{Engine: s.Engine, Start: s.Upcoming, Wanted: s.Wanted, Ignore: p.Undeclared,
		More: len(r.Steps) > 0, Migration: m}
	live, done, err := s.rowsToTry(ctx, r.Rows)
	if err != nil {
		return nil, err
	}
	defer done()
	in.Live = live
	if s.sql != nil {
		in.Objects, in.Declared, in.Attached = s.sql.changes, s.sql.wanted, s.attachedBefore()
	}
	if d.Outcome, err = proof.Prove(ctx, in); err != nil {
		return nil, err
	}
	d.Migration = m
	if err := s.permissions(ctx, d); err != nil {
		return nil, err
	}
	if !d.Outcome.Proved() {
		return d, nil
	}
	m.SetProof(d.Outcome.Sentence())
	if err := s.fingerprints(ctx, m, d.Outcome.After); err != nil {
		return nil, err
	}
	m.Text = migration.WithHead(m)
	return d, nil
}

// permissions looks for what the user of the database has no right to do.
func (s *State) permissions(ctx context.Context, d *Draft) error {
	db, ok := engine.As[engine.PermissionChecker](s.DB)
	if !ok {
		return nil
	}
	var err error
	m := d.Migration
	if d.Barred, err = db.MissingPermissions(ctx, append(m.SQL(false), m.SQL(true)...)); err != nil {
		return err
	}
	byRole := slices.ContainsFunc(s.Wanted.Tables, func(t *sqlschema.Table) bool {
		return t.Declared != nil && t.Declared.GuardRole != "" &&
			slices.ContainsFunc(d.Plan.Changes, func(c diff.Change) bool { return c.Table == t.Name })
	})
	if byRole && len(d.Barred) > 0 { // a guard that cannot ask would let nobody delete anything
		return errors.New(strings.Join(d.Barred, "; ") + ": nothing was written")
	}
	return nil
}

func statements(list []string) []migration.Statement {
	out := make([]migration.Statement, len(list))
	for i, sql := range list {
		out[i] = migration.Statement{SQL: sql}
	}
	return out
}

// fingerprints notes what the migrations make before this one and with it; proved is what the proof of this one
// came to.
func (s *State) fingerprints(ctx context.Context, m *migration.Migration, proved *sqlschema.Schema) error {
	made, err := s.Made(ctx)
	if err != nil {
		return err
	}
	line, err := s.line()
	if err != nil {
		return err
	}
	m.Before = sqlschema.Fingerprint(made)
	was, is := s.ofMigrations(line, s.Upcoming), s.ofMigrations(append(line, m), proved)
	began := len(m.Found) == 0 && m.Before == sqlschema.Fingerprint(was) // the proof, from just that
	rest, now := besides(s.Upcoming, was, proved), besides(proved, is, s.Upcoming)
	if began && sqlschema.Fingerprint(rest) == sqlschema.Fingerprint(now) {
		m.After = sqlschema.Fingerprint(is)
		return nil
	}
	m.After, err = s.after(ctx, m)
	return err
}

// besides is what a schema has besides a part of it, without what another has as the very same value.
func besides(s, part, other *sqlschema.Schema) *sqlschema.Schema {
	tables, views, others := map[*sqlschema.Table]bool{}, map[*sqlschema.View]bool{}, map[*sqlschema.Other]bool{}
	for _, o := range []*sqlschema.Schema{part, other} {
		for _, t := range o.Tables {
			tables[t] = true
		}
		for _, v := range o.Views {
			views[v] = true
		}
		for _, x := range o.Others {
			others[x] = true
		}
	}
	out := &sqlschema.Schema{}
	for _, t := range s.Tables {
		if !tables[t] {
			out.Tables = append(out.Tables, t)
		}
	}
	for _, v := range s.Views {
		if !views[v] {
			out.Views = append(out.Views, v)
		}
	}
	for _, x := range s.Others {
		if !others[x] {
			out.Others = append(out.Others, x)
		}
	}
	return out
}

// after is the fingerprint of what the migrations make with this one behind
// them.
func (s *State) after(ctx context.Context, m *migration.Migration) (string, error) {
	made, err := s.Made(ctx)
	if err != nil {
		return "", err
	}
	cannot := false
	out, left, err := proof.After(ctx, s.Engine, made, nil, []*migration.Migration{m}, func(db engine.Database) error {
		err := proof.Run(ctx, db, s.Engine, m, false)
		cannot = err != nil
		return err
	})
	if e := s.lacks(left); e != nil {
		return "", e
	}
	if cannot {
		// The live database has more than the migrations made, and the change
		// needs it: then the live state is the measure.
		return sqlschema.Fingerprint(s.Wanted), nil
	}
	if err != nil {
		return "", err
	}
	return sqlschema.Fingerprint(out), nil
}

// sample gives a few live rows to a proof.
func (s *State) sample(ctx context.Context) func(string, int) (engine.Rows, error) {
	return func(table string, limit int) (engine.Rows, error) {
		t := s.Live.Table(table)
		if t == nil {
			return engine.Rows{}, nil
		}
		names := proof.Stored(t, s.Engine)
		if names == "" {
			return engine.Rows{}, nil
		}
		return s.DB.Sample(ctx, "SELECT "+names+" FROM "+s.Engine.SQL().QuoteTable(t.Name), limit)
	}
}

// Last is the newest migration, applied or waiting; "" for none.
func (s *State) Last() string {
	last := s.Status.At()
	for _, m := range s.Status.Files {
		last = max(last, m.ID)
	}
	return last
}

// NextID is the id for a new migration: the time in UTC, but never before the
// newest there is.
func (s *State) NextID(now time.Time, title string) string {
	const form = "20060102T150405"
	stamp := now.UTC().Format(form)
	if last, _, _ := strings.Cut(s.Last(), "-"); stamp <= last {
		if t, err := time.Parse(form, last); err == nil {
			stamp = t.Add(time.Second).Format(form)
		}
	}
	return stamp + "-" + migration.Slug(title)
}

// ByHand is a migration to fill in.
func (s *State) ByHand(r Request) *migration.Migration {
	m := &migration.Migration{
		ID:      cmp.Or(r.ID, s.NextID(r.Now, r.Title)),
		Engine:  s.Engine.Name(),
		Follows: s.Last(),
		ByHand:  true,
		Proof:   "not proved: fill it in, then run erbario prove",
	}
	m.Steps = []migration.Step{{Title: words.OneLine(r.Title)}}
	migration.Write(m)
	return m
}
