package mariadb

// This file gives steps the form that a server needs whose changes of tables commit by
// themselves. A step is one such change, or statements on rows in one transaction, in
// which it is noted that they are done: so each is done or not, whatever happens. Only
// what happens under LOCK TABLES stands together in one step.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/schema"
)

// commits tells whether a statement commits what was done before it, and itself.
func commits(statement string) bool {
	words := leading(withoutMode(statement), 2)
	if len(words) == 0 || len(words) > 1 && words[1] == "TEMPORARY" {
		return false
	}
	switch words[0] {
	case "CREATE", "ALTER", "DROP", "RENAME", "TRUNCATE", "LOCK", "UNLOCK", "ANALYZE":
		return true
	}
	return false
}

// locksTables tells whether a statement is LOCK TABLES.
func locksTables(statement string) bool {
	w := leading(statement, 2)
	return len(w) == 2 && w[0] == "LOCK" && (w[1] == "TABLES" || w[1] == "TABLE")
}

func unlocksTables(statement string) bool {
	w := leading(statement, 2)
	return len(w) == 2 && w[0] == "UNLOCK"
}

// stretch is statements of one direction of a step that stand together: one that commits,
// or some that do not.
type stretch struct {
	commits bool
	list    []string
}

func runs(statements []string) []stretch {
	var out []stretch
	for _, s := range statements {
		c := commits(s)
		if n := len(out); n > 0 && !c && !out[n-1].commits {
			out[n-1].list = append(out[n-1].list, s)
			continue
		}
		out = append(out, stretch{c, []string{s}})
	}
	return out
}

// ValidateStep says why statements cannot stand together in a step: what commits stands
// alone, or under LOCK TABLES.
func (Engine) ValidateStep(kind engine.StepKind, statements []string) error {
	locked := len(statements) > 0 && locksTables(statements[0])
	for _, s := range statements {
		word := strings.Join(leading(s, 2), " ")
		switch c := commits(s); {
		case c && kind != engine.OutsideTransaction:
			return &engine.RefusedError{
				Word: word,
				Why:  "on MariaDB it commits by itself: give it a step of its own, marked (outside transaction)",
			}
		case !c && kind == engine.OutsideTransaction && !locked:
			return &engine.RefusedError{
				Word: word,
				Why:  "a step (outside transaction) is one change of a table; put changes of rows into a step marked (own transaction)",
			}
		}
	}
	if kind == engine.OutsideTransaction && !locked && len(statements) > 1 {
		return &engine.RefusedError{
			Word: "a second statement",
			Why:  "each commits by itself: give it a step of its own, or put both between LOCK TABLES and UNLOCK TABLES",
		}
	}
	if off, on := slices.Index(statements, holdNoReferences), slices.Index(statements, holdReferences); off >= 0 &&
		(!locked || on < off) {
		return &engine.RefusedError{
			Word: holdNoReferences,
			Why:  "it is between LOCK TABLES and UNLOCK TABLES, with " + holdReferences + " after it",
		}
	}
	if locked && !unlocksTables(statements[len(statements)-1]) {
		return &engine.RefusedError{Word: "LOCK TABLES", Why: "UNLOCK TABLES has to end the step"}
	}
	return nil
}

// Schedule gives steps, as they would be in one transaction, the form in which the
// server runs them. The undo of a step has to be its mirror.
func (Engine) Schedule(steps []engine.Step) []engine.Step {
	var out []engine.Step
	for _, s := range inOneMoment(steps) {
		for _, part := range separate(s) {
			// What comes and goes at once, such as a view between two changes, need not come.
			if n := len(out) - 1; n >= 0 && len(part.Apply) == 1 &&
				len(part.Loses)+len(part.Here)+len(part.HereUndo) == 0 && slices.Equal(out[n].Apply, part.Undo) &&
				slices.Equal(out[n].Undo, part.Apply) {
				out = out[:n]
				continue
			}
			out = append(out, part)
		}
	}
	return out
}

