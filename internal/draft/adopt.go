package draft

// This file drafts what somebody changed outside of the migrations: a migration that changes what
// the migrations make in the same way. Where it was changed it is recorded without running.

import (
	"context"
	"slices"

	"erbario/internal/diff"
	"erbario/internal/plan"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Adopt drafts changes that the live database has and no migration makes, as Drift gives them.
// What they drop is dropped, and its values are kept wherever there are some.
func (s *State) Adopt(ctx context.Context, changes []diff.Change, r Request) (*Draft, error) {
	line, err := runner.Texts(s.Status.Applied, s.Status.Files, s.Engine)
	if err != nil {
		return nil, err
	}
	db, err := proof.Replay(ctx, s.Engine, line, s.Wanted)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	made, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	standing := *s.Status
	standing.Pending = nil
	from := &State{Engine: s.Engine, DB: db, Wanted: changed(made, s.Live, changes), Live: made, Upcoming: made,
		Status: &standing, InUse: s.InUse, Lacking: s.Lacking, made: made, tablesAlone: true}
	r.Answers = plan.Answers{Drop: map[string]bool{}, Fill: map[string]plan.Fill{}}
	for _, c := range changes {
		switch o, _ := c.Object.(*sqlschema.Column); {
		case c.Kind == diff.DropColumn:
			r.Answers.Drop[c.Target()] = true
		case c.Kind == diff.AddColumn && o.NotNull && o.Default == nil && o.Generated == nil && !o.Identity,
			c.Kind == diff.MakeRequired:
			// Here every row has a value; what rows of other databases get is asked there.
			t := s.Live.Table(c.Table)
			if list := s.Engine.SQL().Candidates(t, t.Column(c.Name)); len(list) > 0 {
				r.Answers.Fill[c.Target()] = plan.Fill{SQL: list[0], Literal: true, Ask: true}
			}
		}
	}
	return from.Make(ctx, r)
}

// changed is a schema with changes made to its tables, which lead to those of live.
func changed(s, live *sqlschema.Schema, changes []diff.Change) *sqlschema.Schema {
	out := s.Clone()
	out.Tables = slices.DeleteFunc(out.Tables, func(t *sqlschema.Table) bool { return schema.Own(t.Name) })
	for i, t := range out.Tables {
		mine := slices.DeleteFunc(slices.Clone(changes), func(c diff.Change) bool { return c.Table != t.Name })
		if len(mine) > 0 {
			out.Tables[i] = plan.Drifted(t, live.Table(t.Name), mine)
		}
	}
	return out
}
