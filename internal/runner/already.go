package runner

// This file tells what a migration is about to add and the database has already, though no
// migration made it there: added by hand here, declared, and drafted where it was missing.

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

// AlreadyThere are the tables, and the columns as table.column, that s has and a migration
// adds. What it frees the name of itself, and what it makes only where it is missing, does
// not count.
func AlreadyThere(m *migration.Migration, e Engine, s *sqlschema.Schema) []string {
	var freed, out []string
	for _, step := range m.Steps {
		for _, l := range step.Loses {
			freed = append(freed, l.String())
		}
	}
	for _, r := range m.Renames(e) {
		freed = append(freed, strings.TrimSuffix(r.Table+"."+r.Column, "."))
	}
	for _, f := range m.Found {
		freed = append(freed, strings.TrimSuffix(f.Table+"."+f.Column, "."))
	}
	for _, step := range m.Steps {
		for _, l := range step.UndoLoses {
			t, name := s.Table(l.Table), l.String()
			if t == nil || l.Column != "" && t.Column(l.Column) == nil || slices.Contains(freed, name) ||
				slices.Contains(out, name) {
				continue
			}
			out = append(out, name)
		}
	}
	return out
}

// AlreadyThereError is a migration that cannot be applied for what is AlreadyThere.
type AlreadyThereError struct {
	Migration string
	Names     []string
}

func (e *AlreadyThereError) Error() string {
	flags := make([]string, len(e.Names))
	for i, n := range e.Names {
		flags[i] = " --take-over " + n
	}
	exists, it := "exists", "it"
	if len(e.Names) > 1 {
		exists, it = "exist", "them"
	}
	return fmt.Sprintf(
		"%s %s here already, not created by a migration, and %[4]s adds %[5]s. To add %[5]s with the present values: erbario apply%[6]s. To record %[4]s, if all of it is here as it would be made: erbario adopt --at %[4]s",
		strings.Join(e.Names, ", "), exists, it, e.Migration, it, strings.Join(flags, ""))
}

// already says instead of a step's error what is the reason for it, if it is that.
func already(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, err error) error {
	var step *StepError
	var half *InterruptedError
	if !errors.As(err, &step) || errors.As(err, &half) || ctx.Err() != nil {
		return err
	}
	s, failed := db.Inspect(ctx)
	if failed != nil {
		return err
	}
	if names := AlreadyThere(m, e, s); len(names) > 0 {
		return &AlreadyThereError{m.ID, names}
	}
	return err
}

// KeepFor puts the values of tables and columns where the undo of a migration would put
// them, so that they come back when it is applied.
func KeepFor(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, names []string) error {
	alone := *m
	alone.Steps = []migration.Step{{}}
	for _, name := range names {
		alone.Steps[0].UndoLoses = append(alone.Steps[0].UndoLoses, engine.ReadLoss(name))
	}
	return archive(ctx, db, e, &alone)
}

// makeRoom makes room for a migration that is not one transaction, before it begins.
func makeRoom(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, o Options) error {
	if o.Room == nil {
		return nil
	}
	if e.Caps().CommitsChanges {
		if err := execAll(ctx, db, e.OwnTables().History); err != nil {
			return err
		}
		return o.Room(m)
	}
	return inTurn(ctx, db, o.Wait, func() error {
		if err := execAll(ctx, db, e.OwnTables().History); err != nil {
			return err
		}
		if err := o.Room(m); err != nil {
			return err
		}
		return db.Commit(ctx)
	})
}
