package draft

// This file sees to functions and the tables that they are about: rows are held to the checks and domains
// that call one once it is another, columns that are generated with it are calculated again, and indexes on
// what it gives are built again. It finds bodies that name what a change takes away, and what is declared over
// a column that goes.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/runner"
	"erbario/internal/sqlschema"
)

// follows gives the steps before and after those of the objects, for the tables that use a function
// which is replaced.
func (s *State) follows() (before, after []engine.Step) {
	if !s.Engine.Caps().Depends {
		return nil, nil
	}
	for _, c := range s.sql.changes {
		if c.Was == nil || c.Now == nil {
			continue
		}
		if b, a := s.held(c); len(b.Here)+len(a.HereUndo) > 0 {
			before, after = append(before, b), append(after, a)
		}
		if c.Now.Kind != "function" {
			continue
		}
		for _, t := range s.Wanted.Tables {
			if t.Elsewhere() || s.Upcoming.Table(t.Name) == nil {
				continue
			}
			u := s.uses(t, c.Now)
			if len(u.asked)+len(u.built) == 0 {
				continue
			}
			title := fmt.Sprintf("check %s with the changed function %s", t.Name, c.Now.Name)
			if u.work == engine.Rewrites {
				title = fmt.Sprintf("calculate %s again with the changed function %s", t.Name, c.Now.Name)
			}
			before = append(before, engine.Step{Title: title + ", in the undo", HereUndo: u.asked, Undo: u.built})
			after = append(after, engine.Step{Title: title, Here: u.asked, Apply: u.built, Work: u.work})
		}
	}
	return before, after
}

// held asks the rows of tables whether they fit a type that changes, and in the undo what it was.
func (s *State) held(c objects.Change) (before, after engine.Step) {
	if _, ok := s.Engine.DDL().(engine.TypeHolder); !ok {
		return before, after
	}
	if list, _ := s.retypings(c); len(list) > 0 { // asked of the converted values
		return before, after
	}
	title := fmt.Sprintf("check the rows with the changed %s %s", c.Now.Kind, c.Now.Name)
	before, after = engine.Step{Title: title, Work: engine.Reads}, engine.Step{Title: title + ", in the undo"}
	asked := func(o *objects.Object) (out []engine.Requirement) {
		for _, t := range s.Wanted.Tables {
			if t.Elsewhere() || s.Upcoming.Table(t.Name) == nil {
				continue
			}
			for _, column := range t.Columns {
				out = append(out, s.fits(t, column, o.Make[0])...)
			}
		}
		return out
	}
	before.Here, after.HereUndo = asked(c.Now), asked(c.Was)
	return before, after
}

// fits asks whether the values of a column fit its type, where that is one of the database that is given.
func (s *State) fits(t *sqlschema.Table, column *sqlschema.Column, of engine.Creation) (out []engine.Requirement) {
	holder, ok := s.Engine.DDL().(engine.TypeHolder)
	if !ok {
		return nil
	}
	holds := holder.TypeHolds(of, column)
	for _, name := range slices.Sorted(maps.Keys(holds)) {
		words := fmt.Sprintf("{n} values of %s.%s are refused by the check %s of %s", t.Name, column.Name, name, of.Name)
		if name == "" {
			words = fmt.Sprintf("{n} rows of %s have no %s, and %s is required", t.Name, column.Name, of.Name)
		}
		out = append(out, engine.Requirement{
			Sentence: words,
			Query: fmt.Sprintf("SELECT %s FROM %s WHERE NOT (%s)", keyOrAll(s.Engine, t),
				s.Engine.SQL().QuoteTable(t.Name), holds[name]),
		})
	}
	return out
}

// keyOrAll is the first column of the key of a table, or all of its columns.
func keyOrAll(e runner.Engine, t *sqlschema.Table) string {
	if keys := t.Key(); len(keys) > 0 {
		return e.SQL().Quote(keys[0])
	}
	return "*"
}

