package proof

// This file makes tables on scratch that no migration creates: models declare them as
// outside, others refer to them, and a line of migrations begins where they exist.

import (
	"context"
	"fmt"
	"slices"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// Missing are the tables that wanted declares as outside and that live lacks, with no more
// than it declares of their columns and keys.
func Missing(wanted, live *schema.Schema) []*schema.Table {
	var out []*schema.Table
	for _, t := range wanted.Tables {
		if !t.Outside || live.Table(t.Name) != nil || live.View(t.Name) != nil {
			continue
		}
		c := t.Clone()
		c.Outside, c.Text, c.ForeignKeys, c.Checks, c.Triggers, c.Others = false, "", nil, nil, nil, nil
		c.Indexes = slices.DeleteFunc(c.Indexes, func(x *schema.Index) bool { return !x.Unique })
		out = append(out, c)
	}
	return out
}

// MakeOutside makes what is Missing in a database.
func MakeOutside(ctx context.Context, db engine.Database, e engine.Engine, wanted *schema.Schema) error {
	if wanted == nil || !slices.ContainsFunc(wanted.Tables, func(t *schema.Table) bool { return t.Outside }) {
		return nil
	}
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, sql := range e.Recreate(&schema.Schema{Tables: Missing(wanted, live)}) {
		if err := db.Exec(ctx, sql); err != nil {
			return fmt.Errorf("what is declared of a table outside cannot be made: %w", err)
		}
	}
	return nil
}
