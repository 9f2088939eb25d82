package draft

// This file drops parts of tables, whose rows are kept, and asks for rows that bounds and the like do not let in; and
// it gives scratch what belongs to objects, which a copy of the schema has not.

import (
	"context"
	"fmt"
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

// partRows asks for rows that are not where the bounds of a part want them: the server would refuse the change.
func (s *State) partRows(ctx context.Context, p *plan.Plan) error {
	parts, ok := s.Engine.DDL().(engine.Parts)
	if !ok || slices.ContainsFunc(s.newNames, func(r plan.Rename) bool { return r.Column == "" }) {
		return nil // they are asked for by the names before
	}
	known := len(p.BeforeApply)
	d := s.Engine.SQL()
	outside := func(table, within, bounds string) engine.Requirement {
		return engine.Requirement{Table: table, Sentence: "{n} rows of " + table + " are outside " + bounds,
			Query: "SELECT * FROM " + d.QuoteTable(table) + " WHERE (" + within + ") IS NOT TRUE"}
	}
	goes := func(part string) bool {
		return slices.ContainsFunc(s.sql.changes,
			func(c objects.Change) bool { return c.Now == nil && c.Was.Kind == engine.Part && c.Was.Name == part })
	}
	stay := slices.DeleteFunc(slices.Clone(s.sql.ahead), func(o *objects.Object) bool { return goes(o.Name) })
	for _, c := range s.sql.changes {
		o := c.Object()
		if o.OfKind == engine.Part && s.Upcoming.Table(o.Of) != nil {
			if c.Now != nil {
				p.BeforeApply = append(p.BeforeApply, held(parts, c.Now)...)
			}
			if c.Was != nil && !goes(o.Of) {
				p.BeforeUndo = append(p.BeforeUndo, held(parts, c.Was)...)
			}
			continue
		}
		of := s.Upcoming.Table(o.Of)
		if o.Kind != engine.Part || of == nil {
			continue
		}
		rest := func(list []*objects.Object, within string) (out []engine.Requirement) {
			for _, x := range list {
				if x.Kind != engine.Part || x.Of != o.Of || x.Name == o.Name || within == "" {
					continue
				}
				if _, is := parts.Bounds(of, x.Make[0]); is {
					out = append(out, engine.Requirement{Table: x.Name,
						Sentence: "{n} rows of " + x.Name + " are within the bounds of " + o.Name,
						Query:    "SELECT * FROM " + d.QuoteTable(x.Name) + " WHERE " + within})
				}
			}
			return out
		}
		was, now := "", ""
		if c.Was != nil {
			was, _ = parts.Bounds(of, c.Was.Make[0])
		}
		if c.Now != nil {
			now, _ = parts.Bounds(of, c.Now.Make[0])
		}
		if was == now {
			continue
		}
		p.BeforeApply = append(p.BeforeApply, rest(s.sql.ahead, now)...)
		p.BeforeUndo = append(p.BeforeUndo, rest(stay, was)...)
		if c.Was != nil && c.Now != nil && now != "" {
			p.BeforeApply = append(p.BeforeApply, outside(o.Name, now, "its new bounds"))
		}
		if c.Was != nil && c.Now != nil && was != "" {
			p.BeforeUndo = append(p.BeforeUndo, outside(o.Name, was, "the bounds that it had"))
		}
	}
	if s.unasked {
		return nil
	}
	for _, r := range p.BeforeApply[known:] {
		n, rows, err := engine.InTheWay(ctx, s.DB, r.Query)
		switch {
		case err != nil && len(s.Status.Pending) > 0: // it is not there yet
		case err != nil:
			return fmt.Errorf("it cannot be checked whether the live rows fit: %w", err)
		case n > 0:
			p.InTheWay = append(p.InTheWay, plan.InTheWay{Requirement: r, Rows: n, Sample: rows})
		}
	}
	return nil
}

// held asks for the rows that something of a part does not let in.
func held(parts engine.Parts, o *objects.Object) []engine.Requirement {
	if r := parts.PartHolds(o.Make[0]); r != nil {
		return []engine.Requirement{*r}
	}
	return nil
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
