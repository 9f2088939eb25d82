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

// keptByUndo is the name of the table into which the migration's undo puts values
// of a table.
func keptByUndo(m *migration.Migration, table string) string {
	return schema.Cut(m.Kept() + "undo_" + table)
}

// Archived is a table of values that the undo of a migration put aside.
type Archived struct {
	Name  string // of the kept table
	Table string // whose values they are
}

// ArchivedBy lists what the undo of a migration put aside and has not been put
// back.
func ArchivedBy(ctx context.Context, db engine.Database, m *migration.Migration) ([]Archived, error) {
	names, err := db.Kept(ctx, m.Kept()+"undo_")
	var out []Archived
	for _, n := range names {
		for _, table := range refilled(m) {
			if slices.ContainsFunc(undoNames(m, table), func(o string) bool { return strings.EqualFold(o, n) }) {
				out = append(out, Archived{n, table})
				break
			}
		}
	}
	return out, err
}

// ArchivedByAll lists what the undos of old migrations put aside, in the order in which
// one that takes the place of them puts it back.
func ArchivedByAll(ctx context.Context, db engine.Database, old []*migration.Migration, now *migration.Migration) ([]Archived, error) {
	var all []Archived
	if !now.Atomic() { // what is kept last comes back first there
		old = slices.Clone(old)
		slices.Reverse(old)
	}
	for _, m := range old {
		list, err := ArchivedBy(ctx, db, m)
		if err != nil {
			return nil, err
		}
		if m.Atomic() != now.Atomic() { // what steps that run apart kept last comes back first
			slices.Reverse(list)
		}
		all = append(all, list...)
	}
	return all, nil
}

// HandOver gives what was put aside the names under which now looks for it, in live and in
// all, too. renamed gives the name that a table has by now; done is told how to revert each
// change.
func HandOver(ctx context.Context, db engine.Database, e engine.Engine, live *schema.Schema, all []Archived, now *migration.Migration, renamed func(table string) string, done func(back func(context.Context) error)) error {
	taken := map[string]int{} // how many of the names for a table are
	move := func(name, to string) error {
		if err := RenameKept(ctx, db, e, name, "", to); err != nil {
			return err
		}
		if kept := live.Table(name); kept != nil {
			kept.Name = to
		}
		done(func(ctx context.Context) error { return RenameKept(ctx, db, e, to, "", name) })
		return nil
	}
	for i, aside := range all {
		name, table := aside.Name, renamed(aside.Table)
		free := openNames(now, table)
		if taken[table] == len(free) {
			return fmt.Errorf("too many migrations of %s would become one", table)
		}
		next := free[taken[table]]
		taken[table]++
		if next == name {
			continue
		}
		for j := range all[i+1:] { // whose turn comes later makes room
			later := &all[i+1+j]
			if later.Name != next {
				continue
			}
			spare := slices.IndexFunc(free, func(n string) bool {
				return n != next && live.Table(n) == nil && !slices.ContainsFunc(all, func(p Archived) bool { return p.Name == n })
			})
			if spare < 0 {
				return fmt.Errorf("too many migrations of %s would become one", table)
			}
			if err := move(next, free[spare]); err != nil {
				return err
			}
			later.Name = free[spare]
		}
		if err := move(name, next); err != nil {
			return err
		}
		all[i].Name = next
	}
	return nil
}

// takePlace hands what undos of the migrations that m redrafts put aside to it.
func takePlace(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	if len(m.Redrafts) == 0 {
		return nil
	}
	var old []*migration.Migration
	replaced := 0
	for _, id := range append([]string{m.ID}, m.Redrafts...) {
		if slices.ContainsFunc(old, func(o *migration.Migration) bool { return o.ID == id }) {
			continue
		}
		if id == m.ID {
			old = append(old, m)
			continue
		}
		for form := 1; form <= migration.Form; form++ { // what its file had is not known here
			o := *m
			o.ID, o.Form = id, form
			list, err := ArchivedBy(ctx, db, &o)
			if err != nil {
				return err
			}
			old, replaced = append(old, &o), replaced+len(list)
		}
	}
	same := func(table string) string { return table }
	for _, o := range old {
		if o.ID == m.ID {
			continue
		}
		if err := HandNumbers(ctx, db, o, m, same); err != nil {
			return err
		}
	}
	if replaced == 0 {
		return nil
	}
	live, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	all, err := ArchivedByAll(ctx, db, old, m)
	if err != nil {
		return err
	}
	return HandOver(ctx, db, e, live, all, m, same, func(func(context.Context) error) {})
}

