package plan

// This file plans how one table is altered: each change gets its values from somewhere, what
// nobody could restore is asked about, and the engine gives the steps.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// altering is one table as it is being planned.
type altering struct {
	name         string
	changes      []diff.Change
	live, wanted *sqlschema.Table
	engine.Alteration
	rows    func() int64 // of the live table
	again   map[string]bool
	follows following
	filled  []engine.Loss // columns of whose rows nobody could tell afterwards which had no value
}

// alter plans the changes of one table.
func (p *planner) alter(name string, changes []diff.Change) {
	x, ok := p.altering(name, changes)
	if !ok {
		return
	}
	if p.followsLater(x.live, x.changes) {
		p.plan.Effects[name] = words.Rows(x.rows()) + ", after an answer"
		return
	}
	asked := len(p.plan.Questions)
	x.follows = p.followed(name, x.changes)
	x.again = p.generatedAgain(&x.Alteration, x.changes, x.rows)
	p.held(x)
	for _, c := range x.changes {
		if c.Name == "" || !x.again[c.Name] {
			p.alterOne(x, c)
		}
	}
	if open := p.plan.Questions[asked:]; len(open) > 0 {
		p.besideQuestions(x, open)
		return
	}
	if !p.keylessLoses(x) || !p.keylessFills(x) {
		return
	}
	change, ok := p.altered(x)
	if !ok {
		return
	}
	p.tellEffect(x, change)
	if by := p.byHand(name); (change.Copies || change.CopiesBack) && len(by) > 0 {
		p.ask(Question{
			About: name,
			Rows:  x.rows(),
			Text: fmt.Sprintf(
				"the change or its undo copies %s, which has objects not created by a migration: %s; the migration must also run on databases without them",
				name, strings.Join(by, ", ")),
			Choices: p.letGoes(name),
			Other:   "or drop it yourself, or declare it first",
		})
		p.plan.Effects[name] = words.Rows(x.rows()) + ", after a question"
		return
	}
	p.takeIn(x, change)
}

// altering begins the plan of a table's changes; ok is false where none is left.
func (p *planner) altering(name string, changes []diff.Change) (x *altering, ok bool) {
	live, wanted := p.settled(p.without(p.Live.Table(name))), p.Wanted.Table(name)
	live, changes, ok = p.restore(live, changes)
	if !ok || len(changes) == 0 {
		return nil, false
	}
	live, changes = p.namesGo(live, changes)
	for _, c := range p.undeclared(name) {
		if c.Kind == diff.DropColumn {
			live.Column(c.Name).ByHand = true
		}
	}
	x = &altering{name: name, changes: changes, live: live, wanted: wanted}
	x.Alteration = engine.Alteration{
		From: live, To: target(live, changes), Forward: map[string]engine.Source{}, Back: map[string]engine.Source{},
		Handled: p.Handled[name], InUse: p.inUse(name), NoDrop: p.NoDrop,
		Copy: slices.Contains(p.Order, name), NoKeep: p.NoKeep,
		Keep: p.keep(name), Aside: p.Kept, Parent: p.parentOf,
		Summary:     summary(name, changes),
		SummaryRest: titled("change "+name+" to what is declared", changes, summary(name, nil)),
	}
	if wanted.Options.Virtual != "" {
		x.To.Content, x.To.Held, x.To.Sealed = wanted.Content, wanted.Held, wanted.Sealed
	}
	inNewTypes(x.To, live, wanted)
	rows := int64(-1)
	x.rows = func() int64 {
		if rows < 0 {
			rows = p.count("SELECT 1 FROM " + p.Engine.SQL().QuoteTable(p.oldTable(name)))
		}
		return rows
	}
	return x, true
}

// parentOf tells what of a table that is referred to is there before the migration, or after
// it.
func (p *planner) parentOf(table string, after bool) engine.Parent {
	switch {
	case after && (p.Wanted.Table(table) != nil || p.Live.Table(table) != nil && !p.goes(table)):
		return engine.ParentThere
	case after || p.keyRenamed(table):
		return engine.ParentUnknown
	case p.Live.Table(table) != nil:
		return engine.ParentThere
	}
	return engine.ParentNew
}

