package draft

// This file carries the steps of people over from one draft to the next.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/migration"
)

// HandStep is a step that a person wrote, or changed, in a migration that is
// drafted again.
type HandStep struct {
	migration.Step
	Of    *migration.Migration
	First bool   // it stands before all that was drafted
	Was   string // the sum of the drafted step that it has taken the place of; empty: of none
}

// HandSteps are the steps of a migration that a person wrote or changed.
func HandSteps(m *migration.Migration) []HandStep {
	var out []HandStep
	here := map[string]bool{}
	for i := range m.Steps {
		here[m.Sum(&m.Steps[i])] = true
	}
	drafted := false // one that was drafted has come
	for i := range m.Steps {
		s := &m.Steps[i]
		if !m.ByHand && !m.ByPerson(s) {
			drafted = true
			continue
		}
		h := HandStep{Step: *s, Of: m, First: !drafted && !m.ByHand}
		if i < len(m.Drafted) && !here[m.Drafted[i]] {
			h.Was = m.Drafted[i]
			drafted = true
		}
		out = append(out, h)
	}
	return out
}

// carry puts the steps of persons into a new draft: a changed one in the place
// of the step that it was, the others before or behind all.
func carry(m *migration.Migration, list []HandStep) error {
	var first, last []migration.Step
	for _, h := range list {
		step := renamed(h.Step, h.Of, m)
		switch i := slices.Index(m.Drafted, h.Was); {
		case h.Was != "" && i < 0:
			return fmt.Errorf(
				"a step of %s was edited (%s), and the draft of it would be different now: nothing was changed. Note what you edited, then erbario redraft --no-carry leaves it out",
				h.Of.ID, h.Title)
		case h.Was != "":
			m.Steps[i] = step
		case h.First:
			first = append(first, step)
		default:
			last = append(last, step)
		}
	}
	m.Steps = append(append(first, m.Steps...), last...)
	m.ByHand = len(m.Drafted) == 0 // else what a person wrote could not be told from what was drafted
	return nil
}

// renamed is a step with the kept tables of another migration.
func renamed(s migration.Step, from, to *migration.Migration) migration.Step {
	list := func(in []migration.Statement) []migration.Statement {
		var out []migration.Statement
		for _, st := range in {
			st.SQL = strings.ReplaceAll(st.SQL, from.Kept(), to.Kept())
			out = append(out, st)
		}
		return out
	}
	s.Apply, s.Undo = list(s.Apply), list(s.Undo)
	return s
}
