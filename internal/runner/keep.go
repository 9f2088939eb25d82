package runner

// This file keeps what an undo would destroy, and puts it back when the
// migration is applied again, so that taking back, correcting and applying again
// leaves the rows as they were. What an apply destroys is kept by the
// migration's own steps.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
)

// keptPrefix begins the names of all tables of values kept for a migration, and
// keptByUndo those of values that its undo put aside.
func keptPrefix(m *migration.Migration) string {
	return schema.KeptPrefix + strings.ToLower(m.Stamp()) + "_"
}

func keptByUndo(m *migration.Migration, table string) string {
	return schema.Cut(keptPrefix(m) + "undo_" + table)
}

// asideStatements are the statements that keep what the migration's undo
// destroys. They run before its first step, while everything is there.
func asideStatements(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) ([]string, error) {
	lost := map[string]bool{}
	for _, step := range m.Steps {
		for _, name := range step.UndoLoses {
			lost[name] = true
		}
	}
	if len(lost) == 0 {
		return nil, nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	var out []string
	for _, t := range s.Tables {
		var columns []string
		if !lost[t.Name] {
			for _, c := range t.Columns {
				if lost[t.Name+"."+c.Name] {
					columns = append(columns, c.Name)
				}
			}
			if len(columns) == 0 {
				continue
			}
		}
		if t.Options.Virtual != "" || len(columns) > 0 && t.Unkeyed() {
			continue
		}
		n, err := db.Count(ctx, "SELECT 1 FROM "+e.Quote(t.Name))
		if err != nil {
			return nil, err
		}
		if n == 0 {
			continue
		}
		name := keptByUndo(m, t.Name)
		if len(columns) == 0 && s.Table(name) != nil {
			return nil, fmt.Errorf("rows of %s were kept by an earlier undo and never found their way back: look at %s, and drop it when you need it no more", t.Name, name)
		}
		out = append(out, e.KeepAside(t, columns, name)...)
	}
	return out, nil
}

func keepAside(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	list, err := asideStatements(ctx, db, e, m)
	if err != nil {
		return err
	}
	for _, sql := range list {
		if err := db.Step(ctx, sql); err != nil {
			return fmt.Errorf("what the undo of %s would destroy cannot be kept: %w", m.ID, err)
		}
	}
	return nil
}

// putBack brings back what an earlier undo of the migration kept.
func putBack(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.UndoLoses) > 0 }) {
		return nil
	}
	names, err := db.Kept(ctx, keptPrefix(m)+"undo_")
	if err != nil || len(names) == 0 {
		return err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, t := range s.Tables {
		kept := s.Table(keptByUndo(m, t.Name))
		if kept == nil {
			continue
		}
		for _, sql := range e.PutBack(t, kept) {
			if err := db.Step(ctx, sql); err != nil {
				return fmt.Errorf("what an undo kept of %s cannot be put back (it stays in %s): %w", t.Name, kept.Name, err)
			}
		}
	}
	return dropEmptyKept(ctx, db, e, m)
}

// dropEmptyKept drops the migration's tables of kept values once every value is
// back in its row. What found no row stays there.
func dropEmptyKept(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	names, err := db.Kept(ctx, keptPrefix(m))
	if err != nil {
		return err
	}
	for _, name := range names {
		n, err := db.Count(ctx, "SELECT 1 FROM "+e.Quote(name))
		if err != nil {
			return err
		}
		if n == 0 {
			if err := db.Exec(ctx, "DROP TABLE "+e.Quote(name)); err != nil {
				return err
			}
		}
	}
	return nil
}