// use is what a table has that calls a function.
type use struct {
	asked []engine.Requirement
	built []string // the statements that calculate its columns and build its indexes again
	work  engine.Work
}

// uses finds what of a table calls a function: in its checks and indexes, in what calculates its columns, and in
// the domains that these are of.
func (s *State) uses(t *sqlschema.Table, o *objects.Object) use {
	u := use{work: engine.Reads}
	calls := func(x *sqlschema.SQL) bool { return x != nil && objects.Mentions(s.Engine.SQL(), x.Text, o) }
	quote := s.Engine.SQL().Quote
	var again []*sqlschema.Column
	for _, c := range t.Columns {
		if c.Generated != nil && c.Generated.Stored && calls(&c.Generated.SQL) {
			again = append(again, c)
		}
	}
	if r, ok := s.Engine.DDL().(engine.Recalculator); ok && len(again) > 0 {
		u.built, u.work = r.Recalculate(t, again), engine.Rewrites
	}
	for _, d := range s.domains(o) {
		for _, c := range t.Columns {
			u.asked = append(u.asked, s.fits(t, c, d)...)
		}
	}
	for _, k := range t.Checks {
		if k.NotValid || !calls(&k.SQL) {
			continue
		}
		u.asked = append(u.asked, engine.Requirement{
			Sentence: fmt.Sprintf("{n} rows of %s break the check %s", t.Name, checkName(t, k)),
			Query:    fmt.Sprintf("SELECT %s FROM %s WHERE NOT (%s)", keyOrAll(s.Engine, t), quote(t.Name), k.SQL.Text),
		})
	}
	for _, x := range t.Indexes {
		used := calls(x.Where)
		for _, p := range x.Parts {
			used = used || calls(p.Expr)
		}
		if used {
			u.built = append(u.built, "REINDEX INDEX "+quote(x.Name))
		}
	}
	return u
}

// domains are the types that call a function in their checks.
func (s *State) domains(o *objects.Object) []engine.Creation {
	var out []engine.Creation
	add := func(c engine.Creation) {
		if c.Kind == "domain" && objects.Mentions(s.Engine.SQL(), c.SQL, o) {
			out = append(out, c)
		}
	}
	for _, x := range s.Upcoming.Others {
		for _, sql := range x.Make {
			add(engine.Creation{Kind: x.Kind, Name: x.Name, SQL: sql})
		}
	}
	return out
}

// checkName is how a check is called, or what it says.
func checkName(t *sqlschema.Table, k *sqlschema.Check) string {
	if k.Name != "" {
		return k.Name
	}
	for _, c := range diff.Tables(&sqlschema.Table{Name: t.Name}, t) {
		if c.Object == any(k) {
			return c.What
		}
	}
	return strings.Join(strings.Fields(k.SQL.Text), " ")
}

// BreaksError says that a change would break something that no file declares: the server looks at
// its text only when it runs.
type BreaksError struct{ List []plan.Break }

func (e *BreaksError) Error() string {
	var out []string
	for _, b := range e.List {
		out = append(out, fmt.Sprintf("the %s %s names %s, %s", b.Kind, b.Name, b.Names, becomes(b.Another)))
	}
	return strings.Join(out, "; ") + "; no file declares it. Change it first, or add --leave-broken; nothing was written"
}

// becomes are the words for what a change does to a name.
func becomes(another bool) string {
	if another {
		return "which is another afterwards"
	}
	return "which this change takes away"
}