// undoNames are several where several migrations have become one, or steps keep columns
// of one table each. Those that were sealed come first.
func undoNames(m *migration.Migration, table string) []string {
	return append(sealedNames(m, table), openNames(m, table)...)
}

// openNames are those into which an undo puts values.
func openNames(m *migration.Migration, table string) []string {
	out := []string{keptByUndo(m, table)}
	for n := 2; n <= 20; n++ {
		out = append(out, keptByUndo(m, fmt.Sprintf("%s_%d", table, n)))
	}
	return out
}

// sealedNames are those of what an earlier undo put aside, while the migration is under
// way again.
func sealedNames(m *migration.Migration, table string) []string {
	var out []string
	for n := range 9 {
		out = append(out, keptByUndo(m, fmt.Sprintf("%s_was_%d", table, n+1)))
	}
	return out
}

// unsealed is a name without what sealing put behind it.
func unsealed(name string) string {
	if i := strings.LastIndex(name, "_was_"); i >= 0 && i == len(name)-len("_was_1") {
		return name[:i]
	}
	return name
}

// seal gives what an earlier undo put aside another name, before the migration begins
// again step by step: where that is taken back half-way, what it has until then, which is
// not yet what it had, must not take the place of it.
func seal(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	list, err := ArchivedBy(ctx, db, m)
	if err != nil {
		return err
	}
	names := map[string]bool{}
	for _, p := range list {
		names[strings.ToLower(p.Name)] = true
	}
	for _, p := range list {
		sealed := sealedNames(m, p.Table)
		if slices.ContainsFunc(sealed, func(n string) bool { return strings.EqualFold(n, p.Name) }) {
			continue
		}
		for _, to := range sealed {
			if names[strings.ToLower(to)] {
				continue
			}
			names[strings.ToLower(to)] = true
			if err := RenameKept(ctx, db, e, p.Name, "", to); err != nil {
				return err
			}
			break
		}
	}
	return nil
}

// Unseal gives what was sealed for a run that came to nothing the names back under which
// the undo had put it aside.
func Unseal(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	list, err := ArchivedBy(ctx, db, m)
	if err != nil {
		return err
	}
	for _, p := range list {
		at := slices.IndexFunc(sealedNames(m, p.Table), func(n string) bool { return strings.EqualFold(n, p.Name) })
		if at < 0 {
			continue
		}
		to := openNames(m, p.Table)[at]
		if slices.ContainsFunc(list, func(o Archived) bool { return strings.EqualFold(o.Name, to) }) {
			continue
		}
		if err := RenameKept(ctx, db, e, p.Name, "", to); err != nil {
			return err
		}
	}
	return nil
}

// RenameKept gives a kept table, or a column of one, another name. Since when it is kept
// does not change.
func RenameKept(ctx context.Context, db engine.Database, e engine.Engine, table, column, to string) error {
	steps, _ := e.DDL().Rename(nil, table, column, to)
	for _, s := range steps {
		if err := StepAll(ctx, db, s.Apply); err != nil {
			return err
		}
	}
	if column != "" {
		return nil
	}
	if has, err := there(ctx, db, sinceName); err != nil || !has {
		return err
	}
	return db.Exec(ctx, "UPDATE erbario_since SET name = ? WHERE name = ?", to, table)
}

// aside is what an undo destroys of a table, and how it is kept.
type archiving struct {
	table, kept  string
	makes, fills []string
}

// statements are all of them.
func (a archiving) statements() []string { return append(slices.Clone(a.makes), a.fills...) }

