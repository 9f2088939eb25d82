package runner

// This file notes since when an undo has kept values: the time in a migration's id is that
// of its draft. The next numbers of dropped tables are noted in the same table.

import (
	"context"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// sinceName is the table in which is noted since when an undo has kept values.
const sinceName = "erbario_since"

// noteSince notes that the tables of values kept for a migration are kept from now on,
// those of which that is not known yet, and forgets those that do not exist any more.
func noteSince(ctx context.Context, db engine.Database, m *migration.Migration) error {
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return err // scratch, or a database of an older version
	}
	names, err := db.Kept(ctx, m.Kept())
	if err != nil {
		return err
	}
	since, err := keptSince(ctx, db)
	if err != nil {
		return err
	}
	for _, n := range names {
		if _, ok := since[n]; !ok {
			if err := db.Exec(ctx, "INSERT INTO erbario_since (name, at) VALUES (?, ?)", n, nowText()); err != nil {
				return err
			}
		}
	}
	for n := range since {
		if strings.HasPrefix(strings.ToLower(n), m.Kept()) && !slices.Contains(names, n) {
			if err := db.Exec(ctx, "DELETE FROM erbario_since WHERE name = ? AND next_number IS NULL", n); err != nil {
				return err
			}
		}
	}
	return nil
}

// keptSince reads since when tables of values are kept, by their names.
func keptSince(ctx context.Context, db engine.Database) (map[string]time.Time, error) {
	out := map[string]time.Time{}
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return out, err
	}
	rows, err := db.Select(ctx, "SELECT name, at FROM erbario_since")
	for _, r := range rows {
		if at, err := time.Parse(time.DateTime, r[1]); err == nil {
			out[r[0]] = at
		}
	}
	return out, err
}
