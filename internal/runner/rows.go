package runner

// This file keeps the reference rows that an undo takes away, with all that people
// wrote into them since, and puts them back when the migration is applied again.

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
)

// inserted are the reference rows that a step inserts.
func inserted(s *migration.Step) []engine.StepRows {
	return slices.DeleteFunc(slices.Clone(s.Rows), func(r engine.StepRows) bool { return r.Gone })
}

// keptRows is the name of the table for reference rows that an undo takes away.
func keptRows(m *migration.Migration, table string) string { return keptByUndo(m, "rows_"+table) }

// rowsBefore is the name of the table for the values that rows had before a step
// set them.
func rowsBefore(m *migration.Migration, table string) string {
	return schema.Cut(schema.Kept(m.ID) + "rows_" + table)
}

// there tells whether a kept table is there.
func there(ctx context.Context, db engine.Database, name string) (bool, error) {
	list, err := db.Kept(ctx, name)
	return slices.Contains(list, name), err
}

// removal is the taking out of the rows that a step inserted, but those that were
// there before it.
func removal(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, r engine.StepRows, t *schema.Table) (engine.Step, error) {
	var keys []string
	for _, k := range r.Keys {
		keys = append(keys, e.Text(k))
	}
	where := fmt.Sprintf("%s IN (%s)%s", e.Quote(r.By), strings.Join(keys, ", "), live(e, t))
	before := rowsBefore(m, t.Name)
	if ok, err := there(ctx, db, before); err != nil {
		return engine.Step{}, err
	} else if ok {
		where += fmt.Sprintf(" AND %s NOT IN (SELECT %s FROM %s)", e.Quote(r.By), e.Quote(r.By), e.Quote(before))
	}
	return e.Remove(engine.Removal{Table: t, Where: where, Keep: keptRows(m, t.Name), What: "reference rows of " + t.Name}), nil
}

// live leaves out rows that are marked as deleted: they are no reference rows.
func live(e engine.Engine, t *schema.Table) string {
	if t.SoftDelete == "" {
		return ""
	}
	return " AND " + e.Quote(t.SoftDelete) + " IS NULL"
}

// wholeTable tells whether the migration's undo drops the table, and so keeps it
// whole.
func wholeTable(m *migration.Migration, table string) bool {
	return slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return slices.Contains(s.UndoLoses, table) })
}

// keepRows takes the rows that a step inserted out and keeps them, before its
// undo would delete them.
func keepRows(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, step *migration.Step) error {
	return eachInserted(ctx, db, step, func(r engine.StepRows, _ *schema.Schema, t *schema.Table) error {
		if wholeTable(m, t.Name) {
			return nil
		}
		s, err := removal(ctx, db, e, m, r, t)
		if err != nil {
			return err
		}
		return run(ctx, db, s.Apply)
	})
}

// restoreRows puts the rows that an earlier undo of a step kept in the place of
// those that it has just inserted anew: as they were, with what people wrote into
// them; with declared, but for the values that are declared. Where somebody made
// such a row meanwhile, what was kept stays apart.
func restoreRows(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, step *migration.Step, declared bool) error {
	return eachInserted(ctx, db, step, func(r engine.StepRows, s *schema.Schema, t *schema.Table) error {
		if !declared {
			r.Columns = nil
		}
		if wholeTable(m, t.Name) {
			for _, name := range undoNames(m, t.Name) {
				if kept := s.Table(name); kept != nil && kept.Column(r.By) != nil {
					if err := run(ctx, db, takePlace(e, r, t, kept)); err != nil {
						return err
					}
				}
			}
			return putBackInto(ctx, db, e, m, s, t)
		}
		kept, by := s.Table(keptRows(m, t.Name)), e.Quote(r.By)
		if kept == nil {
			return nil
		}
		if before := s.Table(rowsBefore(m, t.Name)); before != nil {
			n, err := db.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s IN (SELECT %s FROM %s)", e.Quote(kept.Name), by, by, e.Quote(before.Name)))
			if err != nil {
				return err
			}
			if n > 0 {
				return setApart(ctx, db, e, m, kept.Name)
			}
		}
		back, err := removal(ctx, db, e, m, r, t)
		if err != nil {
			return err
		}
		return run(ctx, db, append(takePlace(e, r, t, kept), back.Undo...))
	})
}