// alterOne plans one change of the table.
func (p *planner) alterOne(x *altering, c diff.Change) {
	switch c.Kind {
	case diff.AddColumn, diff.DropColumn, diff.ChangeType, diff.ChangeRef:
		if p.rekey(&x.Alteration, c, x.follows) {
			return
		}
	}
	switch c.Kind {
	case diff.AddColumn:
		p.addColumn(&x.Alteration, c, x.changes, x.rows)
	case diff.DropColumn:
		p.dropColumn(&x.Alteration, c, x.changes, x.rows)
	case diff.MakeRequired:
		p.makeRequired(x, c)
	case diff.MakeOptional:
		p.backRequired(&x.Alteration, c)
	case diff.ChangeType:
		p.changeType(&x.Alteration, c, x.rows)
	case diff.ChangeCheck:
		p.renameChoices(&x.Alteration, c)
	case diff.ChangeRef:
		p.changeParent(&x.Alteration, c)
	}
}

// makeRequired gives rows without a value the one that was answered, or asks for it.
func (p *planner) makeRequired(x *altering, c diff.Change) {
	empty := p.Engine.SQL().Quote(p.oldColumn(x.name, c.Name)) + " IS NULL"
	f, ok := p.fill(x.name, c.Name, empty)
	if !ok {
		nulls := p.count(fmt.Sprintf("SELECT 1 FROM %s WHERE %s", p.Engine.SQL().QuoteTable(p.oldTable(x.name)), empty))
		if nulls > 0 {
			p.ask(Question{
				About:   c.Target(),
				Lacks:   true,
				Rows:    nulls,
				Text:    fmt.Sprintf("%s becomes required, and %s no value", c.Target(), words.Have(nulls)),
				Choices: ValueChoices(p.Wanted.Table(c.Table), c.Name, nulls),
				Query:   p.shown(x.name, c.Name, empty),
			})
		}
		return
	}
	if slices.Contains(x.Lost, c.Name) {
		return // its new type has its values from the answer
	}
	value := "(" + f.SQL + ")"
	if f.Literal {
		value = f.SQL
	}
	src, back := x.Forward[c.Name], x.Back[c.Name]
	base := cmp.Or(src.SQL, p.Engine.SQL().Quote(c.Name)) // converted first
	x.Forward[c.Name] = engine.Source{
		SQL:      fmt.Sprintf("coalesce(%s, %s)", base, value),
		Converts: src.Converts,
		Fill:     value,
		Constant: f.Literal,
	}
	x.Back[c.Name] = engine.Source{SQL: back.SQL, Converts: back.Converts, NullsIn: x.Keep}
}

// besideQuestions tells what stands against the rest of the changes all the same.
func (p *planner) besideQuestions(x *altering, open []Question) {
	p.plan.Effects[x.name] = words.Rows(x.rows()) + ", after a question"
	if p.renamed(x.name) {
		return
	}
	change := p.alterTable(x.Alteration, x.again)
	p.withEnums(x.name, &change)
	for _, r := range change.BeforeApply {
		if !slices.ContainsFunc(open, func(q Question) bool {
			return q.About == x.name+"."+r.About && r.About != "" && (r.Lacks || !q.Lacks)
		}) {
			p.plan.BeforeApply = append(p.plan.BeforeApply, r)
		}
	}
}

// keylessLoses gives up keeping what a table without a lasting key loses, if that was
// answered; false: it is asked.
func (p *planner) keylessLoses(x *altering) bool {
	if len(x.Lost) == 0 || len(x.Match()) > 0 || x.live.Options.Virtual != "" { // which has numbers of rows
		return true
	}
	if x.rows() > 0 && !p.answered("drop", x.name+".*") {
		p.ask(Question{
			About: x.name,
			Rows:  x.rows(),
			Text: fmt.Sprintf(
				"%s has no lasting primary key, so the values of its columns cannot be restored to the right rows",
				x.name),
			Choices: []Choice{choice("drop it; its values are lost", "--drop "+x.name+".*")},
			Other:   "or give the model a primary key first",
		})
		return false
	}
	x.Keep = ""
	for _, c := range x.Lost {
		src := x.Back[c]
		delete(x.Back, c)
		switch {
		case x.To.Column(c) != nil:
			x.Back[c] = engine.Source{Unconvertible: true}
		case src.Else != "" || src.SQL != "":
			x.Back[c] = engine.Source{SQL: cmp.Or(src.Else, src.SQL)}
		}
	}
	return true
}

