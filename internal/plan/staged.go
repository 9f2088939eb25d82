package plan

// This file splits a change into a staged pair: a first migration behind which the
// application that knows of the change and the one that does not can both work, and a
// second that ends this, once nobody writes as before. What stands between the two is a
// schema like any other, so each half is planned like any other change; a bridge, which
// the engine makes, gives columns the values that one of the applications does not
// write.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// staged plans what belongs to a half: in the first, that the change itself is noted; in
// the second, what it waits for, what must have come across, and that the notes go.
func (p *planner) staged() {
	if p.Stage == nil {
		return
	}
	words := engine.StagesOf(p.Engine)
	for _, t := range p.Stage.Tables {
		kind := engine.InTransaction
		if p.inUse(t.Name) && !p.Engine.Caps().CommitsChanges {
			kind = engine.OwnTransaction
		}
		if !p.Stage.Second {
			p.units = append(p.units, unit{
				rank: rankSpanGoes,
				name: t.Name,
				change: engine.Change{
					Steps: []engine.Step{
						{
							Title: "record old writers of " + t.Name + "",
							Kind:  kind,
							Apply: words.Begin(t.Name),
							Undo:  words.End(t.Name),
						},
					},
				},
			})
			continue
		}
		p.plan.BeforeApply = append(p.plan.BeforeApply, words.NoOldWriters(t.Name, p.Stage.Wait))
		p.plan.BeforeApply = append(p.plan.BeforeApply, p.crossed(t)...)
		p.units = append(p.units, unit{
			rank: rankSpanComes,
			name: t.Name,
			change: engine.Change{
				Steps: []engine.Step{
					{Title: "stop recording old writers of " + t.Name + "", Kind: kind, Apply: words.End(t.Name)},
				},
			},
		})
		if !slices.ContainsFunc(t.Spans, func(s engine.Span) bool { return s.Hidden }) {
			continue
		}
		// The bridge names the columns that are about to have other names: it goes in
		// the same moment, before them.
		live := p.Live.Table(t.Name)
		stop := engine.Step{Here: p.crossed(t)}
		for _, s := range t.Spans { // on the way back, before the bridge is there again
			if s.Old != nil {
				stop.Undo = append(stop.Undo, words.Resync(t.Name, s)...)
			}
		}
		for _, g := range live.Triggers {
			if g.Purpose == schema.ForBridge {
				create, drop := p.Engine.DDL().Trigger(live, g)
				stop.Title, stop.Apply, stop.Undo = engine.TriggerTitle("stop", live, g), append(
					stop.Apply,
					drop...), append(
					stop.Undo,
					create...)
			}
		}
		if len(stop.Apply) > 0 {
			p.plan.Steps = append(p.plan.Steps, stop)
		}
		live.Triggers = slices.DeleteFunc(live.Triggers,
			func(g *sqlschema.Trigger) bool { return g.Purpose == schema.ForBridge })
		if follow := words.FollowTriggers(live, p.following(live, t)); len(follow) > 0 {
			step := engine.Step{Title: "create the old columns of " + t.Name + " follow"}
			for _, g := range follow {
				create, drop := p.Engine.DDL().Trigger(live, g)
				step.Apply, step.Undo = append(step.Apply, create...), append(step.Undo, drop...)
			}
			p.follow[t.Name] = step
			live.Triggers = append(live.Triggers, follow...) // they go with the columns
			continue
		}
		p.plan.Changes = slices.DeleteFunc(p.plan.Changes, func(c diff.Change) bool {
			g, ok := c.Object.(*sqlschema.Trigger)
			return ok && c.Table == t.Name && g.Purpose == schema.ForBridge
		})
	}
}

// following are the columns of a table, under the names of the second half, that are about
// to be dropped, with the values that they have from others.
func (p *planner) following(live *sqlschema.Table, t StagedTable) []engine.Following {
	var out []engine.Following
	for _, c := range live.Columns {
		if src, ok := p.twin(t.Name, c.Name); ok {
			out = append(out, engine.Following{Column: c, Value: src.SQL})
		}
	}
	return out
}

// asideApart tells whether columns that go and are kept are better set aside in a turn of
// their own: together with others, whose values are in other columns, they would be copied
// while nobody gets at the table.
func (p *planner) asideApart(a engine.Alteration) bool {
	if p.Stage == nil || !p.Stage.Second || !a.InUse || p.Engine.Caps().CommitsChanges || len(a.Lost) == 0 {
		return false
	}
	return slices.ContainsFunc(a.From.Columns, func(c *sqlschema.Column) bool {
		return a.To.Column(c.Name) == nil && !slices.Contains(a.Lost, c.Name)
	})
}