// makeRoom lets the rows that a step inserts have other numbers than those that are
// kept of the whole table and come back after them.
func makeRoom(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, step *migration.Step) error {
	return eachInserted(ctx, db, step, func(_ engine.StepRows, s *schema.Schema, t *schema.Table) error {
		key := t.Key()
		if !wholeTable(m, t.Name) || len(key) != 1 || !t.PrimaryKey.Autoincrement && !t.Column(key[0]).Identity {
			return nil
		}
		for _, name := range undoNames(m, t.Name) {
			kept := s.Table(name)
			if kept == nil || kept.Column(key[0]) == nil {
				continue
			}
			rows, err := db.Select(ctx, fmt.Sprintf("SELECT coalesce(max(%s), 0) FROM %s", e.Quote(key[0]), e.Quote(name)))
			if err != nil {
				return err
			}
			last, err := strconv.ParseInt(rows[0][0], 10, 64)
			if err != nil {
				return err
			}
			if err := db.Reserve(ctx, t, last); err != nil {
				return err
			}
		}
		return nil
	})
}

// takePlace gives the statements that give kept rows the declared values of those
// that were just inserted, and take these away.
func takePlace(e engine.Engine, r engine.StepRows, t, kept *schema.Table) []string {
	q := e.Quote
	var keys, set, out []string
	for _, k := range r.Keys {
		keys = append(keys, e.Text(k))
	}
	live := live(e, t)
	fresh := fmt.Sprintf("SELECT %s FROM %s WHERE %s IN (%s)%s", q(r.By), q(t.Name), q(r.By), strings.Join(keys, ", "), live)
	for _, c := range r.Columns {
		if kept.Column(c) != nil && t.Column(c) != nil {
			set = append(set, fmt.Sprintf("%s = (SELECT t.%s FROM %s AS t WHERE t.%s = %s.%s%s)", q(c), q(c), q(t.Name), q(r.By), q(kept.Name), q(r.By), strings.Replace(live, " AND ", " AND t.", 1)))
		}
	}
	if len(set) > 0 {
		out = append(out, fmt.Sprintf("UPDATE %s SET %s WHERE %s IN (%s)%s", q(kept.Name), strings.Join(set, ", "), q(r.By), fresh, live))
	}
	return append(out, fmt.Sprintf("DELETE FROM %s WHERE %s IN (%s) AND %s IN (SELECT %s FROM %s WHERE 1 = 1%s)%s", q(t.Name), q(r.By), strings.Join(keys, ", "), q(r.By), q(r.By), q(kept.Name), live, live))
}

// stayed tells which rows a migration was to take out and did not, since others
// refer to them.
func stayed(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, tell func(table string, keys []string)) error {
	var gone []engine.StepRows
	for _, step := range m.Steps {
		for _, r := range step.Rows {
			if r.Gone {
				gone = append(gone, r)
			}
		}
	}
	if len(gone) == 0 {
		return nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, r := range gone {
		t := s.Table(r.Table)
		if t == nil || t.Column(r.By) == nil {
			continue
		}
		var keys []string
		for _, k := range r.Keys {
			keys = append(keys, e.Text(k))
		}
		by := e.Quote(r.By)
		rows, err := db.Select(ctx, fmt.Sprintf("SELECT %s FROM %s WHERE %s IN (%s)%s ORDER BY 1", by, e.Quote(t.Name), by, strings.Join(keys, ", "), live(e, t)))
		if err != nil {
			return err
		}
		var left []string
		for _, row := range rows {
			left = append(left, row[0])
		}
		if len(left) > 0 {
			tell(t.Name, left)
		}
	}
	return nil
}

func eachInserted(ctx context.Context, db engine.Database, step *migration.Step, f func(engine.StepRows, *schema.Schema, *schema.Table) error) error {
	list := inserted(step)
	if len(list) == 0 {
		return nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	whole := list[0] // a long list of keys stands on several lines
	whole.Keys = nil
	for _, r := range list {
		whole.Keys = append(whole.Keys, r.Keys...)
	}
	t := s.Table(whole.Table)
	if t == nil || t.Column(whole.By) == nil {
		return nil
	}
	return f(whole, s, t)
}

func run(ctx context.Context, db engine.Database, list []string) error {
	for _, sql := range list {
		if err := db.Step(ctx, sql); err != nil {
			return fmt.Errorf("reference rows cannot be kept or put back: %w", err)
		}
	}
	return nil
}
