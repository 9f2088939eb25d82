package proof

// This file looks at all that a scratch database holds, and compares two such looks.

import (
	"context"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/objects"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// among are the tables and views of a schema that another has too, and all else of it.
func among(s, other *sqlschema.Schema) *sqlschema.Schema {
	out := *s
	out.Tables, out.Views = nil, nil
	for _, v := range s.Views {
		if other.View(v.Name) != nil {
			out.Views = append(out.Views, v)
		}
	}
	for _, t := range s.Tables {
		if other.Table(t.Name) != nil {
			out.Tables = append(out.Tables, t)
		}
	}
	return &out
}

// state is all that a scratch database holds at one moment.
type state struct {
	schema *sqlschema.Schema
	rows   map[string][]string // every row of each table, in order
	broken []string
	// objects are what is declared in SQL, where the migration changes any.
	objects []*objects.Object
}

func (p *prover) look(ctx context.Context) (*state, error) {
	s, err := p.db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	out := &state{schema: s, rows: map[string][]string{}}
	if out.broken, err = engine.InvalidObjects(ctx, p.db); err != nil {
		return nil, err
	}
	if len(p.Objects) > 0 {
		if out.objects, err = objects.Read(ctx, p.db, s); err != nil {
			return nil, err
		}
	}
	for _, t := range s.Tables {
		if schema.Own(t.Name) || t.Options.Virtual != "" && len(t.Held) == 0 || engine.Loses(p.out.Lost, t.Name, "") {
			continue
		}
		parts := partsOf(s, t)
		if of := s.Table(t.PartOf); of != nil && of.Partitioned() && !p.loses(partsOf(s, of)) || // read with those
			t.Partitioned() && p.loses(parts) { // read part by part, without those that go
			continue
		}
		query := "SELECT " + p.columns(s, t) + " FROM "
		if len(parts) > 0 && !t.Partitioned() { // what inherits from it is read by itself
			query += "ONLY "
		}
		query += p.Engine.SQL().QuoteTable(t.Name)
		if t.SoftDelete != "" && slices.Contains(p.out.Lost, engine.Loss{Table: t.Name, Deleted: true}) {
			query += " WHERE " + p.Engine.SQL().Quote(t.SoftDelete) + " IS NULL" // the others go for good
		}
		rows, err := p.db.Sample(ctx, query, 0)
		if err != nil {
			return nil, err
		}
		list := make([]string, len(rows.Values))
		for i, r := range rows.Values {
			list[i] = strings.Join(r, ", ")
		}
		slices.Sort(list)
		out.rows[t.Name] = list
	}
	return out, nil
}

// partsOf are the parts of a table, and theirs.
func partsOf(s *sqlschema.Schema, of *sqlschema.Table) []*sqlschema.Table {
	var out []*sqlschema.Table
	for _, t := range s.Tables {
		if t.PartOf == of.Name {
			out = append(append(out, t), partsOf(s, t)...)
		}
	}
	return out
}

// loses tells whether the rows of one of the tables are lost permanently.
func (p *prover) loses(list []*sqlschema.Table) bool {
	return slices.ContainsFunc(list, func(t *sqlschema.Table) bool { return engine.Loses(p.out.Lost, t.Name, "") })
}

// columns names every column but those whose values are lost for good, in an
// order that does not depend on the table's.
func (p *prover) columns(s *sqlschema.Schema, t *sqlschema.Table) string {
	lost := func(column string) bool {
		for of := t; of != nil; of = s.Table(of.PartOf) {
			if engine.Loses(p.out.Lost, of.Name, column) {
				return true
			}
		}
		return false
	}
	var names []string
	for _, c := range t.Columns {
		if !lost(c.Name) {
			names = append(names, p.Engine.SQL().Quote(c.Name))
		}
	}
	for _, name := range t.Held {
		if !lost(name) {
			names = append(names, p.Engine.SQL().Quote(name))
		}
	}
	if len(names) == 0 {
		return "1"
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func (p *prover) compare(when string, want, got *state, values bool) {
	for _, c := range append(diff.Schemas(got.schema, want.schema),
		onlyDrops(diff.Schemas(want.schema, got.schema))...) {
		p.differ("%s the schema differs: %s %s %s", when, c.Kind, c.Target(), c.What)
	}
	for table, rows := range want.rows {
		now := got.rows[table]
		if len(rows) != len(now) {
			p.differ("%s %s has %d rows, not %d", when, table, len(now), len(rows))
			continue
		}
		for i := range rows {
			if values && rows[i] != now[i] {
				p.differ("%s a row of %s differs: %s, not %s", when, table, now[i], rows[i])
				break
			}
		}
	}
}

func onlyDrops(list []diff.Change) []diff.Change {
	return slices.DeleteFunc(list, func(c diff.Change) bool { return c.Kind.Sign() != "-" })
}

// objectsAgree compares what is declared in SQL with what the migration made.
func (p *prover) objectsAgree(there []*objects.Object) {
	for _, c := range p.Objects {
		made := objects.Find(there, c.Object().ObjectKey)
		switch {
		case c.Now == nil && made != nil && c.Was != nil && p.drops(c.Was):
			p.differ("after it, %s still exists", objects.Words(c.Was))
		case c.Now != nil && made == nil:
			p.differ("after it, %s does not exist", objects.Words(c.Now))
		case c.Now != nil && !objects.Alike(made, c.Now):
			p.differ("after it, %s is not what is declared", objects.Words(c.Now))
		}
	}
}

// drops tells whether the migration says that it drops an object.
func (p *prover) drops(o *objects.Object) bool {
	return slices.ContainsFunc(p.Migration.Steps, func(s migration.Step) bool {
		return slices.Contains(s.Objects, engine.StepObject{ObjectKey: o.ObjectKey, Gone: true})
	})
}

// objectsAgain compares what is declared in SQL before the migration and after its undo.
func (p *prover) objectsAgain(before, after []*objects.Object) {
	for _, o := range before {
		switch again := objects.Find(after, o.ObjectKey); {
		case again == nil:
			p.differ("after the undo, %s does not exist", objects.Words(o))
		case !objects.Alike(o, again):
			p.differ("after the undo, %s is not what it was", objects.Words(o))
		}
	}
	for _, o := range after {
		if objects.Find(before, o.ObjectKey) == nil {
			p.differ("after the undo, %s exists", objects.Words(o))
		}
	}
}
