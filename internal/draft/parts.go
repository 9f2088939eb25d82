package draft

// This file drops parts of tables, whose rows are kept, and gives scratch what belongs to objects, which a copy of the
// schema has not.

import (
	"slices"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/plan"
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

// partsGo drops the parts that go with their table: each is kept by itself, and its name is free again.
func (s *State) partsGo(p *plan.Plan) {
	if s.sql.asked == nil {
		s.sql.asked = map[engine.ObjectKey]bool{}
	}
	gone := map[string]bool{}
	for _, c := range p.Changes {
		gone[c.Table] = gone[c.Table] || c.Kind == diff.DropTable
	}
	for more := true; more; {
		more = false
		for _, o := range s.sql.there {
			if o.Kind != engine.Part || !gone[o.Of] || gone[o.Name] || !s.sql.line[o.ObjectKey] {
				continue
			}
			if _, ok := s.dropPart(o); ok {
				s.sql.asked[o.ObjectKey], gone[o.Name], more = true, true, true
			}
		}
	}
}

// attachedBefore are the statements that create on scratch what the steps drop or change, with all
// that it has in the database, as far as a copy of the schema has it not; and what parts of tables have besides.
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
