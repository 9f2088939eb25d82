package proof

// This file finds the part of a schema that a migration can reach, so that a scratch
// database need not hold the rest: what it changes, what that refers to, what refers to it,
// and what has triggers or queries on it.

import (
	"slices"
	"strings"

	"erbario/internal/engine/sqltext"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Part divides a schema into the part that migrations can reach and the rest. All of it is
// reached where nobody can tell what a statement touches. Erbario's own tables are in
// neither.
func Part(e runner.Engine, s *sqlschema.Schema, list ...*migration.Migration) (part, rest *sqlschema.Schema) {
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
	own := &sqlschema.Schema{Views: s.Views, Others: s.Others, Elsewhere: s.Elsewhere, Collation: s.Collation}
	for _, t := range s.Tables {
		if !schema.Own(t.Name) {
			own.Tables = append(own.Tables, t)
		}
	}
	if whole {
		return own, &sqlschema.Schema{}
	}
	p.reach(own)
	part = &sqlschema.Schema{Elsewhere: s.Elsewhere, Collation: s.Collation}
	rest = &sqlschema.Schema{Elsewhere: s.Elsewhere}
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
		Others: slices.Concat(part.Others, rest.Others), Elsewhere: part.Elsewhere, Collation: part.Collation,
	}
	if len(out.Elsewhere) < len(rest.Elsewhere) { // the part alone may need less of it
		out.Elsewhere = rest.Elsewhere
	}
	out.Sort()
	return out
}

type parting struct {
	e      runner.Engine
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
	r := &reaching{parting: p, mention: map[string][]string{}, touched: map[string]bool{}}
	for _, o := range s.Others {
		name, _, _ := strings.Cut(strings.ToLower(strings.Trim(o.Name, `"`)), "(")
		if _, own := schema.SplitName(name); p.named[name] || p.named[own] {
			r.others = append(r.others, name)
		}
	}
	for _, t := range s.Tables {
		name := strings.ToLower(t.Name)
		if p.named[name] || t.Options.Foreign && t.PartOf == "" || p.holds(t) || uses(t, r.others) {
			r.touched[name] = true
		}
	}
	for _, v := range s.Views {
		if name := strings.ToLower(v.Name); p.named[name] {
			r.touched[name] = true
		}
	}
	for n := range r.touched {
		p.in[n] = true
	}
	for r.more = true; r.more; {
		r.more = false
		for _, t := range s.Tables {
			r.table(t)
		}
		for _, v := range s.Views {
			r.view(v)
		}
		for _, o := range s.Others {
			r.other(o)
		}
	}
}

// reaching is what a migration reaches, found step by step.
type reaching struct {
	*parting
	mention map[string][]string // the tables and views that a piece of SQL names
	touched map[string]bool
	others  []string // types, functions and the like that the statements name
	more    bool     // something was added in this round
}

// of are the tables and views that pieces of SQL name, remembered under key.
func (r *reaching) of(key string, sql ...string) []string {
	if out, ok := r.mention[key]; ok {
		return out
	}
	var out []string
	for _, one := range sql {
		for _, t := range r.e.SQL().Lex(one) {
			name := strings.ToLower(t.Name())
			if t.Named() && (r.tables[name] != nil || r.views[name] != nil) && !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	r.mention[key] = out
	return out
}

// triggers are those that the triggers of a table name.
func (r *reaching) triggers(t *sqlschema.Table) []string {
	var texts []string
	for _, g := range t.Triggers {
		texts = append(texts, g.SQL.Text)
	}
	return r.of("triggers "+t.Name, texts...)
}

func (r *reaching) add(names ...string) {
	for _, n := range names {
		if !r.in[n] {
			r.in[n], r.more = true, true
		}
	}
}

func (r *reaching) touches(names []string) bool {
	return slices.ContainsFunc(names, func(n string) bool { return r.touched[n] })
}

func (r *reaching) table(t *sqlschema.Table) {
	name := strings.ToLower(t.Name)
	if of := strings.ToLower(t.PartOf); of != "" && (r.in[of] || r.in[name]) { // all parts with their table
		r.touched[of], r.touched[name] = r.touched[of] || r.touched[name], r.touched[of] || r.touched[name]
		r.add(of, name)
	}
	if !r.in[name] {
		child := slices.ContainsFunc(t.ForeignKeys,
			func(k *sqlschema.ForeignKey) bool { return r.touched[strings.ToLower(k.Table)] })
		if !child && !(len(t.Triggers) > 0 && r.touches(r.triggers(t))) {
			return
		}
		r.add(name)
	}
	for _, k := range t.ForeignKeys {
		r.add(strings.ToLower(k.Table))
	}
	r.add(r.triggers(t)...)
}

func (r *reaching) view(v *sqlschema.View) {
	name := strings.ToLower(v.Name)
	texts := []string{v.SQL.Text, v.LiveOf}
	for _, g := range v.Triggers {
		texts = append(texts, g.SQL.Text)
	}
	on := r.of("view "+name, texts...)
	if !r.in[name] && !r.touches(on) {
		return
	}
	r.touched[name] = true // what stands on it is reached too
	r.add(name)
	r.add(on...)
}

func (r *reaching) other(o *sqlschema.Other) {
	texts := o.Make
	if o.Runs != "" { // with what that reaches
		r.add(lateName(o))
		texts = append(slices.Clone(o.Make), o.Runs)
	}
	on := r.of(lateName(o), texts...)
	named := slices.ContainsFunc(r.others, func(n string) bool {
		return slices.ContainsFunc(o.Make,
			func(sql string) bool { return strings.Contains(strings.ToLower(sql), n) })
	})
	if o.Late && !r.in[lateName(o)] && !r.touches(on) && !named {
		return
	}
	r.add(lateName(o))
	r.add(on...)
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
