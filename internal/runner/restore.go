package runner

// This file restores what an undo kept, when the migration is applied again.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// restore brings back what an earlier undo of the migration kept. after, if it is not nil, is what
// is still to be done with the kept tables, when all that is back is found to hold together: on
// servers where changes of tables commit, a failure before that takes the rest back with it.
func restore(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) (after func() error,
	err error) {
	if !hasNumbers(m) {
		return nil, nil
	}
	if m.Atomic() { // else it is done before, since it ends a transaction on some servers
		if err := reserveNumbers(ctx, db, m); err != nil {
			return nil, err
		}
	}
	names, err := db.Kept(ctx, m.Kept()+"undo_")
	if err != nil || len(names) == 0 {
		return nil, err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	if err := db.EnforceReferences(ctx, false); err != nil { // rows may refer to each other in circles
		return nil, err
	}
	var later []func() error
	for _, t := range sqlschema.ParentsFirst(s) {
		after, err := restoreInto(ctx, db, e, m, s, t)
		if err != nil {
			return nil, err
		}
		later = append(later, after...)
	}
	return func() error {
		for _, f := range later {
			if err := f(); err != nil {
				return err
			}
		}
		return settleKept(ctx, db, e, m, false)
	}, nil
}

// RestoreError is what an undo kept of a table and that table does not take.
type RestoreError struct {
	Table, Kept, Migration string
	Err                    error
}

func (e *RestoreError) Error() string {
	return fmt.Sprintf(
		"what an undo kept from %s cannot be restored (it remains in %s; erbario redraft %s asks for what it lacks): %v",
		e.Table, e.Kept, e.Migration, e.Err)
}

func (e *RestoreError) Unwrap() error { return e.Err }

// restoreInto brings back what an earlier undo kept of one table. after is what is still to
// be done with the kept tables.
func restoreInto(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, s *sqlschema.Schema,
	t *sqlschema.Table) (after []func() error, err error) {
	names := undoNames(m, t.Name)
	if !m.Atomic() { // what was kept last, when less was there, comes back first
		slices.Reverse(names)
	}
	for _, name := range names {
		kept := s.Table(name)
		if kept == nil {
			continue
		}
		left := unplaced(t, kept)
		for _, sql := range e.DDL().Restore(t, kept, left) {
			put := func() error {
				if err := db.Step(ctx, sql); err != nil {
					return &RestoreError{t.Name, kept.Name, m.ID, err}
				}
				return nil
			}
			if strings.HasPrefix(sql, "DROP TABLE ") {
				after = append(after, put)
			} else if err := put(); err != nil {
				return nil, err
			}
		}
		if left {
			after = append(after, func() error { return retire(ctx, db, e, m, kept.Name) })
		}
	}
	return after, nil
}

// settleKept drops the tables of what the migration kept once every value is back
// in its row. What found no row is set apart: it stays kept, and is in nobody's
// way when the same is kept again.
func settleKept(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, undo bool) error {
	names, err := db.Kept(ctx, m.Kept())
	if err != nil || len(names) == 0 {
		return err
	}
	byUndo := m.Kept() + "undo_"
	for _, name := range names {
		n, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().QuoteTable(name))
		if err != nil {
			return err
		}
		switch lower := strings.ToLower(name); {
		case strings.HasPrefix(lower, m.Kept()+"left_"):
		case strings.HasPrefix(lower, byUndo) == undo: // just kept by this very run, and looked into by the next
		case n == 0:
			if err := db.Exec(ctx, "DROP TABLE "+e.SQL().QuoteTable(name)); err != nil {
				return err
			}
		default:
			if err := retire(ctx, db, e, m, name); err != nil {
				return err
			}
		}
	}
	return noteSince(ctx, db, m)
}

// unplaced tells whether kept holds values of a column that the table has no
// more: they stay kept, but are not put back again.
func unplaced(t, kept *sqlschema.Table) bool {
	return slices.ContainsFunc(kept.Columns, func(c *sqlschema.Column) bool {
		return t.Column(c.Name) == nil && !slices.Contains(t.Held, c.Name) && !strings.HasPrefix(c.Name, "key_") &&
			!strings.HasPrefix(c.Name, Replaced(""))
	})
}

// ByKey tells whether a kept table holds values of columns by the keys of their rows, and
// not whole rows of the table of; nil: it is not known how that looks.
func ByKey(kept, of *sqlschema.Table) bool {
	if len(kept.Columns) == 0 { // a virtual table as it was
		return false
	}
	first := kept.Columns[0].Name // the keys come first
	return strings.HasPrefix(first, "key_") && (of == nil || of.Column(first) == nil)
}

// Replaced is the name of a column of kept rows whose values are in another now.
func Replaced(column string) string { return schema.Cut(schema.OwnPrefix + "was_" + column) }

// leftName is the name under which nothing looks for a kept table again.
func leftName(m *migration.Migration, name string) string {
	rest := strings.TrimPrefix(name[min(len(name), len(m.Kept())):], "undo_")
	return schema.Cut(m.Kept() + "left_" + unsealed(rest))
}

