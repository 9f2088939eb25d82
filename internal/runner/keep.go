package runner

// This file keeps what an undo would destroy, and hands it on where migrations become others: their
// names, and what is sealed while a migration runs again. restore.go restores it. What an apply destroys
// is kept by the migration's own steps.

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
func ArchivedByAll(ctx context.Context, db engine.Database, old []*migration.Migration,
	now *migration.Migration) ([]Archived, error) {
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

// Handover is what older migrations kept, to be given to another.
type Handover struct {
	Live    *sqlschema.Schema // is changed: the kept tables get other names
	All     []Archived
	Renamed func(table string) string              // what a table is called now
	Done    func(back func(context.Context) error) // is told how each rename is undone
}

// To gives what was kept the names under which a migration looks for it, in Live and in All,
// too.
func (h Handover) To(ctx context.Context, db engine.Database, e Engine, now *migration.Migration) error {
	live, all := h.Live, h.All
	taken := map[string]int{} // how many of the names for a table are
	move := func(name, to string) error {
		if err := RenameKept(ctx, db, e, name, "", to); err != nil {
			return err
		}
		if kept := live.Table(name); kept != nil {
			kept.Name = to
		}
		h.Done(func(ctx context.Context) error { return RenameKept(ctx, db, e, to, "", name) })
		return nil
	}
	for i, aside := range all {
		name, table := aside.Name, h.Renamed(aside.Table)
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
				return n != next && live.Table(n) == nil &&
					!slices.ContainsFunc(all, func(p Archived) bool { return p.Name == n })
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
func takePlace(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) error {
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
	return Handover{live, all, same, func(func(context.Context) error) {}}.To(ctx, db, e, m)
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
// again step by step: where that is undone halfway, what it has until then, which is
// not yet what it had, must not take the place of it.
func seal(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) error {
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
func Unseal(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) error {
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
func RenameKept(ctx context.Context, db engine.Database, e Engine, table, column, to string) error {
	steps, _ := e.DDL().Rename(nil, table, column, to)
	for _, s := range steps {
		if err := StepAll(ctx, db, s.Apply); err != nil {
			return fmt.Errorf("%s, where values are kept, cannot be changed: %w", table, err)
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
func archives(s *sqlschema.Schema, rows func(table string) (int64, error), e Engine,
	m *migration.Migration) ([]archiving, error) {
	lost := map[string]bool{}
	for _, step := range m.Steps {
		for _, l := range step.UndoLoses {
			lost[l.String()] = true
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
			for _, c := range t.Held {
				if lost[t.Name+"."+c] {
					columns = append(columns, c)
				}
			}
			if len(columns) == 0 {
				continue
			}
		}
		virtual := t.Options.Virtual != ""
		if virtual && len(t.Held) == 0 && !t.Sealed || !virtual && len(columns) > 0 && t.Unkeyed() {
			continue
		}
		if of := s.Table(t.PartOf); of != nil && of.Partitioned() && lost[of.Name] { // its rows are kept with those
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
			if there := s.Table(other); len(columns) > 0 && there != nil &&
				slices.ContainsFunc(columns, func(c string) bool { return there.Column(c) == nil }) {
				continue
			}
			name = other
			break
		}
		if len(columns) == 0 && s.Table(name) != nil {
			return nil, fmt.Errorf(
				"rows of %s were kept by an earlier undo and not restored since: check %s, and drop it when it is no longer needed",
				t.Name, name)
		}
		makes, fills := e.DDL().Archive(t, columns, name)
		out = append(out, archiving{t.Name, name, makes, fills})
	}
	return out, nil
}

// rowsOf counts the rows of a database's tables.
func rowsOf(ctx context.Context, db engine.Database, e Engine) func(table string) (int64, error) {
	return func(table string) (int64, error) { return db.Count(ctx, "SELECT 1 FROM "+e.SQL().QuoteTable(table)) }
}

func archive(ctx context.Context, db engine.Database, e Engine, m *migration.Migration) error {
	if !hasNumbers(m) {
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
