package runner

// This file looks after what destructive steps preserved: what there is, and
// dropping it when nobody needs it any more.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Kept is what a step would have destroyed: a table of values, or a column that stays
// in its table, renamed.
type Kept struct {
	Name      string
	In        string    // the table of a column that stays in it
	Type      string    // of that column, with its collation
	What      string    // such as specimens.label, or the table itself
	Migration string    // its id; empty: neither its file nor its row of history is there
	Applied   bool      // it is applied, so that its undo puts this back
	Since     time.Time // zero: nobody noted it
	Rows      int64
	Bytes     int64
}

// KeptTables lists what is kept, the oldest first. ids are those of the files.
func KeptTables(ctx context.Context, db engine.Database, e Engine, ids []string) ([]Kept, error) {
	names, err := db.Kept(ctx, schema.KeptPrefix)
	if err != nil || len(names) == 0 && !e.Caps().Journal { // else columns may be kept in place
		return nil, err
	}
	applied, err := History(ctx, db)
	if err != nil {
		return nil, err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	since, err := keptSince(ctx, db)
	if err != nil {
		return nil, err
	}
	var out []Kept
	from := func(name string) (k Kept, rest string) {
		k, rest = Kept{Name: name}, migration.KeptOfUnknown(name)
		is := func(id string) bool {
			of, ok := migration.KeptRest(id, name)
			if ok {
				rest = of
			}
			return ok
		}
		for _, a := range applied {
			if is(a.ID) {
				k.Migration, k.Applied = a.ID, true
				if at, err := time.Parse(time.DateTime, a.AppliedAt); err == nil {
					k.Since = at
				}
			}
		}
		if at, ok := since[name]; ok {
			k.Since = at
		}
		if i := slices.IndexFunc(ids, is); i >= 0 && k.Migration == "" {
			k.Migration = ids[i]
		}
		return k, rest
	}
	for _, t := range s.Tables {
		for _, c := range t.Aside {
			k, rest := from(c.Name)
			k.In, k.Type, k.What = t.Name, c.SQLType, t.Name+"."+rest
			if c.Collation != "" {
				k.Type += " COLLATE " + c.Collation
			}
			if k.Rows, err = db.Count(ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL",
				e.SQL().QuoteTable(t.Name), e.SQL().Quote(c.Name))); err != nil {
				return nil, err
			}
			if k.Rows > 0 {
				out = append(out, k)
			}
		}
	}
	for _, name := range names {
		t := s.Table(name)
		if t == nil {
			continue
		}
		k, rest := from(name)
		k.What = keptWhat(rest, t, s)
		if k.Rows, err = db.Count(ctx, "SELECT 1 FROM "+e.SQL().QuoteTable(name)); err != nil {
			return nil, err
		}
		if k.Bytes, err = db.TableSize(ctx, name); err != nil {
			return nil, err
		}
		if k.Rows > 0 {
			out = append(out, k)
		}
	}
	slices.SortStableFunc(out, func(a, b Kept) int { return a.Since.Compare(b.Since) })
	return out, nil
}

// keptWhat says in words what a kept table holds.
func keptWhat(rest string, t *sqlschema.Table, live *sqlschema.Schema) string {
	why := ""
	for _, w := range []struct{ prefix, why string }{{"undo_", ", dropped by an undo"},
		{"left_", ", which has no column now"}} {
		if r, ok := strings.CutPrefix(rest, w.prefix); ok {
			rest, why = unsealed(r), w.why
			if of := live.Table(rest); w.prefix == "left_" && of != nil && !unplaced(of, t) {
				why = ", whose rows no longer exist"
			}
		}
	}
	if r, ok := strings.CutPrefix(rest, "rows_"); ok && why != "" {
		return "reference rows of " + r + why
	}
	if r, ok := strings.CutPrefix(rest, "rows_"); ok {
		return "old values of reference rows of " + r + why
	}
	if r, ok := strings.CutPrefix(rest, "former_"); ok {
		return "reference rows of " + r + " that are no longer declared" + why
	}
	if r, ok := strings.CutPrefix(rest, "gone_"); ok {
		return "reference rows of " + r + why
	}
	if r, ok := strings.CutPrefix(rest, "deleted_"); ok {
		return "deleted rows of " + r + why
	}
	var columns []string
	keyed := false
	for _, c := range t.Columns {
		switch {
		case strings.HasPrefix(c.Name, "key_"):
			keyed = true
		case !strings.HasPrefix(c.Name, "filled_"):
			columns = append(columns, rest+"."+c.Name)
		}
	}
	if !keyed {
		return "table " + rest + why
	}
	return strings.Join(columns, ", ") + why
}

// DropKept deletes what is kept for good. The table itself stays, empty, where
// the undo of an applied migration looks into it.
func DropKept(ctx context.Context, db engine.Database, e Engine, list []Kept, wait time.Duration) error {
	if err := RefuseInterrupted(ctx, db, e); err != nil { // its way back may want it
		return err
	}
	noted, err := there(ctx, db, sinceName)
	if err != nil {
		return err
	}
	if err := db.Begin(ctx, wait); err != nil {
		return err
	}
	for _, k := range list {
		sql := "DROP TABLE " + e.SQL().QuoteTable(k.Name)
		switch {
		case k.In != "" && k.Applied: // the undo finds it, with nothing in it
			sql = fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s, ADD COLUMN %s %s", e.SQL().QuoteTable(k.In),
				e.SQL().Quote(k.Name), e.SQL().Quote(k.Name), k.Type)
		case k.In != "":
			sql = fmt.Sprintf("ALTER TABLE %s DROP COLUMN %s", e.SQL().QuoteTable(k.In), e.SQL().Quote(k.Name))
		case k.Applied:
			sql = "DELETE FROM " + e.SQL().QuoteTable(k.Name)
		}
		if err := db.Exec(ctx, sql); err != nil {
			db.Rollback()
			return fmt.Errorf("%s cannot be dropped: %w", k.Name, err)
		}
		if noted {
			if err := db.Exec(ctx, "DELETE FROM erbario_since WHERE name = ?", k.Name); err != nil {
				return errors.Join(err, db.Rollback())
			}
		}
	}
	return db.Commit(ctx)
}
