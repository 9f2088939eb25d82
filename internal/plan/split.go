package plan

// This file divides a change into the two halves of a staged pair.

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Staged is a change in two halves.
type Staged struct {
	Between       *sqlschema.Schema // what stands between them
	First, Second Answers
	Tables        []StagedTable
	Questions     []Question // what is asked beside the questions of the whole change
}

// StagedTable is a table with a bridge.
type StagedTable struct {
	Name  string
	Spans []engine.Span
}

// Stage tells a plan which half of a staged pair it is.
type Stage struct {
	Tables []StagedTable
	Second bool
	Wait   time.Duration // for so long nobody may have written as before
}

// ErrOneIsEnough says that a change needs no staged pair.
var ErrOneIsEnough = errors.New(
	"--staged: nothing here needs two migrations, since no required field is added and nothing is renamed or changes its type: draft without it",
)

// Split makes two halves of a change that was planned as a whole, from live, before any
// rename, to wanted. Its error says what cannot be split.
func Split(e Engine, live, wanted *sqlschema.Schema, whole []diff.Change, answers Answers) (*Staged, error) {
	s := &splitter{engine: e, live: live, wanted: wanted, answers: answers, tables: map[string]*StagedTable{},
		out: &Staged{
			Between: wanted.Clone(),
			First:   Answers{Fill: maps.Clone(answers.Fill)},
			Second:  Answers{Fill: map[string]Fill{}, Drop: answers.Drop, Deleted: answers.Deleted},
		}}
	s.out.Between.Others = wanted.Others
	if s.out.First.Fill == nil {
		s.out.First.Fill = map[string]Fill{}
	}
	for _, r := range answers.Rename {
		if r.Column == "" || r.Value != "" {
			return nil, fmt.Errorf("--staged: %s cannot have two names at once: draft --rename %s by itself", about(r),
				r)
		}
		if r.Aside && !slices.ContainsFunc(answers.Rename,
			func(o Rename) bool { return o.Table == r.Table && o.Column != "" && o.To == r.Column }) {
			return nil, fmt.Errorf(
				"--staged: %s.%s is replaced by a new column of that name, and no application can write both: draft it without --staged",
				r.Table, r.Column)
		}
		if w, t := wanted.Table(r.Table), live.Table(r.Table); r.Aside || w == nil || w.Column(r.To) == nil ||
			t != nil && t.Column(r.To) != nil {
			return nil, fmt.Errorf(
				"--staged: columns of %s swap names, or one gets the name of another; no application can write both: draft it without --staged",
				r.Table,
			)
		}
		if err := s.rename(r); err != nil {
			return nil, err
		}
	}
	for _, c := range whole {
		if err := s.change(c); err != nil {
			return nil, err
		}
	}
	for _, t := range s.out.Between.Tables {
		if st := s.tables[t.Name]; st != nil {
			s.asideTogether(st)
			t.Triggers = append(t.Triggers, engine.StagesOf(e).SyncTriggers(t, st.Spans)...)
			s.out.Tables = append(s.out.Tables, *st)
		}
		s.view(t)
	}
	if len(s.out.Tables) == 0 && len(s.out.Questions) == 0 {
		return nil, ErrOneIsEnough
	}
	return s.out, nil
}

// asideTogether has the old names of a table go in the moment in which another of its
// columns changes its type: the bridge goes then, for all of them.
func (s *splitter) asideTogether(st *StagedTable) {
	if !s.engine.Caps().CommitsChanges ||
		!slices.ContainsFunc(st.Spans, func(sp engine.Span) bool { return sp.Hidden }) {
		return // elsewhere the second half is one transaction
	}
	for _, sp := range st.Spans {
		if sp.Old != nil && !sp.Hidden {
			s.out.Second.Rename = append(s.out.Second.Rename,
				Rename{Table: st.Name, Column: sp.Old.Name, To: schema.Cut(schema.PrevPrefix + sp.Old.Name)})
		}
	}
}

// about names what a rename is about.
func about(r Rename) string {
	if r.Value != "" {
		return fmt.Sprintf("the value %s of %s.%s", r.Value, r.Table, r.Column)
	}
	return "the table " + r.Table
}

type splitter struct {
	engine       Engine
	live, wanted *sqlschema.Schema
	answers      Answers
	tables       map[string]*StagedTable
	out          *Staged
}

func (s *splitter) span(table string, span engine.Span) {
	if s.tables[table] == nil {
		s.tables[table] = &StagedTable{Name: table}
	}
	s.tables[table].Spans = append(s.tables[table].Spans, span)
}

