package objects

// This file has a server make what is declared in SQL, on scratch, and reads it back.

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Made is what a server makes of what is declared.
type Made struct {
	Objects []*Object          // in the order in which they can be created
	Enums   []*sqlschema.Other // enum types among them
	Tables  []*sqlschema.Table `json:"-"` // those that are declared in SQL
	Failed  []Failure
}

// Failure is a statement that the server does not take on scratch.
type Failure struct {
	Object *sqlschema.Object
	Err    error
}

// causesFirst puts failures that may be the cause of others before those.
func (m *Made) causesFirst(d engine.Dialect) {
	follows := func(f Failure) int {
		if slices.ContainsFunc(m.Failed, func(o Failure) bool {
			return o.Object != f.Object && o.Object.Name != "" && mentions(d, f.Object.SQL, o.Object.Name)
		}) {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(m.Failed, func(a, b Failure) int { return follows(a) - follows(b) })
}

var scratchName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`erbario_scratch_\w+\.`) })

// Why is what the server says, without the name of its scratch database.
func (f Failure) Why() string { return scratchName().ReplaceAllString(f.Err.Error(), "") }

func (f Failure) Error() string {
	return fmt.Sprintf("%s:%d: the database does not accept this: %s", f.Object.Path, f.Object.Line, f.Why())
}

// Make creates what is wanted on scratch: the tables that the statements name, what of live they
// name that nobody declares, and then the statements, those that fail again behind the others.
func Make(ctx context.Context, e Engine, wanted, live *sqlschema.Schema) (*Made, error) {
	return MakeOn(ctx, e, wanted, Base(e, wanted, live))
}

// MakeOn is Make on a base.
func MakeOn(ctx context.Context, e Engine, wanted, base *sqlschema.Schema) (*Made, error) {
	db, err := e.Scratch(ctx)
	if err != nil {
		return nil, fmt.Errorf("no scratch database: %w", err)
	}
	defer db.Close()
	for _, sql := range e.OwnTables().History {
		if err := db.Exec(ctx, sql); err != nil {
			return nil, err
		}
	}
	m := &making{db: db}
	for _, c := range e.DDL().CreateAll(base) {
		m.todo = append(m.todo, statement{sql: c.SQL, setting: c.Kind == "", table: modelTable(c)})
	}
	if err := m.run(ctx); err != nil {
		return nil, err
	}
	tables := m.todo
	m.todo = nil
	for _, o := range wanted.Objects {
		m.todo = append(m.todo, statement{sql: o.SQL, object: o})
	}
	m.todo = append(m.todo, tables...) // those that stand on what is declared here
	if err := m.run(ctx); err != nil {
		return nil, err
	}
	s, err := db.Inspect(ctx)
	if err != nil {
		return nil, err
	}
	list, err := Read(ctx, db, s)
	if err != nil {
		return nil, err
	}
	out := &Made{}
	for _, st := range m.todo {
		if st.object != nil {
			out.Failed = append(out.Failed, Failure{st.object, m.cause(e.SQL(), st)})
		}
	}
	broken, err := engine.InvalidObjects(ctx, db)
	bodies, e2 := engine.InvalidBodies(ctx, db)
	if err := errors.Join(err, e2); err != nil {
		return nil, err
	}
	broken = append(broken, bodies...)
	for _, o := range wanted.Objects {
		for _, what := range broken {
			if why, ok := strings.CutPrefix(what, o.Kind+" "+o.Name+" "); ok {
				out.Failed = append(out.Failed, Failure{o, errors.New(strings.Trim(why, "()"))})
			}
		}
	}
	out.causesFirst(e.SQL())
	for _, o := range list {
		for i := range o.Make {
			o.Make[i].Behind, o.Make[i].Ahead = "", "" // among those on scratch
		}
		if compared(o) && !undeclared(base, o) {
			out.Objects = append(out.Objects, o)
		}
	}
	inOrder(out.Objects, m.done)
	out.Tables = tablesMade(wanted.Objects, s)
	for _, o := range s.Others {
		if o.Kind == sqlschema.EnumType && base.Enum(o.Name) == nil {
			out.Enums = append(out.Enums, o)
		}
	}
	return out, nil
}

// statement is one that is run, with why it failed last.
type statement struct {
	sql     string
	object  *sqlschema.Object
	table   string // that it creates for a model; empty: it creates none
	setting bool
	err     error
}

// modelTable is the table that a creation makes for a model.
func modelTable(c engine.Creation) string {
	if c.Kind != kindTable {
		return ""
	}
	return c.Name
}

type making struct {
	db   engine.Database
	todo []statement
	done []*sqlschema.Object // in the order in which they were created
}

