package plan

// This file plans what becomes of enum types, in which choices are kept that say so. A
// value that comes is added to the type, one that has another name is renamed. Where
// one goes, or the order is another, the type is set apart, made again, and the columns
// change from the one to the other like any column whose type changes. The way back
// from an added value is the same, since no value of a type can be dropped.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// isApart tells whether an enum type has the name of one that is set apart.
func isApart(name string) bool {
	_, own := schema.SplitName(name)
	return strings.HasPrefix(own, schema.ApartPrefix)
}

// OnlyAdded tells whether the values wanted are those there with others among them.
func OnlyAdded(there, wanted []string) bool {
	i := 0
	for _, v := range wanted {
		if i < len(there) && there[i] == v {
			i++
		}
	}
	return i == len(there)
}

// enumColumns notes the values of the columns that are of an enum type by their SQL, such as an array of one.
func (p *planner) enumColumns() {
	of := map[string]*sqlschema.Other{}
	for _, o := range p.Wanted.Others {
		if o.Kind == sqlschema.EnumType {
			of[p.Engine.SQL().QuoteTable(o.Name)] = o
		}
	}
	if len(of) == 0 {
		return
	}
	for _, t := range p.Wanted.Tables {
		for _, c := range t.Columns {
			if o := of[c.SQLType]; o != nil && c.Values == nil {
				c.Values = o.Values
			}
			if element, array := strings.CutSuffix(c.SQLType, "[]"); array && of[element] != nil {
				c.Elements = of[element].Values
			}
		}
	}
}

// enums plans the changes of enum types.
func (p *planner) enums() {
	p.enumColumns()
	words := engine.EnumsOf(p.Engine)
	if words == nil {
		return
	}
	comes := func(name string, s engine.Step) {
		p.moving = append(p.moving, p.Engine.SQL().QuoteTable(name))
		p.units = append(p.units, unit{rank: rankEnumComes, name: name, change: engine.Change{Steps: []engine.Step{s}}})
	}
	goes := func(name string, s engine.Step) {
		p.moving = append(p.moving, p.Engine.SQL().QuoteTable(name), p.Engine.SQL().QuoteTable(schema.Apart(name)))
		p.units = append(p.units, unit{rank: rankEnumGoes, name: name, change: engine.Change{Steps: []engine.Step{s}}})
	}
	for i := range p.plan.Changes {
		c := &p.plan.Changes[i]
		o, _ := c.Object.(*sqlschema.Other)
		switch c.Kind {
		case diff.AddEnum:
			old := p.Live.Enum(schema.Apart(o.Name))
			if old == nil {
				comes(o.Name, engine.Step{
					Title: "create the enum type " + o.Name,
					Apply: words.Make(o.Name, o.Values),
					Undo:  words.Drop(o.Name),
				})
				continue
			}
			c.Kind, c.From, c.To, c.Before = diff.ChangeEnum, strings.Join(old.Values, ", "), strings.Join(o.Values,
				", "), old
			c.What = "enum type: " + c.From + " -> " + c.To
			p.fresh = append(p.fresh, added(old.Values, o.Values)...)
			comes(o.Name, engine.Step{Title: "create the enum type " + o.Name + " again",
				Apply: append(
					words.Rename(o.Name, old.Name),
					words.Make(o.Name,
						o.Values)...), Undo: append(words.Drop(o.Name), words.Rename(old.Name, o.Name)...)})
			goes(o.Name, engine.Step{
				Title: "drop the enum type " + o.Name + " as it was",
				Apply: words.Drop(old.Name),
				Undo:  words.Make(old.Name, old.Values),
			})
		case diff.ChangeEnum:
			p.fresh = append(p.fresh, added(c.Before.(*sqlschema.Other).Values, o.Values)...)
			p.units = append(p.units, unit{
				rank:   rankEnumComes,
				name:   o.Name,
				change: engine.Change{Steps: []engine.Step{p.addValues(o, c.Before.(*sqlschema.Other))}},
			})
		}
	}
	p.tellEnums()
	for _, old := range p.Live.Others {
		if old.Kind == sqlschema.EnumType && p.madeEnum(old.Name) &&
			p.Wanted.Enum(old.Name) == nil && !isApart(old.Name) {
			p.plan.Changes = append(p.plan.Changes, diff.Change{
				Kind:   diff.DropEnum,
				Table:  old.Name,
				What:   "enum type: " + strings.Join(old.Values, ", "),
				Object: old,
			})
			goes(old.Name, engine.Step{
				Title: "drop the enum type " + old.Name,
				Apply: words.Drop(old.Name),
				Undo:  words.Make(old.Name, old.Values),
			})
		}
	}
}

