package plan

// This file plans what is created and dropped of tables, and where the values of columns come from that
// come, go or change their type.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

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
func (p *planner) backValue(table string, col *sqlschema.Column, keep string) (engine.Source, bool) {
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
	name := engine.ParameterName(table+"_"+column, true)
	p.plan.Parameters = append(p.plan.Parameters,
		engine.Parameter{Name: name, For: table + "." + column, Type: col.Type.String(), Undo: true})
	if keep == "" {
		return engine.Source{SQL: ":" + name}, true
	}
	src.Else = ":" + name
	return src, true
}

// lose notes that a column's values go, and where they are to come back from. Those of a
// generated one are worked out again: nothing is lost.
func (p *planner) lose(a *engine.Alteration, col *sqlschema.Column) {
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

// table plans the changes of one table.
func (p *planner) table(name string, changes []diff.Change) {
	first := changes[0]
	switch first.Kind {
	case diff.AddTable:
		t := withoutSpanning(p.inline(first.Object.(*sqlschema.Table)))
		step := p.Engine.DDL().Create(t)
		if t.InSQL {
			step.Objects = []engine.StepObject{{ObjectKey: engine.ObjectKey{Kind: "table", Name: t.Name}}}
		}
		p.plan.Effects[name] = "new"
		var refers []string
		for _, k := range t.ForeignKeys {
			refers = append(refers, k.Table)
		}
		p.units = append(p.units, unit{
			rank:   rankOf(t, rankCreate, rankVirtualComes),
			place:  p.place[t.Name],
			name:   name,
			takes:  names(t, true),
			refers: refers,
			change: engine.Change{Steps: []engine.Step{step}},
		})
	case diff.DropTable:
		p.dropTable(first.Object.(*sqlschema.Table))
	default:
		p.inParts(name, changes)
	}
}

// rankOf is the rank of a step for an ordinary table, or that for a virtual one.
func rankOf(t *sqlschema.Table, ordinary, virtual int) int {
	if t.Options.Virtual != "" {
		return virtual
	}
	return ordinary
}

func (p *planner) dropTable(t *sqlschema.Table) {
	rows := int64(0)
	if t.Content == "" { // else they are those of another
		rows = p.count("SELECT 1 FROM " + p.Engine.SQL().QuoteTable(p.oldTable(t.Name)))
	}
	come := p.comers(t)
	if !p.answered("drop", t.Name) && (rows > 0 || len(come) > 0 || p.FoundTables[strings.ToLower(t.Name)]) {
		name := p.oldTable(t.Name)
		q := Question{
			About: name,
			Rows:  rows,
			Text:  fmt.Sprintf("the table %s is no longer declared; it has %s", name, words.Rows(rows)),
		}
		if p.Answers.aside(t.Name, "") {
			q.Text = fmt.Sprintf("the name of the table %s is given to another table; it has %s", name,
				words.Rows(rows))
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
		p.ask(Question{
			About: t.Name,
			Rows:  rows,
			Text: fmt.Sprintf(
				"%s is kept when it is dropped, and has objects not created by a migration: %s; the migration must also run on databases without them",
				t.Name, strings.Join(by, ", ")),
			Choices: p.letGoes(t.Name),
			Other:   "or drop it yourself first, or declare it and use two migrations",
		})
		return
	}
	t = withoutSpanning(p.without(p.inline(t)))
	p.plan.Effects[t.Name] = words.Rows(rows) + " are kept"
	keep := p.keep(t.Name)
	if p.NoKeep {
		keep, p.plan.Effects[t.Name] = "", words.Rows(rows)+" are lost"
	}
	if t.Content != "" {
		p.plan.Effects[t.Name] = "its rows are those of another table"
	}
	change := p.Engine.DDL().Drop(engine.TableDrop{Table: t, Keep: keep})
	if p.InSQL[strings.ToLower(t.Name)] {
		last := &change.Steps[len(change.Steps)-1]
		last.Objects = append(last.Objects,
			engine.StepObject{ObjectKey: engine.ObjectKey{Kind: "table", Name: t.Name}, Gone: true})
	}
	p.units = append(p.units, unit{
		rank:   rankOf(t, rankDrop, rankVirtualGoes),
		place:  p.place[t.Name],
		name:   t.Name,
		frees:  names(t, true),
		change: change,
	})
}

// keep is the name of the table for what is kept of a table.
func (p *planner) keep(table string) string {
	return schema.Cut(p.Kept + table)
}

// comers are the new tables that could be an old one with another name: they
// share half of their columns with it, and are of the same module if it is virtual.
func (p *planner) comers(old *sqlschema.Table) []string {
	var out []string
	for _, c := range p.plan.Changes {
		if c.Kind != diff.AddTable {
			continue
		}
		t, shared := c.Object.(*sqlschema.Table), 0
		for _, col := range t.Columns {
			if o := old.Column(col.Name); o != nil && strings.EqualFold(o.SQLType, col.SQLType) {
				shared++
			}
		}
		if shared*2 >= len(old.Columns) && t.Options.Virtual == old.Options.Virtual {
			out = append(out, t.Name)
		}
	}
	return out
}

// names are what a table takes in the database's one space of names.
func names(t *sqlschema.Table, itself bool) []string {
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
func inNewTypes(to, from, wanted *sqlschema.Table) {
	moves := func(column string) bool {
		c, old := to.Column(column), from.Column(column)
		return c != nil && old != nil && (c.Values == nil) != (old.Values == nil)
	}
	if !slices.ContainsFunc(to.Columns, func(c *sqlschema.Column) bool { return moves(c.Name) }) {
		return
	}
	for _, c := range to.Columns {
		if w := wanted.Column(c.Name); moves(c.Name) && w != nil && sqlschema.SameSQL(c.Default, w.Default) {
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
			if w.Name == x.Name && sqlschema.SameIndex(w, x) {
				to.Indexes[i] = w
			}
		}
	}
}

func (p *planner) addColumn(a *engine.Alteration, c diff.Change, changes []diff.Change, rows func() int64) {
	col := c.Object.(*sqlschema.Column)
	if f, ok := p.fill(c.Table, c.Name, ""); ok {
		a.Forward[c.Name] = engine.Source{SQL: f.SQL, Literal: f.Literal}
		return
	}
	if !col.NotNull || col.Default != nil || col.Generated != nil || col.Identity ||
		rows() == 0 && !p.unseen(c.Table, c.Name) {
		return
	}
	q := Question{
		About: c.Target(),
		Lacks: true,
		Rows:  rows(),
		Text: fmt.Sprintf("%s is required and has no default, and %s has %s", c.Target(), c.Table,
			p.rowsOf(c.Table, c.Name, rows())),
		Choices: ValueChoices(p.Wanted.Table(c.Table), c.Name, rows()),
	}
	p.tablesSwap(&q, c.Table)
	for _, o := range changes {
		if o.Kind == diff.DropColumn && like(o.Object.(*sqlschema.Column), col) && !p.Answers.aside(c.Table, o.Name) {
			q.Choices = append(
				[]Choice{choice("renamed from "+o.Name, fmt.Sprintf("--rename %s=%s", o.Target(), col.Name))},
				q.Choices...)
		}
	}
	p.ask(q)
}

// like tells whether a new column could be an old one with another name.
func like(old, col *sqlschema.Column) bool {
	return strings.EqualFold(old.SQLType, col.SQLType) || old.Type.Kind == col.Type.Kind
}

func (p *planner) dropColumn(a *engine.Alteration, c diff.Change, changes []diff.Change, rows func() int64) {
	col := c.Object.(*sqlschema.Column)
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
		if o.Kind == diff.AddColumn && like(col, o.Object.(*sqlschema.Column)) {
			come = append(come, o.Name)
		}
	}
	restored := p.Answers.Deleted[c.Table] == Restore && a.From.SoftDelete == c.Name
	if !restored && !p.answered("drop", c.Target()) && (rows() > 0 || len(come) > 0 || p.unseen(c.Table, c.Name)) {
		name := c.Table + "." + p.oldColumn(c.Table, c.Name)
		q := Question{
			About: name,
			Rows:  rows(),
			Text:  fmt.Sprintf("%s is no longer declared; %s has %s", name, c.Table, p.rowsOf(c.Table, c.Name, rows())),
		}
		switch {
		case p.Answers.aside(c.Table, c.Name):
			q.Text = fmt.Sprintf("the name of %s is given to another column; %s has %s", name, c.Table,
				words.Rows(rows()))
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
	col, old := c.Object.(*sqlschema.Column), c.Before.(*sqlschema.Column)
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
			n = p.count(
				fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", p.Engine.SQL().QuoteTable(p.oldTable(c.Table)),
					p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))),
			)
		}
		if n > 0 {
			p.ask(Question{
				About: c.Target(),
				Rows:  n,
				Text: fmt.Sprintf("%s changes from %s to %s, and there is no single way to convert the values of %s",
					c.Target(), cmp.Or(c.From, "no type"), c.To, words.Rows(n)),
				Choices: append(p.columnsSwap(c),
					choice("an expression over the row", fmt.Sprintf("--fill %s=sql:EXPRESSION", c.Target())),
					asNewColumn(c)),
				Query: p.shown(c.Table, c.Name, p.Engine.SQL().Quote(p.oldColumn(c.Table, c.Name))+" IS NOT NULL"),
			})
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
	k, old := c.Object.(*sqlschema.ForeignKey), c.Before.(*sqlschema.ForeignKey)
	if strings.EqualFold(k.Table, old.Table) && slices.EqualFunc(k.References, old.References, strings.EqualFold) ||
		len(k.Columns) != 1 {
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
	n := p.count(
		fmt.Sprintf("SELECT 1 FROM %s WHERE %s IS NOT NULL", p.Engine.SQL().QuoteTable(p.oldTable(c.Table)),
			p.Engine.SQL().Quote(p.oldColumn(c.Table, name))),
	)
	if n > 0 {
		p.ask(Question{
			About: c.Table + "." + name,
			Rows:  n,
			Text: fmt.Sprintf("%s.%s referred to %s and now refers to %s, and %s a value", c.Table, name, old.Table,
				k.Table, words.Have(n)),
			Choices: []Choice{
				choice("an expression over the row", fmt.Sprintf("--fill %s.%s=sql:EXPRESSION", c.Table, name)),
			},
			Query: p.shown(c.Table, name, p.Engine.SQL().Quote(p.oldColumn(c.Table, name))+" IS NOT NULL"),
		})
		return
	}
	a.Forward[name] = engine.Source{Unconvertible: true}
	p.lose(a, a.From.Column(name))
}