// breaks finds the routines and events that no file declares, and on some servers the triggers of
// other tables, whose bodies name a table or a column that a plan takes away: the server looks at
// bodies only when they run.
func (s *State) breaks(p *plan.Plan) []plan.Break {
	declared := func(name string) bool { // or changed, or dropped, by this very migration
		name, _, _ = strings.Cut(name, "(")
		return slices.ContainsFunc(s.Wanted.Objects, func(d *sqlschema.Object) bool {
			return strings.EqualFold(d.Name, name)
		}) || s.sql != nil && slices.ContainsFunc(s.sql.changes, func(c objects.Change) bool {
			was, _, _ := strings.Cut(c.Object().Name, "(")
			return strings.EqualFold(was, name)
		})
	}
	names := s.gone(p)
	var out []plan.Break
	add := func(kind, name string, has func(g goneName) bool) {
		if declared(name) {
			return
		}
		if i := slices.IndexFunc(names, has); i >= 0 {
			out = append(out, plan.Break{Kind: kind, Name: name, Names: names[i].String(), Another: names[i].another})
		}
	}
	for _, o := range s.Upcoming.Others {
		if o.Kind == "function" || o.Kind == "procedure" || o.Kind == "event" {
			add(o.Kind, o.Name, func(g goneName) bool { return s.body(o, g.table, g.column) })
		}
	}
	if s.Engine.Caps().ViewsFollow { // and triggers with them
		return out
	}
	for _, t := range s.Upcoming.Tables {
		for _, x := range t.Triggers {
			if x.Purpose != "" {
				continue
			}
			text := &objects.Object{Make: []engine.Creation{{SQL: x.SQL.Text}}}
			add("trigger", x.Name, func(g goneName) bool { // the rename rewrites those of its own table
				return !strings.EqualFold(g.table, t.Name) &&
					objects.NamesColumn(s.Engine.SQL(), text, g.table, g.column)
			})
		}
	}
	return out
}

// body tells whether the body of a routine names a column of a table, or the table where none is
// given. One that a trigger of the table runs need not name that.
func (s *State) body(o *sqlschema.Other, table, column string) bool {
	x := &objects.Object{}
	for _, sql := range o.Make {
		x.Make = append(x.Make, engine.Creation{SQL: sql})
	}
	if t := s.Upcoming.Table(table); t != nil && column != "" {
		called := &objects.Object{ObjectKey: engine.ObjectKey{Kind: o.Kind, Name: o.Name}}
		if slices.ContainsFunc(t.Triggers, func(g *sqlschema.Trigger) bool {
			return objects.Mentions(s.Engine.SQL(), g.SQL.Text, called)
		}) {
			x.Of = table
		}
	}
	return objects.NamesColumn(s.Engine.SQL(), x, table, column)
}

// goWith asks for what depends on columns that go only when what is declared in SQL has gone with
// them, or has changed: at the first of the steps of tables that stand behind it.
func (s *State) goWith(p *plan.Plan, tables []engine.Step, behind int) {
	goes := func(kind, name string) bool {
		return slices.ContainsFunc(s.sql.changes, func(c objects.Change) bool {
			return c.Was != nil && c.Was.Kind == kind && objects.ShortName(c.Was) == name
		})
	}
	if behind == len(tables) {
		return
	}
	p.BeforeApply = slices.DeleteFunc(p.BeforeApply, func(r engine.Requirement) bool {
		i := slices.IndexFunc(p.InTheWay, func(w plan.InTheWay) bool { return w.Requirement.Query == r.Query })
		if !r.Attached || i < 0 || p.InTheWay[i].Rows > int64(len(p.InTheWay[i].Sample.Values)) {
			return false
		}
		w := p.InTheWay[i]
		w.Sample.Values = slices.DeleteFunc(slices.Clone(w.Sample.Values), func(row []string) bool {
			return goes(strings.Trim(row[1], "'"), strings.Trim(row[2], "'"))
		})
		if int64(len(w.Sample.Values)) == w.Rows {
			return false
		}
		if w.Rows = int64(len(w.Sample.Values)); w.Rows > 0 {
			p.InTheWay[i] = w
		} else {
			p.InTheWay = slices.Delete(p.InTheWay, i, i+1)
		}
		tables[behind].Here = append(tables[behind].Here, r)
		return true
	})
}