// asides keep what the migration's undo destroys of what s holds, from the tables that
// have rows, before its first step, while everything is there.
func archives(s *schema.Schema, rows func(table string) (int64, error), e engine.Engine, m *migration.Migration) ([]archiving, error) {
	lost := map[string]bool{}
	for _, step := range m.Steps {
		for _, name := range step.UndoLoses {
			lost[name] = true
		}
	}
	var out []archiving
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
		n, err := rows(t.Name)
		if err != nil {
			return nil, err
		}
		if n == 0 {
			continue
		}
		name := keptByUndo(m, t.Name)
		for _, other := range openNames(m, t.Name) { // steps that run apart keep other columns of one table
			if there := s.Table(other); len(columns) > 0 && there != nil && slices.ContainsFunc(columns, func(c string) bool { return there.Column(c) == nil }) {
				continue
			}
			name = other
			break
		}
		if len(columns) == 0 && s.Table(name) != nil {
			return nil, fmt.Errorf("rows of %s were kept by an earlier undo and not restored since: check %s, and drop it when it is no longer needed", t.Name, name)
		}
		makes, fills := e.DDL().Archive(t, columns, name)
		out = append(out, archiving{t.Name, name, makes, fills})
	}
	return out, nil
}

// rowsOf counts the rows of a database's tables.
func rowsOf(ctx context.Context, db engine.Database, e engine.Engine) func(table string) (int64, error) {
	return func(table string) (int64, error) { return db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(table)) }
}

func archive(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.UndoLoses) > 0 }) {
		return nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	if err := noteNumbers(ctx, db, s, m); err != nil {
		return err
	}
	list, err := archives(s, rowsOf(ctx, db, e), e, m)
	if err != nil {
		return err
	}
	for _, a := range list {
		for _, sql := range a.statements() {
			if err := db.Step(ctx, sql); err != nil {
				return fmt.Errorf("what the undo of %s would destroy cannot be kept: %w", m.ID, err)
			}
		}
	}
	return nil
}

// putBack brings back what an earlier undo of the migration kept.
func restore(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return len(s.UndoLoses) > 0 }) {
		return nil
	}
	if m.Atomic() { // else it is done before, since it ends a transaction on some servers
		if err := reserveNumbers(ctx, db, m); err != nil {
			return err
		}
	}
	names, err := db.Kept(ctx, m.Kept()+"undo_")
	if err != nil || len(names) == 0 {
		return err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	if err := db.EnforceReferences(ctx, false); err != nil { // rows may refer to each other in circles
		return err
	}
	// On servers where changes of tables commit, whatever cannot be put back takes the rest
	// back with it: the kept tables change when all is in its place.
	var later []func() error
	for _, t := range schema.ParentsFirst(s) {
		after, err := restoreInto(ctx, db, e, m, s, t)
		if err != nil {
			return err
		}
		later = append(later, after...)
	}
	for _, f := range later {
		if err := f(); err != nil {
			return err
		}
	}
	return settleKept(ctx, db, e, m, false)
}

// RestoreError is what an undo kept of a table and that table does not take.
type RestoreError struct {
	Table, Kept, Migration string
	Err                    error
}

func (e *RestoreError) Error() string {
	return fmt.Sprintf("what an undo kept from %s cannot be restored (it remains in %s; erbario redraft %s asks for what it lacks): %v", e.Table, e.Kept, e.Migration, e.Err)
}

func (e *RestoreError) Unwrap() error { return e.Err }