// keylessFills gives up noting which rows of a table without a lasting key had no value, if
// that was answered; false: it is asked.
func (p *planner) keylessFills(x *altering) bool {
	if len(x.Match()) > 0 {
		return true
	}
	for _, c := range x.From.Columns {
		if x.Back[c.Name].NullsIn != "" {
			x.filled = append(x.filled, engine.Loss{Table: x.name, Column: c.Name})
		}
	}
	if len(x.filled) > 0 && x.rows() > 0 && !p.answered("drop", x.name+".*") {
		p.ask(Question{
			About: x.name,
			Rows:  x.rows(),
			Text: fmt.Sprintf("%s has no primary key, so an undo could not know which rows had no value in %s",
				x.name, words.Join(x.filled)),
			Choices: []Choice{choice("accept that", "--drop "+x.name+".*")},
			Other:   "or give the model a primary key first",
		})
		return false
	}
	for c, s := range x.Back {
		if s.NullsIn == "" {
			continue
		}
		if s.NullsIn = ""; s.SQL == "" {
			delete(x.Back, c)
		} else {
			x.Back[c] = s
		}
	}
	for c, s := range x.Forward {
		s.Fill = ""
		x.Forward[c] = s
	}
	return true
}

// altered has the engine give the steps. If every row is written again, the declared order of
// columns comes for nothing.
func (p *planner) altered(x *altering) (change engine.Change, ok bool) {
	ordered := p.Engine.Caps().OrderedColumns
	if ordered {
		inOrder(x.To, x.wanted)
	}
	change = p.alterTable(x.Alteration, x.again)
	if x.Copy && !change.Copies && !ordered {
		p.fail("--order %s: %s adds new columns last, and only a new table could have them in another order",
			x.name, p.Engine.Name())
		return change, false
	}
	if change.Copies {
		reorder(x.To, x.wanted)
		change = p.alterTable(x.Alteration, x.again)
	}
	return change, true
}

// tellEffect tells what the change does with the rows.
func (p *planner) tellEffect(x *altering, change engine.Change) {
	if change.Copies {
		if x.To.Content != "" {
			p.plan.Effects[x.name] = "created again, from the rows of " + x.To.Content
			return
		}
		switch n := x.rows(); n {
		case 0:
			p.plan.Effects[x.name] = "created again, it has no rows"
		case 1:
			p.plan.Effects[x.name] = "1 row is copied"
		default:
			p.plan.Effects[x.name] = words.Rows(n) + " are copied"
		}
		return
	}
	p.plan.Effects[x.name] = "keeps every row"
	declared := x.To.Clone()
	reorder(declared, x.wanted)
	comes := slices.ContainsFunc(x.changes, func(c diff.Change) bool { return c.Kind == diff.AddColumn })
	same := func(x, y *sqlschema.Column) bool { return x.Name == y.Name }
	if comes && !slices.EqualFunc(declared.Columns, x.To.Columns, same) {
		p.plan.Effects[x.name] += "; new columns are added last, since only a copy of the table could order them"
		p.plan.Last = append(p.plan.Last, x.name)
	}
}

// takeIn takes the steps into the plan, with what must hold before them.
func (p *planner) takeIn(x *altering, change engine.Change) {
	if len(x.filled) > 0 && len(change.Steps) > 0 {
		change.Steps[0].Loses = append(change.Steps[0].Loses, x.filled...)
	}
	p.foundOnce(x.live)
	p.revived(&change, x.live, x.wanted)
	p.withEnums(x.name, &change)
	p.half(x.name, &change)
	change.BeforeApply = append(p.needs[x.name], change.BeforeApply...)
	p.notLost(x.name, &change, x.follows)
	p.askedWithin(&change)
	if !p.renamed(x.name) {
		p.fillsBefore(x.name, change.BeforeApply)
	} else if len(change.Steps) > 0 {
		// What must hold is asked when the new names are there.
		first := &change.Steps[0]
		for _, r := range change.BeforeApply {
			if !r.Shape {
				p.early = append(p.early, p.underOldNames(x.name, r))
			}
		}
		first.Here = append(first.Here, slices.DeleteFunc(change.BeforeApply, first.AsksHere)...)
		change.BeforeApply = nil
	}
	p.units = append(p.units,
		unit{rank: rankOf(x.live, rankAlter, rankVirtualComes), name: x.name, frees: names(x.live, false),
			takes: names(x.To, false), change: change})
}
