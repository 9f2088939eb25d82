// Package plan turns changes into the ordered steps of a migration. It asks
// what only a person can decide, takes the answers, and leaves to the engine
// how one table becomes another; the order of the steps comes from what frees a
// name and what takes it, and the undo is the mirror.
package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// Input is all that a plan depends on.
type Input struct {
	Engine   engine.Engine
	Kept     string         // begins the names of the tables of what the migration keeps
	Live     *schema.Schema // what is there, with the renames made
	Wanted   *schema.Schema
	Made     *schema.Schema // what the applied migrations made, with the renames made: only that is ever dropped
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
	// Gentle finds out, where the engine wants that, how gently it can make the steps of
	// a plan, and writes that into them; nil: it does not matter.
	Gentle func(p *Plan) error
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

// Answers are what people decided.
type Answers struct {
	Rename []Rename
	Fill   map[string]Fill // by table.column
	Drop   map[string]bool // by table or table.column
	// Deleted says, by table, what becomes of the rows that are marked as deleted
	// when soft deletion goes.
	Deleted map[string]Fate
}

// Fate is what becomes of deleted rows when soft deletion is taken away.
type Fate string

// The fates. Restore lets them come back as rows like any other, Keep puts them
// aside until an undo, Purge deletes them for good.
const (
	Restore Fate = "restore"
	Keep    Fate = "keep"
	Purge   Fate = "purge"
)

// None tells whether nothing was answered.
func (a Answers) None() bool { return len(a.Rename)+len(a.Fill)+len(a.Drop)+len(a.Deleted) == 0 }

// Rename gives a table, a column or a value of a choice another name.
type Rename struct {
	Table, Column, Value string // the old name: of a table, or of a column in it, or of a value in that
	To                   string
	Aside                bool // only until it is dropped: another, or something new, has its name
}

// String gives the rename as the flag would say it.
func (r Rename) String() string {
	s := r.Table
	if r.Column != "" {
		s += "." + r.Column
	}
	if r.Value != "" {
		s += "." + r.Value
	}
	return s + "=" + r.To
}

// Fill is the value that rows are given which have none.
type Fill struct {
	SQL     string // an expression over the row, or a literal
	Literal bool
	Ask     bool // the literal is this database's alone: every other is asked
}

// Question is something that only a person can decide.
type Question struct {
	About   string // table or table.column
	Lacks   bool   // it is about rows that have no value in that column
	Text    string // one sentence
	Rows    int64  // the rows concerned
	Choices []Choice
	Other   string // what else could be done, such as a line in the model
	Query   string // the rows concerned, where some of them tell more than their number
	Sample  engine.Rows
}

// Choice is one way to answer a question.
type Choice struct {
	Words string // what it means
	// Flags are how draft is told so, most often one, without the quotes of a shell. VALUE
	// or EXPRESSION at the end of one stands for what has yet to be said.
	Flags []string
}

func choice(words string, flags ...string) Choice { return Choice{words, flags} }

// InTheWay is a requirement that rows of the live database stand against.
type InTheWay struct {
	Requirement engine.Requirement
	Rows        int64
	Sample      engine.Rows
	Choices     []Choice // flags by which the rows would fit
}

// Plan is the outcome: what is to be asked, or else the steps.
type Plan struct {
	Changes     []diff.Change // what the steps do
	Undeclared  []diff.Change // what is there and no migration made: left alone
	Questions   []Question
	Steps       []engine.Step
	Parameters  []migration.Parameter
	BeforeApply []engine.Requirement
	BeforeUndo  []engine.Requirement
	InTheWay    []InTheWay        // rows of the live database that would stop it
	Effects     map[string]string // by table: what its steps do to its rows
	Unused      []string          // answers that answered nothing, as flags, where that is no mistake
	Found       []Found           // what is there though no migration made it, and is declared now
	Outer       []OuterName       // names in fills that most likely mean something else
	Held        []Held            // tables in use that nobody can read for a while
	Last        []string          // tables whose new columns come behind others that stand above them in the model
}

// Held is a step that writes every row of a table in use anew, while nobody reads it:
// there is no other form for it but a staged pair.
type Held struct {
	Table string `json:"table"`
	Step  int    `json:"step"` // from 1
}

// Found is a table, or a part of one, that the migration builds on though none
// made it here, and how to make it where it is not.
type Found struct {
	Table, Column string
	Beside        string // an index or a trigger of the table, instead of a column
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
	moving  []string                        // enum types, as SQL, that come, go, or are made anew
	fresh   []string                        // values that come to enum types
	// References that come and go apart from their tables.
	place                 map[string]int // among the tables that come, or go
	apartFrom, foundKeys  map[*schema.ForeignKey]bool
	goingKeys, comingKeys []held
}

// unit is what is done to one table.
type unit struct {
	rank         int // one of the ranks
	place        int // among those of its rank
	name         string
	frees, takes []string
	ahead        []string // the ids of units that come after it, since it reads what they drop
	late         bool     // the second part of its table's changes: what others read until then goes
	change       engine.Change
}

// id tells a unit from the others of its rank.
func (u unit) id() string {
	if u.late {
		return lateID(u.name)
	}
	return u.name
}

// lateID is the id of the second part of a table's changes.
func lateID(table string) string { return table + " (late)" }

// The ranks of units, in their order. Views and what spans tables go first and come
// last; tables come, then change, then go; reference rows are set when all is there.
const (
	rankSpanGoes = iota
	rankReferenceGoes
	rankEnumComes // before rows go, which come back into the types that there are then
	rankRowsGo
	rankNamesGo // of tables that change places
	rankCreate
	rankAlter
	rankDrop
	rankEnumGoes
	rankReferenceComes
	rankSpanComes
	rankRows
)

// Make plans the way from what is there to what is wanted. It returns an error
// for answers that answer nothing.
func Make(in Input) (*Plan, error) {
	p := &planner{Input: in, rowsTold: map[string]bool{}, plan: &Plan{Effects: map[string]string{}}, used: map[string]bool{}, looked: map[string]bool{}, skipped: map[string]bool{}, needs: map[string][]engine.Requirement{}, reads: map[string][]string{}, parted: map[string][]string{}, again: map[string][]string{}, follow: map[string]engine.Step{},
		place: map[string]int{}, apartFrom: map[*schema.ForeignKey]bool{}, foundKeys: map[*schema.ForeignKey]bool{}}
	restored := p.restoreTables()
	p.split(diff.Schemas(p.Live, in.Wanted))
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
		if _, ok := c.Object.(*schema.Other); ok {
			continue
		}
		if byTable[c.Table] == nil {
			order = append(order, c.Table)
		}
		byTable[c.Table] = append(byTable[c.Table], c)
	}
	p.valueSteps()
	for _, r := range in.Answers.Rename {
		if r.Value == "" {
			steps, ok := in.Renames[r]
			if !ok {
				steps, _ = in.Engine.DDL().Rename(nil, r.Table, r.Column, r.To)
			}
			p.plan.Steps = append(p.plan.Steps, steps...)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.follow)) {
		p.plan.Steps = append(p.plan.Steps, p.follow[name])
	}
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
		p.plan.Steps = append(p.plan.Steps, engine.Step{Title: "have " + strings.Join(p.dropped, ", ") + ", dropped outside Erbario", Note: "created above if missing, without rows"})
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
	p.addedUsed()
	p.plan.Steps = in.Engine.DDL().Schedule(p.plan.Steps)
	if in.Gentle != nil && len(p.plan.Questions) == 0 {
		if err := in.Gentle(p.plan); err != nil {
			return nil, err
		}
	}
	p.once()
	if err := p.locks(); err != nil {
		return nil, err
	}
	for i, q := range p.plan.Questions {
		if q.Query != "" && p.Look != nil {
			_, rows, err := p.Look(q.Query)
			if err != nil {
				return nil, err
			}
			p.plan.Questions[i].Sample = rows
		}
	}
	return p.plan, p.ways()
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

// ways asks the live rows what stands against the plan.
func (p *planner) ways() error {
	if p.Look == nil {
		return nil
	}
	for _, r := range append(slices.Clone(p.plan.BeforeApply), p.early...) {
		if r.Wait {
			continue // time may mend it
		}
		n, rows, err := p.Look(p.Engine.SQL().Bind(r.Query, p.homes()))
		if err != nil {
			return fmt.Errorf("it cannot be checked whether the live rows fit: %w", err)
		}
		if n > 0 {
			p.plan.InTheWay = append(p.plan.InTheWay, InTheWay{r, n, rows, p.wayOn(r)})
		}
	}
	return nil
}

// wayOn are the flags by which rows would fit a requirement of a column's new type.
func (p *planner) wayOn(r engine.Requirement) []Choice {
	for _, c := range p.plan.Changes {
		col, ok := c.Object.(*schema.Column)
		if !ok || c.Kind != diff.ChangeType || r.Table != c.Table || r.About != c.Name {
			continue
		}
		old, _ := c.Before.(*schema.Column)
		x, expression := "{"+c.Name+"}", "EXPRESSION"
		switch t := col.Type; {
		case old != nil && old.Type.Kind == schema.Text && t.Kind == schema.Decimal && !strings.Contains(col.SQLType, "TEXT"):
			expression = fmt.Sprintf("cast(%s as %s)", x, col.SQLType)
		case old == nil || old.Type.Kind != t.Kind:
		case t.Kind == schema.Text && t.Length > 0:
			expression = fmt.Sprintf("substr(%s, 1, %d)", x, t.Length)
		case t.Kind == schema.Decimal && t.Precision-t.Scale >= old.Type.Precision-old.Type.Scale:
			expression = fmt.Sprintf("round(%s, %d)", x, t.Scale)
		}
		return append(p.columnsSwap(c), choice("an expression over each row; the old values are kept", fmt.Sprintf("--fill %s=sql:%s", c.Target(), expression)), asNewColumn(c))
	}
	return nil
}

// homes are the values that the parameters have where the plan is made.
func (p *planner) homes() map[string]string {
	out := map[string]string{}
	for _, x := range p.plan.Parameters {
		out[x.Name] = cmp.Or(x.Home, "NULL")
	}
	return out
}

// backValue is the source of a column's values when what held them has gone for
// some rows, or was not kept: what was kept, else what an undo is told.
func (p *planner) backValue(table string, col *schema.Column, keep string) (engine.Source, bool) {
	src := engine.Source{Kept: keep}
	// A server numbers the rows of an existing column only once each has a number.
	numbered := col.Identity && !p.Engine.Caps().Journal
	if !col.NotNull || col.Default != nil || col.Generated != nil || numbered {
		return src, keep != ""
	}
	column := col.Name
	if p.Answers.aside(table, column) { // it has its name again then
		column = p.oldColumn(table, column)
	}
	name := migration.ParameterName(table+"_"+column, true)
	p.plan.Parameters = append(p.plan.Parameters, migration.Parameter{Name: name, For: table + "." + column, Type: col.Type.String(), Undo: true})
	if keep == "" {
		return engine.Source{SQL: ":" + name}, true
	}
	src.Else = ":" + name
	return src, true
}

// lose notes that a column's values go, and where they are to come back from. Those of a
// generated one are worked out again: nothing is lost.
func (p *planner) lose(a *engine.Alteration, col *schema.Column) {
	if col.Generated != nil {
		return
	}
	a.Lost = append(a.Lost, col.Name)
	keep := a.Keep
	if p.NoKeep {
		keep = ""
	}
	if src, ok := p.backValue(a.From.Name, col, keep); ok {
		a.Back[col.Name] = src
	} else if a.To.Column(col.Name) != nil {
		a.Back[col.Name] = engine.Source{Unconvertible: true} // of another type now: the old value is nowhere
	}
}

// split sets apart what no migration made: it is left alone.
func (p *planner) split(changes []diff.Change) {
	for _, c := range changes {
		if c.Kind.Drops() && !p.made(c) && !p.letGo(c) {
			p.plan.Undeclared = append(p.plan.Undeclared, c)
		} else {
			p.plan.Changes = append(p.plan.Changes, c)
		}
	}
}

// others sets apart what no model can declare.
func (p *planner) others() {
	add := func(kind, name, what string) {
		p.plan.Undeclared = append(p.plan.Undeclared, diff.Change{Kind: diff.Kind("drop " + kind), Table: name, What: what})
	}
	for _, o := range p.Live.Others {
		if o.Kind == schema.EnumType && (p.Wanted.Enum(o.Name) != nil || p.Made != nil && p.Made.Enum(o.Name) != nil || strings.HasPrefix(o.Name, Apart(""))) {
			continue
		}
		if o.Kind != "" && o.Kind != "extension" {
			add(o.Kind, o.Name, "")
		}
	}
	for _, t := range p.Live.Tables {
		for _, k := range t.Others {
			if !schema.Own(t.Name) {
				add("constraint", t.Name+"."+k.Name, strings.Join(strings.Fields(k.Text), " "))
			}
		}
	}
}

// letGo tells whether a person said that a table or a column that no migration
// made may go.
func (p *planner) letGo(c diff.Change) bool {
	return (c.Kind == diff.DropTable || c.Kind == diff.DropColumn) && p.Answers.Drop[c.Target()]
}

// made tells whether the applied migrations made what a change would drop.
func (p *planner) made(c diff.Change) bool {
	if p.Made == nil {
		return false
	}
	t := p.Made.Table(c.Table)
	if c.Kind == diff.DropView { // one written by hand stays: no model could declare it
		v := p.Made.View(c.Table)
		return v != nil && v.LiveOf != ""
	}
	if t == nil {
		return false
	}
	switch c.Kind {
	case diff.DropTable:
		return true
	case diff.DropColumn:
		return t.Column(c.Name) != nil
	case diff.DropIndex, diff.DropUnique:
		return slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool { return strings.EqualFold(x.Name, c.Object.(*schema.Index).Name) })
	case diff.DropReference:
		k := c.Object.(*schema.ForeignKey)
		return slices.ContainsFunc(t.ForeignKeys, func(o *schema.ForeignKey) bool { return slices.Equal(o.Columns, k.Columns) })
	case diff.DropCheck:
		k := c.Object.(*schema.Check)
		return slices.ContainsFunc(t.Checks, func(o *schema.Check) bool { return o.Name == k.Name && (o.Name != "" || o.SQL.Same(k.SQL)) })
	case diff.DropComment:
		if c.Name == "" {
			return t.Comment != ""
		}
		o := t.Column(c.Name)
		return o != nil && o.Comment != ""
	case diff.DropTrigger:
		return slices.ContainsFunc(t.Triggers, func(o *schema.Trigger) bool { return strings.EqualFold(o.Name, c.Name) })
	}
	return false
}

