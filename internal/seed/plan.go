// Package seed makes the rows of seeds: it orders their lines, makes every value
// before any database sees it, and loads the rows, records them, and takes them
// out again. The same seed, models and random number give the same rows, on every
// engine and every machine: each value comes from a stream of random numbers of
// its own, told by where it stands.
//
//	o := seed.Options{Random: 1}
//	plan, mistakes := seed.New(d, d.Seeds[0], o) // no database is needed
//	out, err := seed.Run(ctx, db, e, d, d.Seeds[0], seed.RunOptions{Options: o, Wait: time.Minute})
//
// plan.go and order.go order the lines, column.go says how each column is filled (guess.go by its name,
// object.go JSON, price.go money) and limits.go what it may be, asked.go what the seed asks for
// beyond that, source.go where it comes from. What has to agree in a row: subject.go places and
// people, times.go the order of times, progress.go the status. row.go makes rows; run.go loads
// them, remove.go takes them out, script.go writes them.
package seed

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"erbario/internal/declare"
	"erbario/internal/engine"
	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Engine is what seeds need of an engine.
type Engine interface {
	Name() string
	OwnTables() engine.OwnTables
	SQL() engine.Dialect
	DDL() engine.Compiler
	Scripts() engine.Scripter
}

// Database is what seeds need of a database.
type Database interface {
	engine.Conn
	engine.Loader
	Inspect(ctx context.Context) (*sqlschema.Schema, error)
	Kept(ctx context.Context, prefix string) ([]string, error)
	EnforceReferences(ctx context.Context, enforce bool) error
	TrackIntegrity(ctx context.Context, statements, tables []string) error
	CheckIntegrity(ctx context.Context) error
}

// Options are what a seed's rows depend on beside the seed and the models.
type Options struct {
	Random   uint64
	Today    time.Time // the day that dates are taken against; zero: FixedDay
	Existing *Existing // what is in the database; nil: nothing
	Locale   string    // of names and places, such as it or pt-BR; empty: of several languages
}

// FixedDay is the day that dates are taken against unless today is asked for.
const FixedDay = "2026-01-01"

// Plan is a seed made ready: its lines in the order in which their rows are made.
type Plan struct {
	Seed   *declare.Seed
	Lines  []*Line
	Random uint64

	schema *schema.Schema
	locale string
	ground *Existing
	today  int64 // the day
	tables map[string]*tablePlan
}

// tablePlan is what the lines of one table share.
type tablePlan struct {
	table    *schema.Table
	lines    []*Line
	uniques  []*unique
	identity string           // the column that is numbered; "" for none
	place    map[string]int   // of columns in a row
	columns  []*schema.Column // those that rows have values for
	checks   []*expr
	read     map[*schema.Check]bool // those of the table that could be read
	keep     []string               // columns whose values are kept, since other rows take them
}

// Line makes rows of one table: a line of the seed, or one level of a tree.
type Line struct {
	Table    *schema.Table
	Columns  []string // of its rows
	Total    int64    // the rows that it makes; known once the plan is
	Name     string   // tells the line from all others of the seed, the same from run to run
	Deferred []*Deferred

	pos      lang.Pos
	plan     *tablePlan
	source   *declare.SeedLine
	parent   *Line
	up       *schema.ForeignKey // to the parent
	above    *schema.ForeignKey // of a deeper level of a tree: to the parent of the tree's first
	written  int                // its place in the seed as written
	level    int                // of a tree, from 0
	recorded string             // the name by which it was recorded, where its model has another by now
	hash     uint64
	before   int64 // the rows that the lines of its table before it make
	first    int64 // the number that its first row has in an identity
	columns  []*column
	subjects []*subject
	fillings []*column                // columns in the order in which they are filled
	follow   map[*unique][]*column    // those of a uniqueness, and what is worked out from them
	picks    map[string]*pick         // by the first column of a reference
	kept     map[string][]any         // by column: the values of all its rows
	most     int64                    // the rows that it can make under one row of its parent; 0: any number
	found    map[int64]map[string]any // by row: the values of a row that was there already
	upper    []int64                  // by row: the row of the tree's parent, where the rows below need it
	follows  string                   // the column that marks rows of its parent as deleted, with which its own go
}

