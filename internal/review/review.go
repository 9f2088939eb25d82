// Package review says what a colleague needs to know to say yes to a migration: what changes, each
// step with its SQL and its undo, what it locks and about how long on the databases that are named,
// what is lost or kept, what is required and whether that holds, the proof, and what an undo does.
//
//	m := review.Of(file, e, before, after)
//	m.On(ctx, "production", db, e, status)
//	text := (&review.Review{Project: "herbarium", Migrations: []*review.Migration{m}}).Markdown()
//
// Its values are facts, counted and compared by the same code as diff and apply use; the two writers
// put them into words.
package review

import (
	"slices"
	"strings"
	"time"

	"erbario/internal/diagram"
	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/sqlschema"
)

// Review is about one migration or several.
type Review struct {
	Project    string
	Migrations []*Migration
	Asked      bool // databases were asked
}

// Migration is what is to be known of one migration.
type Migration struct {
	ID, Title, Engine, File, Follows string
	Answers                          []string
	Proof                            string // the outcome of its proof; empty: not proved
	Edited                           bool   // it was changed since
	Doubts                           string // what the proof could not try; empty: nothing
	ByPerson                         []int  // the steps, from 1, that a person wrote
	Changes                          []diff.Change
	Unknown                          string // why the changes are not known; empty: they are
	Steps                            []Step
	Before                           []engine.Requirement // asked before it is applied
	BeforeUndo                       []engine.Requirement
	Graph                            *diagram.Graph // of what changes; nil: none is known
	Databases                        []*Database
}

// Step is one step.
type Step struct {
	Title, Note string
	Work        engine.Work
	Kind        engine.StepKind
	Apply, Undo []string
	NoUndo      bool
	Loses       []engine.Loss // when it is applied
	Kept        bool
	UndoLoses   []engine.Loss // when it is undone; the runner keeps it
	Here        []engine.Requirement
}

// Database is what a migration meets on one database.
type Database struct {
	Name    string
	State   State
	Before  []string // pending migrations that come first
	Problem string   // why nothing is known of it; empty: something is
	Needs   []Need
	Steps   []Cost // of each step
}

// State is how far a database is with a migration.
type State string

// The states.
const (
	Pending State = "pending"
	Applied State = "applied"
)

// Need is a requirement, and how many rows block it.
type Need struct {
	engine.Requirement
	Rows  int64 // that block it
	Asked bool  // false: only once the migrations before it are applied
}

// Cost is what a step does on one database.
type Cost struct {
	Lock   string // what it locks, in the engine's words
	Tables []Table
	About  time.Duration // how long it works with rows, estimated; 0: it does not, or nothing is known
}

// Table is a table that a step touches, as large as it is.
type Table struct {
	Name        string
	Rows, Bytes int64
}

// Of is what a file says of itself, and what differs between the schema before it and after it; both
// are nil where they are not known.
func Of(m *migration.Migration, e migration.Engine, before, after *sqlschema.Schema) *Migration {
	_, title, _ := strings.Cut(m.ID, "-")
	out := &Migration{
		ID: m.ID, Title: strings.ReplaceAll(title, "-", " "), Engine: m.Engine, File: m.Path, Follows: m.Follows,
		Answers: m.Answers, Proof: m.Proof, Edited: m.Proof != "" && m.ProofOf != "" && !m.Proved(), Doubts: m.Doubts(),
		Before: m.BeforeApply, BeforeUndo: m.BeforeUndo,
	}
	if before != nil && after != nil {
		out.Changes = diff.Told(diff.Schemas(before, after))
		diff.Group(out.Changes)
	}
	for i := range m.Steps {
		s := &m.Steps[i]
		if m.ByPerson(s) {
			out.ByPerson = append(out.ByPerson, i+1)
		}
		out.Steps = append(out.Steps, Step{
			Title: s.Title, Note: s.Note, Work: s.Work, Kind: s.Kind, Apply: texts(s.Apply), Undo: texts(s.Undo),
			NoUndo: s.NoUndo, Loses: s.Loses, Kept: s.Kept, UndoLoses: s.UndoLoses, Here: s.Here,
		})
	}
	return out
}

func texts(list []migration.Statement) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = s.SQL
	}
	return out
}

// Keeps are the things that go when it is applied and are kept, and Loses those that are not.
func (m *Migration) Keeps() (list []engine.Loss) { return m.losses(true) }

// Loses are the things that are lost when it is applied.
func (m *Migration) Loses() (list []engine.Loss) { return m.losses(false) }

func (m *Migration) losses(kept bool) (list []engine.Loss) {
	for _, s := range m.Steps {
		if s.Kept == kept {
			list = append(list, s.Loses...)
		}
	}
	return list
}

// UndoKeeps are the things that an undo takes away and keeps.
func (m *Migration) UndoKeeps() (list []engine.Loss) {
	for _, s := range m.Steps {
		for _, l := range s.UndoLoses {
			if !slices.Contains(list, l) {
				list = append(list, l)
			}
		}
	}
	return list
}

// OneWay says whether a step has no undo.
func (m *Migration) OneWay() bool {
	return slices.ContainsFunc(m.Steps, func(s Step) bool { return s.NoUndo })
}

// Total is how long all steps work with rows on a database.
func (d *Database) Total() (sum time.Duration) {
	for _, c := range d.Steps {
		sum += c.About
	}
	return sum
}

// Blocked are the requirements that rows block.
func (d *Database) Blocked() (list []Need) {
	for _, n := range d.Needs {
		if n.Rows > 0 && !n.Wait {
			list = append(list, n)
		}
	}
	return list
}
