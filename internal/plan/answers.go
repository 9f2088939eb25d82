package plan

// This file is what people answer: renames, fills, drops; and what a plan asks of them.

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
	"erbario/internal/words"
)

// Answers are what people decided.
type Answers struct {
	Rename []Rename
	Fill   map[string]Fill // by table.column
	Drop   map[string]bool // by table or table.column
	// Deleted says, by table, what becomes of the rows that are marked as deleted
	// when soft deletion goes.
	Deleted map[string]DeletedRows
}

// DeletedRows is what becomes of deleted rows when soft deletion is taken away.
type DeletedRows string

// None tells whether nothing was answered.
func (a Answers) None() bool { return len(a.Rename)+len(a.Fill)+len(a.Drop)+len(a.Deleted) == 0 }

// Rename gives a table, a column or a value of a choice another name.
type Rename struct {
	Table, Column, Value string // the old name: of a table, or of a column in it, or of a value in that
	To                   string
	Aside                bool // only until it is dropped: another, or something new, has its name
}

// String gives the rename as the flag would say it.
func (r Rename) String() string {
	s := r.Table
	if r.Column != "" {
		s += "." + r.Column
	}
	if r.Value != "" {
		s += "." + r.Value
	}
	return s + "=" + r.To
}

// Fill is the value that rows are given which have none.
type Fill struct {
	SQL     string // an expression over the row, or a literal
	Literal bool
	Ask     bool // the literal is this database's alone: every other is asked
}

// Question is something that only a person can decide.
type Question struct {
	About   string // table or table.column
	Lacks   bool   // it is about rows that have no value in that column
	Text    string // one sentence
	Rows    int64  // the rows concerned
	Choices []Choice
	Other   string // what else could be done, such as a line in the model
	Query   string // the rows concerned, where some of them tell more than their number
	Sample  engine.Rows
}

// Choice is one way to answer a question.
type Choice struct {
	Words string // what it means
	// Flags are how draft is told so, most often one, without the quotes of a shell. VALUE
	// or EXPRESSION at the end of one stands for what has yet to be said.
	Flags []string
}

func choice(words string, flags ...string) Choice { return Choice{words, flags} }

// InTheWay is a requirement that rows of the live database stand against.
type InTheWay struct {
	Requirement engine.Requirement
	Rows        int64
	Sample      engine.Rows
	Choices     []Choice // flags by which the rows would fit
}

// ways asks the live rows what stands against the plan.
func (p *planner) ways() error {
	if p.Look == nil {
		return nil
	}
	for _, r := range append(slices.Clone(p.plan.BeforeApply), p.early...) {
		if r.Wait {
			continue // time may mend it
		}
		n, rows, err := p.Look(p.Engine.SQL().Bind(r.Query, p.homes()))
		if err != nil {
			return fmt.Errorf("it cannot be checked whether the live rows fit: %w", err)
		}
		if n > 0 {
			p.plan.InTheWay = append(p.plan.InTheWay, InTheWay{r, n, rows, p.wayOn(r)})
		}
	}
	return nil
}

// wayOn are the flags by which rows would fit a requirement of a column's new type.
func (p *planner) wayOn(r engine.Requirement) []Choice {
	for _, c := range p.plan.Changes {
		col, ok := c.Object.(*sqlschema.Column)
		if !ok || c.Kind != diff.ChangeType || r.Table != c.Table || r.About != c.Name {
			continue
		}
		old, _ := c.Before.(*sqlschema.Column)
		x, expression := "{"+c.Name+"}", "EXPRESSION"
		switch t := col.Type; {
		case old != nil && old.Type.Kind == schema.Text && t.Kind == schema.Decimal &&
			!strings.Contains(col.SQLType, "TEXT"):
			expression = fmt.Sprintf("cast(%s as %s)", x, col.SQLType)
		case old == nil || old.Type.Kind != t.Kind:
		case t.Kind == schema.Text && t.Length > 0:
			expression = fmt.Sprintf("substr(%s, 1, %d)", x, t.Length)
		case t.Kind == schema.Decimal && t.Precision-t.Scale >= old.Type.Precision-old.Type.Scale:
			expression = fmt.Sprintf("round(%s, %d)", x, t.Scale)
		}
		return append(
			p.columnsSwap(c),
			choice("an expression over each row; the old values are kept",
				fmt.Sprintf("--fill %s=sql:%s", c.Target(), expression)),
			asNewColumn(c),
		)
	}
	return nil
}

func (p *planner) ask(q Question) { p.plan.Questions = append(p.plan.Questions, q) }

// unseen tells whether rows may have a column that nobody can see here.
func (p *planner) unseen(table, column string) bool {
	return p.Unseen != nil && p.Unseen(p.oldTable(table), p.oldColumn(table, column))
}

// rowsOf is the number of rows of a table in words, as far as they are seen.
func (p *planner) rowsOf(table, column string, n int64) string {
	if n == 0 && p.unseen(table, column) {
		return "rows in databases of " + p.Engine.Name()
	}
	return words.Rows(n)
}

