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
	"erbario/internal/script"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// Script gives the SQL of the waiting migrations, or of the way back, with the
// ids of those in it.
func Script(ctx context.Context, db engine.Database, e Engine, files []*migration.Migration, o Options,
	undo bool) (string, []string, error) {
	if err := RefuseInterrupted(ctx, db, e); err != nil {
		return "", nil, err
	}
	todo, err := toScript(ctx, db, e, files, o, undo)
	if err != nil || len(todo) == 0 {
		return "", nil, err
	}
	var text strings.Builder
	w := &scriptWriter{Conn: script.New(&text, db, e), ctx: ctx, e: e, o: o, undo: undo, state: &sqlschema.Schema{}}
	w.Open()
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
	w.Lines("")
	err = w.End()
	return text.String(), ids, err
}

// toScript are the migrations of a script, in the order in which it runs them.
func toScript(ctx context.Context, db engine.Database, e Engine, files []*migration.Migration, o Options,
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
	*script.Conn
	ctx   context.Context
	e     Engine
	o     Options
	undo  bool
	state *sqlschema.Schema // as it is when an undo begins
}

// exec, begin and commit write; that the writing fails is told by End.
func (w *scriptWriter) exec(sql string, args ...any) { _ = w.Exec(w.ctx, sql, args...) }
func (w *scriptWriter) begin()                       { _ = w.Begin(w.ctx, 0) }
func (w *scriptWriter) commit()                      { _ = w.Commit(w.ctx) }

// since notes when something was kept.
func (w *scriptWriter) since(kept string) {
	w.exec("DELETE FROM "+sinceName+" WHERE name = ?", kept)
	w.exec("INSERT INTO "+sinceName+" (name, at) VALUES (?, ?)", kept, nowText())
}

// migration writes one migration, the k-th from 0.
func (w *scriptWriter) migration(k int, whole *migration.Migration) error {
	values, said, err := answered(w.ctx, w.Database, w.e, whole, w.o)
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
		w.exec("DELETE FROM erbario_history WHERE id = ?", m.ID)
	} else {
		var row []string
		for _, v := range HistoryRow(whole, said, 0) {
			row = append(row, w.e.SQL().Text(v))
		}
		w.Lines("INSERT INTO erbario_history (id, checksum, applied_at, applied_by, took_ms, text, answers) VALUES (" +
			strings.Join(row, ", ") + ");")
	}
	w.commit()
	return nil
}

// head writes what comes before the steps: what must hold, what was found, what is kept.
func (w *scriptWriter) head(k int, m *migration.Migration) error {
	if w.undo {
		w.Lines("", "-- undo "+m.ID)
	} else {
		w.Lines("", "-- apply "+m.ID)
		list, err := w.Kept(w.ctx, m.Kept()+"undo_")
		if err != nil {
			return err
		}
		if len(list) > 0 {
			w.Lines("-- this script does not restore what an earlier undo of it kept: erbario apply does")
		}
	}
	if !m.Atomic() {
		w.Lines("-- not one transaction: if it stops, what was done before remains")
	}
	w.begin()
	for _, sql := range w.e.OwnTables().Before(m.Text) {
		w.exec(sql)
	}
	if !w.undo {
		found, err := missingFound(w.ctx, w.Database, m)
		if err != nil {
			return err
		}
		for _, sql := range found {
			w.exec(sql)
		}
		w.Require(m.BeforeApply...)
		return nil
	}
	w.Require(m.BeforeUndo...)
	count := rowsOf(w.ctx, w.Database, w.e)
	if k > 0 { // of a state that does not exist yet nobody knows the rows
		count = func(string) (int64, error) { return 1, nil }
	}
	list, err := archives(w.state, count, w.e, m)
	for _, a := range list {
		w.Statements(a.statements()...)
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
		w.commit()
	}
	if apart && !outside {
		w.begin()
	}
	w.Require(needs...)
	w.Lines("-- " + words.OneLine(st.Title))
	if r, t := insertedIn(w.state, st); w.undo && t != nil && !wholeTable(m, t.Name) { // with what people wrote into them
		if w.e.Caps().ImmediateReferences {
			w.Require(referred(w.e, w.state, r, t)...)
		}
		before := w.state.Table(rowsBefore(m, t.Name)) != nil
		w.Statements(referenceRows{w.e, m, r, w.state, t}.removal(before).Apply...)
		w.since(keptRows(m, t.Name))
	}
	for _, s := range list {
		w.Statements(w.e.SQL().Bind(s.SQL, map[string]string{engine.Batch: "true"}))
	}
	if outside { // there is always one to end
		w.begin()
	}
}

// without is what is there once a migration has been undone, seen on scratch.
func without(ctx context.Context, e Engine, s *sqlschema.Schema, m *migration.Migration) (*sqlschema.Schema,
	error) {
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