// Deferred is a reference that is filled when all rows are there, since it closes
// a circle.
type Deferred struct {
	Key  *schema.ForeignKey
	pick *pick
}

// Sentence is what a mistake in a seed says, with its place.
func mistake(l *declare.SeedLine, hint, format string, args ...any) lang.Diagnostic {
	return lang.Diagnostic{Pos: l.Pos, Hint: hint, Message: fmt.Sprintf(format, args...)}
}

// New makes a plan. What cannot be made is told as mistakes in the seed.
func New(d *declare.Declared, s *declare.Seed, o Options) (*Plan, []lang.Diagnostic) {
	p := &Plan{
		Seed:   s,
		Random: o.Random,
		locale: o.Locale,
		schema: d.Schema,
		ground: o.Existing,
		today:  day(FixedDay),
		tables: map[string]*tablePlan{},
	}
	if p.ground == nil {
		p.ground = &Existing{}
	}
	if !o.Today.IsZero() {
		p.today = day(o.Today.UTC().Format(time.DateOnly))
	}
	p.expand(s.Lines, nil, map[string]int{})
	if m := p.order(); m != nil {
		return nil, []lang.Diagnostic{*m}
	}
	for _, l := range p.Lines {
		t := p.tables[l.Table.Name]
		if t == nil {
			t = p.newTable(l.Table)
			p.tables[l.Table.Name] = t
		}
		t.lines = append(t.lines, l)
		l.plan = t
	}
	for _, l := range p.Lines {
		p.keepReferred(l)
	}
	var mistakes []lang.Diagnostic
	for _, l := range p.Lines {
		if m := p.columns(l); m != nil && !slices.ContainsFunc(mistakes,
			func(o lang.Diagnostic) bool { return o == *m }) { // the levels of a tree have the same
			mistakes = append(mistakes, *m)
		}
	}
	if len(mistakes) > 0 {
		return nil, mistakes
	}
	p.early()
	for _, t := range p.tables {
		t.share()
	}
	if m := p.count(); m != nil {
		return nil, []lang.Diagnostic{*m}
	}
	for _, l := range p.Lines {
		for _, m := range p.missing(l) {
			if !m.Warning {
				mistakes = append(mistakes, m)
			}
		}
	}
	if len(mistakes) > 0 {
		return nil, mistakes
	}
	return p, nil
}

// hash is where the random numbers of a line come from.
func (p *Plan) hash(name string) uint64 {
	return fake.Mix(fake.Hash(p.Seed.Name+" "+name) ^ fake.Mix(p.Random))
}

// expand makes a line of every line of the seed, and of every level of a tree.
func (p *Plan) expand(lines []*declare.SeedLine, parent *Line, twins map[string]int) {
	for _, s := range lines {
		name := s.Table.Model
		if parent != nil {
			name = parent.Name + "/" + name
		}
		twins[name]++
		if n := twins[name]; n > 1 {
			name += fmt.Sprintf("#%d", n)
		}
		above, up := parent, s.Up
		for level := range max(1, s.Depth) {
			l := &Line{
				Table:   s.Table,
				Name:    name,
				pos:     s.Pos,
				source:  s,
				parent:  above,
				up:      up,
				level:   level,
				written: len(p.Lines),
				kept:    map[string][]any{},
				picks:   map[string]*pick{},
			}
			if level > 0 {
				l.Name = fmt.Sprintf("%s^%d", name, level)
				l.above = s.Up
			}
			l.hash = p.hash(l.Name)
			p.Lines = append(p.Lines, l)
			p.expand(s.Lines, l, twins)
			above, up = l, s.Tree
		}
	}
}

