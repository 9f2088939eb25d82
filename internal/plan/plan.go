// Package plan turns changes into the ordered steps of a migration. It asks what only a person
// can decide, takes the answers, and leaves to the engine how one table becomes another; the
// order of the steps comes from what frees a name and what takes it, and the undo is the
// mirror. testdata has pairs of models with what becomes of them:
//
//	before:  model Sheet: note text          after:  model Sheet: remark text
//	? sheets.note is no longer declared; sheets has 3 rows
//	    renamed to remark: --rename sheets.note=remark
//	    drop it; its values are kept: --drop sheets.note
package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Engine is what a plan needs of an engine.
type Engine interface {
	Name() string
	Caps() engine.Caps
	SQL() engine.Dialect
	DDL() engine.Compiler
}

// Input is all that a plan depends on.
type Input struct {
	Engine   Engine
	Kept     string            // begins the names of the tables of what the migration keeps
	Live     *sqlschema.Schema // what is there, with the renames made
	Wanted   *sqlschema.Schema
	Changes  []diff.Change     // from Live to Wanted, where somebody knows them already; nil: nobody does
	Made     *sqlschema.Schema // what the applied migrations made, with the renames made: only that is ever dropped
	Answers  Answers
	TakeOver bool     // what was made by hand and is declared goes into the line
	Lenient  bool     // answers that answer nothing are left out
	NoKeep   bool     // what a step destroys is not kept
	NoDrop   bool     // columns cannot be dropped in place in this database
	Order    []string // tables that are copied so that their columns stand as declared
	Rows     []TableRows
	// EnumRenames are the steps of those renames that concern enum types, Renames those
	// of all others, which were made to come to Live.
	EnumRenames map[Rename]engine.Step
	Renames     map[Rename][]engine.Step
	// FoundTriggers are the triggers, by their names in lower case, that existed before the
	// migrations: no model declares them.
	FoundTriggers map[string]bool
	// Handled are the triggers, by table, that are declared in SQL: who plans those sees to them.
	Handled map[string][]string
	// FoundTables are tables that existed before the migrations, which go only if that is said.
	FoundTables map[string]bool
	// InSQL are the tables that migrations made and files of SQL declared.
	InSQL map[string]bool
	// Lacks are tables that scratch cannot have, in lower case: nothing creates them again.
	Lacks map[string]bool
	// LeastLocking finds out, where the engine wants that, how gently it can make the steps of
	// a plan, and writes that into them; nil: it does not matter.
	LeastLocking func(p *Plan) error
	// Stage says which half of a staged pair it is; nil: the change is whole.
	Stage *Stage
	// Unseen tells whether rows may have a column of which nobody can see any here, since
	// only databases of another engine have it; nil: all can be seen.
	Unseen func(table, column string) bool
	// InUse tells whether others work on a table where the migration will go.
	InUse func(table string) bool
	// Size is the room that a live table takes, in bytes.
	Size func(table string) (int64, error)
	// Count is the number of rows of a query on the live database, and Look the
	// number with the first of them.
	Count func(query string) (int64, error)
	Look  func(query string) (int64, engine.Rows, error)
}

// The fates. Restore lets them come back as rows like any other, Keep puts them
// aside until an undo, Purge deletes them for good.
const (
	Restore DeletedRows = "restore"
	Keep    DeletedRows = "keep"
	Purge   DeletedRows = "purge"
)

// Plan is the outcome: what is to be asked, or else the steps.
type Plan struct {
	Changes     []diff.Change // what the steps do
	Undeclared  []diff.Change // what is there and no migration made: left alone
	Questions   []Question
	Steps       []engine.Step
	Parameters  []engine.Parameter
	BeforeApply []engine.Requirement
	BeforeUndo  []engine.Requirement
	InTheWay    []InTheWay        // rows of the live database that would stop it
	Effects     map[string]string // by table: what its steps do to its rows
	Unused      []string          // answers that answered nothing, as flags, where that is no mistake
	Found       []Found           // what is there though no migration made it, and is declared now
	Outer       []OuterName       // names in fills that most likely mean something else
	Breaks      []Break           // what may fail afterwards
	Held        []Held            // tables in use that nobody can read for a while
	Schemas     []string          // in which there are tables, or were, next to the project's own
	Last        []string          // tables whose new columns come behind others that stand above them in the model
}

// Held is a step that writes every row of a table in use again, while nobody reads it:
// there is no other form for it but a staged pair.
type Held struct {
	Table string `json:"table"`
	Step  int    `json:"step"` // from 1
}

// Break is a function or a procedure that nobody declares, and that names what the plan takes
// away.
type Break struct {
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	Names string `json:"names"` // the table, or the column
	// Another: something else has the name afterwards.
	Another bool `json:"another,omitempty"`
}

