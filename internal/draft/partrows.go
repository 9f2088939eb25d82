package draft

// This file asks for rows that the bounds of parts, and what parts have besides, do not let in: the server would
// refuse the change.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/plan"
)

// partRows is a plan to which such requirements are added.
type partRows struct {
	*State
	p       *plan.Plan
	parts   engine.Parts
	of      *objects.Object // the part at hand
	coming  map[string]bool // columns that are not there before the migration, or not of their type, in lower case
	leaving map[string]bool // and after it
}

// partRows asks for rows that are not where parts want them.
func (s *State) partRows(p *plan.Plan) {
	parts, ok := s.Engine.DDL().(engine.Parts)
	if !ok {
		return
	}
	r := &partRows{State: s, p: p, parts: parts, coming: map[string]bool{}, leaving: map[string]bool{}}
	for _, c := range p.Changes {
		name := strings.ToLower(c.Name)
		r.coming[name] = r.coming[name] || c.Kind == diff.AddColumn || c.Kind == diff.ChangeType
		r.leaving[name] = r.leaving[name] || c.Kind == diff.DropColumn || c.Kind == diff.ChangeType
	}
	for _, n := range s.newNames {
		r.coming[strings.ToLower(n.To)], r.leaving[strings.ToLower(n.Column)] = n.Column != "", n.Column != ""
	}
	for _, c := range s.sql.changes {
		r.change(c)
	}
}

// blocking asks for the rows that the requirements of a plan from one on do not let in.
func (s *State) blocking(ctx context.Context, p *plan.Plan, known int) error {
	if s.unasked {
		return nil
	}
	for _, q := range p.BeforeApply[known:] {
		n, rows, err := engine.InTheWay(ctx, s.DB, q.Query)
		switch {
		case err != nil && len(s.Status.Pending) > 0: // a pending migration creates the part
		case err != nil:
			return fmt.Errorf("it cannot be checked whether the live rows fit: %w", err)
		case n > 0:
			p.InTheWay = append(p.InTheWay, plan.InTheWay{Requirement: q, Rows: n, Sample: rows})
		}
	}
	return nil
}

// change asks for the rows that block one change, or its undo.
func (r *partRows) change(c objects.Change) {
	o := c.Object()
	if o.OfKind == engine.Part && r.Upcoming.Table(o.Of) != nil {
		if c.Now != nil {
			r.apply(r.parts.PartHolds(c.Now.Make[0]))
		}
		if c.Was != nil && !r.goes(o.Of) {
			r.undo(r.parts.PartHolds(c.Was.Make[0]))
		}
		return
	}
	table := o.Of // as it is called before
	for _, n := range slices.Backward(r.newNames) {
		if n.Column == "" && n.To == table {
			table = n.Table
		}
	}
	of := r.Upcoming.Table(table)
	if o.Kind != engine.Part || of == nil {
		return
	}
	r.of = o
	was, now := "", ""
	if c.Was != nil {
		was, _ = r.parts.Bounds(of, c.Was.Make[0])
	}
	if c.Now != nil {
		now, _ = r.parts.Bounds(of, c.Now.Make[0])
	}
	if was == now {
		return
	}
	for _, x := range r.sql.ahead {
		if x.Kind != engine.Part || x.Of != table || x.Name == o.Name {
			continue
		}
		if _, rest := r.parts.Bounds(of, x.Make[0]); rest {
			r.apply(r.within(x.Name, now))
			if !r.goes(x.Name) {
				r.undo(r.within(x.Name, was))
			}
		}
	}
	if c.Was != nil && c.Now != nil {
		r.apply(r.outside(now, "its new bounds"))
		r.undo(r.outside(was, "the bounds that it had"))
	}
}

// goes tells whether a part is dropped.
func (r *partRows) goes(part string) bool {
	return slices.ContainsFunc(r.sql.changes,
		func(c objects.Change) bool { return c.Now == nil && c.Was.Kind == engine.Part && c.Was.Name == part })
}

// within asks for rows of a default part that belong into the one at hand.
func (r *partRows) within(rest, bounds string) *engine.Requirement {
	if bounds == "" {
		return nil
	}
	return &engine.Requirement{Table: rest, Sentence: "{n} rows of " + rest + " are within the bounds of " + r.of.Name,
		Query: "SELECT * FROM " + r.Engine.SQL().QuoteTable(rest) + " WHERE " + bounds}
}

// outside asks for rows of the part at hand that do not belong into it.
func (r *partRows) outside(bounds, what string) *engine.Requirement {
	if bounds == "" {
		return nil
	}
	return &engine.Requirement{Table: r.of.Name, Sentence: "{n} rows of " + r.of.Name + " are outside " + what,
		Query: "SELECT * FROM " + r.Engine.SQL().QuoteTable(r.of.Name) + " WHERE (" + bounds + ") IS NOT TRUE"}
}

func (r *partRows) apply(q *engine.Requirement) {
	if q != nil && !r.names(q.Query, r.coming) {
		r.p.BeforeApply = append(r.p.BeforeApply, *q)
	}
}

func (r *partRows) undo(q *engine.Requirement) {
	if q != nil && !r.names(q.Query, r.leaving) {
		r.p.BeforeUndo = append(r.p.BeforeUndo, *q)
	}
}

// names tells whether a query names one of some columns.
func (r *partRows) names(query string, columns map[string]bool) bool {
	for _, t := range r.Engine.SQL().Lex(query) {
		if t.Named() && columns[strings.ToLower(t.Name())] {
			return true
		}
	}
	return false
}
