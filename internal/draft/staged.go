package draft

// This file drafts a change as a staged pair: two migrations, each planned, proved and
// written like any other, with a schema between them with which the application before
// the change and the one behind it can both work.

import (
	"context"
	"fmt"
	"slices"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/runner"
)

// Staged drafts the migration that closes the difference as two: the second waits until
// nobody has written as before for so long. Where something is to be asked, or is in
// the way, there is no second draft.
func (s *State) Staged(ctx context.Context, r Request, wait time.Duration) (first, second *Draft, err error) {
	if !s.Engine.Caps().Stages {
		return nil, nil, fmt.Errorf(
			"--staged: on %s nobody writes while a migration runs, and one is enough: draft without it",
			s.Engine.Name(),
		)
	}
	if s.unreached {
		return nil, nil, fmt.Errorf("--staged needs a server of %s, to prove both migrations", s.Engine.Name())
	}
	id := r.ID
	if id == "" {
		id = s.NextID(r.Now, r.Title)
	}
	whole, err := s.plan(ctx, id, r)
	if err != nil {
		return nil, nil, err
	}
	first = &Draft{Plan: whole}
	if len(whole.Questions) > 0 || len(whole.Steps) == 0 {
		return first, nil, nil
	}
	answers, err := s.names(r.Answers, r.Carried)
	if err != nil {
		return nil, nil, err
	}
	halves, err := plan.Split(s.Engine, s.Upcoming, s.Wanted, ofTables(whole.Changes), answers)
	if err != nil {
		return nil, nil, err
	}
	if len(halves.Questions) > 0 {
		whole.Questions = halves.Questions
		return first, nil, nil
	}
	// Answers of the one half may answer nothing in the other; the whole has told those
	// that answer nothing at all.
	r.ID, r.Carried = id, true
	said := r.Said
	one := *s
	one.sql, one.sqlLater = s.sql.again(), true
	one.Wanted, one.stage = halves.Between, &plan.Stage{Tables: halves.Tables, Wait: wait}
	r.Answers = halves.First
	if first, err = one.Make(ctx, r); err != nil {
		return nil, nil, fmt.Errorf("the first of the pair: %w", err)
	}
	m := first.Migration
	if m == nil || !first.Outcome.Proved() || len(first.InTheWay) > 0 {
		return first, nil, nil
	}
	m.Answers = said
	m.Text = migration.WithHead(m)
	two := *s
	two.sql = s.sql.again()
	two.stage, two.made = &plan.Stage{Tables: halves.Tables, Wait: wait, Second: true}, nil
	standing := *s.Status
	standing.Pending, standing.Files = append(slices.Clone(standing.Pending), m), append(slices.Clone(standing.Files),
		m)
	two.Status = &standing
	if err := two.behind(ctx, s, m); err != nil {
		return nil, nil, err
	}
	r.Answers, r.ID, r.Title = halves.Second, "", r.Title+" second"
	if second, err = two.Make(ctx, r); err != nil {
		return nil, nil, fmt.Errorf("the second of the pair: %w", err)
	}
	if second.Migration != nil {
		second.Migration.Answers = said
		second.Migration.Text = migration.WithHead(second.Migration)
	}
	first.Plan.Changes, first.Plan.Effects = whole.Changes, whole.Effects
	return first, second, nil
}

// behind reads on scratch what is there once a migration has been applied, too.
func (s *State) behind(ctx context.Context, before *State, m *migration.Migration) error {
	var err error
	s.Upcoming, err = s.ahead(ctx, before.Upcoming, []*migration.Migration{m}, func(db engine.Database) error {
		if err := runner.MakeFound(ctx, db, m); err != nil {
			return err
		}
		if err := proof.Run(ctx, db, s.Engine, m, false); err != nil {
			return fmt.Errorf("the first of the pair cannot be applied on scratch: %w", err)
		}
		return nil
	})
	return err
}
