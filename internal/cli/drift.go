package cli

// This file tells the two ways on from what somebody changed by hand: into the
// models, so that every database gets it, or away again.

import (
	"cmp"
	"context"
	"fmt"

	"erbario/internal/diff"
	"erbario/internal/draft"
	"erbario/internal/objects"
	"erbario/internal/project"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

type jsonWaysOn struct {
	What    string `json:"what"`
	Declare string `json:"keep"`
	Away    string `json:"remove"`
}

// byHand is what somebody changed by hand in a database since its migrations, and the ways
// on from it.
type byHand struct {
	changes []diff.Change
	ways    []jsonWaysOn
}

// byHand reads what was changed by hand in the database d.
func (a *app) byHand(ctx context.Context, p *project.Project, s *draft.State, d project.Database) (*byHand, error) {
	drift, err := s.Drift(ctx)
	if err != nil {
		return nil, err
	}
	out := &byHand{changes: diff.Told(drift)}
	on := onDatabase(p, d.Name)
	for _, c := range out.changes {
		if way := waysOn(s, c, on); way != nil {
			out.ways = append(out.ways, *way)
		}
	}
	return out, nil
}

// onDatabase is the flag of a command that works on a database; empty: it is the one without a flag.
func onDatabase(p *project.Project, name string) string {
	if name == p.Default() {
		return ""
	}
	return "--database " + typed(name) + " "
}

func (a *app) showByHand(who string, h *byHand) {
	a.out.line(a.out.paint(styleWarn, who+"changed outside Erbario since the last migration"))
	a.changes(h.changes, nil)
	if len(h.ways) > 0 {
		a.out.line("")
	}
	for _, w := range h.ways {
		a.out.line("  " + cell(w.What))
		a.out.printf("    %s    %s", a.out.paint(styleDim, "to keep it"), cell(w.Declare))
		a.out.printf("    %s  %s", a.out.paint(styleDim, "to remove it"), cell(w.Away))
	}
}

// waysOn tells, of one change by hand, what it is, how it is declared, and how it
// is drafted away; nil for what goes with another change. on names the database
// where a command would work on another one without it.
func waysOn(s *draft.State, c diff.Change, on string) *jsonWaysOn {
	model := "MODEL"
	w := s.Wanted.Table(c.Table)
	if w != nil {
		model = w.Model()
	}
	again, keep := "erbario "+on+"draft TITLE", "erbario "+on+"adopt "
	if o := objects.TableNamed(s.Wanted.Objects, c.Table); o != nil {
		return waysInSQL(c, o, again, fmt.Sprintf("erbario %slook --sql %s", on, typed(c.Table)))
	}
	if _, ok := c.Object.(*sqlschema.Column); ok {
		name := c.Target()
		switch {
		case c.Kind == diff.AddColumn && w != nil && w.Column(c.Name) != nil:
			return &jsonWaysOn{name, "it is declared: " + again + " adds it to the migrations", fmt.Sprintf("erbario declare %s --remove %s, then %s --drop %s", model, cmp.Or(w.Column(c.Name).Field(), c.Name), again, name)}
		case c.Kind == diff.AddColumn:
			return &jsonWaysOn{name, keep + typed(name), again + " --drop " + typed(name)}
		case c.Kind == diff.DropColumn && w != nil && w.Column(c.Name) != nil:
			return &jsonWaysOn{name, keep + typed(name), again + " creates it again"}
		case c.Kind == diff.DropColumn:
			return nil // declared no more, and not there: the two agree
		}
		if w != nil {
			return &jsonWaysOn{name + ": " + c.What, keep + typed(name), again + " restores the declared form"}
		}
	}
	name := c.Table + ": " + c.What
	if w == nil { // a type or a view
		return &jsonWaysOn{name, "change the models to match the database", again + " restores the declared form"}
	}
	if c.Kind.Sign() != "+" {
		return &jsonWaysOn{name, keep + typed(c.Table), again + " restores the declared form"}
	}
	if g, ok := c.Object.(*sqlschema.Trigger); ok && g.Purpose == "" {
		keep += typed(g.Name) + ", then " + again
		return &jsonWaysOn{name, keep, "DROP TRIGGER " + s.Engine.SQL().Quote(g.Name)}
	}
	away := "drop it in the database"
	switch o := c.Object.(type) {
	case *sqlschema.Index:
		name := o.Name
		if in, _ := schema.SplitName(c.Table); in != "" && s.Engine.Caps().Schemas {
			name = schema.InSchema(in, name)
		}
		away = "DROP INDEX " + s.Engine.SQL().QuoteTable(name)
	case *sqlschema.Trigger:
		away = "DROP TRIGGER " + s.Engine.SQL().Quote(o.Name)
	}
	return &jsonWaysOn{name, keep + typed(c.Table), away}
}

// waysInSQL is waysOn for a table that a file of SQL declares.
func waysInSQL(c diff.Change, declared *sqlschema.Object, again, look string) *jsonWaysOn {
	out := &jsonWaysOn{c.Table + ": " + c.What, "write it into " + declared.Path + ", as " + look + " shows it",
		again + " restores the declared form"}
	if c.Kind == diff.DropTable {
		out.Declare = "remove it from " + declared.Path
	}
	if _, ok := c.Object.(*sqlschema.Column); ok && c.Kind == diff.AddColumn {
		out.What, out.Away = c.Target(), again+" --drop "+typed(c.Target())
	}
	return out
}
