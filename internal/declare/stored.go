package declare

// This file reads the clauses and words that say how something is kept in the database: its
// type, its name, its form, its numbers.

import (
	"math/big"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// stored is what a clause or a line says of how it is kept.
func stored(s lang.Stored) schema.Stored {
	out := schema.Stored{
		Named: s.Name != nil, Unnamed: s.Unnamed, Form: schema.Form(s.Form), Deferrable: s.Deferrable,
		NotValid: s.NotValid, NoInherit: s.NoInherit, Invisible: s.Invisible, Conflict: strings.ToUpper(s.Conflict),
	}
	if s.Full {
		out.Match = "FULL"
	}
	if s.Options != nil {
		out.Options = strings.TrimSpace(s.Options.Text)
	}
	if s.Comment != nil {
		out.Comment = s.Comment.Text
	}
	return out
}

// more is what is said in two places of one reference.
func more(a, b schema.Stored) schema.Stored {
	a.Named, a.Unnamed, a.NotValid = a.Named || b.Named, a.Unnamed || b.Unnamed, a.NotValid || b.NotValid
	if b.Deferrable != "" {
		a.Deferrable = b.Deferrable
	}
	if b.Match != "" {
		a.Match = b.Match
	}
	return a
}

// storedIndex gives an index what its clause, or its line of the model m, says of how it is
// kept.
func (r *resolver) storedIndex(x *schema.Index, s lang.Stored, m *model) {
	x.Stored = stored(s)
	if s.Name != nil {
		x.Name = s.Name.Text
		r.given[x] = s.Name.Pos
	}
	_, x.Stored.Named = r.given[x]
	if s.Conflict != "" {
		if x.Stored.Form == schema.AsIndex {
			r.errorf(s.Pos, "write as constraint", "only a constraint says what to do on a conflict, and an index does not")
		}
		x.Stored.Form = schema.AsConstraint
	}
	x.Stored.Said = x.Stored.Form != "" || x.Stored.Options != "" || x.Stored.Comment != "" || x.Stored.Invisible
	if m == nil {
		return
	}
	for _, id := range s.Include {
		if f := r.lookup(m, id); f != nil {
			x.Stored.Include = append(x.Stored.Include, f.column.Name)
		}
	}
}

// storedAs gives a column the engine's own type.
func (r *resolver) storedAs(f *field, c *lang.Clause) {
	t := &f.column.Type
	name := f.decl.Name.Name
	t.As, t.Typeless = "", false
	switch {
	case t.Kind == schema.Native && t.Of == nil:
		r.errorf(c.Pos, "", "%s is of the engine's own type already", name)
	case c.Enum && t.Kind != schema.Choice:
		r.errorf(c.Pos, `write choice(a, b) as enum, or as "TYPE"`, "only a choice can be an enum; %s is %s", name, *t)
	case c.Enum:
		t.Listed = true
	default:
		t.As, t.Enum = strings.TrimSpace(c.Value.Text), ""
		t.Typeless = t.As == ""
	}
}

// numbers says how the database numbers a column.
func (r *resolver) numbers(m *model, f *field, c *lang.Clause) {
	col, name := f.column, f.decl.Name.Name
	col.Identity = true
	col.Numbers = schema.Numbers{Serial: c.Word == "serial", Rowid: c.Word == "rowid", Always: c.Always,
		Start: int64(c.Start)}
	if c.Value != nil {
		col.Numbers.Sequence = c.Value.Text
	}
	if t := col.Type; !t.Kind.Whole() {
		r.errorf(c.Pos, "", "only a whole number can be generated; %s is %s", name, t)
	}
	if slices.Equal(m.key, []string{name}) {
		return
	}
	col.Numbers.NoKey = true
	if c.Word == "rowid" {
		r.errorf(c.Pos, "write key rowid", "rowid needs key: %s is not the whole primary key", name)
	}
}

func (r *resolver) rangeOf(f *field, c *lang.Clause) {
	t := f.column.Type
	switch {
	case t.Kind.Number(),
		t.Kind == schema.Date,
		t.Kind == schema.Time,
		t.Kind == schema.Timestamp,
		t.Kind == schema.Datetime:
	default:
		r.errorf(c.Pos, "", "only numbers, dates and times have a range; %s is %s", f.decl.Name.Name, t)
		return
	}
	out := &schema.Range{}
	for _, end := range []struct {
		from *lang.Value
		to   **schema.Value
	}{{c.From, &out.From}, {c.To, &out.To}} {
		if end.from == nil {
			continue
		}
		if !end.from.Constant() || end.from.Kind == schema.NullValue {
			r.errorf(end.from.Pos, "", "each end of a range is a constant")
			return
		}
		if !r.value(end.from, t, f.decl.Name.Name) {
			return
		}
		v := end.from.Value
		*end.to = &v
	}
	if out.From != nil && out.To != nil {
		before := out.From.Text <= out.To.Text
		if t.Kind.Number() {
			a, _ := new(big.Rat).SetString(out.From.Text)
			b, _ := new(big.Rat).SetString(out.To.Text)
			before = a.Cmp(b) <= 0
		}
		if !before {
			r.errorf(c.Pos, "", "the range is reversed")
			return
		}
	}
	f.column.Range = out
}

// checkName is the next free name of a check without a name of its own.
func (n Names) checkName(t *schema.Table, columns []string) string {
	for i := 0; ; i++ {
		suffix := "check"
		if i > 0 {
			suffix += strconv.Itoa(i)
		}
		name := schema.ConstraintName(t.Bare(), columns, suffix)
		if n.Check != "" {
			name = named(n.Check+strings.TrimPrefix(suffix, "check"), t.Bare(), columns, "", "")
		}
		if !slices.ContainsFunc(t.Checks, func(c *schema.Check) bool { return strings.EqualFold(c.Name, name) }) {
			return name
		}
	}
}

// storedLine reads a line that says how a table is kept.
func storedLine(t *schema.Table, l *lang.Line) {
	switch {
	case l.Unchecked:
		t.Unchecked = true
	case l.Collation != nil:
		t.Collation = l.Collation.Text
	case l.Options != nil:
		t.Options = strings.TrimSpace(l.Options.Text)
	case l.Key != nil:
		storedKey(t, l.Key.Stored)
	}
}

func storedKey(t *schema.Table, s lang.Stored) {
	t.KeyStored = stored(s)
	if s.Name != nil {
		t.KeyName = s.Name.Text
	}
}

// storedClause reads a clause that says how a column is kept.
func (r *resolver) storedClause(m *model, f *field, c *lang.Clause) {
	col, t, name := f.column, f.column.Type, f.decl.Name.Name
	switch c.Word {
	case "key":
		storedKey(m.table, c.Stored)
	case "collation":
		if t.Kind != schema.Text && t.Kind != schema.Choice && t.Kind != schema.Native {
			r.errorf(c.Pos, "", "only text has a collation; %s is %s", name, t)
		}
	case "invisible":
		col.Invisible = true
	case "storage":
		col.Storage = c.Value.Text
	case "statistics":
		col.Statistics = &c.Number
	case "update now":
		col.UpdateNow = true
		if t.Kind != schema.Timestamp && t.Kind != schema.Datetime {
			r.errorf(c.Pos, "", "only a timestamp can be set to the time by an update; %s is %s", name, t)
		}
	case "identity", "serial", "rowid":
		r.numbers(m, f, c)
	}
}
