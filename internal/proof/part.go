package proof

// This file finds the part of a schema that a migration can reach, so that a scratch
// database need not hold the rest: what it changes, what that refers to, what refers to it,
// and what has triggers or queries on it.

import (
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Part divides a schema into the part that migrations can reach and the rest. All of it is
// reached where nobody can tell what a statement touches. Erbario's own tables are in
// neither.
func Part(e engine.Engine, s *sqlschema.Schema, list ...*migration.Migration) (part, rest *sqlschema.Schema) {
	p := &parting{
		e:      e,
		tables: map[string]*sqlschema.Table{},
		views:  map[string]*sqlschema.View{},
		in:     map[string]bool{},
		named:  map[string]bool{},
	}
	for _, t := range s.Tables {
		p.tables[strings.ToLower(t.Name)] = t
	}
	for _, v := range s.Views {
		p.views[strings.ToLower(v.Name)] = v
	}
	routines := routinesOf(s)
	whole := false
	for _, m := range list {
		for _, sql := range append(m.SQL(false), m.SQL(true)...) {
			whole = p.read(sql, routines) || whole
		}
		for _, r := range slices.Concat(m.BeforeApply, m.BeforeUndo) {
			whole = p.read(r.Query, routines) || whole
		}
		for _, step := range m.Steps {
			for _, r := range slices.Concat(step.Here, step.HereUndo) {
				whole = p.read(r.Query, routines) || whole
			}
			for _, r := range step.Rows {
				p.named[strings.ToLower(r.Table)] = true
			}
		}
		for _, f := range m.Found {
			p.named[strings.ToLower(f.Table)] = true
			for _, st := range f.Make {
				whole = p.read(st.SQL, routines) || whole
			}
		}
	}
	own := &sqlschema.Schema{Views: s.Views, Others: s.Others, Elsewhere: s.Elsewhere}
	for _, t := range s.Tables {
		if !schema.Own(t.Name) {
			own.Tables = append(own.Tables, t)
		}
	}
	if whole {
		return own, &sqlschema.Schema{}
	}
	p.reach(own)
	part, rest = &sqlschema.Schema{Elsewhere: s.Elsewhere}, &sqlschema.Schema{}
	for _, t := range own.Tables {
		to := rest
		if p.in[strings.ToLower(t.Name)] {
			to = part
		}
		to.Tables = append(to.Tables, t)
	}
	for _, v := range own.Views {
		to := rest
		if p.in[strings.ToLower(v.Name)] {
			to = part
		}
		to.Views = append(to.Views, v)
	}
	for _, o := range own.Others {
		to := part
		if o.Late && !p.in[lateName(o)] {
			to = rest
		}
		to.Others = append(to.Others, o)
	}
	return part, rest
}

// Join puts the two parts of a schema together again, the first as it is by now.
func Join(part, rest *sqlschema.Schema) *sqlschema.Schema {
	if len(rest.Tables)+len(rest.Views)+len(rest.Others) == 0 {
		return part
	}
	out := &sqlschema.Schema{
		Tables: slices.Concat(part.Tables, rest.Tables), Views: slices.Concat(part.Views, rest.Views),
		Others: slices.Concat(part.Others, rest.Others), Elsewhere: part.Elsewhere,
	}
	out.Sort()
	return out
}

type parting struct {
	e      engine.Engine
	tables map[string]*sqlschema.Table // by name in lower case, as all that follows
	views  map[string]*sqlschema.View
	named  map[string]bool // in the statements
	in     map[string]bool // the part
}

// read notes the names in a statement; unsure: nobody can tell what it touches.
func (p *parting) read(sql string, routines map[string]bool) (unsure bool) {
	list := p.e.SQL().Lex(sql)
	for _, t := range list {
		if t.Named() {
			p.named[strings.ToLower(t.Name())] = true
		}
	}
	return sqltext.Touches(list, routines).Unsure != ""
}

// lateName is the key of something that stands on tables, and is neither a table nor a view.
func lateName(o *sqlschema.Other) string { return "late " + o.Kind + " " + strings.ToLower(o.Name) }

// reach finds what belongs to the part.
func (p *parting) reach(s *sqlschema.Schema) {
	mention := map[string][]string{} // the tables and views that a piece of SQL names
	of := func(key string, sql ...string) []string {
		if out, ok := mention[key]; ok {
			return out
		}
		var out []string
		for _, one := range sql {
			for _, t := range p.e.SQL().Lex(one) {
				name := strings.ToLower(t.Name())
				if t.Named() && (p.tables[name] != nil || p.views[name] != nil) && !slices.Contains(out, name) {
					out = append(out, name)
				}
			}
		}
		mention[key] = out
		return out
	}
	triggers := func(t *sqlschema.Table) []string {
		var texts []string
		for _, g := range t.Triggers {
			texts = append(texts, g.SQL.Text)
		}
		return of("triggers "+t.Name, texts...)
	}
	touched := map[string]bool{}
	var others []string // types, functions and the like that the statements name
	for _, o := range s.Others {
		if name, _, _ := strings.Cut(strings.ToLower(strings.Trim(o.Name, `"`)), "("); p.named[name] {
			others = append(others, name)
		}
	}
	for _, t := range s.Tables {
		name := strings.ToLower(t.Name)
		if p.named[name] || t.Options.Foreign || t.Partitioned() || p.holds(t) || uses(t, others) {
			touched[name] = true
		}
	}
	for _, v := range s.Views {
		if name := strings.ToLower(v.Name); p.named[name] {
			touched[name] = true
		}
	}
	add := func(names ...string) (more bool) {
		for _, n := range names {
			if !p.in[n] {
				p.in[n], more = true, true
			}
		}
		return more
	}
	touches := func(names []string) bool {
		return slices.ContainsFunc(names, func(n string) bool { return touched[n] })
	}
	for n := range touched {
		p.in[n] = true
	}
	for more := true; more; {
		more = false
		for _, t := range s.Tables {
			name := strings.ToLower(t.Name)
			if !p.in[name] {
				child := slices.ContainsFunc(t.ForeignKeys,
					func(k *sqlschema.ForeignKey) bool { return touched[strings.ToLower(k.Table)] })
				if !child && !(len(t.Triggers) > 0 && touches(triggers(t))) {
					continue
				}
				more = add(name) || more
			}
			for _, k := range t.ForeignKeys {
				more = add(strings.ToLower(k.Table)) || more
			}
			more = add(triggers(t)...) || more
		}
		for _, v := range s.Views {
			name := strings.ToLower(v.Name)
			texts := []string{v.SQL.Text, v.LiveOf}
			for _, g := range v.Triggers {
				texts = append(texts, g.SQL.Text)
			}
			on := of("view "+name, texts...)
			if !p.in[name] && !touches(on) {
				continue
			}
			touched[name] = true // what stands on it is reached too
			more = add(name) || more
			more = add(on...) || more
		}
		for _, o := range s.Others {
			on := of(lateName(o), o.Make...)
			named := slices.ContainsFunc(others, func(n string) bool {
				return slices.ContainsFunc(o.Make,
					func(sql string) bool { return strings.Contains(strings.ToLower(sql), n) })
			})
			if o.Late && !p.in[lateName(o)] && !touches(on) && !named {
				continue
			}
			more = add(lateName(o)) || more
			more = add(on...) || more
		}
	}
}

// uses tells whether a table has one of some types, functions and the like.
func uses(t *sqlschema.Table, others []string) bool {
	if len(others) == 0 {
		return false
	}
	has := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool {
			text = strings.ToLower(text)
			return slices.ContainsFunc(others, func(n string) bool { return strings.Contains(text, n) })
		})
	}
	for _, c := range t.Columns {
		texts := []string{c.SQLType}
		if c.Default != nil {
			texts = append(texts, c.Default.Text)
		}
		if c.Generated != nil {
			texts = append(texts, c.Generated.SQL.Text)
		}
		if has(texts...) {
			return true
		}
	}
	for _, k := range t.Checks {
		if has(k.SQL.Text) {
			return true
		}
	}
	for _, x := range t.Indexes {
		for _, part := range x.Parts {
			if part.Expr != nil && has(part.Expr.Text) {
				return true
			}
		}
		if x.Where != nil && has(x.Where.Text) {
			return true
		}
	}
	for _, g := range t.Triggers {
		if has(g.SQL.Text) {
			return true
		}
	}
	return false
}

// holds tells whether a part of a table has a name that the statements use: names of
// indexes and constraints may be taken only once.
func (p *parting) holds(t *sqlschema.Table) bool {
	for _, x := range t.Indexes {
		if p.named[strings.ToLower(x.Name)] {
			return true
		}
	}
	for _, k := range t.Checks {
		if k.Name != "" && p.named[strings.ToLower(k.Name)] {
			return true
		}
	}
	for _, k := range t.ForeignKeys {
		if k.Name != "" && p.named[strings.ToLower(k.Name)] {
			return true
		}
	}
	for _, g := range t.Triggers {
		if p.named[strings.ToLower(g.Name)] {
			return true
		}
	}
	k := t.PrimaryKey // MariaDB calls every one PRIMARY
	return k != nil && k.Name != "" && !strings.EqualFold(k.Name, "PRIMARY") && p.named[strings.ToLower(k.Name)]
}