// restoreInto brings back what an earlier undo kept of one table. after is what is still to
// be done with the kept tables.
func restoreInto(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, s *schema.Schema, t *schema.Table) (after []func() error, err error) {
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
func settleKept(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, undo bool) error {
	names, err := db.Kept(ctx, m.Kept())
	if err != nil || len(names) == 0 {
		return err
	}
	byUndo := m.Kept() + "undo_"
	for _, name := range names {
		n, err := db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(name))
		if err != nil {
			return err
		}
		switch lower := strings.ToLower(name); {
		case strings.HasPrefix(lower, m.Kept()+"left_"):
		case strings.HasPrefix(lower, byUndo) == undo: // just kept by this very run, and looked into by the next
		case n == 0:
			if err := db.Exec(ctx, "DROP TABLE "+e.SQL().Quote(name)); err != nil {
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
func unplaced(t, kept *schema.Table) bool {
	return slices.ContainsFunc(kept.Columns, func(c *schema.Column) bool {
		return t.Column(c.Name) == nil && !strings.HasPrefix(c.Name, "key_") && !strings.HasPrefix(c.Name, Replaced(""))
	})
}

// ByKey tells whether a kept table holds values of columns by the keys of their rows, and
// not whole rows of the table of; nil: it is not known how that looks.
func ByKey(kept, of *schema.Table) bool {
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
func retire(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, name string) error {
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
func Retire(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration) error {
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
func restoring(ctx context.Context, db engine.Database, e engine.Engine, m *migration.Migration, undo bool) (func() ([]Restored, error), error) {
	if !slices.ContainsFunc(m.Steps, func(s migration.Step) bool {
		if !undo {
			return len(s.UndoLoses) > 0
		}
		return slices.ContainsFunc(s.Undo, func(st migration.Statement) bool { return strings.Contains(st.SQL, schema.KeptPrefix) })
	}) {
		return func() ([]Restored, error) { return nil, nil }, nil
	}
	byUndo := m.Kept() + "undo_"
	count := func() (map[string]int64, []string, error) {
		names, err := db.Kept(ctx, m.Kept())
		out := map[string]int64{}
		var order []string
		for _, n := range names {
			lower := strings.ToLower(n)
			if strings.HasPrefix(lower, byUndo) == undo || strings.HasPrefix(lower, m.Kept()+"left_") {
				continue // an undo brings back what the apply kept, and the other way round
			}
			if out[n], err = db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(n)); err != nil {
				return nil, nil, err
			}
			order = append(order, n)
		}
		return out, order, err
	}
	before, order, err := count()
	if err != nil {
		return nil, err
	}
	old, err := db.Kept(ctx, m.Kept()+"left_")
	if err != nil {
		return nil, err
	}
	whose, whole := map[string]string{}, map[string]bool{}
	if !undo {
		list, err := ArchivedBy(ctx, db, m)
		if err != nil {
			return nil, err
		}
		live := &schema.Schema{}
		if len(list) > 0 {
			if live, err = db.Inspect(ctx); err != nil {
				return nil, err
			}
		}
		for _, p := range list {
			whose[p.Name] = p.Table
			kept := live.Table(p.Name)
			whole[p.Name] = kept != nil && !ByKey(kept, live.Table(p.Table))
		}
	}
	return func() ([]Restored, error) {
		if len(order) == 0 {
			return nil, nil
		}
		after, _, err := count()
		if err != nil {
			return nil, err
		}
		apart, err := db.Kept(ctx, m.Kept()+"left_")
		if err != nil {
			return nil, err
		}
		apart = slices.DeleteFunc(apart, func(n string) bool { return slices.Contains(old, n) })
		var out []Restored
		for _, n := range order {
			table := n[len(m.Kept()):]
			for _, prefix := range []string{"undo_", "deleted_", "rows_", "gone_", "former_"} {
				table = strings.TrimPrefix(table, prefix)
			}
			if t, ok := whose[n]; ok {
				table = t
			}
			if undo { // what was called otherwise until it was dropped has its name again
				table, _ = migration.Before(m.Renames(e), table, "")
			}
			r := Restored{Table: table, Left: after[n], In: n}
			for _, l := range apart {
				if strings.HasPrefix(l, leftName(m, n)) {
					if r.Left, err = db.Count(ctx, "SELECT 1 FROM "+e.SQL().Quote(l)); err != nil {
						return nil, err
					}
					r.In = l
				}
			}
			r.Rows = before[n] - r.Left
			if r.Left == before[n] && whole[n] { // each came back
				r.Rows, r.Whole = r.Left, true
			}
			if i := slices.IndexFunc(out, func(o Restored) bool { return o.Table == table }); i >= 0 {
				out[i].Rows = max(out[i].Rows, r.Rows) // other columns of the same rows
				out[i].Left += r.Left
			} else if r.Rows > 0 || r.Left > 0 {
				out = append(out, r)
			}
		}
		return out, nil
	}, nil
}