// retire gives a kept table a name under which nothing looks for it again.
func retire(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, name string) error {
	taken, err := db.Kept(ctx, m.Kept()+"left_")
	if err != nil {
		return err
	}
	to := leftName(m, name)
	for i := 2; slices.Contains(taken, to); i++ {
		to = schema.Cut(fmt.Sprintf("%s_%d", leftName(m, name), i))
	}
	return RenameKept(ctx, db, e, name, "", to)
}

// Retire gives what the undo of a migration put aside names under which nothing
// looks for it again: the migration is gone.
func Retire(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) error {
	list, err := ArchivedBy(ctx, db, m)
	for _, p := range list {
		if err == nil {
			err = retire(ctx, db, e, m, p.Name)
		}
	}
	return err
}

// Restored is what came back into the rows of a table from what was kept.
type Restored struct {
	Table string
	Rows  int64 // that have their values again
	Left  int64 // kept rows that found no row, or hold more than has a column now, and stay
	In    string
	Whole bool // Left are among Rows: they came back, and hold more
}

// restoring counts what is kept for a migration, and gives a function that tells
// afterwards how much of it came back.
func restoring(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	undo bool) (func() ([]Restored, error), error) {
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool {
		if !undo {
			return len(s.UndoLoses) > 0
		}
		return slices.ContainsFunc(s.Undo,
			func(st migration.Statement) bool { return strings.Contains(st.SQL, schema.KeptPrefix) })
	}) {
		return func() ([]Restored, error) { return nil, nil }, nil
	}
	r := &restoration{ctx: ctx, db: db, e: e, m: m, undo: undo, whose: map[string]string{}, whole: map[string]bool{}}
	var err error
	if r.before, r.order, err = r.count(); err != nil {
		return nil, err
	}
	if r.old, err = db.Kept(ctx, m.Kept()+"left_"); err != nil {
		return nil, err
	}
	if !undo {
		list, err := ArchivedBy(ctx, db, m)
		if err != nil {
			return nil, err
		}
		live := &sqlschema.Schema{}
		if len(list) > 0 {
			if live, err = db.Inspect(ctx); err != nil {
				return nil, err
			}
		}
		for _, p := range list {
			r.whose[p.Name] = p.Table
			kept := live.Table(p.Name)
			r.whole[p.Name] = kept != nil && !ByKey(kept, live.Table(p.Table))
		}
	}
	return r.restored, nil
}

// restoration is what was kept, before it is restored.
type restoration struct {
	ctx    context.Context
	db     engine.Database
	e      Engine
	m      *migration.Migration
	undo   bool
	order  []string // the names of the kept tables
	before map[string]int64
	old    []string          // names of what was left over earlier
	whose  map[string]string // the tables of which they are, by their names
	whole  map[string]bool   // they hold all rows of their tables
}

// count counts the rows that are kept: an undo brings back what the apply kept, and the other
// way round.
func (r *restoration) count() (map[string]int64, []string, error) {
	names, err := r.db.Kept(r.ctx, r.m.Kept())
	out := map[string]int64{}
	var order []string
	for _, n := range names {
		lower := strings.ToLower(n)
		if strings.HasPrefix(lower, r.m.Kept()+"undo_") == r.undo || strings.HasPrefix(lower, r.m.Kept()+"left_") {
			continue
		}
		if out[n], err = r.db.Count(r.ctx, "SELECT 1 FROM "+r.e.SQL().QuoteTable(n)); err != nil {
			return nil, nil, err
		}
		order = append(order, n)
	}
	return out, order, err
}

// restored is what came back.
func (r *restoration) restored() ([]Restored, error) {
	if len(r.order) == 0 {
		return nil, nil
	}
	after, _, err := r.count()
	if err != nil {
		return nil, err
	}
	apart, err := r.db.Kept(r.ctx, r.m.Kept()+"left_")
	if err != nil {
		return nil, err
	}
	apart = slices.DeleteFunc(apart, func(n string) bool { return slices.Contains(r.old, n) })
	var out []Restored
	for _, n := range r.order {
		table := r.tableOf(n)
		one := Restored{Table: table, Left: after[n], In: n}
		for _, l := range apart {
			if strings.HasPrefix(l, leftName(r.m, n)) {
				if one.Left, err = r.db.Count(r.ctx, "SELECT 1 FROM "+r.e.SQL().QuoteTable(l)); err != nil {
					return nil, err
				}
				one.In = l
			}
		}
		one.Rows = r.before[n] - one.Left
		if one.Left == r.before[n] && r.whole[n] { // each came back
			one.Rows, one.Whole = one.Left, true
		}
		if i := slices.IndexFunc(out, func(o Restored) bool { return o.Table == table }); i >= 0 {
			out[i].Rows = max(out[i].Rows, one.Rows) // other columns of the same rows
			out[i].Left += one.Left
		} else if one.Rows > 0 || one.Left > 0 {
			out = append(out, one)
		}
	}
	return out, nil
}

// tableOf is the table whose rows are kept under a name.
func (r *restoration) tableOf(name string) string {
	table := name[len(r.m.Kept()):]
	for _, prefix := range []string{"undo_", "deleted_", "rows_", "gone_", "former_"} {
		table = strings.TrimPrefix(table, prefix)
	}
	if t, ok := r.whose[name]; ok {
		table = t
	}
	if r.undo { // what was called otherwise until it was dropped has its name again
		table, _ = migration.NamesBefore(r.m.Renames(r.e), table, "")
	}
	return table
}