// between is a table of the schema between the halves.
func (s *splitter) between(name string) *sqlschema.Table { return s.out.Between.Table(name) }

// rename lets a column stay beside the one that it is called now.
func (s *splitter) rename(r Rename) error {
	live, w := s.live.Table(r.Table), s.wanted.Table(r.Table)
	if live == nil || w == nil || live.Column(r.Column) == nil || w.Column(r.To) == nil {
		return nil // the plan of the whole says so
	}
	old, col := live.Column(r.Column), w.Column(r.To)
	if err := s.spannable(live, old); err != nil {
		return err
	}
	there, ok := s.engine.DDL().Convert(old, col)
	back, ok2 := s.engine.DDL().Convert(col, old)
	if !ok || !ok2 {
		return fmt.Errorf(
			"--staged: there is no single way to convert %s.%s to %s and back, which both applications need. Draft the new name and the new type one after the other",
			r.Table, r.Column, col.Type)
	}
	if col.NotNull && !old.NotNull {
		return fmt.Errorf("--staged: %s.%s is renamed and becomes required: draft one after the other", r.Table,
			r.Column)
	}
	b := s.between(r.Table)
	s.stay(b, live, old)
	s.span(r.Table, engine.Span{Column: col, Old: old, There: there, Back: back})
	if there.Fits != "" {
		b.Column(r.To).NotNull = false
	}
	s.out.First.Fill[r.Table+"."+r.To] = Fill{
		SQL: engine.StagesOf(s.engine).Guarded(there, s.engine.SQL().Quote(r.Column), col.SQLType),
	}
	return nil
}

// spannable tells why a column cannot have a second one beside it.
func (s *splitter) spannable(t *sqlschema.Table, c *sqlschema.Column) error {
	no := func(why string) error {
		return fmt.Errorf("--staged: %s.%s %s, and cannot exist twice: draft it by itself", t.Name, c.Name, why)
	}
	switch {
	case slices.Contains(t.Key(), c.Name):
		return no("is in the primary key")
	case c.Generated != nil || c.Identity:
		return no("gets its values from the database")
	case t.SoftDelete == c.Name:
		return no("marks the rows that are deleted")
	case c.Default != nil && engine.StagesOf(s.engine).Random(c):
		return no("has a default that differs for each row")
	}
	for _, o := range s.live.Tables {
		for _, k := range o.ForeignKeys {
			if k.Table == t.Name && slices.Contains(k.References, c.Name) {
				return no("is referred to by " + o.Name)
			}
		}
	}
	return nil
}

// stay keeps a live column in the schema between, with what stands on it alone and
// takes no name of what is declared. It stands where it stood, as far as those do beside
// which that was.
func (s *splitter) stay(b, live *sqlschema.Table, c *sqlschema.Column) {
	kept := *c
	at, i := 0, slices.IndexFunc(live.Columns, func(o *sqlschema.Column) bool { return o.Name == c.Name })
	for i--; i >= 0 && at == 0; i-- {
		at = 1 + slices.IndexFunc(b.Columns, func(o *sqlschema.Column) bool { return o.Name == live.Columns[i].Name })
	}
	b.Columns = slices.Insert(b.Columns, at, &kept)
	names := append(s.madeFrom(live, c), c.Name)
	for _, k := range live.Checks {
		if k.Column == c.Name &&
			!slices.ContainsFunc(b.Checks, func(o *sqlschema.Check) bool { return o.Name == k.Name }) {
			b.Checks = append(b.Checks, k)
		}
	}
	for _, x := range live.Indexes {
		if slices.ContainsFunc(sqlschema.Names(x.Parts), func(n string) bool { return slices.Contains(names, n) }) &&
			!slices.ContainsFunc(b.Indexes, func(o *sqlschema.Index) bool { return o.Name == x.Name }) {
			b.Indexes = append(b.Indexes, x)
			for _, name := range sqlschema.Names(x.Parts) { // with what the engine made for it
				if o := live.Column(name); o != nil && hidden(o) && b.Column(name) == nil {
					made := *o
					b.Columns = append(b.Columns, &made)
				}
			}
		}
	}
	for _, k := range live.ForeignKeys {
		if slices.Contains(k.Columns, c.Name) &&
			!slices.ContainsFunc(b.ForeignKeys, func(o *sqlschema.ForeignKey) bool { return o.Name == k.Name }) {
			b.ForeignKeys = append(b.ForeignKeys, k)
		}
	}
	for _, g := range live.Triggers {
		if g.Column == c.Name &&
			!slices.ContainsFunc(b.Triggers, func(o *sqlschema.Trigger) bool { return o.Name == g.Name }) {
			b.Triggers = append(b.Triggers, g)
		}
	}
}