// newTable reads what the lines of a table share.
func (p *Plan) newTable(t *schema.Table) *tablePlan {
	out := &tablePlan{table: t, place: map[string]int{}, read: map[*schema.Check]bool{}}
	for _, c := range t.Columns {
		if c.Generated != nil ||
			c.Value != nil && c.Value.Kind == schema.SQLValue && c.Fake == nil && !p.said(c.Name, t) {
			continue
		}
		if c.Identity {
			out.identity = c.Name
		}
		out.place[c.Name] = len(out.columns)
		out.columns = append(out.columns, c)
	}
	place := func(name string) int {
		if c := t.Column(name); c != nil {
			if i, ok := out.place[c.Name]; ok {
				return i
			}
		}
		return -1
	}
	number := func(i int) bool { return out.columns[i].Type.Kind == schema.Decimal }
	for _, k := range t.Checks {
		if e := readCheck(k.SQL, place, number); e != nil {
			out.checks = append(out.checks, e)
			out.read[k] = true
		}
	}
	out.checks = append(out.checks, inTime(out)...)
	add := func(name string, parts []schema.Part, where string) {
		u := &unique{name: name}
		for _, part := range parts {
			i := place(part.Column)
			if part.SQL != "" || i < 0 || part.Column == out.identity {
				return // the database alone can tell
			}
			u.columns = append(u.columns, i)
			u.fold = append(u.fold, part.IgnoringCase)
		}
		if where != "" {
			u.where = readCheck(where, place, number)
		}
		out.uniques = append(out.uniques, u)
	}
	if t.Key != nil {
		add(cmp.Or(t.KeyName, t.KeyRule, schema.ConstraintName(t.Bare(), nil, "pkey")), schema.Parts(t.Key), "")
	}
	for _, x := range t.Indexes {
		switch {
		case !x.Unique:
		case x.Live: // unique among all, deleted or not: more than is asked for
			add(x.Name, x.Parts, "")
		default:
			add(x.Name, x.Parts, x.Where)
		}
	}
	return out
}

// said tells whether a line of the seed fills a column, or takes its value.
func (p *Plan) said(column string, t *schema.Table) bool {
	return slices.ContainsFunc(p.Lines, func(l *Line) bool {
		if l.Table != t {
			return false
		}
		for name, s := range l.source.Supplies {
			if name == column || s.Refers(column) {
				return true
			}
		}
		return false
	})
}

// inTime are the conditions that no row is changed before it was made, or deleted
// before it was changed.
func inTime(t *tablePlan) []*expr {
	column := func(name string) *expr { return &expr{op: "column", column: t.place[name]} }
	var stages [3][]string
	for _, c := range t.columns {
		switch {
		case c.Name == t.table.SoftDelete:
			stages[2] = append(stages[2], c.Name)
		case c.Stamped:
			stages[1] = append(stages[1], c.Name)
		case c.Name == "created_at" && c.Type.Kind == schema.Timestamp:
			stages[0] = append(stages[0], c.Name)
		}
	}
	var out []*expr
	for i, early := range stages[:2] {
		for _, late := range stages[i+1:] {
			for _, a := range early {
				for _, b := range late {
					out = append(out, &expr{op: "<=", args: []*expr{column(a), column(b)}})
				}
			}
		}
	}
	return out
}

// keepReferred notes the columns of other tables whose values the line takes.
func (p *Plan) keepReferred(l *Line) {
	keep := func(table string, columns []string) {
		t := p.tables[table]
		if t == nil {
			return
		}
		for _, c := range columns {
			if c != t.identity && !slices.Contains(t.keep, c) {
				t.keep = append(t.keep, c)
			}
		}
	}
	for _, k := range l.Table.ForeignKeys {
		keep(k.Table, k.References)
		keep(k.Table, besides(p.schema, l.Table, k))
	}
	if k := l.up; k != nil && k == l.source.Up && l.level == 0 && l.parent.Table.Children && l.Table.SoftDelete != "" &&
		k.OnDelete != schema.SetNull && k.OnDelete != schema.SetDefault {
		l.follows = l.parent.Table.SoftDelete
		keep(k.Table, []string{l.follows})
	}
	if len(l.Deferred) > 0 {
		keep(l.Table.Name, l.Table.Key)
		if born := bornColumn(l.Table); born != "" {
			keep(l.Table.Name, []string{born})
		}
	}
}

