package postgres

// This file divides a migration of very many tables: a transaction holds a lock on each of
// them, and on each of their indexes and sequences, and the server has room for some
// thousands of locks.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine"
)

const (
	manyTables = 300 // from so many on a migration is more than one transaction
	together   = 200 // so many tables are created or dropped in one
)

// Schedule divides the steps of a migration that creates or drops very many tables into
// steps with transactions of their own. All others are one transaction, but where a step
// says otherwise.
func (Engine) Schedule(steps []engine.Step) []engine.Step {
	tables := 0
	for i := range steps {
		tables += comesOrGoes(&steps[i])
	}
	if tables < manyTables {
		return steps
	}
	var out []engine.Step
	var bundle []engine.Step
	shut := func() {
		if len(bundle) > 0 {
			out = append(out, bundled(bundle))
		}
		bundle = nil
	}
	for _, s := range steps {
		simple := s.Kind == engine.InTransaction && len(s.Rows)+len(s.Here)+len(s.HereUndo)+len(s.Loses) == 0 && !s.Kept
		if !simple {
			shut()
			if s.Kind == engine.InTransaction {
				s.Kind = engine.OwnTransaction
			}
			out = append(out, s)
			continue
		}
		if len(bundle) == together {
			shut()
		}
		bundle = append(bundle, s)
	}
	shut()
	return out
}

// comesOrGoes counts the tables that a step creates or drops.
func comesOrGoes(s *engine.Step) int {
	n := 0
	for _, sql := range s.Apply {
		if strings.HasPrefix(sql, "CREATE TABLE ") || strings.HasPrefix(sql, "DROP TABLE ") {
			n++
		}
	}
	return n
}

// bundled makes steps one.
func bundled(list []engine.Step) engine.Step {
	one := list[0]
	one.Apply, one.Undo, one.UndoLoses = nil, nil, nil
	one.Kind = engine.OwnTransaction
	var notes []string
	for _, s := range list {
		one.Apply = append(one.Apply, s.Apply...)
		one.UndoLoses = append(one.UndoLoses, s.UndoLoses...)
		if s.Note != "" && !slices.Contains(notes, s.Note) {
			notes = append(notes, s.Note)
		}
		one.Work = max(one.Work, s.Work)
	}
	for _, s := range slices.Backward(list) {
		one.Undo = append(one.Undo, s.Undo...)
	}
	if len(list) > 1 {
		one.Title = fmt.Sprintf("%s, and %d steps like it", list[0].Title, len(list)-1)
		one.Note = ""
		if len(notes) == 1 {
			one.Note = notes[0]
		}
	}
	return one
}