// Found is a table, or a part of one, that the migration builds on though none
// made it here, and how to make it where it is not.
type Found struct {
	Table, Column string
	Beside        string // an index or a trigger of the table, instead of a column
	Kind          string // of something that is no table, whose name Table is; empty: a table
	Make          []string
}

type planner struct {
	Input
	plan     *Plan
	rowsTold map[string]bool // tables whose reference rows stand among the effects
	used     map[string]bool // the answers that answered something
	units    []unit
	err      error
	// By table.
	skipped map[string]bool                 // its other changes wait for an answer
	looked  map[string]bool                 // what was made of it by hand is noted
	follow  map[string]engine.Step          // what takes the place of a bridge
	early   []engine.Requirement            // what is asked once the new names are there, in the old ones
	reads   map[string][]string             // the expressions of its fills
	again   map[string][]string             // the columns of its new key that the database gives by itself
	parted  map[string][]string             // the columns of its old key that go once all references have followed
	dropped []string                        // tables that migrations made and somebody dropped here
	needs   map[string][]engine.Requirement // what else must hold before its steps
	moving  []string                        // enum types, as SQL, that come, go, or are made again
	fresh   []string                        // values that come to enum types
	// References that come and go apart from their tables.
	place                 map[string]int // among the tables that come, or go
	apartFrom, foundKeys  map[*sqlschema.ForeignKey]bool
	goingKeys, comingKeys []held
	renamedKeys           []renamedKey
}

// The ranks of units, in their order. Views and what spans tables go first and come
// last; tables come, then change, then go; reference rows are set when all is there.
const (
	rankSpanGoes    = iota
	rankVirtualGoes // a virtual table may be an index of the rows of another
	rankReferenceGoes
	rankEnumComes // before rows go, which come back into the types that there are then
	rankRowsGo
	rankNamesGo // of tables that change places
	rankCreate
	rankAlter
	rankDrop
	rankVirtualComes
	rankEnumGoes
	rankReferenceComes
	rankSpanComes
	rankRows
)

// Make plans the way from what is there to what is wanted. It returns an error
// for answers that answer nothing.
func Make(in Input) (*Plan, error) {
	p := newPlanner(in)
	p.newNames()
	restored := p.restoreTables()
	changes := in.Changes
	if changes == nil || p.Live != in.Live {
		changes = diff.Schemas(p.Live, in.Wanted)
	}
	p.split(changes)
	p.valuesSwap()
	p.others()
	p.references()
	p.viewsAside()
	p.spanning()
	p.enums()
	p.staged()
	byTable := map[string][]diff.Change{}
	var order []string
	for _, c := range p.plan.Changes {
		if _, ok := c.Object.(*sqlschema.Other); ok {
			continue
		}
		if byTable[c.Table] == nil {
			order = append(order, c.Table)
		}
		byTable[c.Table] = append(byTable[c.Table], c)
	}
	p.schemas()
	p.valueSteps()
	p.renameSteps()
	p.part(byTable)
	for _, name := range order {
		if list := p.apart(byTable[name]); len(list) > 0 {
			p.table(name, list)
		}
	}
	if p.err != nil {
		return nil, p.err
	}
	if err := p.unused(); err != nil {
		return nil, err
	}
	if len(p.dropped) > 0 && len(p.plan.Questions) == 0 {
		p.plan.Steps = append(p.plan.Steps, engine.Step{
			Title: "have " + strings.Join(p.dropped, ", ") + ", dropped outside Erbario",
			Note:  "created above if missing, without rows",
		})
	}
	p.takeOver()
	p.referenceUnits()
	p.rowSteps()
	p.byReads()
	if p.err != nil {
		return nil, p.err
	}
	p.enumsAside()
	p.plan.Changes = append(p.plan.Changes, restored...)
	diff.Group(p.plan.Changes)
	for _, u := range ordered(p.units) {
		p.plan.Steps = append(p.plan.Steps, u.change.Steps...)
		p.plan.BeforeApply = append(p.plan.BeforeApply, u.change.BeforeApply...)
		p.plan.BeforeUndo = append(p.plan.BeforeUndo, u.change.BeforeUndo...)
	}
	p.earlySteps()
	p.addedUsed()
	p.plan.Steps = engine.Schedule(in.Engine.DDL(), p.plan.Steps)
	if in.LeastLocking != nil && len(p.plan.Questions) == 0 {
		if err := in.LeastLocking(p.plan); err != nil {
			return nil, err
		}
	}
	p.once()
	if err := p.locks(); err != nil {
		return nil, err
	}
	if err := p.samples(); err != nil {
		return nil, err
	}
	return p.plan, p.ways()
}

