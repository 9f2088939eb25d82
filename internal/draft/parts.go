package draft

// This file is about what a copy of the schema has not: parts of tables, which are dropped with their rows kept, and
// what belongs to objects.

import (
	"slices"

	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/schema"
)

// dropPart is the step that takes a part out of its table with its rows; false: there is none.
func (s *State) dropPart(o *objects.Object) (engine.Step, bool) {
	ddl := s.Engine.DDL()
	parts, ok := ddl.(engine.Parts)
	table := s.Upcoming.Table(o.Name)
	if !ok || table == nil {
		return engine.Step{}, false
	}
	if s.sql.keep == "" {
		step := engine.Step{
			Loses: []engine.Loss{{Table: o.Name}},
			Apply: ddl.(engine.ObjectWords).DropObject(o.Make[0]),
		}
		for _, c := range o.Make {
			step.Undo = append(step.Undo, c.SQL)
		}
		return step, true
	}
	var own []string
	for _, x := range s.sql.there {
		if objects.About(x, o) {
			own = append(own, x.Name)
		}
	}
	return parts.DropPart(o.Make[0], table, own, schema.Cut(s.sql.keep+o.Name))
}

// attachedBefore are the statements that create on scratch what the steps drop or change, with all
// that it has in the database, as far as a copy of the schema has it not; and the parts of tables, which no copy has.
func (s *State) attachedBefore() []string {
	touched := slices.Concat(s.sql.aside, s.sql.stood)
	for _, c := range s.sql.changes {
		if c.Was != nil {
			touched = append(touched, c.Was)
		}
	}
	var out []string
	for _, o := range s.sql.there {
		part := (o.Kind == engine.Part || o.OfKind == engine.Part) && s.sql.line[o.ObjectKey]
		about := func(t *objects.Object) bool { return t == o || objects.About(o, t) }
		if !part && !slices.ContainsFunc(touched, about) {
			continue
		}
		if o.Before != nil {
			o = o.Before
		}
		for _, c := range o.Make {
			out = append(out, c.SQL)
		}
	}
	return out
}
