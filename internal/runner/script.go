package runner

// This file writes migrations as plain SQL that a person runs with the
// database's own client, to the same effect: requirements stop it, each migration is one
// transaction, or has those of its steps, and history is kept.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// Script gives the SQL of the waiting migrations, or of the way back, with the
// ids of those in it.
func Script(ctx context.Context, db engine.Database, e engine.Engine, files []*migration.Migration, o Options,
	undo bool) (string, []string, error) {
	if err := Whole(ctx, db, e); err != nil {
		return "", nil, err
	}
	todo, err := toScript(ctx, db, e, files, o, undo)
	if err != nil || len(todo) == 0 {
		return "", nil, err
	}
	w := &scriptWriter{ctx: ctx, db: db, e: e, o: o, undo: undo, state: &sqlschema.Schema{}}
	before, begin, commit, after := e.Scripts().ScriptAround()
	w.begin, w.commit = begin, commit
	w.write(before...)
	if undo {
		if w.state, err = db.Inspect(ctx); err != nil {
			return "", nil, err
		}
	}
	var ids []string
	for k, m := range todo {
		ids = append(ids, m.ID)
		if err := w.migration(k, m); err != nil {
			return "", nil, err
		}
		if undo && k < len(todo)-1 {
			if w.state, err = without(ctx, e, w.state, m); err != nil {
				return "", nil, err
			}
		}
	}
	w.write("")
	w.write(after...)
	return w.b.String(), ids, nil
}

// toScript are the migrations of a script, in the order in which it runs them.
func toScript(ctx context.Context, db engine.Database, e engine.Engine, files []*migration.Migration, o Options,
	undo bool) ([]*migration.Migration, error) {
	if undo {
		return ToUndo(ctx, db, e, files, o)
	}
	applied, err := History(ctx, db)
	if err != nil {
		return nil, err
	}
	s := StatusOf(files, applied, e)
	if err := s.Problem(); err != nil {
		return nil, err
	}
	return upTo(s.Pending, files, o.To)
}

// scriptWriter writes migrations as a plain script.
type scriptWriter struct {
	ctx           context.Context
	db            engine.Database
	e             engine.Engine
	o             Options
	undo          bool
	state         *sqlschema.Schema // as it is when an undo begins
	begin, commit []string
	b             strings.Builder
}

func (w *scriptWriter) write(list ...string) {
	for _, l := range list {
		w.b.WriteString(l + "\n")
	}
}

func (w *scriptWriter) statements(list ...string) {
	for _, sql := range list {
		w.write(w.e.Scripts().ScriptStatement(sql)...)
	}
}

func (w *scriptWriter) require(list ...engine.Requirement) {
	for _, r := range list {
		w.write(w.e.Scripts().ScriptRequire(r)...)
	}
}

// since notes when something was kept.
func (w *scriptWriter) since(kept string) {
	text := w.e.SQL().Text
	w.write("DELETE FROM "+sinceName+" WHERE name = "+text(kept)+";",
		"INSERT INTO "+sinceName+" (name, at) VALUES ("+text(kept)+", "+text(nowText())+");")
}

// migration writes one migration, the k-th from 0.
func (w *scriptWriter) migration(k int, whole *migration.Migration) error {
	values, said, err := answered(w.ctx, w.db, w.e, whole, w.o)
	if err != nil && !w.undo {
		if _, open := err.(*NeedsAnswers); open || k == 0 {
			return err
		}
		values, said = nil, nil // its tables come with a migration before it: none has rows yet
	}
	back, err := undoValues(w.e, whole, w.o.Answers)
	if err != nil {
		return err
	}
	m := whole.Bound(w.e, values, back)
	if err := w.head(k, m); err != nil {
		return err
	}
	order := make([]int, len(m.Steps)) // the steps as they run
	for i := range order {
		order[i] = i
	}
	if w.undo {
		slices.Reverse(order)
	}
	for i, n := range order {
		apart := !m.Atomic() && (i == 0 || m.Steps[n].Kind != engine.InTransaction ||
			m.Steps[order[i-1]].Kind != engine.InTransaction)
		w.step(m, &m.Steps[n], apart)
	}
	if w.undo {
		w.write("DELETE FROM erbario_history WHERE id = " + w.e.SQL().Text(m.ID) + ";")
	} else {
		var row []string
		for _, v := range HistoryRow(whole, said, 0) {
			row = append(row, w.e.SQL().Text(v))
		}
		w.write("INSERT INTO erbario_history (id, checksum, applied_at, applied_by, took_ms, text, answers) VALUES (" +
			strings.Join(row, ", ") + ");")
	}
	w.write(w.commit...)
	return nil
}

