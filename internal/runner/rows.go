package runner

// This file keeps the reference rows that an undo takes away, with all that people
// wrote into them since, and puts them back when the migration is applied again.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/rows"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// inserted are the rows that a step inserts. One without statements says what existed: its rows are
// neither taken out by an undo nor restored.
func inserted(s *migration.Step) []engine.StepRows {
	if len(s.Apply) == 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(s.Rows), func(r engine.StepRows) bool { return r.Gone })
}

// keptRows is the name of the table for reference rows that an undo takes away.
func keptRows(m *migration.Migration, table string) string { return keptByUndo(m, "rows_"+table) }

// rowsBefore is the name of the table for the values that rows had before a step
// set them.
func rowsBefore(m *migration.Migration, table string) string {
	return schema.Cut(m.Kept() + "rows_" + table)
}

// there tells whether a kept table is there.
func there(ctx context.Context, db engine.Database, name string) (bool, error) {
	list, err := db.Kept(ctx, name)
	return slices.Contains(list, name), err
}

// referenceRows are the rows that a step of a migration inserts into a table.
type referenceRows struct {
	e      Engine
	m      *migration.Migration
	rows   engine.StepRows
	schema *sqlschema.Schema // in which the table is
	table  *sqlschema.Table
}

// keys are the values that tell the rows apart, as SQL.
func (r referenceRows) keys() [][]string { return keysOf(r.e, r.schema, r.table, r.rows) }

// removalIn takes the rows out, and keeps them apart from those that were there before the
// migration.
func (r referenceRows) removalIn(ctx context.Context, db engine.Database) (engine.Step, error) {
	ok, err := there(ctx, db, rowsBefore(r.m, r.table.Name))
	if err != nil {
		return engine.Step{}, err
	}
	return r.removal(ok), nil
}

// removal takes the rows out; before: those that were there before the migration are known.
func (r referenceRows) removal(before bool) engine.Step {
	q, of := r.e.SQL().Quote, r.e.SQL().QuoteTable
	by, keys := rows.Names(r.rows.By), r.keys()
	where := engine.IsAny(q, by, keys) + live(r.e, r.table)
	if before {
		where += " AND " + engine.IsAmong(q, by, true,
			fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(q, by), of(rowsBefore(r.m, r.table.Name))))
	}
	return r.e.DDL().
		DeleteRows(engine.RowDeletion{Table: r.table, Where: where, Keep: keptRows(r.m, r.table.Name),
			What: "reference rows of " + r.table.Name, By: by, Order: keys})
}

// keysOf are the keys of a step's rows, as SQL: a value that names a row of another table is
// the query for what the reference takes of it.
func keysOf(e Engine, s *sqlschema.Schema, t *sqlschema.Table, r engine.StepRows) [][]string {
	var out [][]string
	for _, key := range r.Keys {
		var one []string
		for i, text := range schema.SplitKey(key, len(r.By)) {
			sql := e.SQL().Text(text)
			if q := namedBy(e, s, t, r.By[i], text); q != "" {
				sql = "(" + q + ")"
			}
			one = append(one, sql)
		}
		out = append(out, one)
	}
	return out
}

// namedBy is the query for what a reference takes of the row that a value names; empty: the
// value is the column's own.
func namedBy(e Engine, s *sqlschema.Schema, t *sqlschema.Table, k schema.KeyPart, text string) string {
	target := s.Table(k.Table)
	if k.Table == "" || target == nil {
		return ""
	}
	for _, f := range t.ForeignKeys {
		if len(f.Columns) == 1 && f.Columns[0] == k.Column {
			return fmt.Sprintf("SELECT %s FROM %s WHERE %s = %s%s", e.SQL().Quote(f.References[0]),
				e.SQL().QuoteTable(target.Name), e.SQL().Quote(k.Field), e.SQL().Text(text), live(e, target))
		}
	}
	return ""
}

// storedKeys are the keys of a step's rows as the table has them; a key that
// names a missing row of another table is left out.
func storedKeys(ctx context.Context, db engine.Database, e Engine, s *sqlschema.Schema, t *sqlschema.Table,
	r engine.StepRows) (cells []any, err error) {
	for _, key := range r.Keys {
		var one []any
		for i, text := range schema.SplitKey(key, len(r.By)) {
			value := any(text)
			if q := namedBy(e, s, t, r.By[i], text); q != "" {
				list, err := db.Select(ctx, q)
				if err != nil {
					return nil, err
				}
				if len(list) == 0 {
					break
				}
				value = list[0][0]
			}
			one = append(one, value)
		}
		if len(one) == len(r.By) {
			cells = append(cells, one...)
		}
	}
	return cells, nil
}