// madeEnum tells whether migrations made an enum type for a column: one that exists for itself is
// nothing that a model could declare.
func (p *planner) madeEnum(name string) bool {
	if p.Made == nil || p.Made.Enum(name) == nil {
		return false
	}
	return slices.ContainsFunc(p.Made.Tables, func(t *sqlschema.Table) bool {
		return slices.ContainsFunc(t.Columns,
			func(c *sqlschema.Column) bool { return c.Values != nil && c.SQLType == p.Engine.SQL().QuoteTable(name) })
	})
}

// remade are the enum types that are set apart, under the names that they have now.
func (p *planner) remade() map[string]string {
	out := map[string]string{}
	for _, o := range p.Wanted.Others {
		if apart := schema.Apart(o.Name); o.Kind == sqlschema.EnumType && p.Live.Enum(apart) != nil {
			out[p.Engine.SQL().QuoteTable(apart)] = p.Engine.SQL().QuoteTable(o.Name)
		}
	}
	return out
}

// withEnums moves what has to hold before a table changes behind the making of enum
// types where it is said in their terms: before, they have other values.
func (p *planner) withEnums(table string, change *engine.Change) {
	move := func(list []engine.Requirement, here *[]engine.Requirement) (rest []engine.Requirement) {
		for _, r := range list {
			said := false
			for _, n := range p.moving {
				said = said || strings.Contains(r.Query, "::"+n) || strings.Contains(r.Query, "AS "+n+")")
			}
			for _, v := range p.fresh {
				said = said ||
					!r.Guards && strings.Contains(r.Query, p.Engine.SQL().Text(v)) && p.asksEnum(table, r.Query)
			}
			for apart, name := range p.remade() {
				r.Sentence = strings.ReplaceAll(r.Sentence, apart+"[]", name+"[] as it was")
				r.Sentence = strings.ReplaceAll(r.Sentence, apart, name+" as it was")
			}
			if said {
				*here = append(*here, r)
			} else {
				rest = append(rest, r)
			}
		}
		return rest
	}
	if n := len(change.Steps); n > 0 {
		change.BeforeApply = move(change.BeforeApply, &change.Steps[0].Here)
		change.BeforeUndo = move(change.BeforeUndo, &change.Steps[n-1].HereUndo)
	}
	if len(p.remade()) == 0 {
		return
	}
	for i := range change.BeforeApply { // asked while the values have their old names
		for _, r := range slices.Backward(p.Answers.Rename) {
			if _, ok := p.EnumRenames[r]; !ok {
				continue
			}
			change.BeforeApply[i].Query = strings.ReplaceAll(change.BeforeApply[i].Query, p.Engine.SQL().Text(r.To),
				p.Engine.SQL().Text(r.Value))
		}
	}
}

// asksEnum tells whether a query names a column of the table that is of an enum type.
func (p *planner) asksEnum(table, query string) bool {
	for _, t := range []*sqlschema.Table{p.Live.Table(table), p.Wanted.Table(table)} {
		if t != nil && slices.ContainsFunc(t.Columns, func(c *sqlschema.Column) bool {
			return c.Values != nil && strings.Contains(query, p.Engine.SQL().Quote(c.Name))
		}) {
			return true
		}
	}
	return false
}

// tellEnums says in changes the names that types will have.
func (p *planner) tellEnums() {
	for apart, name := range p.remade() {
		for i := range p.plan.Changes {
			c := &p.plan.Changes[i]
			if c.Kind == diff.ChangeType && (c.From == apart || c.From == apart+"[]") &&
				c.To == strings.Replace(c.From, apart, name, 1) {
				c.What = "follows its enum type"
			}
			c.From, c.What = strings.ReplaceAll(c.From, apart, name), strings.ReplaceAll(c.What, apart, name)
		}
	}
}

// enumsAside leaves out, once all is planned, the changes that only follow a type.
func (p *planner) enumsAside() {
	for apart, name := range p.remade() {
		p.plan.Changes = slices.DeleteFunc(p.plan.Changes, func(c diff.Change) bool {
			if old, ok := c.Before.(*sqlschema.Check); ok && c.Kind == diff.ChangeCheck {
				return sqlschema.SQL{
					Text:  strings.ReplaceAll(old.SQL.Text, apart, name),
					Canon: old.SQL.Canon,
				}.Same(c.Object.(*sqlschema.Check).SQL)
			}
			return c.Kind == diff.ChangeDefault && sameDefault(c, apart, name)
		})
	}
}