// table plans the changes of one table.
func (p *planner) table(name string, changes []diff.Change) {
	first := changes[0]
	switch first.Kind {
	case diff.AddTable:
		t := withoutSpanning(p.inline(first.Object.(*schema.Table)))
		step := p.Engine.DDL().Create(t)
		p.plan.Effects[name] = "new"
		p.units = append(p.units, unit{rank: rankCreate, place: p.place[t.Name], name: name, takes: names(t, true), change: engine.Change{Steps: []engine.Step{step}}})
	case diff.DropTable:
		p.dropTable(first.Object.(*schema.Table))
	default:
		p.inParts(name, changes)
	}
}

func (p *planner) dropTable(t *schema.Table) {
	rows := p.count("SELECT 1 FROM " + p.Engine.SQL().Quote(p.oldTable(t.Name)))
	come := p.comers(t)
	if !p.answered("drop", t.Name) && (rows > 0 || len(come) > 0) {
		name := p.oldTable(t.Name)
		q := Question{About: name, Rows: rows, Text: fmt.Sprintf("the table %s is no longer declared; it has %s", name, words.Rows(rows))}
		if p.Answers.aside(t.Name, "") {
			q.Text = fmt.Sprintf("the name of the table %s is given to another table; it has %s", name, words.Rows(rows))
		}
		for _, c := range come {
			q.Choices = append(q.Choices, choice("renamed to "+c, fmt.Sprintf("--rename %s=%s", name, c)))
		}
		q.Choices = append(q.Choices, choice("drop it; its rows are kept", "--drop "+name))
		p.plan.Questions = append(p.plan.Questions, q)
		return
	}
	if made := p.Made.Table(t.Name); made == nil {
		p.plan.Found = append(p.plan.Found, Found{Table: t.Name, Make: p.Engine.DDL().Create(withoutSpanning(t)).Apply})
	} else {
		for _, c := range diff.Tables(t, made) {
			if c.Kind.Sign() == "-" && !(p.letGo(c) && p.answered("drop", c.Target())) { // what somebody added to it by hand
				p.plan.Undeclared = append(p.plan.Undeclared, c)
			}
		}
		p.found(withoutSpanning(t))
	}
	if by := p.byHand(t.Name); len(by) > 0 {
		p.ask(Question{About: t.Name, Rows: rows, Text: fmt.Sprintf("%s is kept when it is dropped, and has objects not created by a migration: %s; the migration must also run on databases without them", t.Name, strings.Join(by, ", ")), Choices: p.letGoes(t.Name), Other: "or drop it yourself first, or declare it and use two migrations"})
		return
	}
	t = withoutSpanning(p.without(p.inline(t)))
	p.plan.Effects[t.Name] = words.Rows(rows) + " are kept"
	keep := p.keep(t.Name)
	if p.NoKeep {
		keep, p.plan.Effects[t.Name] = "", words.Rows(rows)+" are lost"
	}
	p.units = append(p.units, unit{rank: rankDrop, place: p.place[t.Name], name: t.Name, frees: names(t, true), change: p.Engine.DDL().Drop(engine.TableDrop{Table: t, Keep: keep})})
}