// run runs what is to do, those that fail again behind the others; what is left cannot be
// created.
func (m *making) run(ctx context.Context) error {
	for {
		var again []statement
		for _, st := range m.todo {
			st.err = m.db.Exec(ctx, st.sql)
			switch {
			case ctx.Err() != nil || errors.Is(st.err, engine.ErrLost) || errors.Is(st.err, engine.ErrBusy):
				return st.err
			case st.setting:
			case st.err != nil:
				again = append(again, st)
			case st.object != nil:
				m.done = append(m.done, st.object)
			}
		}
		if len(again) == 0 || len(again) == len(m.todo) {
			m.todo = again
			return nil
		}
		m.todo = again
	}
}

// cause is why a statement failed: it may name a table that cannot be created itself.
func (m *making) cause(d engine.Dialect, failed statement) error {
	for _, st := range m.todo {
		if st.table != "" && mentions(d, failed.object.SQL, st.table) {
			return fmt.Errorf("the table %s cannot be created: %w", st.table, st.err)
		}
	}
	return failed.err
}

// inOrder puts objects into the order in which their statements could be run; the rest stays
// behind what it belongs to.
func inOrder(list []*Object, done []*sqlschema.Object) {
	place := func(o *Object) int {
		return slices.IndexFunc(done, func(s *sqlschema.Object) bool { return declares(s, o) })
	}
	places := map[*Object]int{}
	for _, o := range list {
		at := place(o)
		if at < 0 {
			at = len(done)
		}
		places[o] = at
	}
	slices.SortStableFunc(list, func(a, b *Object) int { return places[a] - places[b] })
}

// Unseen is a statement that was run and left nothing by which it could be compared; nil: there is
// none.
func (m *Made) Unseen(list []*sqlschema.Object) *sqlschema.Object {
	for _, s := range list {
		if s.Name == "" || s.Kind == kindTable || s.Kind == sqlschema.InDatabase || OfTable(list, s) {
			continue
		}
		if slices.ContainsFunc(m.Failed, func(f Failure) bool { return f.Object == s }) ||
			slices.ContainsFunc(m.Objects, func(o *Object) bool { return declares(s, o) }) ||
			slices.ContainsFunc(m.Enums, func(o *sqlschema.Other) bool { return strings.EqualFold(o.Name, s.Name) }) {
			continue
		}
		return s
	}
	return nil
}

// declares tells whether a statement is the one that creates an object.
func declares(s *sqlschema.Object, o *Object) bool {
	name := strings.TrimSuffix(plain(o.Name), " of "+o.Of)
	switch o.Kind {
	case "operator":
		name, _, _ = strings.Cut(o.Name, " of ")
	case "cast":
		name = s.Name
	}
	return ofKind(s.Kind, o.Kind) && strings.EqualFold(s.Name, name) && (s.On == "" || strings.EqualFold(s.On, o.Of))
}

// ofKind tells whether the word of a CREATE statement is that of a kind of object, of which there
// are several for some.
func ofKind(word, kind string) bool {
	return word == kind || word == "type" && strings.HasSuffix(kind, " type")
}

// Source is the statement that declares an object, or nil.
func Source(list []*sqlschema.Object, o *Object) *sqlschema.Object {
	for _, s := range list {
		if declares(s, o) {
			return s
		}
	}
	for _, s := range list { // of what says more of something
		if s.Name == "" && s.Kind == kindWords(o) && strings.EqualFold(s.On, plain(o.Of)) {
			return s
		}
	}
	return nil
}