// sameDefault tells whether a default is another only in that its type is.
func sameDefault(c diff.Change, apart, name string) bool {
	old, ok := c.Before.(*sqlschema.Column)
	now, both := c.Object.(*sqlschema.Column)
	if !ok || !both || old.Default == nil || now.Default == nil {
		return false
	}
	was := sqlschema.SQL{Text: strings.ReplaceAll(old.Default.Text, apart, name), Canon: now.Default.Canon}
	return was.Same(*now.Default) || strings.TrimSuffix(was.Text, "[]") == now.Default.Text+"::"+name
}

// addValues gives the step that adds values to an enum type. Back, the type is made
// again without them, and each column changes over, which no row must stand against.
func (p *planner) addValues(o, old *sqlschema.Other) engine.Step {
	words := engine.EnumsOf(p.Engine)
	s := engine.Step{
		Title: "the enum type " + o.Name + " has " + strings.Join(added(old.Values, o.Values), ", "),
		Apply: words.Add(o.Name, old.Values, o.Values),
	}
	apart := schema.Apart(o.Name)
	s.Undo = append(words.Rename(o.Name, apart), words.Make(o.Name, old.Values)...)
	for _, t := range p.Live.Tables {
		from := t.Clone()
		a := engine.Between(from, t)
		for i, c := range from.Columns {
			array, is := strings.CutPrefix(c.SQLType, p.Engine.SQL().QuoteTable(o.Name))
			switch {
			case is && array == "":
				c.Values = o.Values
			case is && array == "[]":
				c.Elements = o.Values
			default:
				continue
			}
			c.SQLType = p.Engine.SQL().QuoteTable(apart) + array
			if conv, ok := p.Engine.DDL().Convert(c, t.Columns[i]); ok {
				a.Forward[c.Name] = engine.Source{SQL: conv.SQL, Converts: true}
			}
		}
		if len(a.Forward) == 0 {
			continue
		}
		change := p.Engine.DDL().Alter(a)
		for _, r := range change.BeforeApply {
			if r.Guards {
				r.Sentence = strings.Replace(r.Sentence, apart, o.Name, 1)
				s.HereUndo = append(s.HereUndo, r)
			}
		}
		for _, step := range change.Steps {
			s.Undo = append(s.Undo, step.Apply...)
		}
	}
	s.Undo = append(s.Undo, words.Drop(apart)...)
	return s
}

func added(old, now []string) []string {
	return slices.DeleteFunc(slices.Clone(now), func(v string) bool { return slices.Contains(old, v) })
}

// addedUsed gives steps that add a value to an enum type a transaction of their own
// where another step says the value: it can be used only when that is through.
func (p *planner) addedUsed() {
	for i := range p.plan.Steps {
		s := &p.plan.Steps[i]
		for _, c := range p.plan.Changes {
			o, ok := c.Object.(*sqlschema.Other)
			old, changed := c.Before.(*sqlschema.Other)
			if !ok || !changed || c.Kind != diff.ChangeEnum || old.Name != o.Name ||
				!slices.Equal(s.Apply, engine.EnumsOf(p.Engine).Add(o.Name, old.Values, o.Values)) {
				continue
			}
			for _, v := range added(old.Values, o.Values) {
				if slices.ContainsFunc(p.plan.Steps[i+1:], func(later engine.Step) bool {
					said := func(sql string) bool { return strings.Contains(sql, p.Engine.SQL().Text(v)) }
					return slices.ContainsFunc(later.Apply, said) ||
						slices.ContainsFunc(later.Here, func(r engine.Requirement) bool { return said(r.Query) })
				}) {
					s.Kind = engine.OwnTransaction
				}
			}
		}
	}
}

// valueSteps are the renames of values of enum types.
func (p *planner) valueSteps() {
	for _, r := range p.Answers.Rename {
		if s, ok := p.EnumRenames[r]; ok {
			p.used["rename "+r.String()] = true
			if !slices.ContainsFunc(p.plan.Steps, func(o engine.Step) bool { return slices.Equal(o.Apply, s.Apply) }) {
				p.plan.Steps = append(p.plan.Steps, s)
			}
		}
	}
}