// hidden tells whether a column is one that the engine made for an index.
func hidden(c *sqlschema.Column) bool { return c.Generated != nil && c.Invisible && schema.Own(c.Name) }

// madeFrom are the columns that the engine made for indexes of a column.
func (s *splitter) madeFrom(live *sqlschema.Table, c *sqlschema.Column) []string {
	var out []string
	for _, o := range live.Columns {
		if hidden(o) && strings.Contains(o.Generated.SQL.Text, s.engine.SQL().Quote(c.Name)) {
			out = append(out, o.Name)
		}
	}
	return out
}

// change puts one change of the whole into one of the halves.
func (s *splitter) change(c diff.Change) error {
	live, b := s.live.Table(c.Table), s.between(c.Table)
	switch c.Kind {
	case diff.AddColumn:
		col := c.Object.(*sqlschema.Column)
		if !col.NotNull || col.Default != nil || col.Generated != nil || col.Identity {
			return nil
		}
		return s.required(c, col)
	case diff.MakeRequired:
		return s.required(c, c.Object.(*sqlschema.Column))
	case diff.ChangeType:
		return s.retype(c, live, b)
	case diff.DropColumn: // it goes with the second half, and nothing requires it until then
		old := live.Column(c.Name)
		if old != nil && hidden(old) { // it goes with what it was made from
			return nil
		}
		if old == nil || old.Generated != nil || live.SoftDelete == c.Name {
			return fmt.Errorf("--staged: %s cannot be kept in the meantime: draft it by itself", c.Target())
		}
		s.stay(b, live, old)
		if o := b.Column(c.Name); o.Default == nil && !slices.Contains(live.Key(), c.Name) {
			o.NotNull = false
		}
		return nil
	case diff.DropTable:
		s.out.Between.Tables = append(s.out.Between.Tables, s.live.Table(c.Table).Clone())
		for _, v := range s.live.Views {
			if v.LiveOf == c.Table && s.out.Between.View(v.Name) == nil {
				s.out.Between.Views = append(s.out.Between.Views, v)
			}
		}
		return nil
	case diff.AddTable,
		diff.AddIndex,
		diff.DropIndex,
		diff.ChangeIndex,
		diff.MakeOptional,
		diff.ChangeDefault,
		diff.AddComment,
		diff.ChangeComment,
		diff.DropComment,
		diff.AddRow,
		diff.DropRow,
		diff.AddView,
		diff.ChangeView,
		diff.DropView,
		diff.AddEnum:
		return nil
	}
	if s.belongs(c) {
		return nil
	}
	return fmt.Errorf("--staged: %s of %s (%s) takes effect at once: draft it by itself, before or after", c.Kind,
		c.Table, c.What)
}

// belongs tells whether a change is about a column that comes, goes, or is there twice.
func (s *splitter) belongs(c diff.Change) bool {
	live, w := s.live.Table(c.Table), s.wanted.Table(c.Table)
	moves := func(name string) bool {
		return live.Column(name) == nil || w.Column(name) == nil || live.Column(name).SQLType != w.Column(name).SQLType
	}
	switch o := c.Object.(type) {
	case *sqlschema.Check:
		if old, ok := c.Before.(*sqlschema.Check); ok && old.SQL.Same(o.SQL) {
			return true
		}
		return o.Column != "" && moves(o.Column)
	case *sqlschema.Index:
		return slices.ContainsFunc(sqlschema.Names(o.Parts), moves)
	case *sqlschema.ForeignKey:
		return slices.ContainsFunc(o.Columns, moves)
	case *sqlschema.Trigger:
		for _, g := range live.Triggers { // before its column had another name
			if g.Name == o.Name && c.Kind == diff.DropTrigger {
				o = g
			}
		}
		return o.Column != "" && moves(o.Column)
	}
	return false
}

// required has the bridge give a value to rows that come without one.
func (s *splitter) required(c diff.Change, col *sqlschema.Column) error {
	if slices.ContainsFunc(s.answers.Rename, func(r Rename) bool { return r.Table == c.Table && r.To == c.Name }) {
		return nil // it has its value from the other name
	}
	f, ok := s.answers.Fill[c.Target()]
	switch {
	case !ok:
		s.out.Questions = append(s.out.Questions, Question{
			About: c.Target(),
			Text: fmt.Sprintf(
				"%s is required, and the old application does not write it: which value does it get until the second migration?",
				c.Target(),
			),
			Choices: []Choice{
				choice("one value", "--fill "+c.Target()+"=VALUE"),
				choice("an expression over the row's other columns", "--fill "+c.Target()+"=sql:EXPRESSION"),
			},
		})
		return nil
	case f.Ask:
		return fmt.Errorf("--staged: new rows get %s too, so it cannot differ per database: give --fill %s=VALUE",
			c.Target(), c.Target())
	}
	s.span(c.Table, engine.Span{Column: col, Fill: f.SQL})
	return nil
}

