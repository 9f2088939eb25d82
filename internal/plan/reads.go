package plan

// This file looks at what fills read. A value that is worked out from other tables is
// worked out before what it reads is dropped, and after what it reads was filled itself;
// and a name in a subquery that only the filled row can supply is a likely mistake.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/engine/sqltext"
	"erbario/internal/engine/sqltok"
	"erbario/internal/sqlschema"
)

// OuterName is a column in a fill's subquery that no table of the subquery has, so that
// the database takes it from the row that is filled.
type OuterName struct {
	Fill   string   `json:"fill"`   // the table.column that is filled
	Table  string   `json:"-"`      // that of the two
	Name   string   `json:"name"`   // in the subquery
	Tables []string `json:"tables"` // that the subquery reads
}

// word is a name in a piece of SQL, with what stands next to it.
type word struct {
	name      string
	qualified bool // behind a dot
	owner     bool // before a dot: a table
	call      bool // before a bracket: a function
	alias     bool // behind AS
	table     bool // behind FROM, JOIN, or a comma of such a list
	query     int  // the number of the subquery in which it stands; 0: none
}

func (w word) is(name string) bool { return strings.EqualFold(w.name, name) }

// wordsOf gives the names in an expression, and for each subquery the one in which it
// stands.
func wordsOf(list []sqltok.Token) (out []word, within map[int]int) {
	within = map[int]int{}
	var open []int // the subqueries outside of the brackets that are open
	queries, current := 0, 0
	text := func(i int) string {
		if i < 0 || i >= len(list) {
			return ""
		}
		return list[i].Text
	}
	from := map[int]bool{} // subqueries whose list of tables goes on
	for i, t := range list {
		switch {
		case t.Text == "(":
			open = append(open, current)
			if i+1 < len(list) && list[i+1].Word() == "SELECT" {
				queries++
				within[queries] = current
				current = queries
			}
			continue
		case t.Text == ")":
			if n := len(open); n > 0 {
				current, open = open[n-1], open[:n-1]
			}
			continue
		case !t.Named():
			continue
		}
		w := word{
			name:      t.Name(),
			qualified: text(i-1) == ".",
			owner:     text(i+1) == ".",
			call:      text(i+1) == "(",
			query:     current,
		}
		if i > 0 {
			last := list[i-1].Word()
			w.alias = last == "AS"
			w.table = last == "FROM" || last == "JOIN" || from[current] && text(i-1) == ","
		}
		switch t.Word() {
		case "FROM":
			from[current] = true
		case "WHERE", "ON", "GROUP", "ORDER", "LIMIT", "SELECT", "HAVING":
			from[current] = false
		}
		out = append(out, w)
	}
	return out, within
}

// read notes which other tables a fill reads.
func (p *planner) read(table, column, sql string) {
	p.reads[table] = append(p.reads[table], sql)
	p.outerNames(table, column, sql)
}

// outerNames notes the names in a fill's subqueries that the row alone can supply.
func (p *planner) outerNames(table, column, sql string) {
	row := p.Live.Table(table)
	if row == nil {
		return
	}
	list, within := wordsOf(p.Engine.SQL().Lex(sql))
	// The tables that a subquery and those around it read.
	scope := map[int][]*sqlschema.Table{}
	known := map[int]bool{}
	for q := range within {
		known[q] = true
	}
	names := map[int][]string{}
	for _, w := range list {
		if w.query == 0 || !w.table {
			continue
		}
		if t := p.Live.Table(w.name); t != nil && !w.owner {
			scope[w.query] = append(scope[w.query], t)
			names[w.query] = append(names[w.query], t.Name)
		} else {
			known[w.query] = false // a view, or a query: its columns are not known here
		}
	}
	for _, w := range list {
		if w.query == 0 || w.qualified || w.owner || w.call || w.alias || row.Column(w.name) == nil {
			continue
		}
		found, sure := false, true
		var read []string
		for q := w.query; q != 0; q = within[q] {
			sure = sure && known[q] && len(scope[q]) > 0
			for _, t := range scope[q] {
				found = found || t.Column(w.name) != nil
			}
			read = append(read, names[q]...)
		}
		o := OuterName{Fill: table + "." + column, Table: table, Name: w.name, Tables: read}
		if sure && !found &&
			!slices.ContainsFunc(p.plan.Outer, func(x OuterName) bool { return x.Fill == o.Fill && x.Name == o.Name }) {
			p.plan.Outer = append(p.plan.Outer, o)
		}
	}
}

// order gives the tables whose changes come before the one of a table, and those whose
// changes come after it, for the sake of what its fills read.
func (p *planner) order(table string) (before, after []string, err error) {
	for _, sql := range p.reads[table] {
		tokens := p.Engine.SQL().Lex(sql)
		list, _ := wordsOf(tokens)
		mentions := func(name string) bool {
			return slices.ContainsFunc(list, func(w word) bool { return w.is(name) && !w.owner })
		}
		for _, other := range sqltext.Touches(tokens, nil).Tables {
			live, wanted := p.Live.Table(other), p.Wanted.Table(other)
			if live == nil || wanted == nil || strings.EqualFold(other, table) {
				continue
			}
			var goes, comes bool
			for _, c := range live.Columns {
				if w := wanted.Column(c.Name); mentions(c.Name) &&
					(w == nil || !strings.EqualFold(w.SQLType, c.SQLType)) {
					goes = true
				}
			}
			for _, c := range wanted.Columns {
				comes = comes || mentions(c.Name) && live.Column(c.Name) == nil
			}
			switch {
			case goes && comes && p.parted[live.Name] != nil:
				before, after = append(before, live.Name), append(after, lateID(live.Name))
			case goes && comes:
				return nil, nil, fmt.Errorf(
					"the fill of %s reads both columns that %s loses and columns that it gets. Draft it in two migrations, first what is added, then what is dropped",
					table, live.Name)
			case goes:
				after = append(after, live.Name)
			case comes:
				before = append(before, live.Name)
			}
		}
	}
	return before, after, nil
}
