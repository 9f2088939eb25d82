package runner

// This file has the numbers of rows go on where they were, in a table that an undo drops
// and that is created again: those of deleted rows are not given twice. The same holds for
// sequences that a migration creates.

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/sqlschema"
)

// numbered are the tables whose rows the database numbers, among those that the undo of a
// migration drops, with the names under which their next numbers are noted.
func numbered(s *sqlschema.Schema, m *migration.Migration) map[string]*sqlschema.Table {
	out := map[string]*sqlschema.Table{}
	for _, step := range m.Steps {
		for _, l := range step.UndoLoses {
			t := s.Table(l.String())
			if t == nil || !l.Is(t.Name, "") {
				continue
			}
			if key := t.Key(); len(key) == 1 && t.Column(key[0]) != nil && t.Column(key[0]).Identity {
				out[m.Kept()+"next_"+t.Name] = t // no table is called so
			}
		}
	}
	return out
}

// noteNumbers notes which numbers the next rows of tables get that an undo is about to drop:
// those of rows that were deleted do not come again.
func noteNumbers(ctx context.Context, db engine.Database, s *sqlschema.Schema, m *migration.Migration) error {
	tables, sequences := numbered(s, m), sequencesOf(s, m)
	if len(tables)+len(sequences) == 0 {
		return nil
	}
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return err
	}
	note := func(name string, next int64, err error) error {
		if err != nil {
			return err
		}
		if err := db.Exec(ctx, "DELETE FROM erbario_since WHERE name = ?", name); err != nil {
			return err
		}
		return db.Exec(ctx, "INSERT INTO erbario_since (name, at, next_number) VALUES (?, ?, ?)", name, nowText(), next)
	}
	for name, t := range tables {
		next, err := db.NextNumber(ctx, t)
		if err := note(name, next, err); err != nil {
			return err
		}
	}
	if by, ok := engine.As[engine.Sequencer](db); ok {
		for name, sequence := range sequences {
			next, err := by.NextOf(ctx, sequence)
			if err := note(name, next, err); err != nil {
				return err
			}
		}
	}
	return nil
}

// sequencesOf are the sequences that a migration creates and its undo drops, with the names
// under which their next values are noted.
func sequencesOf(s *sqlschema.Schema, m *migration.Migration) map[string]string {
	out := map[string]string{}
	for _, step := range m.Steps {
		for _, o := range step.Objects {
			if !makesSequence(step, o) {
				continue
			}
			for _, x := range s.Others {
				if x.Kind == "sequence" && strings.EqualFold(x.Name, o.Name) {
					out[m.Kept()+"next_"+x.Name] = x.Name
				}
			}
		}
	}
	return out
}

// makesSequence tells whether an object of a step is a sequence that it creates.
func makesSequence(step migration.Step, o engine.StepObject) bool {
	return o.Kind == "sequence" && !o.Gone && slices.ContainsFunc(step.Undo, func(st migration.Statement) bool {
		return strings.HasPrefix(st.SQL, "DROP SEQUENCE ")
	})
}

// hasNumbers tells whether the undo of a migration drops a table or a sequence.
func hasNumbers(m *migration.Migration) bool {
	return slices.ContainsFunc(m.Steps, func(s migration.Step) bool {
		return len(s.UndoLoses) > 0 ||
			slices.ContainsFunc(s.Objects, func(o engine.StepObject) bool { return makesSequence(s, o) })
	})
}

// reserveNumbers has tables that a migration made again go on with the numbers that were
// noted.
func reserveNumbers(ctx context.Context, db engine.Database, m *migration.Migration) error {
	if !hasNumbers(m) {
		return nil
	}
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return err
	}
	rows, err := db.Select(ctx, "SELECT name, next_number FROM erbario_since WHERE next_number IS NOT NULL")
	if err != nil || len(rows) == 0 {
		return err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	tables, sequences := numbered(s, m), sequencesOf(s, m)
	by, _ := engine.As[engine.Sequencer](db)
	for _, r := range rows {
		next, _ := strconv.ParseInt(r[1], 10, 64)
		if sequence := sequences[r[0]]; sequence != "" && by != nil {
			if err := by.StartAt(ctx, sequence, next); err != nil {
				return err
			}
		}
		if t := tables[r[0]]; t != nil && next > 1 {
			if err := db.Reserve(ctx, t, next-1); err != nil {
				return err
			}
		}
	}
	return nil
}

// HandNumbers gives the numbers that were noted for tables of one migration to another, in
// whose place that comes; renamed is the name that a table has there.
func HandNumbers(ctx context.Context, db engine.Database, old, now *migration.Migration,
	renamed func(table string) string) error {
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return err
	}
	rows, err := db.Select(ctx, "SELECT name FROM erbario_since WHERE next_number IS NOT NULL")
	if err != nil {
		return err
	}
	for _, r := range rows {
		table, ok := strings.CutPrefix(r[0], old.Kept()+"next_")
		to := now.Kept() + "next_" + renamed(table)
		if !ok || to == r[0] {
			continue
		}
		if err := db.Exec(ctx, "DELETE FROM erbario_since WHERE name = ?", to); err != nil {
			return err
		}
		if err := db.Exec(ctx, "UPDATE erbario_since SET name = ? WHERE name = ?", to, r[0]); err != nil {
			return err
		}
	}
	return nil
}