// head writes what comes before the steps: what must hold, what was found, what is kept.
func (w *scriptWriter) head(k int, m *migration.Migration) error {
	if w.undo {
		w.write("", "-- undo "+m.ID)
	} else {
		w.write("", "-- apply "+m.ID)
		list, err := w.db.Kept(w.ctx, m.Kept()+"undo_")
		if err != nil {
			return err
		}
		if len(list) > 0 {
			w.write("-- this script does not restore what an earlier undo of it kept: erbario apply does")
		}
	}
	if !m.Atomic() {
		w.write("-- not one transaction: if it stops, what was done before remains")
	}
	w.write(w.begin...)
	for _, sql := range w.e.OwnTables().History {
		w.write(sql + ";")
	}
	if !w.undo {
		found, err := missingFound(w.ctx, w.db, m)
		if err != nil {
			return err
		}
		for _, sql := range found {
			w.write(sql + ";")
		}
		w.require(m.BeforeApply...)
		return nil
	}
	w.require(m.BeforeUndo...)
	count := rowsOf(w.ctx, w.db, w.e)
	if k > 0 { // of a state that does not exist yet nobody knows the rows
		count = func(string) (int64, error) { return 1, nil }
	}
	list, err := archives(w.state, count, w.e, m)
	for _, a := range list {
		w.statements(a.statements()...)
		w.since(a.kept)
	}
	return err
}

// step writes one step. apart: what came before it is there to stay.
func (w *scriptWriter) step(m *migration.Migration, st *migration.Step, apart bool) {
	list, needs := st.Apply, st.Here
	if w.undo {
		list, needs = st.Undo, st.HereUndo
	}
	outside := st.Kind == engine.OutsideTransaction
	if apart {
		w.write(w.commit...)
	}
	if apart && !outside {
		w.write(w.begin...)
	}
	w.require(needs...)
	w.write("-- " + words.OneLine(st.Title))
	if r, t := insertedIn(w.state, st); w.undo && t != nil && !wholeTable(m, t.Name) { // with what people wrote into them
		if w.e.Caps().ImmediateReferences {
			w.require(referred(w.e, w.state, r, t)...)
		}
		w.statements(removalOf(w.e, m, r, w.state, t, w.state.Table(rowsBefore(m, t.Name)) != nil).Apply...)
		w.since(keptRows(m, t.Name))
	}
	for _, s := range list {
		w.statements(w.e.SQL().Bind(s.SQL, map[string]string{engine.Batch: "true"}))
	}
	if outside { // there is always one to end
		w.write(w.begin...)
	}
}

// without is what is there once a migration has been undone, seen on scratch.
func without(ctx context.Context, e engine.Engine, s *sqlschema.Schema, m *migration.Migration) (*sqlschema.Schema, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, fmt.Errorf("the undo of several migrations is worked out on scratch: %w", err)
	}
	defer db.Close()
	if _, err := engine.Fill(ctx, db, e.DDL().CreateAll(s)); err != nil {
		return nil, fmt.Errorf("the live database cannot be copied to scratch: %w", err)
	}
	for _, sql := range e.OwnTables().History {
		if err := db.Exec(ctx, sql); err != nil {
			return nil, fmt.Errorf("the live database cannot be copied to scratch: %w", err)
		}
	}
	if err := db.Begin(ctx, 0); err != nil {
		return nil, err
	}
	defer db.Rollback()
	if err := Steps(ctx, db, e, together(e, m), true); err != nil {
		return nil, err
	}
	return db.Inspect(ctx)
}