// keep is the name of the table for what is kept of a table.
func (p *planner) keep(table string) string {
	return schema.Cut(p.Kept + table)
}

// comers are the new tables that could be an old one under another name: they
// share half of their columns with it.
func (p *planner) comers(old *schema.Table) []string {
	var out []string
	for _, c := range p.plan.Changes {
		if c.Kind != diff.AddTable {
			continue
		}
		t, shared := c.Object.(*schema.Table), 0
		for _, col := range t.Columns {
			if o := old.Column(col.Name); o != nil && strings.EqualFold(o.SQLType, col.SQLType) {
				shared++
			}
		}
		if shared*2 >= len(old.Columns) {
			out = append(out, t.Name)
		}
	}
	return out
}

// names are what a table takes in the database's one space of names.
func names(t *schema.Table, itself bool) []string {
	var out []string
	if itself {
		out = append(out, strings.ToLower(t.Name))
	}
	for _, x := range t.Indexes {
		if x.Name != "" {
			out = append(out, strings.ToLower(x.Name))
		}
	}
	for _, g := range t.Triggers {
		out = append(out, strings.ToLower(g.Name))
	}
	return out
}

// inNewTypes gives what is declared of a table the declared words where a column comes
// to an enum type, or goes from one: constants have another type in them.
func inNewTypes(to, from, wanted *schema.Table) {
	moves := func(column string) bool {
		c, old := to.Column(column), from.Column(column)
		return c != nil && old != nil && (c.Values == nil) != (old.Values == nil)
	}
	if !slices.ContainsFunc(to.Columns, func(c *schema.Column) bool { return moves(c.Name) }) {
		return
	}
	for _, c := range to.Columns {
		if w := wanted.Column(c.Name); moves(c.Name) && w != nil && schema.SameSQL(c.Default, w.Default) {
			c.Default = w.Default
		}
	}
	for i, k := range to.Checks {
		for _, w := range wanted.Checks {
			if w.Name == k.Name && w.SQL.Same(k.SQL) {
				to.Checks[i] = w
			}
		}
	}
	for i, x := range to.Indexes {
		for _, w := range wanted.Indexes {
			if w.Name == x.Name && schema.SameIndex(w, x) {
				to.Indexes[i] = w
			}
		}
	}
}