// share settles what the lines of a table share: the columns of a row, and which
// uniquenesses have to be remembered, and for how long.
func (t *tablePlan) share() {
	t.uniques = slices.DeleteFunc(t.uniques, func(u *unique) bool {
		for i, at := range u.columns {
			injective := func(l *Line) bool {
				c := l.columns[at]
				return c != nil && c.injective != "" && c.injective == t.lines[0].columns[at].injective &&
					c.empty == 0 && !u.fold[i]
			}
			if t.lines[0].columns[at] != nil &&
				!slices.ContainsFunc(t.lines, func(l *Line) bool { return !injective(l) }) {
				return true // no two rows can have the same value
			}
		}
		if slices.ContainsFunc(t.lines, func(l *Line) bool { return len(l.deferredIn(u)) > 0 }) {
			u.where = nil // when it is asked, not all of the row is known any more
			for _, at := range u.columns {
				if c := t.columns[at].Name; !slices.Contains(t.keep, c) {
					t.keep = append(t.keep, c)
				}
			}
			return false
		}
		if l := t.lines[0]; len(t.lines) == 1 && l.up != nil {
			u.byUp = !slices.ContainsFunc(l.up.Columns, func(c string) bool {
				return !slices.Contains(u.columns, t.place[c])
			})
		}
		return false
	})
}

// deferredIn are the references in a uniqueness that are filled in the end.
func (l *Line) deferredIn(u *unique) []*Deferred {
	return slices.DeleteFunc(slices.Clone(l.Deferred), func(d *Deferred) bool {
		return !slices.ContainsFunc(u.columns,
			func(at int) bool { return slices.Contains(d.Key.Columns, l.Columns[at]) })
	})
}

// rowsUnder is how many rows a line makes under one row of its parent.
func (l *Line) rowsUnder(parent int64) int64 {
	from, to := l.source.From, l.source.To
	if from == to {
		return int64(from)
	}
	r := fake.NewRandom(l.hash, 0xc0de, uint64(parent))
	n := r.Between(int64(from), int64(to))
	if l.most > 0 {
		n = min(n, l.most)
	}
	return n
}

// most is the number of rows that a plan makes at most: far beyond what a
// database takes in a day.
const most = 1 << 40

// counted is for how many rows a range falls out at most, one by one: a second or
// two of work.
const counted = 1 << 28

// count works out how many rows every line makes, and which numbers they get.
func (p *Plan) count() *lang.Diagnostic {
	before := map[string]int64{}
	for _, l := range p.Lines {
		l.Total, l.most = 0, 0
		for _, k := range l.picks {
			k.settle(p, l)
		}
		if n, fields, ok := l.limit(); ok {
			if n < int64(l.source.From) {
				m := mistake(l.source,
					"create fewer rows, list more values, or create more of the rows that they refer to",
					"%s must be unique by %s, and only %d values are available", l.Table.Model, together(fields), n)
				return &m
			}
			l.most = n
		}
		parents := int64(1)
		if l.parent != nil {
			parents = l.parent.Total
		}
		if l.source.From == l.source.To {
			l.Total = parents * int64(l.source.From)
			if parents > most || l.Total > most {
				m := mistake(l.source, "create fewer rows", "these are more rows than can be created, %d times %d",
					parents, l.source.From)
				return &m
			}
		} else {
			if parents > counted {
				m := mistake(l.source, "write one number instead of a range",
					"these are more rows than can be counted, a range for each of %d", parents)
				return &m
			}
			for i := range parents {
				l.Total += l.rowsUnder(i)
			}
		}
		if l.Total > most {
			m := mistake(l.source, "create fewer rows", "these are more rows than can be created")
			return &m
		}
		name := l.Table.Name
		l.before, l.first = before[name], p.ground.table(name).Next+before[name]
		before[name] += l.Total
		for _, k := range l.picks {
			if m := k.starved(p, l); m != nil {
				return m
			}
		}
		if m := l.fits(); m != nil {
			return m
		}
	}
	for _, l := range p.Lines { // those that close a circle pick among lines behind them
		for _, d := range l.Deferred {
			d.pick.settle(p, l)
		}
	}
	return nil
}

// Rows is the number of rows of a plan, and by table in the order of the lines.
func (p *Plan) Rows() (total int64, tables []TableRows) {
	for _, l := range p.Lines {
		total += l.Total
		i := slices.IndexFunc(tables, func(t TableRows) bool { return t.Table == l.Table })
		if i < 0 {
			i = len(tables)
			tables = append(tables, TableRows{Table: l.Table})
		}
		tables[i].Rows += l.Total
	}
	return total, tables
}

// TableRows is how many rows of a table a plan makes.
type TableRows struct {
	Table *schema.Table
	Rows  int64
}