// inTwo makes a table another in two turns. Where columns follow others until they are
// dropped, all else is done before, and whatever goes does so in one moment, so that each
// column comes back where it was. Elsewhere only what is kept goes in the second turn.
func (p *planner) inTwo(a engine.Alteration) engine.Change {
	apart := p.asideApart(a)
	mid := a.To.Clone()
	mid.Text = ""
	second := a
	second.Forward, second.Back, second.Lost, second.Only = map[string]engine.Source{}, map[string]engine.Source{},
		nil, ""
	var gone []string
	first := map[string]engine.Source{}
	for c, src := range a.Back {
		first[c] = src
	}
	for i, c := range a.From.Columns {
		if a.To.Column(c.Name) != nil || apart && !slices.Contains(a.Lost, c.Name) {
			continue
		}
		kept := *c
		gone = append(gone, c.Name)
		at := 0
		for j := i - 1; j >= 0 && at == 0; j-- {
			at = 1 + slices.IndexFunc(mid.Columns,
				func(o *sqlschema.Column) bool { return o.Name == a.From.Columns[j].Name })
		}
		mid.Columns = slices.Insert(mid.Columns, at, &kept)
		if src, ok := first[c.Name]; ok {
			second.Back[c.Name] = src
			delete(first, c.Name)
		}
	}
	goes := func(name string) bool { return slices.Contains(gone, name) }
	for _, g := range a.From.Triggers {
		if g.Purpose == schema.ForBridge && !apart || apart && goes(g.Column) {
			mid.Triggers = append(mid.Triggers, g)
		}
	}
	if apart { // what stands on them goes with them
		for _, x := range a.From.Indexes {
			if names := sqlschema.Names(x.Parts); slices.ContainsFunc(names, goes) &&
				!slices.ContainsFunc(names, func(n string) bool { return mid.Column(n) == nil }) {
				mid.Indexes = append(mid.Indexes, x)
			}
		}
		for _, k := range a.From.Checks {
			if goes(k.Column) {
				mid.Checks = append(mid.Checks, k)
			}
		}
	}
	second.Lost = slices.DeleteFunc(slices.Clone(a.Lost), func(n string) bool { return !goes(n) })
	second.From, second.To = mid, a.To
	a.To, a.Back, a.Lost = mid, first, slices.DeleteFunc(slices.Clone(a.Lost), goes)
	rest := "all but what is dropped"
	if apart {
		rest = "all but what is set aside"
	}
	a.Summary, second.Summary = "change "+a.From.Name+": "+rest, "change "+a.From.Name+": drop "+strings.Join(gone,
		", ")
	out, add := p.Engine.DDL().Alter(a), p.Engine.DDL().Alter(second)
	// What the columns have to hold that come back is asked when they are there.
	there := func(r engine.Requirement) bool {
		return slices.ContainsFunc(p.Engine.SQL().Lex(r.Query),
			func(t sqltok.Token) bool { return t.Named() && slices.Contains(gone, t.Name()) })
	}
	if n := len(out.Steps); n > 0 {
		for _, r := range out.BeforeUndo {
			if there(r) {
				out.Steps[n-1].HereUndo = append(out.Steps[n-1].HereUndo, r)
			}
		}
		out.BeforeUndo = slices.DeleteFunc(out.BeforeUndo, there)
	}
	out.Steps = append(out.Steps, add.Steps...)
	out.BeforeApply = append(out.BeforeApply, add.BeforeApply...)
	out.BeforeUndo = append(out.BeforeUndo, add.BeforeUndo...)
	return out
}

// crossed asks for what has not come across the bridge of a table, and would be gone.
func (p *planner) crossed(t StagedTable) []engine.Requirement {
	var out []engine.Requirement
	for _, s := range t.Spans {
		if s.Old != nil {
			out = append(out, p.across(t.Name, s))
		}
	}
	return out
}

