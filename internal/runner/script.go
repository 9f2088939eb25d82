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
	"erbario/internal/schema"
	"erbario/internal/words"
)

// Script gives the SQL of the waiting migrations, or of the way back, with the
// ids of those in it.
func Script(ctx context.Context, db engine.Database, e engine.Engine, files []*migration.Migration, o Options,
	undo bool) (string, []string, error) {
	if err := Whole(ctx, db, e); err != nil {
		return "", nil, err
	}
	var todo []*migration.Migration
	if undo {
		var err error
		if todo, err = ToUndo(ctx, db, e, files, o); err != nil {
			return "", nil, err
		}
	} else {
		applied, err := History(ctx, db)
		if err != nil {
			return "", nil, err
		}
		s := StatusOf(files, applied, e)
		if err := s.Problem(); err != nil {
			return "", nil, err
		}
		if todo, err = upTo(s.Pending, files, o.To); err != nil {
			return "", nil, err
		}
	}
	if len(todo) == 0 {
		return "", nil, nil
	}
	var b strings.Builder
	var ids []string
	write := func(list ...string) {
		for _, l := range list {
			b.WriteString(l + "\n")
		}
	}
	since := func(kept string) { // when it was put aside
		write("DELETE FROM "+sinceName+" WHERE name = "+e.SQL().Text(kept)+";",
			"INSERT INTO "+sinceName+" (name, at) VALUES ("+e.SQL().Text(kept)+", "+e.SQL().Text(nowText())+");")
	}
	before, begin, commit, after := e.Scripts().ScriptAround()
	write(before...)
	state := &schema.Schema{} // as it is when an undo begins
	if undo {
		var err error
		if state, err = db.Inspect(ctx); err != nil {
			return "", nil, err
		}
	}
	for k, m := range todo {
		ids = append(ids, m.ID)
		whole := m
		values, said, err := answered(ctx, db, e, m, o)
		if err != nil && !undo {
			if _, open := err.(*NeedsAnswers); open || len(ids) == 1 {
				return "", nil, err
			}
			values, said = nil, nil // its tables come with a migration before it: none has rows yet
		}
		back, err := undoValues(e, m, o.Answers)
		if err != nil {
			return "", nil, err
		}
		m = m.Bound(e, values, back)
		word := "apply"
		needs := m.BeforeApply
		if undo {
			word, needs = "undo", m.BeforeUndo
		}
		write("", fmt.Sprintf("-- %s %s", word, m.ID))
		if !undo {
			list, err := db.Kept(ctx, m.Kept()+"undo_")
			if err != nil {
				return "", nil, err
			}
			if len(list) > 0 {
				write("-- this script does not restore what an earlier undo of it kept: erbario apply does")
			}
		}
		if !m.Atomic() {
			write("-- not one transaction: if it stops, what was done before remains")
		}
		write(begin...)
		for _, sql := range e.OwnTables().History {
			write(sql + ";")
		}
		if !undo {
			found, err := missingFound(ctx, db, m)
			if err != nil {
				return "", nil, err
			}
			for _, sql := range found {
				write(sql + ";")
			}
		}
		for _, r := range needs {
			write(e.Scripts().ScriptRequire(r)...)
		}
		if undo {
			count := rowsOf(ctx, db, e)
			if k > 0 { // of a state that is not there yet nobody knows the rows
				count = func(string) (int64, error) { return 1, nil }
			}
			list, err := archives(state, count, e, m)
			if err != nil {
				return "", nil, err
			}
			for _, a := range list {
				for _, sql := range a.statements() {
					write(e.Scripts().ScriptStatement(sql)...)
				}
				since(a.kept)
			}
		}
		order := make([]int, len(m.Steps)) // the steps as they run
		for i := range order {
			order[i] = i
		}
		if undo {
			slices.Reverse(order)
		}
		for i, n := range order {
			st := m.Steps[n]
			list, needs := st.Apply, st.Here
			if undo {
				list, needs = st.Undo, st.HereUndo
			}
			apart := !m.Atomic() &&
				(i == 0 || st.Kind != engine.InTransaction || m.Steps[order[i-1]].Kind != engine.InTransaction)
			if apart { // what came before it is there to stay
				write(commit...)
			}
			outside := st.Kind == engine.OutsideTransaction
			if apart && !outside {
				write(begin...)
			}
			for _, r := range needs {
				write(e.Scripts().ScriptRequire(r)...)
			}
			write("-- " + words.OneLine(st.Title))
			if r, t := insertedIn(state, &st); undo && t != nil &&
				!wholeTable(m, t.Name) { // with what people wrote into them
				if e.Caps().ImmediateReferences {
					for _, q := range referred(e, state, r, t) {
						write(e.Scripts().ScriptRequire(q)...)
					}
				}
				for _, sql := range removalOf(e, m, r, state, t, state.Table(rowsBefore(m, t.Name)) != nil).Apply {
					write(e.Scripts().ScriptStatement(sql)...)
				}
				since(keptRows(m, t.Name))
			}
			for _, s := range list {
				write(e.Scripts().ScriptStatement(e.SQL().Bind(s.SQL, map[string]string{engine.Batch: "true"}))...)
			}
			if outside { // there is always one to end
				write(begin...)
			}
		}
		if undo {
			write("DELETE FROM erbario_history WHERE id = " + e.SQL().Text(m.ID) + ";")
		} else {
			var values []string
			for _, v := range HistoryRow(whole, said, 0) {
				values = append(values, e.SQL().Text(v))
			}
			write("INSERT INTO erbario_history (id, checksum, applied_at, applied_by, took_ms, text, answers) VALUES (" + strings.Join(values, ", ") + ");")
		}
		write(commit...)
		if undo && k < len(todo)-1 {
			if state, err = without(ctx, e, state, m); err != nil {
				return "", nil, err
			}
		}
	}
	write("")
	write(after...)
	return b.String(), ids, nil
}

// without is what is there once a migration has been taken back, seen on scratch.
func without(ctx context.Context, e engine.Engine, s *schema.Schema, m *migration.Migration) (*schema.Schema, error) {
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