// live leaves out rows that are marked as deleted: they are no reference rows.
func live(e Engine, t *sqlschema.Table) string {
	if t.SoftDelete == "" {
		return ""
	}
	return " AND " + e.SQL().Quote(t.SoftDelete) + " IS NULL"
}

// wholeTable tells whether the migration's undo drops the table, and so keeps it whole.
func wholeTable(m *migration.Migration, table string) bool {
	return slices.ContainsFunc(m.Steps, func(s migration.Step) bool { return engine.Loses(s.UndoLoses, table, "") })
}

// keepRows takes the rows that a step inserted out and keeps them, before its
// undo would delete them.
func keepRows(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	step *migration.Step) error {
	return eachInserted(ctx, db, step, func(r engine.StepRows, all *sqlschema.Schema, t *sqlschema.Table) error {
		if wholeTable(m, t.Name) && m.Atomic() { // else these rows go before it is kept
			return nil
		}
		s, err := referenceRows{e, m, r, all, t}.removalIn(ctx, db)
		if err != nil {
			return err
		}
		if e.Caps().ImmediateReferences {
			if err := unreferred(ctx, db, e, all, r, t); err != nil {
				return err
			}
		}
		return rowSteps(ctx, db, s.Apply)
	})
}

// unreferred stops where rows that are to go would take others along, or loosen
// them: those are people's.
func unreferred(ctx context.Context, db engine.Database, e Engine, all *sqlschema.Schema, r engine.StepRows,
	t *sqlschema.Table) error {
	for _, q := range referred(e, all, r, t) {
		n, err := db.Count(ctx, q.Query)
		if err != nil {
			return err
		}
		if n > 0 {
			return fmt.Errorf("%s: nothing was changed", Sentence(q.Sentence, n))
		}
	}
	return nil
}

// referred asks for rows that would go, or be loosened, with the rows to which they refer.
func referred(e Engine, all *sqlschema.Schema, r engine.StepRows, t *sqlschema.Table) []engine.Requirement {
	keys := engine.IsAny(engine.Aliased(e.SQL().Quote, "t"), rows.Names(r.By), keysOf(e, all, t, r))
	var out []engine.Requirement
	for _, p := range sqlschema.Pointers(all, t) {
		if p.Key.OnDelete == schema.Restrict || p.Key.OnDelete == schema.NoAction {
			continue // the server refuses
		}
		out = append(out, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s refer to reference rows of %s that would be deleted", p.Table.Name,
				t.Name),
			Query: fmt.Sprintf("SELECT 1 FROM %s AS c JOIN %s AS t ON %s WHERE %s", e.SQL().QuoteTable(p.Table.Name),
				e.SQL().QuoteTable(t.Name), rows.On(e.SQL(), p, "c", "t"), keys),
		})
	}
	return out
}

// restoreRows puts the rows that an earlier undo of a step kept in the place of
// those that it has just inserted again: as they were, with what people wrote into
// them; with o.Declared, but for the values that are declared. Where somebody made
// such a row meanwhile, what was kept stays apart.
func restoreRows(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, step *migration.Step,
	o Options) error {
	return eachInserted(ctx, db, step, func(r engine.StepRows, s *sqlschema.Schema, t *sqlschema.Table) error {
		k := &keptReference{referenceRows: referenceRows{e, m, r, s, t}, ctx: ctx, db: db,
			kept: s.Table(keptRows(m, t.Name)), by: rows.Names(r.By)}
		whole := wholeTable(m, t.Name) &&
			slices.ContainsFunc(undoNames(m, t.Name), func(n string) bool { return s.Table(n) != nil })
		if !whole && k.kept == nil {
			return nil
		}
		fresh := engine.Finding{
			Live: true,
			Take: slices.DeleteFunc(slices.Clone(r.Columns), func(c string) bool { return t.Column(c) == nil }),
		}
		fresh.Table, fresh.Columns = t, k.by
		var values [][]any
		var err error
		if o.Declared && len(fresh.Take) > 0 {
			if fresh.Cells, err = storedKeys(ctx, db, e, s, t, r); err != nil {
				return err
			}
			if values, err = db.Find(ctx, fresh); err != nil {
				return err
			}
		}
		done := true
		if whole {
			err = k.whole(step)
		} else {
			done, err = k.among(o.Former)
		}
		if err != nil || !done || values == nil {
			return err
		}
		return declare(ctx, db, t, fresh, values)
	})
}

