package runner

// This file writes migrations as plain SQL that a person runs with the
// database's own client, to the same effect: requirements stop it, each
// migration is one transaction, and history is kept.

import (
	"context"
	"fmt"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

// Script gives the SQL of the waiting migrations, or of the way back, with the
// ids of those in it.
func Script(ctx context.Context, db engine.Database, e engine.Engine, files []*migration.Migration, o Options, undo bool) (string, []string, error) {
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
		s := Stand(files, applied, e)
		if err := s.Problem(); err != nil {
			return "", nil, err
		}
		if todo, err = upTo(s.Waiting, files, o.To); err != nil {
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
	before, begin, commit, after := e.ScriptAround()
	write(before...)
	for _, m := range todo {
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
		write(begin...)
		for _, sql := range e.Foundation() {
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
			write(e.ScriptRequire(r)...)
		}
		if undo {
			aside, err := asideStatements(ctx, db, e, m)
			if err != nil {
				return "", nil, err
			}
			for _, sql := range aside {
				write(e.ScriptStatement(sql)...)
			}
		}
		for i := range m.Steps {
			st := m.Steps[i]
			list, needs := st.Apply, st.Here
			if undo {
				st = m.Steps[len(m.Steps)-1-i]
				list, needs = st.Undo, st.HereUndo
			}
			for _, r := range needs {
				write(e.ScriptRequire(r)...)
			}
			write("-- " + migration.Title(st.Title))
			for _, s := range list {
				write(e.ScriptStatement(e.Bind(s.SQL, map[string]string{engine.Batch: "true"}))...)
			}
		}
		if undo {
			write("DELETE FROM erbario_history WHERE id = " + e.Text(m.ID) + ";")
		} else {
			var values []string
			for _, v := range HistoryRow(whole, said, 0) {
				values = append(values, e.Text(v))
			}
			write("INSERT INTO erbario_history (id, checksum, applied_at, applied_by, took_ms, text, answers) VALUES (" + strings.Join(values, ", ") + ");")
		}
		write(commit...)
	}
	write("")
	write(after...)
	return b.String(), ids, nil
}