func (p *planner) alter(name string, changes []diff.Change) {
	live, wanted := p.settled(p.without(p.Live.Table(name))), p.Wanted.Table(name)
	live, changes, ok := p.restore(live, changes)
	if !ok || len(changes) == 0 {
		return
	}
	live, changes = p.namesGo(live, changes)
	for _, c := range p.undeclared(name) {
		if c.Kind == diff.DropColumn {
			live.Column(c.Name).ByHand = true
		}
	}
	a := engine.Alteration{
		From: live, To: target(live, changes), Forward: map[string]engine.Source{}, Back: map[string]engine.Source{},
		InUse: p.inUse(name), NoDrop: p.NoDrop, Copy: slices.Contains(p.Order, name), NoKeep: p.NoKeep, Keep: p.keep(name), Aside: p.Kept, Summary: summary(name, changes), SummaryRest: titled("change "+name+" to what is declared", changes, summary(name, nil)),
		Parent: func(t string, after bool) engine.Parent {
			switch {
			case after && (p.Wanted.Table(t) != nil || p.Live.Table(t) != nil && !p.goes(t)):
				return engine.ParentThere
			case after || p.keyRenamed(t):
				return engine.ParentUnknown
			case p.Live.Table(t) != nil:
				return engine.ParentThere
			}
			return engine.ParentNew
		},
	}
	inNewTypes(a.To, live, wanted)
	rows := int64(-1)
	count := func() int64 {
		if rows < 0 {
			rows = p.count("SELECT 1 FROM " + p.Engine.SQL().Quote(p.oldTable(name)))
		}
		return rows
	}
	if p.followsLater(live, changes) {
		p.plan.Effects[name] = words.Rows(count()) + ", after an answer"
		return
	}
	asked := len(p.plan.Questions)
	follows := p.followed(name, changes)
	again := p.generatedAgain(&a, changes, count)
	for _, c := range changes {
		if again[c.Name] && c.Name != "" {
			continue
		}
		switch c.Kind {
		case diff.AddColumn, diff.DropColumn, diff.ChangeType, diff.ChangeRef:
			if p.rekey(&a, c, follows) {
				continue
			}
		}
		switch c.Kind {
		case diff.AddColumn:
			p.addColumn(&a, c, changes, count)
		case diff.DropColumn:
			p.dropColumn(&a, c, changes, count)
		case diff.MakeRequired:
			if f, ok := p.fill(name, c.Name, p.Engine.SQL().Quote(p.oldColumn(name, c.Name))+" IS NULL"); ok {
				value := "(" + f.SQL + ")"
				if f.Literal {
					value = f.SQL
				}
				src, back := a.Forward[c.Name], a.Back[c.Name]
				if slices.Contains(a.Lost, c.Name) {
					continue // its new type has its values from the answer
				}
				base := p.Engine.SQL().Quote(c.Name)
				if src.SQL != "" {
					base = src.SQL // converted first
				}
				a.Forward[c.Name] = engine.Source{SQL: fmt.Sprintf("coalesce(%s, %s)", base, value), Converts: src.Converts, Fill: value, Constant: f.Literal}
				a.Back[c.Name] = engine.Source{SQL: back.SQL, Converts: back.Converts, NullsIn: a.Keep}
				continue
			}
			nulls := p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NULL", p.Engine.SQL().Quote(p.oldTable(name)), p.Engine.SQL().Quote(p.oldColumn(name, c.Name))))
			if nulls > 0 {
				p.ask(Question{About: c.Target(), Lacks: true, Rows: nulls, Text: fmt.Sprintf("%s becomes required, and %s no value", c.Target(), words.Have(nulls)),
					Choices: ValueChoices(p.Wanted.Table(c.Table), c.Name, nulls), Query: p.shown(name, c.Name, p.Engine.SQL().Quote(p.oldColumn(name, c.Name))+" IS NULL")})
			}
		case diff.MakeOptional:
			p.backRequired(&a, c)
		case diff.ChangeType:
			p.changeType(&a, c, count)
		case diff.ChangeCheck:
			p.renameChoices(&a, c)
		case diff.ChangeRef:
			p.changeParent(&a, c)
		}
	}
	if open := p.plan.Questions[asked:]; len(open) > 0 {
		p.plan.Effects[name] = words.Rows(count()) + ", after a question"
		if !p.renamed(name) { // what stands against the rest is told all the same
			change := p.alterTable(a, again)
			p.withEnums(name, &change)
			for _, r := range change.BeforeApply {
				if !slices.ContainsFunc(open, func(q Question) bool {
					return q.About == name+"."+r.About && r.About != "" && (r.Lacks || !q.Lacks)
				}) {
					p.plan.BeforeApply = append(p.plan.BeforeApply, r)
				}
			}
		}
		return
	}
	keyless := len(a.Match()) == 0
	if len(a.Lost) > 0 && keyless {
		if count() > 0 && !p.answered("drop", name+".*") {
			p.ask(Question{About: name, Rows: count(), Text: fmt.Sprintf("%s has no lasting primary key, so the values of its columns cannot be restored to the right rows", name),
				Choices: []Choice{choice("drop it; its values are lost", "--drop "+name+".*")}, Other: "or give the model a primary key first"})
			return
		}
		a.Keep = ""
		for _, c := range a.Lost {
			src := a.Back[c]
			delete(a.Back, c)
			switch {
			case a.To.Column(c) != nil:
				a.Back[c] = engine.Source{Unconvertible: true}
			case src.Else != "" || src.SQL != "":
				a.Back[c] = engine.Source{SQL: cmp.Or(src.Else, src.SQL)}
			}
		}
	}
	var filled []string // of whose rows nobody could tell afterwards which had no value
	if keyless {
		for _, c := range a.From.Columns {
			if a.Back[c.Name].NullsIn != "" {
				filled = append(filled, name+"."+c.Name)
			}
		}
		if len(filled) > 0 && count() > 0 && !p.answered("drop", name+".*") {
			p.ask(Question{About: name, Rows: count(), Text: fmt.Sprintf("%s has no primary key, so an undo could not know which rows had no value in %s", name, strings.Join(filled, ", ")),
				Choices: []Choice{choice("accept that", "--drop "+name+".*")}, Other: "or give the model a primary key first"})
			return
		}
		for c, s := range a.Back {
			if s.NullsIn == "" {
				continue
			}
			if s.NullsIn = ""; s.SQL == "" {
				delete(a.Back, c)
			} else {
				a.Back[c] = s
			}
		}
		for c, s := range a.Forward {
			s.Fill = ""
			a.Forward[c] = s
		}
	}
	if p.Engine.Caps().OrderedColumns {
		inOrder(a.To, wanted)
	}
	change := p.alterTable(a, again)
	if a.Copy && !change.Copies && !p.Engine.Caps().OrderedColumns {
		p.fail("--order %s: %s adds new columns last, and only a new table could have them in another order", name, p.Engine.Name())
		return
	}
	if change.Copies {
		// Every row is written anew, so the declared order comes for nothing.
		reorder(a.To, wanted)
		change = p.alterTable(a, again)
	}
	if change.Copies {
		switch n := count(); n {
		case 0:
			p.plan.Effects[name] = "created again, it has no rows"
		case 1:
			p.plan.Effects[name] = "1 row is copied"
		default:
			p.plan.Effects[name] = words.Rows(n) + " are copied"
		}
	} else {
		p.plan.Effects[name] = "keeps every row"
		declared := a.To.Clone()
		reorder(declared, wanted)
		comes := slices.ContainsFunc(changes, func(c diff.Change) bool { return c.Kind == diff.AddColumn })
		if comes && !slices.EqualFunc(declared.Columns, a.To.Columns, func(x, y *schema.Column) bool { return x.Name == y.Name }) {
			p.plan.Effects[name] += "; new columns are added last, since only a copy of the table could order them"
			p.plan.Last = append(p.plan.Last, name)
		}
	}
	if by := p.byHand(name); (change.Copies || change.CopiesBack) && len(by) > 0 {
		p.ask(Question{About: name, Rows: count(), Text: fmt.Sprintf("the change or its undo copies %s, which has objects not created by a migration: %s; the migration must also run on databases without them", name, strings.Join(by, ", ")), Choices: p.letGoes(name), Other: "or drop it yourself, or declare it first"})
		p.plan.Effects[name] = words.Rows(count()) + ", after a question"
		return
	}
	if len(filled) > 0 && len(change.Steps) > 0 {
		change.Steps[0].Loses = append(change.Steps[0].Loses, filled...)
	}
	p.foundOnce(live)
	p.revived(&change, live, wanted)
	p.withEnums(name, &change)
	p.half(name, &change)
	change.BeforeApply = append(p.needs[name], change.BeforeApply...)
	p.notLost(name, &change, follows)
	p.askedWithin(&change)
	if p.renamed(name) && len(change.Steps) > 0 {
		// What must hold is asked when the new names are there.
		first := &change.Steps[0]
		for _, r := range change.BeforeApply {
			if !r.Shape {
				p.early = append(p.early, p.underOldNames(name, r))
			}
		}
		first.Here = append(first.Here, slices.DeleteFunc(change.BeforeApply, first.AsksHere)...)
		change.BeforeApply = nil
	}
	p.units = append(p.units, unit{rank: rankAlter, name: name, frees: names(live, false), takes: names(a.To, false), change: change})
}

// byReads notes in the units which come before others, for the sake of what fills read.
func (p *planner) byReads() {
	for i := range p.units {
		u := &p.units[i]
		if u.rank != rankAlter || u.late {
			continue
		}
		before, after, err := p.order(u.name)
		if err != nil && p.err == nil {
			p.err = err
		}
		u.ahead = append(u.ahead, after...)
		for j := range p.units {
			if o := &p.units[j]; o.rank == rankAlter && !o.late && slices.Contains(before, o.name) {
				o.ahead = append(o.ahead, u.id())
			}
		}
	}
	for _, u := range p.units {
		if u.rank == rankAlter && p.comesBackTo(u.name, u.ahead, map[string]bool{}) {
			p.fail("the fills of %s and of other tables read columns that the others drop. Draft it in two migrations, first what is added and filled, then what is dropped", u.name)
		}
	}
}

// comesBackTo tells whether the tables whose changes come after that of name have to come
// before it, too.
func (p *planner) comesBackTo(name string, after []string, seen map[string]bool) bool {
	for _, n := range after {
		if n == name {
			return true
		}
		if seen[n] {
			continue
		}
		seen[n] = true
		for _, u := range p.units {
			if u.rank == rankAlter && u.name == n && p.comesBackTo(name, u.ahead, seen) {
				return true
			}
		}
	}
	return false
}

// found notes what of a table no migration made and a model declares now: other
// databases may have it not.
func (p *planner) found(live *schema.Table) {
	if p.Made == nil {
		return
	}
	known := target(live, p.undeclared(live.Name))
	made := p.Made.Table(live.Name)
	if made == nil && p.renamed(live.Name) {
		p.fail("%s was not created by a migration, and cannot be taken over and renamed at once: declare it under its present name first", p.oldTable(live.Name))
		return
	}
	if made == nil {
		p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Make: p.Engine.DDL().Create(known).Apply})
		return
	}
	var missing []*schema.Column
	for _, c := range known.Columns {
		if made.Column(c.Name) == nil {
			missing = append(missing, c)
		}
	}
	for i, c := range missing {
		// Each comes behind those before it, and last, so that it can be added in
		// place to a table that has or has not the others.
		without := known.Clone()
		for _, o := range missing[i:] {
			without = target(without, []diff.Change{{Kind: diff.DropColumn, Table: live.Name, Name: o.Name, Object: o}})
			without.Indexes = slices.DeleteFunc(without.Indexes, func(x *schema.Index) bool { return slices.Contains(schema.Names(x.Parts), o.Name) })
			without.ForeignKeys = slices.DeleteFunc(without.ForeignKeys, func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, o.Name) })
			without.Triggers = slices.DeleteFunc(without.Triggers, func(g *schema.Trigger) bool { return g.Column == o.Name })
		}
		with := without.Clone()
		with.Columns = append(with.Columns, c)
		add := func(n string) bool { return n == c.Name || without.Column(n) != nil }
		with.Checks, with.Indexes, with.ForeignKeys, with.Triggers = nil, nil, nil, nil
		for _, k := range known.Checks {
			if k.Column == "" || add(k.Column) {
				with.Checks = append(with.Checks, k)
			}
		}
		for _, x := range known.Indexes {
			if !slices.ContainsFunc(schema.Names(x.Parts), func(n string) bool { return !add(n) }) {
				with.Indexes = append(with.Indexes, x)
			}
		}
		for _, k := range known.ForeignKeys {
			if !slices.ContainsFunc(k.Columns, func(n string) bool { return !add(n) }) {
				with.ForeignKeys = append(with.ForeignKeys, k)
			}
		}
		for _, g := range known.Triggers {
			if g.Column == "" || add(g.Column) {
				with.Triggers = append(with.Triggers, g)
			}
		}
		var list []string
		for _, step := range p.Engine.DDL().Alter(engine.Between(without, with)).Steps {
			list = append(list, step.Apply...)
		}
		list = append(list, p.foundReferences(with, func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, c.Name) })...)
		p.plan.Found = append(p.plan.Found, Found{Table: live.Name, Column: c.Name, Make: list})
	}
}