func separate(s engine.Step) []engine.Step {
	if s.Kind != engine.InTransaction {
		return []engine.Step{s}
	}
	s.Apply, s.Undo = replaced(s.Apply), replaced(s.Undo)
	apply, undo := runs(s.Apply), runs(s.Undo)
	for i, j := 0, len(undo)-1; i < j; i, j = i+1, j-1 {
		undo[i], undo[j] = undo[j], undo[i]
	}
	locked := false
	for _, st := range append(append([]string{}, s.Apply...), s.Undo...) {
		locked = locked || locksTables(st)
	}
	kind := func(r stretch) engine.StepKind {
		if r.commits {
			return engine.OutsideTransaction
		}
		return engine.OwnTransaction
	}
	if locked || len(apply) <= 1 && len(undo) <= 1 &&
		(len(apply) == 0 || len(undo) == 0 || apply[0].commits == undo[0].commits) {
		s.Kind = engine.OwnTransaction
		if locked || len(apply) > 0 && apply[0].commits || len(undo) > 0 && undo[0].commits {
			s.Kind = engine.OutsideTransaction
		}
		return []engine.Step{s}
	}
	// What is done and how it is undone, in the order of apply.
	type pair struct{ apply, undo stretch }
	var pairs []pair
	for len(apply)+len(undo) > 0 {
		switch {
		case len(apply) > 0 && len(undo) > 0 && apply[0].commits == undo[0].commits:
			pairs = append(pairs, pair{apply[0], undo[0]})
			apply, undo = apply[1:], undo[1:]
		case len(apply) > len(undo):
			pairs = append(pairs, pair{apply: apply[0]})
			apply = apply[1:]
		case len(undo) > 0:
			pairs = append(pairs, pair{undo: undo[0]})
			undo = undo[1:]
		default:
			pairs = append(pairs, pair{apply: apply[0]})
			apply = apply[1:]
		}
	}
	rows := len(pairs) - 1 // the part that is about rows
	for i, p := range pairs {
		if len(p.apply.list) > 0 && !p.apply.commits {
			rows = i
		}
	}
	var out []engine.Step
	for i, p := range pairs {
		part := engine.Step{Title: s.Title, Work: s.Work, Note: s.Note, Apply: p.apply.list, Undo: p.undo.list}
		if part.Kind = kind(p.apply); len(p.apply.list) == 0 {
			part.Kind = kind(p.undo)
		}
		part.Title = partTitle(s.Title, part)
		if i == 0 {
			part.UndoLoses, part.HereUndo = s.UndoLoses, s.HereUndo
		}
		if i == rows {
			part.Loses, part.Kept, part.Here, part.Rows = s.Loses, s.Kept, s.Here, s.Rows
			part.Objects = s.Objects
		}
		out = append(out, part)
	}
	return out
}

// replaced has a view that goes and comes again be there all the time.
func replaced(list []string) []string {
	if len(list) != 2 || !strings.HasPrefix(list[0], "DROP VIEW ") || !strings.HasPrefix(list[1], "CREATE ") ||
		!strings.Contains(list[1], " "+strings.TrimPrefix(list[0], "DROP ")+" AS ") {
		return list
	}
	return []string{"CREATE OR REPLACE " + strings.TrimPrefix(list[1], "CREATE ")}
}

// partTitle says of a part of a step what it makes, where that is not what the step is
// about.
func partTitle(title string, part engine.Step) string {
	list, back := part.Apply, ""
	if len(list) == 0 {
		list, back = part.Undo, ", in the undo"
	}
	tables, others := touches(list)
	trigger := slices.IndexFunc(others, func(p touched) bool { return p.kind == "TRIGGER" })
	switch {
	case trigger >= 0:
		return title + ", trigger " + others[trigger].name + back
	case len(tables) > 0 && strings.HasPrefix(tables[0], schema.KeptPrefix):
		return title + ", table for kept values" + back
	case len(tables) > 0 && schema.Own(tables[0]):
		return "prepare to " + title + back
	}
	return title + back
}

// underLock puts statements between LOCK TABLES and its end: nobody else reads or writes
// a table meanwhile, nor one in which is noted what it had.
func underLock(table, noted string, statements ...string) []string {
	list := []string{quote(table) + " WRITE"}
	if noted != "" { // under the name, too, by which questions call it
		list = append(list, quote(noted)+" WRITE", quote(noted)+" AS kept READ")
	}
	return append(append([]string{"LOCK TABLES " + strings.Join(list, ", ")}, statements...), "UNLOCK TABLES")
}
