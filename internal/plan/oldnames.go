package plan

// This file is what was called otherwise before the renames of the same plan.

import (
	"maps"
	"slices"
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
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
// the names that these and their columns have by then.
func (p *planner) fillsBefore(table string, list []engine.Requirement) {
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		fill := p.Answers.Fill[key]
		if of, _, _ := sqlschema.CutTable(key, p.Wanted); fill.Literal || of != table {
			continue
		}
		if was := p.fillBefore(table, fill.SQL); was != fill.SQL {
			for i := range list {
				list[i].Query = strings.ReplaceAll(list[i].Query, fill.SQL, was)
			}
		}
	}
}

// fillBefore is a fill of a table as it is ahead of the renames.
func (p *planner) fillBefore(table, sql string) string {
	var b strings.Builder
	last := 0
	list := p.Engine.SQL().Lex(sql)
	others := p.tablesIn(list)
	for i, t := range list {
		if !t.Named() || i+1 < len(list) && list[i+1].Text == "(" {
			continue
		}
		was := ""
		switch name := t.Name(); {
		case slices.Contains(others, name) && p.oldTable(name) != name:
			was = p.Engine.SQL().QuoteTable(p.oldTable(name))
		case p.oldColumn(table, name) != name:
			was = p.Engine.SQL().Quote(p.oldColumn(table, name))
		case p.Wanted.Table(table) == nil || p.Wanted.Table(table).Column(name) == nil:
			for _, other := range others {
				if old := p.oldColumn(other, name); old != name {
					was = p.Engine.SQL().Quote(old)
				}
			}
		}
		if was != "" {
			b.WriteString(sql[last:t.Start] + was)
			last = t.End
		}
	}
	return b.String() + sql[last:]
}

// tablesIn are the tables that an expression reads.
func (p *planner) tablesIn(list []sqltok.Token) (out []string) {
	for i, t := range list {
		if i > 0 && t.Named() && (list[i-1].Is("FROM") || list[i-1].Is("JOIN")) {
			out = append(out, t.Name())
		}
	}
	return out
}

// newNames refuses a fill that reads another table, or a column of one, under the name that it has before the plan:
// values are given behind the renames.
func (p *planner) newNames() {
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		fill := p.Answers.Fill[key]
		if fill.Literal {
			continue
		}
		list := p.Engine.SQL().Lex(fill.SQL)
		tables := p.tablesIn(list)
		of, _, _ := sqlschema.CutTable(key, p.Wanted)
		for _, r := range p.Answers.Rename {
			table, _ := p.Answers.After(r.Table, "")
			to := p.Wanted.Table(table)
			bare := false // the name stands without a table before it
			for i, t := range list {
				bare = bare || t.Named() && strings.EqualFold(t.Name(), r.Column) && (i == 0 || list[i-1].Text != ".")
			}
			switch {
			case r.Value != "":
			case r.Column == "" && p.Wanted.Table(r.Table) == nil && slices.Contains(tables, r.Table):
				p.fail("--fill %s=sql:…: this migration gives %s the name %s; write that name in the expression",
					key, r.Table, r.To)
			case r.Column != "" && slices.Contains(tables, table) && table != of && bare && to != nil &&
				to.Column(r.Column) == nil:
				p.fail("--fill %s=sql:…: this migration gives %s.%s the name %s; write that name in the expression, "+
					"or %[5]s.%[3]s for its own column", key, table, r.Column, r.To, of)
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