// Base is what of two schemas the declared statements may stand on: the tables that they name, those
// to which these refer, and what of the live one is named and not declared.
func Base(e Engine, wanted, live *sqlschema.Schema) *sqlschema.Schema {
	named := map[string]bool{}
	for _, o := range wanted.Objects {
		allNames(e.SQL(), o.SQL, named)
	}
	out := &sqlschema.Schema{Elsewhere: live.Elsewhere, Collation: live.Collation}
	is := func(name string) bool { return named[strings.ToLower(name)] }
	declared := func(kind, name string) bool {
		return slices.ContainsFunc(wanted.Objects, func(o *sqlschema.Object) bool {
			return (strings.EqualFold(o.Name, plain(name)) || kind == "cast") && ofKind(o.Kind, kind)
		})
	}
	for _, v := range live.Views { // first, since they name tables
		if v.LiveOf == "" && !declared("view", v.Name) && is(v.Name) {
			out.Views = append(out.Views, v)
			allNames(e.SQL(), v.SQL.Text, named)
		}
	}
	for _, v := range wanted.Views {
		if is(v.Name) && v.LiveOf != "" {
			out.Views = append(out.Views, v)
			allNames(e.SQL(), v.SQL.Text, named)
		}
	}
	all := map[string]*sqlschema.Table{}
	var order []string
	inSQL := func(table string) bool { return declared(kindTable, table) || declared(engine.Part, table) }
	for _, t := range wanted.Tables {
		if inSQL(t.Name) {
			continue
		}
		all[strings.ToLower(t.Name)] = t
		order = append(order, strings.ToLower(t.Name))
	}
	for _, t := range live.Tables {
		key := strings.ToLower(t.Name)
		if inSQL(t.Name) {
			continue
		}
		if all[key] == nil {
			order = append(order, key)
		}
		if w := all[key]; w == nil || w.Elsewhere() || named[key] && same(t, w) {
			all[key] = t
		}
	}
	for _, key := range order {
		named[key] = named[key] || partNamed(all[key], is)
	}
	for more := true; more; {
		more = false
		for _, key := range order {
			if !named[key] {
				continue
			}
			for _, k := range all[key].ForeignKeys {
				if to := strings.ToLower(k.Table); !named[to] {
					named[to], more = true, true
				}
			}
		}
	}
	for _, key := range order {
		if named[key] {
			out.Tables = append(out.Tables, baseTable(all[key], declared))
		}
	}
	out.Others = slices.Clone(wanted.Others)
	for _, o := range live.Others {
		late := o.Late && o.Kind != "materialised view"
		if !late && out.Enum(o.Name) == nil && !declared(o.Kind, strings.Split(o.Name, " of ")[0]) {
			out.Others = append(out.Others, o)
		}
	}
	return out
}

// baseTable is a table without what is declared in SQL: triggers, and references to tables.
func baseTable(t *sqlschema.Table, declared func(kind, name string) bool) *sqlschema.Table {
	t = t.Clone()
	t.Triggers = slices.DeleteFunc(t.Triggers, func(g *sqlschema.Trigger) bool {
		return g.Purpose == "" && declared("trigger", g.Name)
	})
	t.Others = slices.DeleteFunc(slices.Clone(t.Others),
		func(k *sqlschema.Constraint) bool { return declared(engine.Exclusion, k.Name) })
	refers := len(t.ForeignKeys)
	t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
		func(k *sqlschema.ForeignKey) bool { return declared(kindTable, k.Table) })
	if len(t.ForeignKeys) < refers {
		t.Text = ""
	}
	return t
}

// partNamed tells whether an index of a table, or the sequence of a column, is named: a comment
// and a right need not name the table.
func partNamed(t *sqlschema.Table, is func(name string) bool) bool {
	in, _ := schema.SplitName(t.Name)
	index := func(x *sqlschema.Index) bool {
		return x.Name != "" && (is(x.Name) || in != "" && is(schema.InSchema(in, x.Name)))
	}
	return slices.ContainsFunc(t.Indexes, index) ||
		slices.ContainsFunc(t.Columns, func(c *sqlschema.Column) bool { return c.Serial != "" && is(c.Serial) })
}

// same tells whether a table is as it is declared, its triggers aside.
func same(t, wanted *sqlschema.Table) bool {
	bare := *t
	bare.Triggers = slices.DeleteFunc(slices.Clone(t.Triggers),
		func(g *sqlschema.Trigger) bool { return g.Purpose == "" })
	return len(diff.Tables(&bare, wanted)) == 0
}

// allNames notes the names in SQL, in lower case, those in its bodies too.
func allNames(d engine.Dialect, sql string, into map[string]bool) {
	for _, t := range d.Lex(sql) {
		switch {
		case t.Named():
			into[strings.ToLower(t.Name())] = true
		case t.Val != "" && t.Val != sql && strings.ContainsAny(t.Val, " \n"):
			allNames(d, t.Val, into)
		case t.Val != "": // such as the table of which a virtual one is an index
			into[strings.ToLower(t.Val)] = true
		}
	}
}

// undeclared tells whether an object is one of those that were created for the others' sake.
func undeclared(base *sqlschema.Schema, o *Object) bool {
	if o.OfKind == engine.Part {
		return base.Table(o.Of) != nil
	}
	switch o.Kind {
	case engine.Part:
		return base.Table(o.Name) != nil
	case "view":
		return base.View(o.Name) != nil
	case "trigger":
		if t := base.Table(o.Of); t != nil {
			return slices.ContainsFunc(t.Triggers, func(g *sqlschema.Trigger) bool { return g.Name == o.Name })
		}
	}
	return slices.ContainsFunc(base.Others,
		func(x *sqlschema.Other) bool { return x.Kind == o.Kind && x.Name == o.Name })
}