// half adds to the steps of a table what they need as a half of a staged pair: what
// goes asks once more, under its lock, whether it has come across; and what has its
// values from another column is not kept when it goes.
func (p *planner) half(table string, change *engine.Change) {
	if p.Stage == nil {
		return
	}
	for _, t := range p.Stage.Tables {
		if t.Name != table || len(change.Steps) == 0 {
			continue
		}
		if p.Stage.Second && !slices.ContainsFunc(t.Spans, func(s engine.Span) bool { return s.Hidden }) {
			i := max(slices.IndexFunc(change.Steps, func(s engine.Step) bool { return p.stopsBridge(table, s) }), 0)
			change.Steps[i].Here = append(change.Steps[i].Here, p.crossed(t)...)
		}
		for i := range change.Steps {
			change.Steps[i].UndoLoses = slices.DeleteFunc(
				slices.Clone(change.Steps[i].UndoLoses),
				func(l engine.Loss) bool {
					return slices.ContainsFunc(t.Spans,
						func(s engine.Span) bool { return s.Old != nil && l.Is(table, s.Column.Name) })
				},
			)
		}
	}
}

// stopsBridge tells whether a step takes the bridge of a table away.
func (p *planner) stopsBridge(table string, s engine.Step) bool {
	live := p.Live.Table(table)
	return live != nil && slices.ContainsFunc(live.Triggers, func(g *sqlschema.Trigger) bool {
		_, drop := p.Engine.DDL().Trigger(live, g)
		return g.Purpose == schema.ForBridge &&
			slices.ContainsFunc(s.Apply, func(sql string) bool { return slices.Contains(drop, sql) })
	})
}

// across asks for values that have not come across a bridge, or would not come back the
// same.
func (p *planner) across(table string, s engine.Span) engine.Requirement {
	old, now := p.Engine.SQL().Quote(s.Old.Name), p.Engine.SQL().Quote(s.Column.Name)
	r := engine.Requirement{
		Sentence: fmt.Sprintf(
			"{n} rows of %s have different values in %s and %s: set %s to the right one in these rows, and the other follows",
			table, s.Old.Name, s.Column.Name, s.Column.Name),
		About: s.Column.Name,
	}
	if s.There.SQL+s.There.Fits != "" {
		r.Sentence = fmt.Sprintf(
			"{n} values of %s.%s cannot be converted to %s without loss: set %s to values that can be in these rows",
			table, s.Old.Name, s.Column.SQLType, s.Old.Name)
	}
	var names []string
	if t := p.Live.Table(table); t != nil {
		for _, k := range t.Key() {
			names = append(names, p.Engine.SQL().Quote(k))
		}
	}
	r.Query = fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(append(names, old, now), ", "),
		p.Engine.SQL().QuoteTable(table),
		engine.StagesOf(p.Engine).Differ(engine.StagesOf(p.Engine).Guarded(s.Back, now, s.Old.SQLType), old))
	return r
}

// backRequired has the undo of a first half take a value for rows without one, where a
// column is required until then: the application that does not know it writes none.
func (p *planner) backRequired(a *engine.Alteration, c diff.Change) {
	old := a.From.Column(c.Name)
	if p.Stage == nil || p.Stage.Second || old == nil || a.To.Column(c.Name) == nil {
		return
	}
	if _, ok := a.Back[c.Name]; ok {
		return
	}
	if src, ok := p.backValue(c.Table, old, ""); ok {
		a.Back[c.Name] = engine.Source{
			SQL:  fmt.Sprintf("coalesce(%s, %s)", p.Engine.SQL().Quote(c.Name), src.SQL),
			Else: src.SQL,
		}
	}
}

// twin is the column that holds, in the second half, what one that goes held.
func (p *planner) twin(table, column string) (engine.Source, bool) {
	if p.Stage == nil || !p.Stage.Second {
		return engine.Source{}, false
	}
	for _, t := range p.Stage.Tables {
		for _, s := range t.Spans {
			switch {
			case t.Name != table || s.Old == nil:
			case s.Hidden && column == schema.Cut(schema.PrevPrefix+s.Old.Name):
				now := *s.Column
				now.Name = s.Old.Name
				back, _ := p.Engine.DDL().Convert(&now, s.Old)
				return engine.Source{
					SQL: engine.StagesOf(p.Engine).Guarded(back, p.Engine.SQL().Quote(s.Old.Name), s.Old.SQLType),
				}, true
			case !s.Hidden && (column == s.Old.Name || column == schema.Cut(schema.PrevPrefix+s.Old.Name)):
				return engine.Source{
					SQL: engine.StagesOf(p.Engine).Guarded(s.Back, p.Engine.SQL().Quote(s.Column.Name), s.Old.SQLType),
				}, true
			}
		}
	}
	return engine.Source{}, false
}
