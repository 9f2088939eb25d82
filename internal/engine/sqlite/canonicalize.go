package sqlite

// This file takes over from what is there what makes no difference to SQLite.

import (
	"context"

	"erbario/internal/sqlschema"
)

// Canonicalize gives wanted what makes no difference, as live has it: the number of a row is
// never missing, whether a table says so or not.
func (d *database) Canonicalize(_ context.Context, wanted, live *sqlschema.Schema) error {
	for _, t := range wanted.Tables {
		old := live.Table(t.Name)
		if old == nil {
			continue
		}
		name := rowidKey(t)
		if a, b := t.Column(name), old.Column(name); name != "" && b != nil && rowidKey(old) == b.Name {
			a.NotNull, a.Conflict = b.NotNull, b.Conflict
		}
	}
	return nil
}
