package review

// This file has the words that both writers use.

import (
	"fmt"
	"strings"
	"time"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/runner"
	"erbario/internal/words"
)

// basis says where estimates come from.
const basis = "Times are estimated from the number of rows, at rates that were measured with rows of 8 columns on two cores. " +
	"Locks are held at least until the end of the step."

func changeWords(c diff.Change) string {
	s := c.Kind.Thing() + " " + c.Target()
	switch c.Kind {
	case diff.ChangeType, diff.MakeOptional, diff.MakeRequired, diff.ChangeDefault:
		s = "column " + c.Target()
	}
	if c.What != "" {
		s += ": " + c.What
	}
	return s
}

func (m *Migration) proofWords() string {
	switch {
	case m.Edited:
		return "edited since its proof: erbario prove " + m.ID
	case m.Proof == "":
		return "not proved: erbario prove " + m.ID
	}
	return m.Proof
}

func (r *Review) title() string {
	return r.Project + ": review of " + words.Count(int64(len(r.Migrations)), "migration", "migrations")
}

func lossNames(list []engine.Loss) string {
	var names []string
	for _, l := range list {
		if l.Column == "" && !l.Deleted {
			names = append(names, "the rows of "+l.Table)
			continue
		}
		names = append(names, l.String())
	}
	return strings.Join(names, ", ")
}

// rowsWords say what becomes of values when it is applied.
func (m *Migration) rowsWords() (list []string) {
	if kept := m.Keeps(); len(kept) > 0 {
		list = append(list, "kept and restored by the undo: "+lossNames(kept))
	}
	if lost := m.Loses(); len(lost) > 0 {
		list = append(list, "lost: "+lossNames(lost))
	}
	if len(list) == 0 {
		list = append(list, "no value is dropped")
	}
	return list
}

// undoWords say what an undo does to what was added since.
func (m *Migration) undoWords() (list []string) {
	for i, s := range m.Steps {
		if s.NoUndo {
			list = append(list, fmt.Sprintf("step %d has no undo: the migration cannot be undone", i+1))
		}
	}
	if kept := m.UndoKeeps(); len(kept) > 0 {
		list = append(list, "values given since are kept, and restored when it is applied again: "+lossNames(kept))
	}
	for _, q := range m.BeforeUndo {
		list = append(list, "refused while "+sentence(q.Sentence))
	}
	if !m.OneWay() {
		list = append(list, "all else that was added since stays as it is")
	}
	return list
}

// sentence is that of a requirement, without a number.
func sentence(s string) string {
	return strings.TrimSpace(strings.TrimPrefix(strings.ReplaceAll(s, "{n}", ""), " "))
}

// needWords say whether a requirement holds.
func needWords(n Need) string {
	switch {
	case !n.Asked:
		return "asked once the migrations before it are applied: none of these may exist: " + sentence(n.Sentence)
	case n.Rows > 0 && n.Wait:
		return "waits: " + runner.Sentence(n.Sentence, n.Rows)
	case n.Rows > 0:
		return "blocked: " + runner.Sentence(n.Sentence, n.Rows)
	}
	return "holds: " + runner.Sentence(n.Sentence, 0)
}

// timeWords are about how long something takes.
func timeWords(d time.Duration) string {
	switch {
	case d < time.Second:
		return "under a second"
	case d < 90*time.Second:
		return fmt.Sprintf("about %d s", int(d.Round(time.Second).Seconds()))
	case d < 90*time.Minute:
		return fmt.Sprintf("about %d min", int(d.Round(time.Minute).Minutes()))
	}
	return fmt.Sprintf("about %d h", int(d.Round(time.Hour).Hours()))
}

func (d *Database) stateWords() string {
	switch {
	case d.Problem != "":
		return d.Problem
	case d.State == Applied:
		return "applied"
	case len(d.Before) > 0:
		return "pending, after " + words.Count(int64(len(d.Before)), "other", "others")
	}
	return "pending"
}

// sizeWords are the tables that a step touches.
func (c Cost) sizeWords() string {
	var list []string
	for _, t := range c.Tables {
		s := t.Name + " has " + words.Rows(t.Rows)
		if t.Bytes > 0 {
			s += ", " + words.Bytes(t.Bytes)
		}
		list = append(list, s)
	}
	return strings.Join(list, "; ")
}

// lockWords are what a step locks, and what it does with rows.
func (m *Migration) lockWords(step int, c Cost) string {
	s := m.Steps[step]
	switch w := s.Work.String(); {
	case c.Lock == "":
		return s.Note
	case w != "" && !strings.Contains(c.Lock, " on "): // of the whole database
		return c.Lock + "; " + w
	}
	return c.Lock
}