// keptReference are reference rows of one table that an undo kept.
type keptReference struct {
	referenceRows
	ctx  context.Context
	db   engine.Database
	kept *sqlschema.Table // what of them was kept apart from their table; nil: nothing
	by   []string
}

// delete gives the statements that delete the rows of the step, as far as a condition holds.
func (k *keptReference) delete(also string) []string {
	keys := k.keys()
	where := engine.IsAny(k.e.SQL().Quote, k.by, keys) + live(k.e, k.table) + also
	return k.e.DDL().DeleteRows(engine.RowDeletion{Table: k.table, Where: where,
		What: "reference rows of " + k.table.Name, By: k.by, Order: keys}).Apply
}

// whole restores a table that is new: all that was in it comes back first, and then what is
// missing.
func (k *keptReference) whole(step *migration.Step) error {
	if err := rowSteps(k.ctx, k.db, k.delete("")); err != nil {
		return err
	}
	if k.kept != nil {
		back, err := k.removalIn(k.ctx, k.db)
		if err == nil {
			err = rowSteps(k.ctx, k.db, back.Undo)
		}
		if err != nil {
			return err
		}
	}
	after, err := restoreInto(k.ctx, k.db, k.e, k.m, k.schema, k.table)
	if err != nil {
		return err
	}
	for _, f := range after {
		if err := f(); err != nil {
			return err
		}
	}
	for _, st := range step.Apply {
		if err := rowSteps(k.ctx, k.db, []string{st.SQL}); err != nil {
			return err
		}
	}
	return nil
}

// among restores rows of a table that was there; false: they are of no use any more.
func (k *keptReference) among(former []engine.StepRows) (bool, error) {
	q, of := k.e.SQL().Quote, k.e.SQL().QuoteTable
	isIn := func(table *sqlschema.Table) string {
		return engine.IsAmong(q, k.by, false, fmt.Sprintf("SELECT %s FROM %s", engine.KeyList(q, k.by), of(table.Name)))
	}
	if before := k.schema.Table(rowsBefore(k.m, k.table.Name)); before != nil {
		n, err := k.db.Count(k.ctx, fmt.Sprintf("SELECT 1 FROM %s WHERE %s", of(k.kept.Name), isIn(before)))
		if err != nil {
			return false, err
		}
		if n > 0 {
			return false, retire(k.ctx, k.db, k.e, k.m, k.kept.Name)
		}
	}
	back, err := k.removalIn(k.ctx, k.db)
	if err != nil {
		return false, err
	}
	for _, f := range former { // what is no longer declared does not come back
		if f.Table == k.table.Name && slices.Equal(f.By, k.rows.By) {
			gone := k.e.DDL().DeleteRows(referenceRows{k.e, k.m, f, k.schema, k.table}.former(k.kept))
			if err := rowSteps(k.ctx, k.db, gone.Apply); err != nil {
				return false, err
			}
		}
	}
	return true, rowSteps(k.ctx, k.db, append(k.delete(" AND "+isIn(k.kept)), back.Undo...))
}

// declare gives rows the values that are declared: those that they had when they
// were inserted again.
func declare(ctx context.Context, db engine.Database, t *sqlschema.Table, fresh engine.Finding, values [][]any) error {
	key := t.Key()
	if len(key) == 0 {
		key = fresh.Columns
	}
	change := engine.TableRows{Table: t, Columns: slices.Clone(key)}
	for _, c := range fresh.Take {
		if !slices.Contains(key, c) {
			change.Columns = append(change.Columns, c)
		}
	}
	columns := fresh.Take
	fresh.Take = key
	now, err := db.Find(ctx, fresh)
	if err != nil {
		return err
	}
	for i, k := range now {
		if k == nil || values[i] == nil {
			continue
		}
		change.Cells = append(change.Cells, k...)
		for j, c := range columns {
			if !slices.Contains(key, c) {
				change.Cells = append(change.Cells, values[i][j])
			}
		}
	}
	_, err = db.Change(ctx, change, key, true)
	return err
}

// former are rows that are no longer declared, and that do not come back from what was kept of
// their table in from.
func (r referenceRows) former(from *sqlschema.Table) engine.RowDeletion {
	where := engine.IsAny(r.e.SQL().Quote, rows.Names(r.rows.By), r.keys()) + live(r.e, from)
	return engine.RowDeletion{
		Table: from,
		Where: where,
		Keep:  schema.Cut(r.m.Kept() + "former_" + r.rows.Table),
		What:  "reference rows of " + r.rows.Table,
	}
}