// undeclared are the changes that would take what no migration made from a table.
func (p *planner) undeclared(table string) []diff.Change {
	return slices.DeleteFunc(slices.Clone(p.plan.Undeclared), func(c diff.Change) bool { return !strings.EqualFold(c.Table, table) })
}

// byHand names what no migration made of a table and a copy cannot carry along:
// indexes and triggers it can, since they stand beside the table.
func (p *planner) byHand(table string) []string {
	var out []string
	for _, c := range p.undeclared(table) {
		switch c.Kind {
		case diff.DropColumn, diff.DropCheck, diff.DropReference:
			out = append(out, c.Kind.Thing()+" "+c.Name)
		}
	}
	return out
}

// without is the table without the indexes and triggers that no migration made:
// the engine carries them along wherever it finds them.
func (p *planner) without(t *schema.Table) *schema.Table {
	var aside []diff.Change
	for _, c := range p.undeclared(t.Name) {
		switch c.Kind {
		case diff.DropIndex, diff.DropTrigger:
			aside = append(aside, c)
		case diff.DropUnique:
			if !c.Object.(*schema.Index).Constraint {
				aside = append(aside, c)
			}
		}
	}
	return target(t, aside)
}

func (p *planner) ask(q Question) { p.plan.Questions = append(p.plan.Questions, q) }

func (p *planner) addColumn(a *engine.Alteration, c diff.Change, changes []diff.Change, rows func() int64) {
	col := c.Object.(*schema.Column)
	if f, ok := p.fill(c.Table, c.Name, ""); ok {
		a.Forward[c.Name] = engine.Source{SQL: f.SQL, Literal: f.Literal}
		return
	}
	if !col.NotNull || col.Default != nil || col.Generated != nil || col.Identity || rows() == 0 && !p.unseen(c.Table, c.Name) {
		return
	}
	q := Question{About: c.Target(), Lacks: true, Rows: rows(), Text: fmt.Sprintf("%s is required and has no default, and %s has %s", c.Target(), c.Table, p.rowsOf(c.Table, c.Name, rows())),
		Choices: ValueChoices(p.Wanted.Table(c.Table), c.Name, rows())}
	p.tablesSwap(&q, c.Table)
	for _, o := range changes {
		if o.Kind == diff.DropColumn && like(o.Object.(*schema.Column), col) && !p.Answers.aside(c.Table, o.Name) {
			q.Choices = append([]Choice{choice("renamed from "+o.Name, fmt.Sprintf("--rename %s=%s", o.Target(), col.Name))}, q.Choices...)
		}
	}
	p.ask(q)
}

// unseen tells whether rows may have a column that nobody can see here.
func (p *planner) unseen(table, column string) bool {
	return p.Unseen != nil && p.Unseen(p.oldTable(table), p.oldColumn(table, column))
}

// rowsOf is the number of rows of a table in words, as far as they are seen.
func (p *planner) rowsOf(table, column string, n int64) string {
	if n == 0 && p.unseen(table, column) {
		return "rows in databases of " + p.Engine.Name()
	}
	return words.Rows(n)
}

// ValueChoices are the answers to what value rows are to have in a column of a declared
// table that becomes required. Several rows cannot have one value where it is unique by
// itself, and a key is never optional.
func ValueChoices(t *schema.Table, column string, rows int64) []Choice {
	target := t.Name + "." + column
	key := t.Key()
	alone := func(names []string) bool { return len(names) == 1 && strings.EqualFold(names[0], column) }
	unique := alone(key) || slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool {
		return x.Unique && len(x.Parts) == 1 && alone(schema.Names(x.Parts))
	})
	var out []Choice
	if !unique || rows < 2 {
		out = append(out, choice("one value for the existing rows", "--fill "+target+"=VALUE"))
	}
	out = append(out, choice("an SQL expression over the other columns", "--fill "+target+"=sql:EXPRESSION"))
	if !unique {
		out = append(out, choice("a default, for existing and new rows", "--default "+target+"=VALUE"))
	}
	if !slices.ContainsFunc(key, func(k string) bool { return strings.EqualFold(k, column) }) {
		out = append(out, choice("make it optional", "--optional "+target))
	}
	return out
}

// shown is a query for rows of a live table, by key and a column.
func (p *planner) shown(table, column, where string) string {
	t := p.Live.Table(table)
	var names []string
	for _, k := range t.Key() {
		names = append(names, p.Engine.SQL().Quote(p.oldColumn(table, k)))
	}
	if n := p.Engine.SQL().Quote(p.oldColumn(table, column)); column != "" && !slices.Contains(names, n) {
		names = append(names, n)
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(names, ", "), p.Engine.SQL().Quote(p.oldTable(table)), where)
}

// like tells whether a new column could be an old one under another name.
func like(old, col *schema.Column) bool {
	return strings.EqualFold(old.SQLType, col.SQLType) || old.Type.Kind == col.Type.Kind
}

func (p *planner) dropColumn(a *engine.Alteration, c diff.Change, changes []diff.Change, rows func() int64) {
	col := c.Object.(*schema.Column)
	if col.Generated != nil {
		p.answered("drop", c.Target())
		return // worked out from the others: nothing is lost
	}
	if p.softDeleteGoes(a, c, p.Wanted.Table(c.Table)) {
		return
	}
	if src, ok := p.twin(c.Table, c.Name); ok {
		a.Back[c.Name] = src
		return
	}
	var come []string
	for _, o := range changes {
		if o.Kind == diff.AddColumn && like(col, o.Object.(*schema.Column)) {
			come = append(come, o.Name)
		}
	}
	restored := p.Answers.Deleted[c.Table] == Restore && a.From.SoftDelete == c.Name
	if !restored && !p.answered("drop", c.Target()) && (rows() > 0 || len(come) > 0 || p.unseen(c.Table, c.Name)) {
		name := c.Table + "." + p.oldColumn(c.Table, c.Name)
		q := Question{About: name, Rows: rows(), Text: fmt.Sprintf("%s is no longer declared; %s has %s", name, c.Table, p.rowsOf(c.Table, c.Name, rows()))}
		switch {
		case p.Answers.aside(c.Table, c.Name):
			q.Text = fmt.Sprintf("the name of %s is given to another column; %s has %s", name, c.Table, words.Rows(rows()))
		case a.From.SoftDelete == c.Name:
			q.Text = fmt.Sprintf("the column that marks deleted rows of %s is no longer %s", c.Table, c.Name)
		}
		for _, n := range come {
			q.Choices = append(q.Choices, choice("renamed to "+n, fmt.Sprintf("--rename %s=%s", name, n)))
		}
		p.places(&q, c.Table, p.oldColumn(c.Table, c.Name), come)
		q.Choices = append(q.Choices, choice("drop it; its values are kept", "--drop "+name))
		p.ask(q)
		return
	}
	p.lose(a, col)
}

