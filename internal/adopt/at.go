package adopt

// This file compares a database with a point in a line of migrations, so that the line can go on
// from there: the same database somewhere else, which no migration created.

import (
	"context"
	"slices"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/proof"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Point is how a database compares with what migrations make.
type Point struct {
	// Changes are what the database has otherwise than the migrations make it: what came, what
	// went and what changed. What they do not create is no difference.
	Changes []diff.Change
	// Keeps create, empty, the tables and columns in which the migrations keep what they remove.
	Keeps []string
}

// At compares a database with what migrations make from nothing, on scratch. wanted are the
// models, for the tables that they declare as outside.
func At(ctx context.Context, e runner.Engine, db engine.Database, line []*migration.Migration,
	wanted *sqlschema.Schema) (*Point, error) {
	live, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	scratch, err := proof.Replay(ctx, e, line, wanted)
	if err != nil {
		return nil, err
	}
	defer scratch.Close()
	made, err := scratch.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	want, err := objects.Read(ctx, scratch, made)
	if err != nil {
		return nil, err
	}
	there, err := objects.Read(ctx, db, live)
	if err != nil {
		return nil, err
	}
	out := &Point{Keeps: Keeps(e, made, live)}
	made.Tables = slices.DeleteFunc(made.Tables, func(t *sqlschema.Table) bool {
		w := wanted.Table(t.Name)
		return w != nil && w.Outside() && live.Table(t.Name) != nil
	})
	for _, c := range diff.Schemas(made, live) {
		if c.Kind != diff.AddTable && c.Kind != diff.AddView && c.Kind != diff.AddEnum && !objects.Concerns(c, want) &&
			!strange(c) {
			out.Changes = append(out.Changes, c)
		}
	}
	for _, o := range want {
		now := objects.Find(there, o.ObjectKey)
		if now == nil || !objects.Same(o, now) {
			out.Changes = append(out.Changes, objects.Change{Was: o, Now: now}.Diff(nil))
		}
	}
	diff.Group(out.Changes)
	return out, nil
}

// Keeps creates what of Erbario's own, for kept values, made has and live does not.
func Keeps(e runner.Engine, made, live *sqlschema.Schema) []string {
	var out []string
	for _, t := range made.Tables {
		there := live.Table(t.Name)
		if there == nil {
			if schema.Own(t.Name) {
				out = append(out, e.DDL().Create(t).Apply...)
			}
			continue
		}
		with := there.Clone()
		for _, c := range t.Aside {
			if !slices.ContainsFunc(there.Aside, func(o *sqlschema.Column) bool { return o.Name == c.Name }) {
				with.Columns = append(with.Columns, c)
			}
		}
		if len(with.Columns) > len(there.Columns) {
			for _, st := range e.DDL().Alter(engine.Between(there, with)).Steps {
				out = append(out, st.Apply...)
			}
		}
	}
	return out
}

// strange tells whether a change is a trigger that no model and no migration declares.
func strange(c diff.Change) bool {
	g, ok := c.Object.(*sqlschema.Trigger)
	return ok && c.Kind == diff.AddTrigger && g.Purpose == ""
}

// Accept takes the differences out that names accept: each is a table, a column as table.column,
// an object, or a pattern with *. It returns the names that match no difference.
func (p *Point) Accept(names []string) (idle []string) {
	used := map[string]bool{}
	p.Changes = slices.DeleteFunc(p.Changes, func(c diff.Change) bool {
		accepted := false
		for _, n := range names {
			if one := []string{n}; Matches(one, c.Table) || Matches(one, c.Target()) {
				used[n], accepted = true, true
			}
		}
		return accepted
	})
	for _, n := range names {
		if !used[n] {
			idle = append(idle, n)
		}
	}
	return idle
}
