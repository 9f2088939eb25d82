package plan

// This file is what was called otherwise before the renames of the same plan.

import (
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/sqlschema"
)

// oldTable and oldColumn give the names that live rows have before the renames.
func (p *planner) oldTable(name string) string { return p.Answers.before(name, "") }

func (p *planner) oldColumn(table, name string) string { return p.Answers.before(table, name) }

// underOldNames is a requirement of a table that is renamed, or has columns that are, as
// the live rows can be asked it.
func (p *planner) underOldNames(table string, r engine.Requirement) engine.Requirement {
	var b strings.Builder
	last := 0
	list := p.Engine.SQL().Lex(r.Query)
	for i, t := range list {
		function := i+1 < len(list) && list[i+1].Text == "("
		typ := i > 0 && list[i-1].Text == "::"
		if !t.Named() || t.Text[0] == '\'' || t.Bare() && (function || typ) {
			continue
		}
		sql := ""
		if name := p.oldColumn(table, t.Name()); name != t.Name() {
			sql = p.Engine.SQL().Quote(name)
		} else if name := p.oldTable(t.Name()); name != t.Name() { // the table, or another that has a new name
			sql = p.Engine.SQL().QuoteTable(name)
		}
		if sql != "" {
			b.WriteString(r.Query[last:t.Start] + sql)
			last = t.End
		}
	}
	r.Query = b.String() + r.Query[last:]
	r.Among = p.oldTable(r.Among)
	r.Repeats = slices.Clone(r.Repeats)
	for i, c := range r.Repeats {
		r.Repeats[i] = p.oldColumn(table, c)
	}
	return r
}

// fillsBefore has the fills in requirements of a table, which are asked ahead of the renames, read other tables under
// the names that these have by then.
func (p *planner) fillsBefore(table string, list []engine.Requirement) {
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		fill := p.Answers.Fill[key]
		if of, _, _ := sqlschema.CutTable(key, p.Wanted); fill.Literal || of != table {
			continue
		}
		if was := p.underOldNames(table, engine.Requirement{Query: fill.SQL}).Query; was != fill.SQL {
			for i := range list {
				list[i].Query = strings.ReplaceAll(list[i].Query, fill.SQL, was)
			}
		}
	}
}

// newNames refuses a fill that reads a table under the name that it has before the plan: values are given behind the
// renames.
func (p *planner) newNames() {
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		fill := p.Answers.Fill[key]
		if fill.Literal {
			continue
		}
		list := p.Engine.SQL().Lex(fill.SQL)
		for i, t := range list {
			read := i > 0 && t.Named() && (list[i-1].Is("FROM") || list[i-1].Is("JOIN"))
			if !read || p.Wanted.Table(t.Name()) != nil {
				continue
			}
			for _, r := range p.Answers.Rename {
				if r.Column == "" && r.Value == "" && strings.EqualFold(r.Table, t.Name()) {
					p.fail("--fill %s=sql:…: this migration gives %s the name %s; write that name in the expression",
						key, r.Table, r.To)
				}
			}
		}
	}
}

// renamed tells whether the table or a column of it gets another name.
func (p *planner) renamed(table string) bool {
	return slices.ContainsFunc(p.Answers.Rename, func(r Rename) bool {
		return r.Value == "" && (strings.EqualFold(r.Table, table) || r.Column == "" && strings.EqualFold(r.To, table))
	})
}

// keyRenamed tells whether a table, or something in it that others can refer to, gets
// another name.
func (p *planner) keyRenamed(table string) bool {
	t := p.Live.Table(table)
	if p.oldTable(table) != table || t == nil {
		return p.renamed(table)
	}
	moves := func(column string) bool { return p.oldColumn(table, column) != column }
	return slices.ContainsFunc(t.Key(), moves) || slices.ContainsFunc(t.Indexes,
		func(x *sqlschema.Index) bool { return x.Unique && slices.ContainsFunc(sqlschema.Names(x.Parts), moves) })
}