func (p *planner) changeType(a *engine.Alteration, c diff.Change, rows func() int64) {
	col, old := c.Object.(*schema.Column), c.Before.(*schema.Column)
	if p.enumLess(a, c) {
		return
	}
	there, ok := p.Engine.DDL().Convert(old, col)
	back, ok2 := p.Engine.DDL().Convert(col, old)
	if old.Generated != nil { // worked out again on the way back
		back, ok2 = engine.Conversion{}, true
	}
	// A constant is for rows that have no value, unless there is no way to turn
	// those that they have; an expression says what all of them become.
	if f, given := p.Answers.Fill[c.Table+"."+c.Name]; given && (!f.Literal || !ok || !ok2) {
		f, _ = p.fill(c.Table, c.Name, p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))+" IS NOT NULL")
		a.Forward[c.Name] = engine.Source{SQL: f.SQL, Literal: f.Literal}
		p.lose(a, old)
		return
	}
	if !ok || !ok2 {
		n := int64(0)
		if rows() > 0 {
			n = p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", p.Engine.SQL().Quote(p.oldTable(c.Table)), p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))))
		}
		if n > 0 {
			p.ask(Question{About: c.Target(), Rows: n, Text: fmt.Sprintf("%s changes from %s to %s, and there is no single way to convert the values of %s", c.Target(), cmp.Or(c.From, "no type"), c.To, words.Rows(n)),
				Choices: append(p.columnsSwap(c), choice("an expression over the row", fmt.Sprintf("--fill %s=sql:EXPRESSION", c.Target())), asNewColumn(c)), Query: p.shown(c.Table, c.Name, p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))+" IS NOT NULL")})
			return
		}
		// Without rows nothing is turned; a row elsewhere stops it.
		a.Forward[c.Name] = engine.Source{Unconvertible: true}
		p.lose(a, old)
		return
	}
	for i, o := range p.plan.Changes {
		if o.Kind == c.Kind && o.Target() == c.Target() {
			p.plan.Changes[i].Note = there.How
		}
	}
	if there.SQL != "" {
		a.Forward[c.Name] = engine.Source{SQL: there.SQL, Converts: true}
	}
	if back.SQL != "" {
		a.Back[c.Name] = engine.Source{SQL: back.SQL, Converts: true}
	}
}

// changeParent asks what the values of a reference are to be that points at
// another table now: a number that happens to be there is no answer.
func (p *planner) changeParent(a *engine.Alteration, c diff.Change) {
	k, old := c.Object.(*schema.ForeignKey), c.Before.(*schema.ForeignKey)
	if strings.EqualFold(k.Table, old.Table) && slices.EqualFunc(k.References, old.References, strings.EqualFold) || len(k.Columns) != 1 {
		return
	}
	name := k.Columns[0]
	if _, done := a.Forward[name]; done {
		return // it changes its type too, and was asked about
	}
	if f, ok := p.fill(c.Table, name, p.Engine.SQL().Quote(p.oldColumn(c.Table, name))+" IS NOT NULL"); ok {
		a.Forward[name] = engine.Source{SQL: f.SQL, Literal: f.Literal}
		p.lose(a, a.From.Column(name))
		return
	}
	n := p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", p.Engine.SQL().Quote(p.oldTable(c.Table)), p.Engine.SQL().Quote(p.oldColumn(c.Table, name))))
	if n > 0 {
		p.ask(Question{About: c.Table + "." + name, Rows: n, Text: fmt.Sprintf("%s.%s referred to %s and now refers to %s, and %s a value", c.Table, name, old.Table, k.Table, words.Have(n)),
			Choices: []Choice{choice("an expression over the row", fmt.Sprintf("--fill %s.%s=sql:EXPRESSION", c.Table, name))}, Query: p.shown(c.Table, name, p.Engine.SQL().Quote(p.oldColumn(c.Table, name))+" IS NOT NULL")})
		return
	}
	a.Forward[name] = engine.Source{Unconvertible: true}
	p.lose(a, a.From.Column(name))
}

// renameChoices gives the rows of a renamed value of a choice its new name.
func (p *planner) renameChoices(a *engine.Alteration, c diff.Change) {
	k, ok := c.Object.(*schema.Check)
	if !ok || k.Purpose != schema.ForChoice {
		return
	}
	old := diff.Choices(c.Before.(*schema.Check))
	now := diff.Choices(k)
	var there, back, merged []string
	when := func(v, value string) string { return fmt.Sprintf("WHEN %s THEN %s", p.Engine.SQL().Text(v), value) }
	settled, renames := map[string]bool{}, p.valueRenames(c.Table, k.Column)
	among := func(value func(r Rename) string, v string) bool {
		return slices.ContainsFunc(renames, func(r Rename) bool { return value(r) == v })
	}
	for _, r := range renames {
		takes := among(func(r Rename) string { return r.To }, r.Value)
		if !slices.Contains(old, r.Value) || slices.Contains(now, r.Value) && !takes || !slices.Contains(now, r.To) {
			p.fail("--rename %s: %s.%s has to lose the value %q and to have %q", r, c.Table, k.Column, r.Value, r.To)
			return
		}
		p.used["rename "+r.String()] = true
		settled[r.Value] = true
		if slices.Contains(old, r.To) && !among(func(r Rename) string { return r.Value }, r.To) { // nobody could tell afterwards which rows had which
			merged = append(merged, when(r.Value, p.Engine.SQL().Text(r.To)))
			continue
		}
		there = append(there, when(r.Value, p.Engine.SQL().Text(r.To)))
		back = append(back, when(r.To, p.Engine.SQL().Text(r.Value)))
	}
	column := p.Engine.SQL().Quote(k.Column)
	gone := slices.DeleteFunc(slices.Clone(old), func(v string) bool { return slices.Contains(now, v) || settled[v] })
	if len(gone) > 0 {
		if f, ok := p.choiceFill(c.Table, k.Column, old, now, settled); ok {
			for _, v := range gone {
				settled[v] = true
				merged = append(merged, when(v, "("+f.SQL+")"))
			}
		}
	}
	of := func(cases []string) string {
		if len(cases) == 0 {
			return column
		}
		return fmt.Sprintf("CASE %s %s ELSE %s END", column, strings.Join(cases, " "), column)
	}
	switch {
	case len(merged) > 0:
		a.Forward[k.Column] = engine.Source{SQL: of(append(there, merged...))}
		p.lose(a, a.From.Column(k.Column))
	case len(there) > 0:
		a.Forward[k.Column] = engine.Source{SQL: of(there)}
		a.Back[k.Column] = engine.Source{SQL: of(back)}
	}
	p.valuesGone(c.Table, k.Column, old, now, settled)
}

// choiceFill is the value that a person gave for the rows of values that a choice loses,
// those aside that are settled.
func (p *planner) choiceFill(table, column string, old, now []string, settled map[string]bool) (Fill, bool) {
	var texts []string
	for _, v := range added(now, old) {
		if !settled[v] {
			texts = append(texts, p.Engine.SQL().Text(v))
		}
	}
	if len(texts) == 0 {
		return Fill{}, false
	}
	return p.fill(table, column, p.Engine.SQL().Quote(p.oldColumn(table, column))+" IN ("+strings.Join(texts, ", ")+")")
}

// valueRenames are the renames of values of a column.
func (p *planner) valueRenames(table, column string) []Rename {
	return slices.DeleteFunc(slices.Clone(p.Answers.Rename), func(r Rename) bool {
		return r.Value == "" || !strings.EqualFold(r.Table, p.oldTable(table)) && !strings.EqualFold(r.Table, table) || !strings.EqualFold(r.Column, column) && !strings.EqualFold(r.Column, p.oldColumn(table, column))
	})
}

// valuesSwap notes changes of choices that declare the same values as before, where
// answers give these other names.
func (p *planner) valuesSwap() {
	for _, t := range p.Live.Tables {
		w := p.Wanted.Table(t.Name)
		for _, k := range t.Checks {
			if k.Purpose != schema.ForChoice || w == nil || len(p.valueRenames(t.Name, k.Column)) == 0 {
				continue
			}
			known := slices.ContainsFunc(p.plan.Changes, func(c diff.Change) bool { return c.Kind == diff.ChangeCheck && c.Table == t.Name && c.Before == any(k) })
			for _, o := range w.Checks {
				if !known && o.Purpose == schema.ForChoice && strings.EqualFold(o.Column, k.Column) && o.SQL.Same(k.SQL) {
					p.plan.Changes = append(p.plan.Changes, diff.Change{Kind: diff.ChangeCheck, Table: t.Name, Name: k.Name, From: k.SQL.Text, To: k.SQL.Text, What: k.Column + ": its values are renamed", Object: k, Before: k})
				}
			}
		}
	}
}

