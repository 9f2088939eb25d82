package plan

// This file creates the schemas in which tables come to lie that no migration has created yet. None is
// dropped when its last table goes: others may have things in it.

import (
	"slices"

	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// schemasOf are the schemas in which tables and enum types lie, and those that files of SQL declare, next to the
// project's own, in order.
func schemasOf(s *sqlschema.Schema) []string {
	var out []string
	for _, t := range s.Tables {
		if in, _ := schema.SplitName(t.Name); in != "" && !t.Outside() && !slices.Contains(out, in) {
			out = append(out, in)
		}
	}
	for _, o := range s.Others {
		if in, _ := schema.SplitName(o.Name); o.Kind == sqlschema.EnumType && in != "" && !slices.Contains(out, in) {
			out = append(out, in)
		}
	}
	for _, o := range s.Objects {
		if o.Kind == sqlschema.InDatabase && !slices.Contains(out, o.Name) {
			out = append(out, o.Name)
		}
	}
	slices.Sort(out)
	return out
}

// schemas plans the steps of the schemas that come, ahead of all others.
func (p *planner) schemas() {
	words, ok := p.Engine.DDL().(engine.SchemaCreator)
	if !ok {
		return
	}
	p.plan.Schemas = schemasOf(p.Wanted)
	for _, name := range p.plan.Schemas {
		if p.Made != nil && p.Made.HasSchema(name) {
			continue
		}
		apply, undo := words.CreateSchema(name)
		p.plan.Steps = append(p.plan.Steps, engine.Step{Title: "create the schema " + name, First: true, Apply: apply,
			Undo: undo})
	}
	if p.Made != nil { // whose tables may have gone
		for _, name := range schemasOf(p.Made) {
			if !slices.Contains(p.plan.Schemas, name) {
				p.plan.Schemas = append(p.plan.Schemas, name)
			}
		}
		slices.Sort(p.plan.Schemas)
	}
}
