package runner

// This file makes what a migration builds on and no migration made: tables from
// before Erbario, and what was added by hand and then declared.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/sqlschema"
)

// MakeFound makes the tables and columns that the migration found when it was
// drafted, where the database has them not: a test database, or a replay from
// nothing.
func MakeFound(ctx context.Context, db engine.Database, m *migration.Migration) error {
	list, err := missingFound(ctx, db, m)
	if err != nil {
		return err
	}
	for _, sql := range list {
		err := db.Step(ctx, sql)
		if beyond := (*engine.BeyondError)(nil); errors.As(err, &beyond) { // scratch is without it
			continue
		}
		if err != nil {
			return &StepError{
				Migration: m.ID,
				SQL:       sql,
				Err:       fmt.Errorf("what the migration expects to exist cannot be created: %w", err),
			}
		}
	}
	return nil
}

// isThere tells whether a table has what was found.
func isThere(t *sqlschema.Table, f migration.Found) bool {
	if f.Beside != "" {
		return slices.ContainsFunc(t.Indexes,
			func(x *sqlschema.Index) bool { return strings.EqualFold(x.Name, f.Beside) }) ||
			slices.ContainsFunc(t.ForeignKeys,
				func(k *sqlschema.ForeignKey) bool { return strings.EqualFold(k.Name, f.Beside) }) ||
			slices.ContainsFunc(t.Triggers,
				func(g *sqlschema.Trigger) bool { return strings.EqualFold(g.Name, f.Beside) }) ||
			slices.ContainsFunc(t.Others,
				func(k *sqlschema.Constraint) bool { return strings.EqualFold(k.Name, f.Beside) })
	}
	return f.Column == "" || t.Column(f.Column) != nil
}

// hasObject tells whether a schema has something that is no table.
func hasObject(s *sqlschema.Schema, kind, name string) bool {
	switch kind {
	case "view":
		if s.View(name) != nil || hasObject(s, sqlschema.OtherView, name) {
			return true
		}
	case "trigger": // of a view
		return slices.ContainsFunc(s.Views, func(v *sqlschema.View) bool {
			return slices.ContainsFunc(v.Triggers, func(g *sqlschema.Trigger) bool { return g.Name == name })
		})
	}
	is := func(o *sqlschema.Other) bool { return o.Kind == kind && o.Name == name }
	return slices.ContainsFunc(s.Others, is) || slices.ContainsFunc(s.Elsewhere, is)
}

// missingFound are the statements for what was found and does not exist.
func missingFound(ctx context.Context, db engine.Database, m *migration.Migration) ([]string, error) {
	if len(m.Found) == 0 {
		return nil, nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	others := slices.ContainsFunc(m.Found, func(f migration.Found) bool { return f.Kind == "schema" })
	if all, ok := engine.As[engine.ManySchemas](db); ok && others {
		list, err := all.OtherSchemas(ctx)
		if err != nil {
			return nil, err
		}
		for _, o := range list {
			s.Elsewhere = append(s.Elsewhere, o.Holds...)
		}
	}
	var out []string
	for _, f := range m.Found {
		t := s.Table(f.Table)
		if f.Kind != "" {
			if hasObject(s, f.Kind, f.Table) {
				continue
			}
		} else if t != nil && isThere(t, f) {
			continue
		}
		for _, st := range f.Make {
			out = append(out, st.SQL)
		}
	}
	return out, nil
}