// retype has a column of the new type stand beside the old one, under a name of ours,
// until it takes its place.
func (s *splitter) retype(c diff.Change, live, b *sqlschema.Table) error {
	col, old := c.Object.(*sqlschema.Column), live.Column(c.Name)
	if old == nil {
		return nil // it has another name too
	}
	if err := s.spannable(live, old); err != nil {
		return err
	}
	if slices.ContainsFunc(live.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return slices.Contains(k.Columns, c.Name) }) {
		return fmt.Errorf("--staged: %s refers to another table, and cannot exist twice: draft it by itself",
			c.Target())
	}
	if w := s.wanted.Table(c.Table); len(s.madeFrom(live, old))+len(s.madeFrom(w, col)) > 0 {
		return fmt.Errorf(
			"--staged: %s is unique in full, beyond the length of an index, and cannot exist twice: draft it by itself",
			c.Target(),
		)
	}
	there, ok := s.engine.DDL().Convert(old, col)
	_, ok2 := s.engine.DDL().Convert(col, old)
	_, given := s.answers.Fill[c.Target()]
	switch {
	case col.NotNull && !old.NotNull:
		return fmt.Errorf("--staged: %s changes its type and becomes required: draft one after the other", c.Target())
	case !ok || !ok2 || given:
		return fmt.Errorf("--staged: there is no single way to convert %s to %s and back: draft it by itself",
			c.Target(), c.To)
	}
	next := *col
	next.Name, next.Comment = schema.Cut(schema.NextPrefix+c.Name), ""
	next.NotNull = col.NotNull && there.Fits == ""
	b.Columns = slices.DeleteFunc(b.Columns, func(o *sqlschema.Column) bool { return o.Name == c.Name })
	b.Checks = slices.DeleteFunc(b.Checks, func(o *sqlschema.Check) bool { return o.Column == c.Name })
	b.Triggers = slices.DeleteFunc(b.Triggers, func(o *sqlschema.Trigger) bool { return o.Column == c.Name })
	var indexes []*sqlschema.Index
	b.Indexes = slices.DeleteFunc(b.Indexes, func(x *sqlschema.Index) bool {
		if !slices.Contains(sqlschema.Names(x.Parts), c.Name) {
			return false
		}
		if x.Where == nil && !slices.ContainsFunc(x.Parts, func(p sqlschema.Part) bool { return p.Expr != nil }) {
			o := *x
			o.Name, o.Parts = schema.Cut(schema.NextPrefix+x.Name), slices.Clone(x.Parts)
			for i := range o.Parts {
				if o.Parts[i].Column == c.Name {
					o.Parts[i].Column = next.Name
				}
			}
			indexes = append(indexes, &o)
		}
		return true
	})
	s.stay(b, live, old)
	b.Columns = append(b.Columns, &next)
	b.Indexes = append(b.Indexes, indexes...)
	back, _ := s.engine.DDL().Convert(&next, old)
	s.span(c.Table, engine.Span{Column: &next, Old: old, There: there, Back: back, Hidden: true})
	s.out.First.Fill[c.Table+"."+next.Name] = Fill{
		SQL: engine.StagesOf(s.engine).Guarded(there, s.engine.SQL().Quote(c.Name), col.SQLType),
	}
	s.out.Second.Rename = append(s.out.Second.Rename,
		Rename{Table: c.Table, Column: c.Name, To: schema.Cut(schema.PrevPrefix + c.Name)},
		Rename{Table: c.Table, Column: next.Name, To: c.Name})
	return nil
}

// view has the view of live rows show all that the table has for applications.
func (s *splitter) view(t *sqlschema.Table) {
	if t.Declared == nil || t.Declared.LiveView == "" || s.tables[t.Name] == nil &&
		len(t.Columns) == len(s.wanted.Table(t.Name).Columns) {
		return
	}
	var hidden []string
	for _, c := range t.Columns {
		if strings.HasPrefix(c.Name, schema.NextPrefix) {
			hidden = append(hidden, c.Name)
		}
	}
	for i, v := range s.out.Between.Views {
		if v.Name == t.Declared.LiveView {
			s.out.Between.Views[i] = engine.StagesOf(s.engine).LiveView(v.Name, t, hidden...)
		}
	}
}