// valuesGone asks about the rows of values that a choice loses, and tells whether there
// are any. settled are the values that an answer is for.
func (p *planner) valuesGone(table, column string, old, now []string, settled map[string]bool) (asked bool) {
	for _, v := range old {
		if slices.Contains(now, v) || settled[v] {
			continue
		}
		where := fmt.Sprintf("%s = %s", p.Engine.SQL().Quote(p.oldColumn(table, column)), p.Engine.SQL().Text(v))
		n := p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s", p.Engine.SQL().Quote(p.oldTable(table)), where))
		if n == 0 {
			continue
		}
		q := Question{About: table + "." + column, Rows: n, Text: fmt.Sprintf("the value %s of %s.%s is no longer declared, and %s it", v, table, column, words.Have(n))}
		for _, w := range now {
			if !slices.Contains(old, w) {
				q.Choices = append(q.Choices, choice("renamed to "+w, fmt.Sprintf("--rename %s.%s.%s=%s", table, column, v, w)))
			}
		}
		for _, w := range now {
			if slices.Contains(old, w) {
				q.Choices = append(q.Choices, choice("its rows become "+w+"; their values are kept", fmt.Sprintf("--rename %s.%s.%s=%s", table, column, v, w)))
			}
		}
		q.Choices = append(q.Choices, choice("an expression over the row, for all dropped values; the old ones are kept", fmt.Sprintf("--fill %s.%s=sql:EXPRESSION", table, column)))
		q.Query = p.shown(table, column, where)
		q.Other = "or change those rows first, or declare the value again"
		p.ask(q)
		asked = true
	}
	return asked
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
	return slices.ContainsFunc(p.plan.Changes, func(c diff.Change) bool { return c.Kind == diff.DropTable && strings.EqualFold(c.Table, table) })
}

func (p *planner) fail(format string, args ...any) {
	if p.err == nil {
		p.err = fmt.Errorf(format, args...)
	}
}

// fill is the value that a person gave for rows of a column; where tells which
// rows are given it, empty for all.
func (p *planner) fill(table, column, where string) (Fill, bool) {
	f, ok := p.Answers.Fill[table+"."+column]
	if !ok {
		return f, false
	}
	p.used["fill "+table+"."+column] = true
	if f.Ask {
		name := migration.ParameterName(table+"_"+column, false)
		if !slices.ContainsFunc(p.plan.Parameters, func(x migration.Parameter) bool { return x.Name == name }) {
			query := "SELECT 1 FROM " + p.Engine.SQL().Quote(p.oldTable(table))
			if where != "" {
				query += " WHERE " + where
			}
			typ := schema.Type{Kind: schema.Text}
			if c := p.Wanted.Table(table).Column(column); c != nil {
				typ = c.Type
			}
			p.plan.Parameters = append(p.plan.Parameters, migration.Parameter{Name: name, For: table + "." + column, Type: typ.String(), Home: f.SQL, Query: query})
		}
		return Fill{SQL: ":" + name}, true
	}
	if !f.Literal {
		p.read(table, column, f.SQL)
	}
	if !f.Literal && !p.renamed(table) && p.Count != nil && p.err == nil {
		if _, err := p.Count(fmt.Sprintf("SELECT %s FROM %s", f.SQL, p.Engine.SQL().Quote(table))); err != nil {
			p.err = fmt.Errorf("--fill %s.%s=sql:%s fails on the rows of %s: %w", table, column, f.SQL, table, err)
		}
	}
	return f, true
}

func (p *planner) answered(what, about string) bool {
	if p.Answers.Drop[about] {
		p.used[what+" "+about] = true
		return true
	}
	return false
}

