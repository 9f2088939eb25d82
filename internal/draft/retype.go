package draft

// This file has columns take a type, declared in SQL, that is another under the same name, and asks for the values
// that the new one does not take.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/objects"
	"erbario/internal/plan"
	"erbario/internal/sqlschema"
)

// retypedColumn is a column of such a type.
type retypedColumn struct {
	was, now      columnOf // under its names before and after the renames of the migration
	ahead         engine.Retyping
	forward, back engine.Retyping // under those after
}

// columnOf is a column of a table.
type columnOf struct {
	table  *sqlschema.Table
	column *sqlschema.Column
}

// retypings are the columns of a type that changes; ok: each of them can take the new type.
func (s *State) retypings(c objects.Change) (out []retypedColumn, ok bool) {
	words, is := s.Engine.DDL().(engine.Retyper)
	if !is || c.Was == nil || c.Now == nil || c.Was.Kind != c.Now.Kind ||
		c.Was.Kind != "domain" && c.Was.Kind != "composite type" {
		return nil, true
	}
	was, now := c.Was.Make[0], c.Now.Make[0]
	if s.Engine.DDL().(engine.ObjectWords).ReplaceObject(was, now) != "" {
		return nil, true
	}
	name := s.Engine.SQL().QuoteTable(c.Was.Name)
	for _, t := range s.Upcoming.Tables {
		of, called := s.Upcoming.Table(t.PartOf), s.called(t)
		for i, column := range t.Columns {
			if t.Elsewhere() || strings.TrimRight(column.SQLType, "[]") != name ||
				of != nil && of.Column(column.Name) != nil {
				continue
			}
			r := retypedColumn{was: columnOf{t, column}, now: columnOf{called, called.Columns[i]}}
			var there, again bool
			r.ahead, _ = words.Retype(t, column, was, now)
			r.forward, there = words.Retype(called, called.Columns[i], was, now)
			r.back, again = words.Retype(called, called.Columns[i], now, was)
			if !there || !again {
				return nil, false
			}
			out = append(out, r)
		}
	}
	return out, true
}

// called is a table under the names that it and its columns have after the renames.
func (s *State) called(t *sqlschema.Table) *sqlschema.Table {
	names, out := plan.Answers{Rename: s.newNames}, t.Clone()
	for _, c := range out.Columns {
		out.Name, c.Name = names.After(t.Name, c.Name)
	}
	return out
}

// retype gives the statements by which the columns of a type take the one that comes; nil: none is of it. false:
// nobody can tell how.
func (s *State) retype(c objects.Change) (*objects.Retyped, bool) {
	list, ok := s.retypings(c)
	if len(list) == 0 {
		return nil, ok
	}
	out := &objects.Retyped{}
	out.Rename, out.Drop = s.Engine.DDL().(engine.Retyper).TypeApart(c.Was.Make[0])
	create, drop := s.over(list)
	renamed := func(r retypedColumn) bool {
		return r.was.table.Name != r.now.table.Name || r.was.column.Name != r.now.column.Name
	}
	if len(drop) > 0 && slices.ContainsFunc(list, renamed) { // it would be created with the former names
		return nil, false
	}
	out.Forward, out.Back = slices.Clone(drop), slices.Clone(drop)
	for _, r := range list {
		out.Columns = append(out.Columns, engine.Loss{Table: r.now.table.Name, Column: r.now.column.Name})
		out.Forward, out.Back = append(out.Forward, r.forward.SQL), append(out.Back, r.back.SQL)
	}
	out.Forward, out.Back = append(out.Forward, create...), append(out.Back, create...)
	return out, true
}

// over drops and creates what the models have on columns, which could not take another type: references, triggers,
// and the views of rows that are not deleted.
func (s *State) over(list []retypedColumn) (create, drop []string) {
	is := func(t *sqlschema.Table, columns []string) bool {
		return slices.ContainsFunc(list, func(r retypedColumn) bool {
			return t != nil && r.was.table.Name == t.Name && slices.Contains(columns, r.was.column.Name)
		})
	}
	put := func(c, d []string) { create, drop = append(c, create...), append(drop, d...) }
	tables := map[string]bool{}
	for _, r := range list {
		t := r.was.table
		for _, g := range t.Triggers {
			if g.Purpose != "" && names(s, g.SQL.Text, r.was.column.Name) {
				put(s.Engine.DDL().Trigger(t, g))
			}
		}
		tables[t.Name] = true
	}
	for _, v := range s.Upcoming.Views {
		if tables[v.LiveOf] {
			put([]string{v.SQL.Make()}, []string{"DROP VIEW " + s.Engine.SQL().QuoteTable(v.Name)})
		}
	}
	online, ok := engine.OnlineOf(s.Engine)
	for _, t := range s.Upcoming.Tables {
		for _, k := range t.ForeignKeys {
			if ok && (is(t, k.Columns) || is(s.Upcoming.Table(k.Table), k.References)) {
				put(online.AddReference(t, k), online.DropReference(t, k))
			}
		}
	}
	return create, drop
}

// names tells whether SQL has a name in it.
func names(s *State, sql, name string) bool {
	return slices.ContainsFunc(s.Engine.SQL().Lex(sql),
		func(t sqltok.Token) bool { return t.Named() && t.Name() == name || t.Val == name })
}

// retypedRows asks for values that do not become those of a type, or would be different after the undo.
func (s *State) retypedRows(p *plan.Plan) {
	for _, c := range s.sql.changes {
		list, _ := s.retypings(c)
		for _, r := range list {
			p.BeforeApply = append(p.BeforeApply, s.converts(r.was, r.ahead, c.Now)...)
			if s.stays(r.now) {
				p.BeforeUndo = append(p.BeforeUndo, s.converts(r.now, r.back, c.Was)...)
			}
		}
	}
}

// stays tells whether a column is of its type after the migration, too.
func (s *State) stays(r columnOf) bool {
	t := s.Wanted.Table(r.table.Name)
	return t != nil && t.Column(r.column.Name) != nil && t.Column(r.column.Name).SQLType == r.column.SQLType
}

// converts are the requirements that every value of a column becomes one of a type.
func (s *State) converts(r columnOf, how engine.Retyping, to *objects.Object) (out []engine.Requirement) {
	must := func(words, condition string) {
		out = append(out, engine.Requirement{Table: r.table.Name, About: r.column.Name, Sentence: words,
			Query: fmt.Sprintf("SELECT %s FROM %s WHERE NOT (%s)", keyAnd(s, r),
				s.Engine.SQL().QuoteTable(r.table.Name), condition)})
	}
	if how.Fits != "" {
		must(fmt.Sprintf("{n} values of %s.%s do not fit the changed %s %s, or would be different after the undo",
			r.table.Name, r.column.Name, to.Kind, to.Name), how.Fits)
	}
	for _, name := range slices.Sorted(maps.Keys(how.Holds)) {
		words := fmt.Sprintf("{n} values of %s.%s are refused by the check %s of %s", r.table.Name, r.column.Name, name,
			to.Name)
		if name == "" {
			words = fmt.Sprintf("{n} rows of %s have no %s, and %s is required", r.table.Name, r.column.Name, to.Name)
		}
		must(words, how.Holds[name])
	}
	return out
}

// keyAnd are the columns of a table's key, and the one at hand.
func keyAnd(s *State, r columnOf) string {
	names := r.table.Key()
	if !slices.Contains(names, r.column.Name) {
		names = append(slices.Clone(names), r.column.Name)
	}
	var out []string
	for _, n := range names {
		out = append(out, s.Engine.SQL().Quote(n))
	}
	return strings.Join(out, ", ")
}
