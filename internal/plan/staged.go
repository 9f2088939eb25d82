package plan

// This file splits a change into a staged pair: a first migration behind which the
// application that knows of the change and the one that does not can both work, and a
// second that ends this, once nobody writes as before. What stands between the two is a
// schema like any other, so each half is planned like any other change; a bridge, which
// the engine makes, gives columns the values that one of the applications does not
// write.

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
)

// Staged is a change in two halves.
type Staged struct {
	Between       *schema.Schema // what stands between them
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
var ErrOneIsEnough = errors.New("--staged: nothing here needs two migrations, since no required field is added and nothing is renamed or changes its type: draft without it")

// Split makes two halves of a change that was planned as a whole, from live, before any
// rename, to wanted. Its error says what cannot be split.
func Split(e engine.Engine, live, wanted *schema.Schema, whole []diff.Change, answers Answers) (*Staged, error) {
	s := &splitter{engine: e, live: live, wanted: wanted, answers: answers, tables: map[string]*StagedTable{},
		out: &Staged{Between: wanted.Clone(), First: Answers{Fill: maps.Clone(answers.Fill)}, Second: Answers{Fill: map[string]Fill{}, Drop: answers.Drop, Deleted: answers.Deleted}}}
	s.out.Between.Others = wanted.Others
	if s.out.First.Fill == nil {
		s.out.First.Fill = map[string]Fill{}
	}
	for _, r := range answers.Rename {
		if r.Column == "" || r.Value != "" {
			return nil, fmt.Errorf("--staged: %s cannot have two names at once: draft --rename %s by itself", about(r), r)
		}
		if r.Aside && !slices.ContainsFunc(answers.Rename, func(o Rename) bool { return o.Table == r.Table && o.Column != "" && o.To == r.Column }) {
			return nil, fmt.Errorf("--staged: %s.%s is replaced by a new column of that name, and no application can write both: draft it without --staged", r.Table, r.Column)
		}
		if w, t := wanted.Table(r.Table), live.Table(r.Table); r.Aside || w == nil || w.Column(r.To) == nil || t != nil && t.Column(r.To) != nil {
			return nil, fmt.Errorf("--staged: columns of %s swap names, or one gets the name of another; no application can write both: draft it without --staged", r.Table)
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
	if !s.engine.Caps().CommitsChanges || !slices.ContainsFunc(st.Spans, func(sp engine.Span) bool { return sp.Hidden }) {
		return // elsewhere the second half is one transaction
	}
	for _, sp := range st.Spans {
		if sp.Old != nil && !sp.Hidden {
			s.out.Second.Rename = append(s.out.Second.Rename, Rename{Table: st.Name, Column: sp.Old.Name, To: schema.Cut(schema.PrevPrefix + sp.Old.Name)})
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
	engine       engine.Engine
	live, wanted *schema.Schema
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
func (s *splitter) between(name string) *schema.Table { return s.out.Between.Table(name) }

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
		return fmt.Errorf("--staged: there is no single way to convert %s.%s to %s and back, which both applications need. Draft the new name and the new type one after the other", r.Table, r.Column, col.Type)
	}
	if col.NotNull && !old.NotNull {
		return fmt.Errorf("--staged: %s.%s is renamed and becomes required: draft one after the other", r.Table, r.Column)
	}
	b := s.between(r.Table)
	s.stay(b, live, old)
	s.span(r.Table, engine.Span{Column: col, Old: old, There: there, Back: back})
	if there.Fits != "" {
		b.Column(r.To).NotNull = false
	}
	s.out.First.Fill[r.Table+"."+r.To] = Fill{SQL: engine.StagesOf(s.engine).Guarded(there, s.engine.SQL().Quote(r.Column), col.SQLType)}
	return nil
}

// spannable tells why a column cannot have a second one beside it.
func (s *splitter) spannable(t *schema.Table, c *schema.Column) error {
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
func (s *splitter) stay(b, live *schema.Table, c *schema.Column) {
	kept := *c
	at, i := 0, slices.IndexFunc(live.Columns, func(o *schema.Column) bool { return o.Name == c.Name })
	for i--; i >= 0 && at == 0; i-- {
		at = 1 + slices.IndexFunc(b.Columns, func(o *schema.Column) bool { return o.Name == live.Columns[i].Name })
	}
	b.Columns = slices.Insert(b.Columns, at, &kept)
	names := append(s.madeFrom(live, c), c.Name)
	for _, k := range live.Checks {
		if k.Column == c.Name && !slices.ContainsFunc(b.Checks, func(o *schema.Check) bool { return o.Name == k.Name }) {
			b.Checks = append(b.Checks, k)
		}
	}
	for _, x := range live.Indexes {
		if slices.ContainsFunc(schema.Names(x.Parts), func(n string) bool { return slices.Contains(names, n) }) && !slices.ContainsFunc(b.Indexes, func(o *schema.Index) bool { return o.Name == x.Name }) {
			b.Indexes = append(b.Indexes, x)
			for _, name := range schema.Names(x.Parts) { // with what the engine made for it
				if o := live.Column(name); o != nil && hidden(o) && b.Column(name) == nil {
					made := *o
					b.Columns = append(b.Columns, &made)
				}
			}
		}
	}
	for _, k := range live.ForeignKeys {
		if slices.Contains(k.Columns, c.Name) && !slices.ContainsFunc(b.ForeignKeys, func(o *schema.ForeignKey) bool { return o.Name == k.Name }) {
			b.ForeignKeys = append(b.ForeignKeys, k)
		}
	}
	for _, g := range live.Triggers {
		if g.Column == c.Name && !slices.ContainsFunc(b.Triggers, func(o *schema.Trigger) bool { return o.Name == g.Name }) {
			b.Triggers = append(b.Triggers, g)
		}
	}
}

// hidden tells whether a column is one that the engine made for an index.
func hidden(c *schema.Column) bool { return c.Generated != nil && c.Invisible && schema.Own(c.Name) }

// madeFrom are the columns that the engine made for indexes of a column.
func (s *splitter) madeFrom(live *schema.Table, c *schema.Column) []string {
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
		col := c.Object.(*schema.Column)
		if !col.NotNull || col.Default != nil || col.Generated != nil || col.Identity {
			return nil
		}
		return s.required(c, col)
	case diff.MakeRequired:
		return s.required(c, c.Object.(*schema.Column))
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
	case diff.AddTable, diff.AddIndex, diff.DropIndex, diff.ChangeIndex, diff.MakeOptional, diff.ChangeDefault, diff.AddComment, diff.ChangeComment, diff.DropComment, diff.AddRow, diff.DropRow, diff.AddView, diff.ChangeView, diff.DropView, diff.AddEnum:
		return nil
	}
	if s.belongs(c) {
		return nil
	}
	return fmt.Errorf("--staged: %s of %s (%s) takes effect at once: draft it by itself, before or after", c.Kind, c.Table, c.What)
}

// belongs tells whether a change is about a column that comes, goes, or is there twice.
func (s *splitter) belongs(c diff.Change) bool {
	live, w := s.live.Table(c.Table), s.wanted.Table(c.Table)
	moves := func(name string) bool {
		return live.Column(name) == nil || w.Column(name) == nil || live.Column(name).SQLType != w.Column(name).SQLType
	}
	switch o := c.Object.(type) {
	case *schema.Check:
		if old, ok := c.Before.(*schema.Check); ok && old.SQL.Same(o.SQL) {
			return true
		}
		return o.Column != "" && moves(o.Column)
	case *schema.Index:
		return slices.ContainsFunc(schema.Names(o.Parts), moves)
	case *schema.ForeignKey:
		return slices.ContainsFunc(o.Columns, moves)
	case *schema.Trigger:
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
func (s *splitter) required(c diff.Change, col *schema.Column) error {
	if slices.ContainsFunc(s.answers.Rename, func(r Rename) bool { return r.Table == c.Table && r.To == c.Name }) {
		return nil // it has its value from the other name
	}
	f, ok := s.answers.Fill[c.Target()]
	switch {
	case !ok:
		s.out.Questions = append(s.out.Questions, Question{About: c.Target(), Text: fmt.Sprintf("%s is required, and the old application does not write it: which value does it get until the second migration?", c.Target()),
			Choices: []Choice{
				choice("one value", "--fill "+c.Target()+"=VALUE"),
				choice("an expression over the row's other columns", "--fill "+c.Target()+"=sql:EXPRESSION"),
			}})
		return nil
	case f.Ask:
		return fmt.Errorf("--staged: new rows get %s too, so it cannot differ per database: give --fill %s=VALUE", c.Target(), c.Target())
	}
	s.span(c.Table, engine.Span{Column: col, Fill: f.SQL})
	return nil
}

// retype has a column of the new type stand beside the old one, under a name of ours,
// until it takes its place.
func (s *splitter) retype(c diff.Change, live, b *schema.Table) error {
	col, old := c.Object.(*schema.Column), live.Column(c.Name)
	if old == nil {
		return nil // it has another name too
	}
	if err := s.spannable(live, old); err != nil {
		return err
	}
	if slices.ContainsFunc(live.ForeignKeys, func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, c.Name) }) {
		return fmt.Errorf("--staged: %s refers to another table, and cannot exist twice: draft it by itself", c.Target())
	}
	if w := s.wanted.Table(c.Table); len(s.madeFrom(live, old))+len(s.madeFrom(w, col)) > 0 {
		return fmt.Errorf("--staged: %s is unique in full, beyond the length of an index, and cannot exist twice: draft it by itself", c.Target())
	}
	there, ok := s.engine.DDL().Convert(old, col)
	_, ok2 := s.engine.DDL().Convert(col, old)
	_, given := s.answers.Fill[c.Target()]
	switch {
	case col.NotNull && !old.NotNull:
		return fmt.Errorf("--staged: %s changes its type and becomes required: draft one after the other", c.Target())
	case !ok || !ok2 || given:
		return fmt.Errorf("--staged: there is no single way to convert %s to %s and back: draft it by itself", c.Target(), c.To)
	}
	next := *col
	next.Name, next.Comment = schema.Cut(schema.NextPrefix+c.Name), ""
	next.NotNull = col.NotNull && there.Fits == ""
	b.Columns = slices.DeleteFunc(b.Columns, func(o *schema.Column) bool { return o.Name == c.Name })
	b.Checks = slices.DeleteFunc(b.Checks, func(o *schema.Check) bool { return o.Column == c.Name })
	b.Triggers = slices.DeleteFunc(b.Triggers, func(o *schema.Trigger) bool { return o.Column == c.Name })
	var indexes []*schema.Index
	b.Indexes = slices.DeleteFunc(b.Indexes, func(x *schema.Index) bool {
		if !slices.Contains(schema.Names(x.Parts), c.Name) {
			return false
		}
		if x.Where == nil && !slices.ContainsFunc(x.Parts, func(p schema.Part) bool { return p.Expr != nil }) {
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
	s.out.First.Fill[c.Table+"."+next.Name] = Fill{SQL: engine.StagesOf(s.engine).Guarded(there, s.engine.SQL().Quote(c.Name), col.SQLType)}
	s.out.Second.Rename = append(s.out.Second.Rename, Rename{Table: c.Table, Column: c.Name, To: schema.Cut(schema.PrevPrefix + c.Name)}, Rename{Table: c.Table, Column: next.Name, To: c.Name})
	return nil
}

// view has the view of live rows show all that the table has for applications.
func (s *splitter) view(t *schema.Table) {
	if t.LiveView == "" || s.tables[t.Name] == nil && len(t.Columns) == len(s.wanted.Table(t.Name).Columns) {
		return
	}
	var hidden []string
	for _, c := range t.Columns {
		if strings.HasPrefix(c.Name, schema.NextPrefix) {
			hidden = append(hidden, c.Name)
		}
	}
	for i, v := range s.out.Between.Views {
		if v.Name == t.LiveView {
			s.out.Between.Views[i] = engine.StagesOf(s.engine).LiveView(t, hidden...)
		}
	}
}

// staged plans what belongs to a half: in the first, that the change itself is noted; in
// the second, what it waits for, what must have come across, and that the notes go.
func (p *planner) staged() {
	if p.Stage == nil {
		return
	}
	words := engine.StagesOf(p.Engine)
	for _, t := range p.Stage.Tables {
		kind := engine.InTransaction
		if p.inUse(t.Name) && !p.Engine.Caps().CommitsChanges {
			kind = engine.OwnTransaction
		}
		if !p.Stage.Second {
			p.units = append(p.units, unit{rank: rankSpanGoes, name: t.Name, change: engine.Change{Steps: []engine.Step{{Title: "record old writers of " + t.Name + "", Kind: kind, Apply: words.Begin(t.Name), Undo: words.End(t.Name)}}}})
			continue
		}
		p.plan.BeforeApply = append(p.plan.BeforeApply, words.NoOldWriters(t.Name, p.Stage.Wait))
		p.plan.BeforeApply = append(p.plan.BeforeApply, p.crossed(t)...)
		p.units = append(p.units, unit{rank: rankSpanComes, name: t.Name, change: engine.Change{Steps: []engine.Step{{Title: "stop recording old writers of " + t.Name + "", Kind: kind, Apply: words.End(t.Name)}}}})
		if !slices.ContainsFunc(t.Spans, func(s engine.Span) bool { return s.Hidden }) {
			continue
		}
		// The bridge names the columns that are about to have other names: it goes in
		// the same moment, before them.
		live := p.Live.Table(t.Name)
		stop := engine.Step{Here: p.crossed(t)}
		for _, s := range t.Spans { // on the way back, before the bridge is there again
			if s.Old != nil {
				stop.Undo = append(stop.Undo, words.Resync(t.Name, s)...)
			}
		}
		for _, g := range live.Triggers {
			if g.Purpose == schema.ForBridge {
				create, drop := p.Engine.DDL().Trigger(live, g)
				stop.Title, stop.Apply, stop.Undo = engine.TriggerTitle("stop", live, g), append(stop.Apply, drop...), append(stop.Undo, create...)
			}
		}
		if len(stop.Apply) > 0 {
			p.plan.Steps = append(p.plan.Steps, stop)
		}
		live.Triggers = slices.DeleteFunc(live.Triggers, func(g *schema.Trigger) bool { return g.Purpose == schema.ForBridge })
		if follow := words.FollowTriggers(live, p.following(live, t)); len(follow) > 0 {
			step := engine.Step{Title: "create the old columns of " + t.Name + " follow"}
			for _, g := range follow {
				create, drop := p.Engine.DDL().Trigger(live, g)
				step.Apply, step.Undo = append(step.Apply, create...), append(step.Undo, drop...)
			}
			p.follow[t.Name] = step
			live.Triggers = append(live.Triggers, follow...) // they go with the columns
			continue
		}
		p.plan.Changes = slices.DeleteFunc(p.plan.Changes, func(c diff.Change) bool {
			g, ok := c.Object.(*schema.Trigger)
			return ok && c.Table == t.Name && g.Purpose == schema.ForBridge
		})
	}
}

// following are the columns of a table, under the names of the second half, that are about
// to be dropped, with the values that they have from others.
func (p *planner) following(live *schema.Table, t StagedTable) []engine.Following {
	var out []engine.Following
	for _, c := range live.Columns {
		if src, ok := p.twin(t.Name, c.Name); ok {
			out = append(out, engine.Following{Column: c, Value: src.SQL})
		}
	}
	return out
}

// asideApart tells whether columns that go and are kept are better set aside in a turn of
// their own: together with others, whose values are in other columns, they would be copied
// while nobody gets at the table.
func (p *planner) asideApart(a engine.Alteration) bool {
	if p.Stage == nil || !p.Stage.Second || !a.InUse || p.Engine.Caps().CommitsChanges || len(a.Lost) == 0 {
		return false
	}
	return slices.ContainsFunc(a.From.Columns, func(c *schema.Column) bool {
		return a.To.Column(c.Name) == nil && !slices.Contains(a.Lost, c.Name)
	})
}

// inTwo makes a table another in two turns. Where columns follow others until they are
// dropped, all else is done before, and whatever goes does so in one moment, so that each
// column comes back where it was. Elsewhere only what is kept goes in the second turn.
func (p *planner) inTwo(a engine.Alteration) engine.Change {
	apart := p.asideApart(a)
	mid := a.To.Clone()
	mid.Text = ""
	second := a
	second.Forward, second.Back, second.Lost, second.Only = map[string]engine.Source{}, map[string]engine.Source{}, nil, ""
	var gone []string
	first := map[string]engine.Source{}
	for c, src := range a.Back {
		first[c] = src
	}
	for i, c := range a.From.Columns {
		if a.To.Column(c.Name) != nil || apart && !slices.Contains(a.Lost, c.Name) {
			continue
		}
		kept := *c
		gone = append(gone, c.Name)
		at := 0
		for j := i - 1; j >= 0 && at == 0; j-- {
			at = 1 + slices.IndexFunc(mid.Columns, func(o *schema.Column) bool { return o.Name == a.From.Columns[j].Name })
		}
		mid.Columns = slices.Insert(mid.Columns, at, &kept)
		if src, ok := first[c.Name]; ok {
			second.Back[c.Name] = src
			delete(first, c.Name)
		}
	}
	goes := func(name string) bool { return slices.Contains(gone, name) }
	for _, g := range a.From.Triggers {
		if g.Purpose == schema.ForBridge && !apart || apart && goes(g.Column) {
			mid.Triggers = append(mid.Triggers, g)
		}
	}
	if apart { // what stands on them goes with them
		for _, x := range a.From.Indexes {
			if names := schema.Names(x.Parts); slices.ContainsFunc(names, goes) && !slices.ContainsFunc(names, func(n string) bool { return mid.Column(n) == nil }) {
				mid.Indexes = append(mid.Indexes, x)
			}
		}
		for _, k := range a.From.Checks {
			if goes(k.Column) {
				mid.Checks = append(mid.Checks, k)
			}
		}
	}
	second.Lost = slices.DeleteFunc(slices.Clone(a.Lost), func(n string) bool { return !goes(n) })
	second.From, second.To = mid, a.To
	a.To, a.Back, a.Lost = mid, first, slices.DeleteFunc(slices.Clone(a.Lost), goes)
	rest := "all but what is dropped"
	if apart {
		rest = "all but what is set aside"
	}
	a.Summary, second.Summary = "change "+a.From.Name+": "+rest, "change "+a.From.Name+": drop "+strings.Join(gone, ", ")
	out, add := p.Engine.DDL().Alter(a), p.Engine.DDL().Alter(second)
	// What the columns have to hold that come back is asked when they are there.
	there := func(r engine.Requirement) bool {
		return slices.ContainsFunc(p.Engine.SQL().Lex(r.Query), func(t sqltok.Token) bool { return t.Named() && slices.Contains(gone, t.Name()) })
	}
	if n := len(out.Steps); n > 0 {
		for _, r := range out.BeforeUndo {
			if there(r) {
				out.Steps[n-1].HereUndo = append(out.Steps[n-1].HereUndo, r)
			}
		}
		out.BeforeUndo = slices.DeleteFunc(out.BeforeUndo, there)
	}
	out.Steps = append(out.Steps, add.Steps...)
	out.BeforeApply = append(out.BeforeApply, add.BeforeApply...)
	out.BeforeUndo = append(out.BeforeUndo, add.BeforeUndo...)
	return out
}

// crossed asks for what has not come across the bridge of a table, and would be gone.
func (p *planner) crossed(t StagedTable) []engine.Requirement {
	var out []engine.Requirement
	for _, s := range t.Spans {
		if s.Old != nil {
			out = append(out, p.across(t.Name, s))
		}
	}
	return out
}

// half adds to the steps of a table what they need as a half of a staged pair: what
// goes asks once more, under its lock, whether it has come across; and what has its
// values from another column is not kept when it goes.
func (p *planner) half(table string, change *engine.Change) {
	if p.Stage == nil {
		return
	}
	for _, t := range p.Stage.Tables {
		if t.Name != table || len(change.Steps) == 0 {
			continue
		}
		if p.Stage.Second && !slices.ContainsFunc(t.Spans, func(s engine.Span) bool { return s.Hidden }) {
			i := max(slices.IndexFunc(change.Steps, func(s engine.Step) bool { return p.stopsBridge(table, s) }), 0)
			change.Steps[i].Here = append(change.Steps[i].Here, p.crossed(t)...)
		}
		for i := range change.Steps {
			change.Steps[i].UndoLoses = slices.DeleteFunc(slices.Clone(change.Steps[i].UndoLoses), func(name string) bool {
				return slices.ContainsFunc(t.Spans, func(s engine.Span) bool { return s.Old != nil && name == table+"."+s.Column.Name })
			})
		}
	}
}

// stopsBridge tells whether a step takes the bridge of a table away.
func (p *planner) stopsBridge(table string, s engine.Step) bool {
	live := p.Live.Table(table)
	return live != nil && slices.ContainsFunc(live.Triggers, func(g *schema.Trigger) bool {
		_, drop := p.Engine.DDL().Trigger(live, g)
		return g.Purpose == schema.ForBridge && slices.ContainsFunc(s.Apply, func(sql string) bool { return slices.Contains(drop, sql) })
	})
}

// across asks for values that have not come across a bridge, or would not come back the
// same.
func (p *planner) across(table string, s engine.Span) engine.Requirement {
	old, now := p.Engine.SQL().Quote(s.Old.Name), p.Engine.SQL().Quote(s.Column.Name)
	r := engine.Requirement{Sentence: fmt.Sprintf("{n} rows of %s have different values in %s and %s: set %s to the right one in these rows, and the other follows", table, s.Old.Name, s.Column.Name, s.Column.Name), About: s.Column.Name}
	if s.There.SQL+s.There.Fits != "" {
		r.Sentence = fmt.Sprintf("{n} values of %s.%s cannot be converted to %s without loss: set %s to values that can be in these rows", table, s.Old.Name, s.Column.SQLType, s.Old.Name)
	}
	var names []string
	if t := p.Live.Table(table); t != nil {
		for _, k := range t.Key() {
			names = append(names, p.Engine.SQL().Quote(k))
		}
	}
	r.Query = fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(append(names, old, now), ", "), p.Engine.SQL().Quote(table), engine.StagesOf(p.Engine).Differ(engine.StagesOf(p.Engine).Guarded(s.Back, now, s.Old.SQLType), old))
	return r
}

// backRequired has the undo of a first half take a value for rows without one, where a
// column is required until then: the application that does not know it writes none.
func (p *planner) backRequired(a *engine.Alteration, c diff.Change) {
	old := a.From.Column(c.Name)
	if p.Stage == nil || p.Stage.Second || old == nil || a.To.Column(c.Name) == nil {
		return
	}
	if _, ok := a.Back[c.Name]; ok {
		return
	}
	if src, ok := p.backValue(c.Table, old, ""); ok {
		a.Back[c.Name] = engine.Source{SQL: fmt.Sprintf("coalesce(%s, %s)", p.Engine.SQL().Quote(c.Name), src.SQL), Else: src.SQL}
	}
}

// twin is the column that holds, in the second half, what one that goes held.
func (p *planner) twin(table, column string) (engine.Source, bool) {
	if p.Stage == nil || !p.Stage.Second {
		return engine.Source{}, false
	}
	for _, t := range p.Stage.Tables {
		for _, s := range t.Spans {
			switch {
			case t.Name != table || s.Old == nil:
			case s.Hidden && column == schema.Cut(schema.PrevPrefix+s.Old.Name):
				now := *s.Column
				now.Name = s.Old.Name
				back, _ := p.Engine.DDL().Convert(&now, s.Old)
				return engine.Source{SQL: engine.StagesOf(p.Engine).Guarded(back, p.Engine.SQL().Quote(s.Old.Name), s.Old.SQLType)}, true
			case !s.Hidden && (column == s.Old.Name || column == schema.Cut(schema.PrevPrefix+s.Old.Name)):
				return engine.Source{SQL: engine.StagesOf(p.Engine).Guarded(s.Back, p.Engine.SQL().Quote(s.Column.Name), s.Old.SQLType)}, true
			}
		}
	}
	return engine.Source{}, false
}