// enumWords turn values of enum types into texts and back. Where the type of a column lists its
// values itself they are texts.
func (p *planner) enumWords() interface {
	Text(sql string) string
	Value(sql, sqlType string) string
} {
	if e := engine.EnumsOf(p.Engine); e != nil {
		return e
	}
	return asTexts{}
}

type asTexts struct{}

func (asTexts) Text(sql string) string     { return sql }
func (asTexts) Value(sql, _ string) string { return sql }

// enumLess sees to the rows of values that an enum type loses: they become others, where
// an answer says so, or are asked about. It tells whether all is said of the column.
func (p *planner) enumLess(a *engine.Alteration, c diff.Change) bool {
	col, old := c.Object.(*sqlschema.Column), c.Before.(*sqlschema.Column)
	if col.Values == nil || old.Values == nil {
		return false
	}
	words, text := p.enumWords(), ""
	settled := map[string]bool{}
	become := func(v, sql string) {
		settled[v] = true
		text += fmt.Sprintf(" WHEN %s THEN %s", p.Engine.SQL().Text(v), sql)
	}
	for _, r := range p.valueRenames(c.Table, col.Name) {
		if _, renamed := p.EnumRenames[r]; renamed || slices.Contains(col.Values, r.Value) {
			continue
		}
		if !slices.Contains(old.Values, r.Value) || !slices.Contains(col.Values, r.To) {
			p.fail("--rename %s: %s has to lose the value %q and to have %q", r, c.Target(), r.Value, r.To)
			return true
		}
		p.used["rename "+r.String()] = true
		become(r.Value, p.Engine.SQL().Text(r.To))
	}
	if f, ok := p.choiceFill(c.Table, col.Name, old.Values, col.Values, settled); ok {
		for _, v := range added(col.Values, old.Values) {
			if !settled[v] {
				become(v, words.Text(f.SQL))
			}
		}
	}
	if text != "" {
		x := words.Text(p.Engine.SQL().Quote(col.Name))
		a.Forward[col.Name] = engine.Source{SQL: words.Value("CASE "+x+text+" ELSE "+x+" END", col.SQLType)}
		p.lose(a, old)
		p.noOther(c.Table, col.Name, added(col.Values, old.Values), settled)
	}
	return p.valuesGone(c.Table, col.Name, old.Values, col.Values, settled) || text != ""
}

// noOther asks for rows with values that go and nobody said anything about: a database
// elsewhere may have such.
func (p *planner) noOther(table, column string, gone []string, settled map[string]bool) {
	var open []string
	for _, v := range gone {
		if !settled[v] {
			open = append(open, p.Engine.SQL().Text(v))
		}
	}
	if len(open) == 0 {
		return
	}
	var shown []string
	for _, n := range append(p.Live.Table(table).Key(), column) {
		shown = append(shown, p.Engine.SQL().Quote(n))
	}
	p.needs[table] = append(p.needs[table], engine.Requirement{
		Sentence: fmt.Sprintf("{n} values of %s.%s are not among the choices", table, column),
		Table:    table,
		About:    column,
		Query: fmt.Sprintf("SELECT %s FROM %s WHERE %s IN (%s)", strings.Join(shown, ", "),
			p.Engine.SQL().QuoteTable(table),
			engine.EnumsOf(p.Engine).Text(p.Engine.SQL().Quote(column)), strings.Join(open, ", ")),
	})
}

// EnumRename is the step that renames a value of the enum type of a column; false
// where the column has none, or the rows become an existing value. all are the renames
// that are made together.
func EnumRename(e Engine, s *sqlschema.Schema, r Rename, all []Rename) (engine.Step, bool) {
	t := s.Table(r.Table)
	if t == nil || r.Value == "" || !e.Caps().Enums {
		return engine.Step{}, false
	}
	c := t.Column(r.Column)
	if c != nil && slices.Contains(c.Values, r.To) && !slices.ContainsFunc(all,
		func(o Rename) bool { return o.Table == r.Table && o.Column == r.Column && o.Value == r.To }) {
		return engine.Step{}, false
	}
	for _, o := range s.Others {
		if c != nil && o.Kind == sqlschema.EnumType && c.SQLType == e.SQL().QuoteTable(o.Name) {
			return engine.Step{
				Title: words.OneLine(fmt.Sprintf("rename %s of the enum type %s to %s", r.Value, o.Name, r.To)),
				Apply: engine.EnumsOf(e).
					RenameValue(o.Name, r.Value, r.To),
				Undo: engine.EnumsOf(e).RenameValue(o.Name, r.To, r.Value),
			}, true
		}
	}
	return engine.Step{}, false
}