// ValueChoices are the answers to what value rows are to have in a column of a declared
// table that becomes required. Several rows cannot have one value where it is unique by
// itself, and a key is never optional.
func ValueChoices(t *sqlschema.Table, column string, rows int64) []Choice {
	target := t.Name + "." + column
	key := t.Key()
	alone := func(names []string) bool { return len(names) == 1 && strings.EqualFold(names[0], column) }
	unique := alone(key) || slices.ContainsFunc(t.Indexes, func(x *sqlschema.Index) bool {
		return x.Unique && len(x.Parts) == 1 && alone(sqlschema.Names(x.Parts))
	})
	var out []Choice
	if !unique || rows < 2 {
		out = append(out, choice("one value for the existing rows", "--fill "+target+"=VALUE"))
	}
	out = append(out, choice("an SQL expression over the other columns", "--fill "+target+"=sql:EXPRESSION"))
	if t.InSQL { // no answer edits its file
		return out
	}
	if !unique {
		out = append(out, choice("a default, for existing and new rows", "--default "+target+"=VALUE"))
	}
	if !slices.ContainsFunc(key, func(k string) bool { return strings.EqualFold(k, column) }) {
		out = append(out, choice("make it optional", "--optional "+target))
	}
	return out
}

// shown is a query for rows of a live table, by key and a column.
func (p *planner) shown(table, column, where string) string {
	t := p.Live.Table(table)
	var names []string
	for _, k := range t.Key() {
		names = append(names, p.Engine.SQL().Quote(p.oldColumn(table, k)))
	}
	if n := p.Engine.SQL().Quote(p.oldColumn(table, column)); column != "" && !slices.Contains(names, n) {
		names = append(names, n)
	}
	if len(names) == 0 {
		return ""
	}
	return fmt.Sprintf("SELECT %s FROM %s WHERE %s", strings.Join(names, ", "),
		p.Engine.SQL().QuoteTable(p.oldTable(table)),
		where)
}

// fill is the value that a person gave for rows of a column; where tells which
// rows are given it, empty for all.
func (p *planner) fill(table, column, where string) (Fill, bool) {
	f, ok := p.Answers.Fill[table+"."+column]
	if !ok {
		return f, false
	}
	p.used["fill "+table+"."+column] = true
	if f.Ask {
		name := engine.ParameterName(table+"_"+column, false)
		if !slices.ContainsFunc(p.plan.Parameters, func(x engine.Parameter) bool { return x.Name == name }) {
			query := "SELECT 1 FROM " + p.Engine.SQL().QuoteTable(p.oldTable(table))
			if where != "" {
				query += " WHERE " + where
			}
			typ := schema.Type{Kind: schema.Text}
			if c := p.Wanted.Table(table).Column(column); c != nil {
				typ = c.Type
			}
			p.plan.Parameters = append(p.plan.Parameters, engine.Parameter{
				Name:  name,
				For:   table + "." + column,
				Type:  typ.String(),
				Home:  f.SQL,
				Query: query,
			})
		}
		return Fill{SQL: ":" + name}, true
	}
	if !f.Literal {
		p.read(table, column, f.SQL)
	}
	if !f.Literal && !p.renamed(table) && p.Count != nil && p.err == nil {
		query := fmt.Sprintf("SELECT %s FROM %s", p.fillBefore(table, f.SQL), p.Engine.SQL().QuoteTable(table))
		if _, err := p.Count(query); err != nil {
			p.err = fmt.Errorf("--fill %s.%s=sql:%s fails on the rows of %s: %w", table, column, f.SQL, table, err)
		}
	}
	return f, true
}

func (p *planner) answered(what, about string) bool {
	if p.Answers.Drop[about] {
		p.used[what+" "+about] = true
		return true
	}
	return false
}

// unused reports answers that answered nothing: most likely a name mistyped.
func (p *planner) unused() error {
	var err error
	nothing := func(flag, format string, args ...any) {
		_, key, _ := strings.Cut(flag, " ")
		if table, _, _ := sqlschema.CutTable(key, p.Wanted, p.Live); p.skipped[table] {
			return
		}
		p.plan.Unused = append(p.plan.Unused, flag)
		if err == nil && !p.Lenient {
			err = fmt.Errorf("%s matches no question: %s; see erbario diff", flag, fmt.Sprintf(format, args...))
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Fill)) {
		if !p.used["fill "+key] {
			nothing("--fill "+key, "no change gives %s a value", key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Drop)) {
		if !p.used["drop "+key] {
			nothing("--drop "+key, "%s is not being dropped", key)
		}
	}
	for _, key := range slices.Sorted(maps.Keys(p.Answers.Deleted)) {
		if !p.used["deleted "+key] {
			nothing("--deleted "+key, "soft delete of %s is not being removed", key)
		}
	}
	for _, r := range p.Answers.Rename {
		if r.Value != "" && !p.used["rename "+r.String()] {
			nothing("--rename "+r.String(), "the choice does not change like that")
		}
	}
	return err
}