// earlySteps puts steps ahead of the names that change; where none does, their undo is that of the step before
// which they stand.
func (p *planner) earlySteps() {
	var early, rest []engine.Step
	var undo []string
	for _, st := range p.plan.Steps {
		switch {
		case st.Early && len(p.Answers.Rename) > 0:
			early = append(early, st)
		case st.Early:
			undo = st.Undo
		default:
			st.Undo, undo = slices.Concat(st.Undo, undo), nil
			rest = append(rest, st)
		}
	}
	p.plan.Steps = append(early, rest...)
}

// newPlanner is a planner that has done nothing yet.
func newPlanner(in Input) *planner {
	return &planner{
		Input:     in,
		rowsTold:  map[string]bool{},
		plan:      &Plan{Effects: map[string]string{}},
		used:      map[string]bool{},
		looked:    map[string]bool{},
		skipped:   map[string]bool{},
		needs:     map[string][]engine.Requirement{},
		reads:     map[string][]string{},
		parted:    map[string][]string{},
		again:     map[string][]string{},
		follow:    map[string]engine.Step{},
		place:     map[string]int{},
		apartFrom: map[*sqlschema.ForeignKey]bool{},
		foundKeys: map[*sqlschema.ForeignKey]bool{},
	}
}

// renameSteps adds the steps of the names that change.
func (p *planner) renameSteps() {
	for _, r := range p.Answers.Rename {
		if r.Value == "" {
			steps, ok := p.Renames[r]
			if !ok {
				steps, _ = p.Engine.DDL().Rename(nil, r.Table, r.Column, r.To)
			}
			p.plan.Steps = append(p.plan.Steps, steps...)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.follow)) {
		p.plan.Steps = append(p.plan.Steps, p.follow[name])
	}
}

// samples gives the questions some of the rows that they are about.
func (p *planner) samples() error {
	for i, q := range p.plan.Questions {
		if q.Query != "" && p.Look != nil {
			_, rows, err := p.Look(q.Query)
			if err != nil {
				return err
			}
			p.plan.Questions[i].Sample = rows
		}
	}
	return nil
}

// once has a migration that is one transaction ask nothing twice: no row comes in
// between.
func (p *planner) once() {
	if slices.ContainsFunc(p.plan.Steps, func(s engine.Step) bool { return s.Kind != engine.InTransaction }) {
		return
	}
	asked := func(list []engine.Requirement) func(engine.Requirement) bool {
		return func(r engine.Requirement) bool {
			return slices.ContainsFunc(list, func(o engine.Requirement) bool { return o.Query == r.Query })
		}
	}
	for i := range p.plan.Steps {
		s := &p.plan.Steps[i]
		s.Here = slices.DeleteFunc(slices.Clone(s.Here), asked(p.plan.BeforeApply))
		s.HereUndo = slices.DeleteFunc(slices.Clone(s.HereUndo), asked(p.plan.BeforeUndo))
	}
}

// others sets apart what no model can declare.
func (p *planner) others() {
	left := func(c diff.Change) { p.plan.Undeclared = append(p.plan.Undeclared, c) }
	add := func(kind, name, what string) {
		left(diff.Change{Kind: diff.Kind("drop " + kind), Table: name, What: what})
	}
	for _, o := range p.Live.Others {
		if o.Kind == sqlschema.EnumType &&
			(p.Wanted.Enum(o.Name) != nil || p.madeEnum(o.Name) || isApart(o.Name)) {
			continue
		}
		switch o.Kind {
		case "", "extension", sqlschema.InDatabase:
		case sqlschema.OtherView:
			add("view", o.Name, "it refers to another database")
		default:
			add(o.Kind, o.Name, "")
		}
	}
	for _, t := range p.Live.Tables {
		for _, k := range t.Others {
			if !schema.Own(t.Name) {
				left(diff.Change{Kind: "drop " + engine.Exclusion, Table: t.Name, Name: k.Name,
					What: strings.Join(strings.Fields(k.Text), " ")})
			}
		}
	}
}

func (p *planner) count(query string) int64 {
	if p.err != nil || p.Count == nil {
		return 0
	}
	n, err := p.Count(query)
	if err != nil && len(p.dropped) > 0 {
		return 0 // about a table that is created again
	}
	if err != nil {
		p.err = err
	}
	return n
}

func (p *planner) goes(table string) bool {
	return slices.ContainsFunc(p.plan.Changes,
		func(c diff.Change) bool { return c.Kind == diff.DropTable && strings.EqualFold(c.Table, table) })
}

func (p *planner) fail(format string, args ...any) {
	if p.err == nil {
		p.err = fmt.Errorf(format, args...)
	}
}