// dropFormer takes out reference rows that are no longer declared, of tables that the
// migration makes: there they came back with all the rest, when every other table
// was back too, and stay where others refer to them. In a table that was there
// before, they have not come back; a row with such a key is somebody else's.
func dropFormer(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	former []engine.StepRows) error {
	if len(former) == 0 {
		return nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	for _, r := range former {
		t := s.Table(r.Table)
		if t == nil || !rows.Has(t, r.By) || !wholeTable(m, t.Name) {
			continue
		}
		x := referenceRows{e, m, r, s, t}.former(t)
		for _, p := range sqlschema.Pointers(s, t) {
			x.Where += fmt.Sprintf(" AND NOT EXISTS (SELECT 1 FROM %s AS c WHERE %s)", e.SQL().QuoteTable(p.Table.Name),
				rows.On(e.SQL(), p, "c", e.SQL().QuoteTable(t.Name)))
		}
		if err := rowSteps(ctx, db, e.DDL().DeleteRows(x).Apply); err != nil {
			return err
		}
	}
	return nil
}

// stayed tells which rows a migration was to take out and did not, since others
// refer to them.
func stayed(ctx context.Context, db engine.Database, e Engine, m *migration.Migration,
	tell func(table string, keys []string)) error {
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
		if t == nil || !rows.Has(t, r.By) {
			continue
		}
		var left []string
		for i, key := range keysOf(e, s, t, r) {
			n, err := db.Count(
				ctx,
				fmt.Sprintf("SELECT 1 FROM %s WHERE %s%s", e.SQL().QuoteTable(t.Name),
					engine.IsRow(e.SQL().Quote, rows.Names(r.By), key), live(e, t)),
			)
			if err != nil {
				return err
			}
			if n > 0 {
				left = append(left, r.Keys[i])
			}
		}
		slices.Sort(left)
		if len(left) > 0 {
			tell(t.Name, left)
		}
	}
	return nil
}

func eachInserted(ctx context.Context, db engine.Database, step *migration.Step,
	f func(engine.StepRows, *sqlschema.Schema, *sqlschema.Table) error) error {
	if len(inserted(step)) == 0 {
		return nil
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return err
	}
	if r, t := insertedIn(s, step); t != nil {
		return f(r, s, t)
	}
	return nil
}

// insertedIn are the rows that a step inserts, and their table in a schema; nil: it is not
// there as the step made it.
func insertedIn(s *sqlschema.Schema, step *migration.Step) (engine.StepRows, *sqlschema.Table) {
	list := inserted(step)
	if len(list) == 0 {
		return engine.StepRows{}, nil
	}
	whole := list[0] // a long list of keys stands on several lines
	whole.Keys = nil
	for _, r := range list {
		whole.Keys = append(whole.Keys, r.Keys...)
	}
	t := s.Table(whole.Table)
	if t == nil || !rows.Has(t, whole.By) {
		return whole, nil
	}
	return whole, t
}

// StepAll runs statements of a migration, one after the other.
func StepAll(ctx context.Context, db engine.Database, list []string) error {
	for _, sql := range list {
		if err := db.Step(ctx, sql); err != nil {
			return err
		}
	}
	return nil
}

// rowSteps runs those that are about reference rows.
func rowSteps(ctx context.Context, db engine.Database, list []string) error {
	if err := StepAll(ctx, db, list); err != nil {
		return fmt.Errorf("reference rows cannot be kept or restored: %w", err)
	}
	return nil
}

// followRenames gives the records of seeds the names that tables have after a migration, or
// after its undo.
func followRenames(ctx context.Context, db engine.Database, e Engine, m *migration.Migration, undo bool) error {
	var list []migration.Rename
	for _, sql := range m.SQL(undo) {
		r, ok := migration.ReadRename(e, sql)
		if ok && r.Column == "" && (!schema.Own(r.To) || strings.HasPrefix(r.To, schema.OwnPrefix+"case_")) &&
			!strings.HasPrefix(r.Table, schema.KeptPrefix) {
			list = append(list, r)
		}
	}
	if len(list) == 0 {
		return nil
	}
	if has, err := there(ctx, db, "erbario_seed_rows"); err != nil || !has {
		return err
	}
	for _, r := range list {
		if err := db.Exec(ctx, "UPDATE erbario_seed_rows SET table_name = ? WHERE table_name = ?", r.To,
			r.Table); err != nil {
			return err
		}
	}
	return nil
}
