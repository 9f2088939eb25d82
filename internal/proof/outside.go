package proof

// This file creates tables on scratch that no migration creates: models declare them as
// outside, others refer to them, and a line of migrations begins where they exist.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// Missing are the tables that wanted declares as outside, and that neither live has nor
// the line of migrations creates, with no more of them than is declared of their columns
// and keys.
func Missing(e runner.Engine, wanted, live *sqlschema.Schema, line []*migration.Migration) []*sqlschema.Table {
	var out []*sqlschema.Table
	for _, t := range wanted.Tables {
		if !t.Outside() || live.Table(t.Name) != nil || live.View(t.Name) != nil {
			continue
		}
		c := t.Clone()
		c.Declared, c.Text, c.ForeignKeys, c.Checks, c.Triggers, c.Others = nil, "", nil, nil, nil, nil
		c.Indexes = slices.DeleteFunc(c.Indexes, func(x *sqlschema.Index) bool { return !x.Unique })
		out = append(out, c)
	}
	if len(out) > 0 {
		created := migration.Creates(line, e)
		out = slices.DeleteFunc(out, func(t *sqlschema.Table) bool { return created[strings.ToLower(t.Name)] })
	}
	return out
}

// MakeOutside creates what is Missing in a database where the line is about to be run.
func MakeOutside(ctx context.Context, db engine.Database, e runner.Engine, wanted *sqlschema.Schema,
	line []*migration.Migration) error {
	if wanted == nil || len(Missing(e, wanted, &sqlschema.Schema{}, line)) == 0 {
		return nil
	}
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	if err := engine.FillWhole(ctx, db, e.DDL().CreateAll(
		&sqlschema.Schema{Tables: Missing(e, wanted, live, line)})); err != nil {
		return fmt.Errorf("a table that is declared as outside cannot be created from what is declared of it: %w", err)
	}
	return nil
}