// unused reports answers that answered nothing: most likely a name mistyped.
func (p *planner) unused() error {
	var err error
	nothing := func(flag, format string, args ...any) {
		_, key, _ := strings.Cut(flag, " ")
		if table, _, _ := strings.Cut(key, "."); p.skipped[table] {
			return
		}
		p.plan.Unused = append(p.plan.Unused, flag)
		if err == nil && !p.Lenient {
			err = fmt.Errorf("%s matches no question: %s; see erbario diff", flag, fmt.Sprintf(format, args...))
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		if !p.used["fill "+key] {
			nothing("--fill "+key, "no change gives %s a value", key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Drop)) {
		if !p.used["drop "+key] {
			nothing("--drop "+key, "%s is not being dropped", key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Deleted)) {
		if !p.used["deleted "+key] {
			nothing("--deleted "+key, "soft delete of %s is not being removed", key)
		}
	}
	for _, r := range p.Answers.Rename {
		if r.Value != "" && !p.used["rename "+r.String()] {
			nothing("--rename "+r.String(), "the choice does not change like that")
		}
	}
	return err
}

// oldTable and oldColumn give the names that live rows have before the renames.
func (p *planner) oldTable(name string) string { return p.Answers.before(name, "") }

func (p *planner) oldColumn(table, name string) string { return p.Answers.before(table, name) }

// underOldNames is a requirement of a table that is renamed, or has columns that are, as
// the live rows can be asked it.
func (p *planner) underOldNames(table string, r engine.Requirement) engine.Requirement {
	var b strings.Builder
	last := 0
	list := p.Engine.SQL().Lex(r.Query)
	for i, t := range list {
		function := i+1 < len(list) && list[i+1].Text == "("
		typ := i > 0 && list[i-1].Text == "::"
		if !t.Named() || t.Text[0] == '\'' || t.Bare() && (function || typ) {
			continue
		}
		name := p.oldColumn(table, t.Name())
		if name == t.Name() { // the table, or another that has a new name
			name = p.oldTable(t.Name())
		}
		if name != t.Name() {
			b.WriteString(r.Query[last:t.Start] + p.Engine.SQL().Quote(name))
			last = t.End
		}
	}
	r.Query = b.String() + r.Query[last:]
	r.Among = p.oldTable(r.Among)
	r.Repeats = slices.Clone(r.Repeats)
	for i, c := range r.Repeats {
		r.Repeats[i] = p.oldColumn(table, c)
	}
	return r
}

// renamed tells whether the table or a column of it gets another name.
func (p *planner) renamed(table string) bool {
	return slices.ContainsFunc(p.Answers.Rename, func(r Rename) bool {
		return r.Value == "" && (strings.EqualFold(r.Table, table) || r.Column == "" && strings.EqualFold(r.To, table))
	})
}

// keyRenamed tells whether a table, or something in it that others can refer to, gets
// another name.
func (p *planner) keyRenamed(table string) bool {
	t := p.Live.Table(table)
	if p.oldTable(table) != table || t == nil {
		return p.renamed(table)
	}
	moves := func(column string) bool { return p.oldColumn(table, column) != column }
	return slices.ContainsFunc(t.Key(), moves) || slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool { return x.Unique && slices.ContainsFunc(schema.Names(x.Parts), moves) })
}

// target is the live table with the changes made, and nothing else: what no
// migration made stays.
func target(live *schema.Table, changes []diff.Change) *schema.Table {
	t := live.Clone()
	t.Text = ""
	for _, c := range changes {
		switch c.Kind {
		case diff.AddColumn:
			t.Columns = append(t.Columns, c.Object.(*schema.Column))
		case diff.DropColumn:
			t.Columns = slices.DeleteFunc(t.Columns, func(o *schema.Column) bool { return strings.EqualFold(o.Name, c.Name) })
			// What was declared with the column alone goes with it.
			t.Checks = slices.DeleteFunc(t.Checks, func(k *schema.Check) bool { return strings.EqualFold(k.Column, c.Name) && c.Name != "" })
		case diff.ChangeType, diff.MakeRequired, diff.MakeOptional, diff.ChangeDefault, diff.ChangeColumn:
			for i, o := range t.Columns {
				if strings.EqualFold(o.Name, c.Name) {
					t.Columns[i] = c.Object.(*schema.Column)
				}
			}
		case diff.ChangeKey:
			t.PrimaryKey, _ = c.Object.(*schema.PrimaryKey)
		case diff.AddUnique, diff.AddIndex:
			t.Indexes = append(t.Indexes, c.Object.(*schema.Index))
		case diff.DropUnique, diff.DropIndex:
			t.Indexes = slices.DeleteFunc(t.Indexes, func(o *schema.Index) bool { return equalIndex(o, c.Object.(*schema.Index)) })
		case diff.ChangeUnique, diff.ChangeIndex:
			for i, o := range t.Indexes {
				if equalIndex(o, c.Before.(*schema.Index)) {
					t.Indexes[i] = c.Object.(*schema.Index)
				}
			}
		case diff.AddReference:
			t.ForeignKeys = append(t.ForeignKeys, c.Object.(*schema.ForeignKey))
		case diff.DropReference, diff.ChangeRef:
			gone := c.Object.(*schema.ForeignKey)
			if c.Kind == diff.ChangeRef {
				gone = c.Before.(*schema.ForeignKey)
			}
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, func(o *schema.ForeignKey) bool { return slices.Equal(o.Columns, gone.Columns) && o.Table == gone.Table })
			if c.Kind == diff.ChangeRef {
				t.ForeignKeys = append(t.ForeignKeys, c.Object.(*schema.ForeignKey))
			}
		case diff.AddCheck:
			t.Checks = append(t.Checks, c.Object.(*schema.Check))
		case diff.DropCheck:
			gone := c.Object.(*schema.Check)
			t.Checks = slices.DeleteFunc(t.Checks, func(o *schema.Check) bool { return o.Name == gone.Name && o.SQL.Same(gone.SQL) })
		case diff.ChangeCheck:
			old := c.Before.(*schema.Check)
			if i := slices.IndexFunc(t.Checks, func(o *schema.Check) bool { return o.Name == old.Name && o.SQL.Same(old.SQL) }); i >= 0 {
				t.Checks[i] = c.Object.(*schema.Check)
			} else { // it went with the column whose name its own has now
				t.Checks = append(t.Checks, c.Object.(*schema.Check))
			}
		case diff.AddTrigger:
			t.Triggers = append(t.Triggers, c.Object.(*schema.Trigger))
		case diff.DropTrigger, diff.ChangeTrigger:
			t.Triggers = slices.DeleteFunc(t.Triggers, func(o *schema.Trigger) bool { return strings.EqualFold(o.Name, c.Name) })
			if c.Kind == diff.ChangeTrigger {
				t.Triggers = append(t.Triggers, c.Object.(*schema.Trigger))
			}
		case diff.ChangeOptions:
			t.Options = schema.Options{}
		case diff.AddComment, diff.ChangeComment, diff.DropComment:
			if o := t.Column(c.Name); c.Name != "" && o != nil {
				o.Comment = c.To
			} else if c.Name == "" {
				t.Comment = c.To
			}
		}
	}
	return t
}

func equalIndex(a, b *schema.Index) bool {
	if a.Name != "" || b.Name != "" {
		return strings.EqualFold(a.Name, b.Name)
	}
	return slices.Equal(schema.Names(a.Parts), schema.Names(b.Parts)) && a.Unique == b.Unique
}

// reorder puts the columns of t in the declared order, and behind them those
// that no model declares.
func reorder(t, wanted *schema.Table) {
	place := func(c *schema.Column) int {
		i := slices.IndexFunc(wanted.Columns, func(w *schema.Column) bool { return strings.EqualFold(w.Name, c.Name) })
		if i < 0 {
			return len(wanted.Columns)
		}
		return i
	}
	slices.SortStableFunc(t.Columns, func(a, b *schema.Column) int { return place(a) - place(b) })
}

// inOrder puts the columns of t in the declared order, and each that no model declares
// behind the one behind which it was.
func inOrder(t, wanted *schema.Table) {
	var out []*schema.Column
	behind := map[string]string{}
	last := ""
	for _, c := range t.Columns {
		if wanted.Column(c.Name) == nil {
			behind[c.Name] = last
		}
		last = c.Name
	}
	for _, w := range wanted.Columns {
		if c := t.Column(w.Name); c != nil {
			out = append(out, c)
		}
	}
	for _, c := range t.Columns {
		after, undeclared := behind[c.Name]
		if !undeclared {
			continue
		}
		at := slices.IndexFunc(out, func(o *schema.Column) bool { return o.Name == after }) + 1
		out = slices.Insert(out, at, c)
	}
	t.Columns = out
}

// summary tells the changes of a table in a line.
func summary(table string, changes []diff.Change) string {
	return titled("change "+table, changes, "the names of checks and indexes of "+table+" follow")
}

// titled puts the changes of a table in a line behind a beginning; without any that are
// said, it is the line none.
func titled(head string, changes []diff.Change, none string) string {
	var out []string
	for _, c := range changes {
		if k, ok := c.Before.(*schema.Check); ok && c.Kind == diff.ChangeCheck && c.Before != c.Object && k.SQL.Same(c.Object.(*schema.Check).SQL) {
			continue // the names of checks follow, and those of indexes
		}
		if x, ok := c.Before.(*schema.Index); ok && c.From == x.Name && c.From != "" {
			continue
		}
		switch {
		case c.What == "":
		case (c.Kind == diff.AddColumn || c.Kind == diff.DropColumn) && schema.Own(c.Name): // it belongs to an index
		case c.Kind == diff.AddColumn && c.Marks:
			out = append(out, "soft delete by "+c.Name)
		case c.Kind == diff.DropColumn && c.Marks:
			out = append(out, "no soft delete by "+c.Name)
		case c.Note != "" && c.Kind == diff.ChangeUnique:
			out = append(out, c.To)
		case c.Kind == diff.AddColumn:
			out = append(out, "add "+c.Name)
		case c.Kind == diff.DropColumn:
			out = append(out, "drop "+c.Name)
		case c.Kind == diff.MakeRequired, c.Kind == diff.MakeOptional:
			out = append(out, c.Name+" is "+c.To)
		case c.Kind.Sign() == "+":
			out = append(out, "add "+c.What)
		case c.Kind.Sign() == "-":
			out = append(out, "drop "+c.What)
		case c.Name != "" && c.Kind != diff.ChangeCheck && c.Kind != diff.ChangeUnique && c.Kind != diff.ChangeIndex:
			out = append(out, c.Name+" "+c.What)
		default:
			out = append(out, c.What)
		}
		if n := len(out); n > 1 && out[n-1] == out[n-2] { // such as the two triggers of a bridge
			out = out[:n-1]
		}
	}
	if len(out) == 0 {
		return none
	}
	s := head + ": " + strings.Join(out, "; ")
	if r := []rune(s); len(r) > 110 {
		s = string(r[:107]) + "..."
	}
	return s
}

// ordered sorts the units so that a name is free before it is taken.
func ordered(units []unit) []unit {
	slices.SortStableFunc(units, func(a, b unit) int {
		if a.rank != b.rank {
			return a.rank - b.rank
		}
		if a.place != b.place {
			return a.place - b.place
		}
		return strings.Compare(a.name, b.name)
	})
	var out []unit
	left := slices.Clone(units)
	for len(left) > 0 {
		next := slices.IndexFunc(left, func(u unit) bool {
			return !slices.ContainsFunc(left, func(o unit) bool {
				return o.name == u.name && u.late && o.rank == u.rank && !o.late || o.name != u.name && (slices.ContainsFunc(u.takes, func(n string) bool {
					return slices.Contains(o.frees, n) && !slices.Contains(u.frees, n)
				}) || o.rank == u.rank && slices.Contains(o.ahead, u.id()))
			})
		})
		next = max(next, 0) // in a circle the proof tells what collides
		out = append(out, left[next])
		left = slices.Delete(left, next, next+1)
	}
	return out
}
