package declare

// This file resolves seeds: what every line makes, by which reference its rows
// hang on those of the line above, and how each field is filled. What a value
// is worked out from is checked here; making the values is the business of
// package seed.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Seed is a seed block with its names resolved.
type Seed struct {
	Name  string
	Pos   lang.Pos
	Lines []*SeedLine
}

// SeedLine makes From to To rows for each row of the line above it.
type SeedLine struct {
	Pos      lang.Pos
	Table    *schema.Table
	From, To int
	Up       *schema.ForeignKey // joins its rows to those of the line above; nil at the margin
	Depth    int                // the levels of a tree; 0: it is none
	Tree     *schema.ForeignKey // joins a row of a tree to the one above it
	Deleted  float64            // the share of rows marked as deleted, in percent
	Supplies map[string]*Supply // by column: how it is filled, where the seed says so
	Lines    []*SeedLine
}

// Unsaid is a share that was not written.
const Unsaid = -1

// Supply is how a seed fills a column: by nothing but a share of empty ones, by
// one of several values, by a value in a range, by a generator, or from other
// columns.
type Supply struct {
	Pos      lang.Pos
	Empty    float64 // percent, or Unsaid
	Picks    []Pick
	From, To *schema.Value
	Fake     *schema.Fake
	Sum      *Sum
}

// Pick is one of several values.
type Pick struct {
	Value schema.Value
	Parts []Part  // of a text with braces in it
	Share float64 // percent, or Unsaid
}

// Part is a piece of a text: the text itself, another column of the row, or a
// number that counts up, with so many digits at least.
type Part struct {
	Text   string
	Column string
	Digits int
}

// Sum is a column with something added to it.
type Sum struct {
	Column string
	Terms  []Term
}

// Term is one step of a sum: a column, or a number out of a range.
type Term struct {
	Op       byte
	Column   string
	From, To float64
	Unit     string
}

// Refers tells whether the value takes that of another column of the row.
func (s *Supply) Refers(column string) bool {
	if s.Sum != nil &&
		(s.Sum.Column == column || slices.ContainsFunc(s.Sum.Terms, func(t Term) bool { return t.Column == column })) {
		return true
	}
	return slices.ContainsFunc(s.Picks, func(k Pick) bool {
		return slices.ContainsFunc(k.Parts, func(x Part) bool { return x.Column == column })
	})
}

// Makes tells whether a line of the seed makes rows of the table.
func (s *Seed) Makes(table string) bool {
	var any func(lines []*SeedLine) bool
	any = func(lines []*SeedLine) bool {
		return slices.ContainsFunc(lines, func(l *SeedLine) bool { return l.Table.Name == table || any(l.Lines) })
	}
	return any(s.Lines)
}

func (r *resolver) seeds(blocks []*lang.Block) {
	names := map[string]bool{}
	for _, b := range blocks {
		if names[b.Name.Name] {
			r.errorf(b.Name.Pos, "", "the seed %s is declared twice", b.Name.Name)
		}
		names[b.Name.Name] = true
		s := &Seed{Name: b.Name.Name, Pos: b.Name.Pos}
		s.Lines = r.seedLines(b.Lines, nil, nil)
		r.out.Seeds = append(r.out.Seeds, s)
	}
	slices.SortFunc(r.out.Seeds, func(a, b *Seed) int { return strings.Compare(a.Name, b.Name) })
	for _, s := range r.out.Seeds {
		r.pickable(s, s.Lines)
	}
}

// pickable warns of references for which there can be no row to pick: neither
// this seed nor another makes one, nor a block of rows.
func (r *resolver) pickable(s *Seed, lines []*SeedLine) {
	for _, l := range lines {
		for _, k := range l.Table.ForeignKeys {
			c := l.Table.Column(k.Columns[0])
			given := l.Supplies[k.Columns[0]] != nil // by values, since a required field has no share of empty ones
			if c == nil || !c.NotNull || k == l.Up || k.Table == l.Table.Name || given {
				continue
			}
			target := r.modelOf(k.Table)
			if target == nil || target.table.Outside ||
				slices.ContainsFunc(r.out.Seeds, func(o *Seed) bool { return o.Makes(k.Table) }) ||
				slices.ContainsFunc(r.out.Rows, func(o *Rows) bool { return o.Table == target.table && len(o.Values) > 0 }) {
				continue
			}
			r.diags = append(r.diags, lang.Diagnostic{Pos: l.Pos, Warning: true,
				Message: fmt.Sprintf("%s.%s picks an existing %s: the seed %s creates none", l.Table.Model, c.Field,
					target.table.Model, s.Name),
				Hint: fmt.Sprintf("write a line such as %s 12 above it, not indented", target.table.Model)})
		}
		r.pickable(s, l.Lines)
	}
}

func (r *resolver) modelOf(table string) *model {
	for _, m := range r.order {
		if m.table.Name == table {
			return m
		}
	}
	return nil
}

func (r *resolver) seedLines(lines []*lang.Line, under *model, into *SeedLine) []*SeedLine {
	var out []*SeedLine
	said := map[string]bool{}
	for _, l := range lines {
		switch {
		case l.Make != nil:
			m := r.lookupModel(l.Make.Model)
			if m == nil {
				continue
			}
			if m.table.Outside {
				r.errorf(l.Make.Model.Pos, "", "%s is outside, and is not filled by seeds", m.table.Model)
				continue
			}
			s := &SeedLine{
				Pos:      l.Make.Model.Pos,
				Table:    m.table,
				From:     l.Make.From,
				To:       l.Make.To,
				Depth:    l.Make.Depth,
				Supplies: map[string]*Supply{},
			}
			if under != nil {
				s.Up = r.seedUp(l.Make, m, under)
			} else if l.Make.Via != nil && l.Make.Depth == 0 {
				r.errorf(l.Make.Via.Pos, "", "there is no line above this one, so via has no meaning")
			}
			if s.Depth > 0 {
				s.Tree = r.seedTree(l.Make, m, under == nil)
			}
			s.Lines = r.seedLines(l.Lines, m, s)
			out = append(out, s)
		case l.Set != nil && under == nil:
			r.errorf(l.Pos, "write MODEL COUNT first, and the field under it", "a field outside a model")
		case l.Set != nil:
			name := l.Set.Field.Name
			if said[name] {
				r.errorf(l.Set.Field.Pos, "", "%s is repeated", name)
			}
			said[name] = true
			r.seedSet(l.Set, under, into)
		}
	}
	return out
}

// seedUp is the one reference that joins rows to those of the line above.
func (r *resolver) seedUp(made *lang.Make, m, under *model) *schema.ForeignKey {
	return r.joining(made, m, under, made.Via, "do not indent the line")
}

func (r *resolver) seedTree(made *lang.Make, m *model, root bool) *schema.ForeignKey {
	via := made.Via
	if !root {
		via = nil // it says how the tree hangs on the line above
	}
	k := r.joining(made, m, m, via, "remove depth")
	if k != nil && slices.ContainsFunc(k.Columns, func(c string) bool { return m.table.Column(c).NotNull }) {
		r.errorf(made.DepthPos, "make that field optional",
			"the first level of a tree has no row above it, and %s.%s is required", m.table.Model,
			m.table.Column(k.Columns[0]).Field)
	}
	return k
}

func (r *resolver) joining(made *lang.Make, m, to *model, via *lang.Ident, hint string) *schema.ForeignKey {
	var keys []*schema.ForeignKey
	var fields []string
	for _, k := range m.table.ForeignKeys {
		if k.Table == to.table.Name {
			keys = append(keys, k)
			fields = append(fields, m.table.Column(k.Columns[0]).Field)
		}
	}
	if via != nil {
		f := r.lookup(m, *via)
		if f == nil {
			return nil
		}
		for _, k := range keys {
			if slices.Contains(k.Columns, f.column.Name) {
				return k
			}
		}
		r.errorf(via.Pos, lang.DidYouMean(via.Name, fields), "%s.%s does not refer to %s", m.table.Model, via.Name,
			to.table.Model)
		return nil
	}
	switch len(keys) {
	case 0:
		r.errorf(made.Model.Pos, hint, "%s has no reference to %s", m.table.Model, to.table.Model)
	case 1:
		return keys[0]
	default:
		r.errorf(made.Model.Pos, "write via "+fields[0]+", or another", "%s refers to %s by %d fields", m.table.Model,
			to.table.Model, len(keys))
	}
	return nil
}

// seedSet reads how a field is filled.
func (r *resolver) seedSet(set *lang.Set, m *model, into *SeedLine) {
	name := set.Field.Name
	f := m.fields[name]
	if f == nil && name == "deleted" && m.soft != nil {
		if set.Share == nil {
			r.errorf(set.Field.Pos, "write deleted 5%", "expected the share of rows marked as deleted")
			return
		}
		into.Deleted = set.Share.Percent
		return
	}
	if f == nil {
		hint := lang.DidYouMean(name, fieldNames(m))
		if name == "deleted" {
			hint = "give the model soft delete"
		}
		r.errorf(set.Field.Pos, hint, "%s has no field %s", m.table.Model, name)
		return
	}
	c := f.column
	refuse := func(why, hint string) { r.errorf(set.Field.Pos, hint, "%s %s", name, why) }
	switch {
	case set.Share != nil:
		r.errorf(set.Share.Pos, fmt.Sprintf("write %s empty %g%%", name, set.Share.Percent),
			"a share alone does not describe %s", name)
		return
	case c.Generated != nil:
		refuse("is generated by the database", "")
		return
	case c.Identity:
		refuse("is numbered by the database", "")
		return
	case into.Up != nil && slices.Contains(into.Up.Columns, c.Name),
		into.Tree != nil && slices.Contains(into.Tree.Columns, c.Name):
		refuse("is set by the line above", "")
		return
	}
	s := &Supply{Pos: set.Field.Pos, Empty: Unsaid}
	if set.Empty != nil {
		if s.Empty = set.Empty.Percent; c.NotNull && s.Empty > 0 {
			r.errorf(set.Empty.Pos, "make it optional in the model, or remove empty",
				"%s is required and cannot be empty", name)
		}
	}
	into.Supplies[c.Name] = s
	switch {
	case set.Sum != nil:
		s.Sum = r.sum(set.Sum, m, f)
	case set.To != nil:
		s.From, s.To = r.end(set.Picks[0].Value, f), r.end(set.To, f)
		if s.From != nil && s.To != nil && !inOrder(*s.From, *s.To, c.Type) {
			r.errorf(set.To.Pos, "", "the range is reversed")
		}
	case len(set.Picks) == 1 && set.Picks[0].Value.Word && len(set.Args) == 0 && r.meant(set.Picks[0].Value.Text, c.Type.Kind):
		r.picks(s, set, m, f)
	case len(set.Picks) == 1 && set.Picks[0].Value.Word && !(c.Type.Kind == schema.Choice && len(set.Args) == 0):
		s.Fake = r.generator(c, name, set.Picks[0].Value.Text, set.Picks[0].Value.Pos, set.Args)
	default:
		r.picks(s, set, m, f)
	}
}

// truths are words for true and false from elsewhere, and days those for days.
var (
	truths = map[string]string{
		"yes": "true",
		"on":  "true",
		"y":   "true",
		"t":   "true",
		"no":  "false",
		"off": "false",
		"n":   "false",
		"f":   "false",
	}
	days = map[string]string{"yesterday": "today - 1 day", "tomorrow": "today + 1 day"}
)

// meant tells whether a bare word stands for a value, and not for a generator.
func (r *resolver) meant(word string, kind schema.Kind) bool {
	word = strings.ToLower(word)
	switch kind {
	case schema.Boolean:
		return truths[word] != ""
	case schema.Date, schema.Timestamp, schema.Datetime:
		return days[word] != ""
	}
	return false
}

func (r *resolver) picks(s *Supply, set *lang.Set, m *model, f *field) {
	name, left := f.decl.Name.Name, 100.0
	for _, p := range set.Picks {
		v := *p.Value
		pick := Pick{Share: Unsaid}
		if p.Share != nil {
			pick.Share = p.Share.Percent
			if left -= pick.Share; left < -1e-9 {
				r.errorf(p.Share.Pos, "", "the shares add up to more than 100%%")
			}
		}
		switch {
		case v.Word && v.Kind == schema.TextValue && f.column.Type.Kind == schema.Boolean && truths[strings.ToLower(v.Text)] != "":
			r.errorf(v.Pos, "write "+truths[strings.ToLower(v.Text)], "%s is true or false", name)
			continue
		case v.Word && v.Kind == schema.TextValue && days[strings.ToLower(v.Text)] != "":
			r.errorf(v.Pos, "write "+days[strings.ToLower(v.Text)], "%s is not a valid day", v.Text)
			continue
		case v.Shift%(24*3600) != 0 && f.column.Type.Kind == schema.Date:
			r.errorf(v.Pos, "write days", "%s is a date, and has no hours", name)
			continue
		case v.Kind == schema.SQLValue:
			r.errorf(v.Pos, "write a literal, a generator, or {field} + 1",
				"a seed's values are made without the database, so SQL is not allowed here")
			continue
		case v.Kind == schema.NullValue && f.column.NotNull:
			r.errorf(v.Pos, "", "%s is required and cannot be null", name)
			continue
		case v.Kind == schema.TextValue && f.column.Type.Kind == schema.Text && strings.ContainsAny(v.Text, "{}"):
			pick.Parts = r.template(v, m)
		case !r.value(&v, f.column.Type, name):
			continue
		}
		r.inRange(v, f)
		pick.Value = r.fit(v.Value, f.column.Type)
		s.Picks = append(s.Picks, pick)
	}
}

// template reads a text with braces: {0000} counts, {field} is another field of
// the row, {{ and }} are braces.
func (r *resolver) template(v lang.Value, m *model) []Part {
	var parts []Part
	text := func(s string) {
		if n := len(parts); n > 0 && parts[n-1].Column == "" && parts[n-1].Digits == 0 {
			parts[n-1].Text += s
		} else {
			parts = append(parts, Part{Text: s})
		}
	}
	for rest := v.Text; rest != ""; {
		i := strings.IndexAny(rest, "{}")
		if i < 0 {
			text(rest)
			break
		}
		if i > 0 {
			text(rest[:i])
		}
		rest = rest[i:]
		if len(rest) > 1 && rest[0] == rest[1] {
			text(rest[:1])
			rest = rest[2:]
			continue
		}
		end := strings.IndexByte(rest, '}')
		if rest[0] == '}' || end < 0 {
			r.errorf(v.Pos, "write {{ and }} for literal braces", "this text has an unmatched brace")
			return nil
		}
		inside := rest[1:end]
		rest = rest[end+1:]
		switch f := m.fields[inside]; {
		case inside != "" && strings.Trim(inside, "0") == "":
			parts = append(parts, Part{Digits: len(inside)})
		case f != nil && (f.column.Generated != nil || f.column.Identity):
			r.errorf(v.Pos, "", "%s is set by the database, and cannot be used in another field", inside)
		case f != nil:
			parts = append(parts, Part{Column: f.column.Name})
		default:
			hint := lang.DidYouMean(inside, fieldNames(m))
			if hint == "" {
				hint = "{0000} counts, {field} is another field of the row, {{ is a brace"
			}
			r.errorf(v.Pos, hint, "%s has no field %s", m.table.Model, inside)
		}
	}
	return parts
}

// generator checks a generator against the column that it fills.
func (r *resolver) generator(c *schema.Column, field, name string, pos lang.Pos, args []*lang.Value) *schema.Fake {
	g := fake.Lookup(name)
	if g == nil {
		hint := lang.DidYouMean(name, fake.Names())
		if hint == "" {
			hint = "they are " + strings.Join(fake.Names(), ", ") + `; text is written in quotes`
		}
		r.errorf(pos, hint, "there is no generator %s", name)
		return nil
	}
	makes := c.Type.Kind == schema.Text || c.Type.Kind == schema.Native || name == "price" && c.Type.Kind.Number() ||
		name == "json" && c.Type.Kind == schema.JSON
	if !makes {
		r.errorf(pos, "write a value, a list of them, or a range such as 1..10",
			"the generator "+name+" makes text, and %s is %s", field, c.Type)
		return nil
	}
	out := &schema.Fake{Generator: name}
	for i, a := range args {
		if i >= len(g.Args) {
			r.errorf(a.Pos, "", "the generator %s takes no %s", name, a.Value)
			return nil
		}
		want := g.Args[i]
		if n, err := strconv.Atoi(a.Text); want.Number != (a.Kind == schema.NumberValue) ||
			want.Number && (err != nil || n < 1) {
			kind := "a text in quotes"
			if want.Number {
				kind = "a whole number from 1"
			}
			r.errorf(a.Pos, "", "the %s of %s is %s", want.What, name, kind)
			return nil
		}
		out.Args = append(out.Args, a.Text)
	}
	if n := len(args); n < len(g.Args) && !g.Args[n].Optional {
		r.errorf(pos, "", "the generator %s needs its %s", name, g.Args[n].What)
		return nil
	}
	switch {
	case name == "bcrypt" && c.Type.Length > 0 && c.Type.Length < 60:
		r.errorf(pos, "make it text(60)", "a hash has 60 characters and %s holds %d", field, c.Type.Length)
	case name == "bcrypt" && len(out.Args) > 1 && (atoi(out.Args[1]) < 4 || atoi(out.Args[1]) > fake.MaxCost):
		r.errorf(args[1].Pos, "", "the cost is 4 to %d: each step doubles the time", fake.MaxCost)
	case name == "random" && c.Type.Length > 0 && atoi(out.Args[0]) > c.Type.Length:
		r.errorf(args[0].Pos, "", "%s holds %d characters", field, c.Type.Length)
	}
	return out
}

func atoi(s string) int {
	n, _ := strconv.Atoi(s)
	return n
}

// end reads an end of a range; a day may stand for the moment it begins.
func (r *resolver) end(v *lang.Value, f *field) *schema.Value {
	t := f.column.Type
	ordered := t.Kind.Number() ||
		slices.Contains([]schema.Kind{schema.Date, schema.Time, schema.Timestamp, schema.Datetime}, t.Kind)
	if !ordered || f.target != nil {
		r.errorf(v.Pos, "", "only numbers, dates and times have a range; %s is %s", f.decl.Name.Name, t)
		return nil
	}
	if !v.Constant() && v.Kind != schema.NowValue && v.Kind != schema.TodayValue || v.Kind == schema.NullValue {
		r.errorf(v.Pos, "", "each end of a range is a literal, today or now")
		return nil
	}
	if (t.Kind == schema.Timestamp || t.Kind == schema.Datetime) &&
		(v.Kind == schema.DateValue || v.Kind == schema.TodayValue) {
		out := v.Value
		if v.Kind == schema.DateValue {
			out = schema.Value{Kind: schema.TextValue, Text: v.Text + " 00:00:00"}
		}
		return &out
	}
	if t.Kind == schema.Date && v.Shift%(24*3600) != 0 {
		r.errorf(v.Pos, "write days", "%s is a date, and has no hours", f.decl.Name.Name)
		return nil
	}
	if !r.value(v, t, f.decl.Name.Name) {
		return nil
	}
	out := v.Value
	return &out
}

// inOrder tells whether a range does not end before it begins, as far as that
// can be told before today is known.
func inOrder(a, b schema.Value, t schema.Type) bool {
	if !a.Constant() || !b.Constant() {
		return true
	}
	if t.Kind.Number() {
		x, _ := strconv.ParseFloat(a.Text, 64)
		y, _ := strconv.ParseFloat(b.Text, 64)
		return x <= y
	}
	return a.Text <= b.Text
}

// sum reads a value worked out from other fields: numbers from numbers, times
// from times.
func (r *resolver) sum(set *lang.Sum, m *model, f *field) *Sum {
	family := func(t schema.Type) string {
		switch {
		case t.Kind.Number():
			return "number"
		case t.Kind == schema.Date || t.Kind == schema.Timestamp || t.Kind == schema.Datetime:
			return "time"
		}
		return t.String()
	}
	other := func(id lang.Ident) *schema.Column {
		o := r.lookup(m, id)
		switch {
		case o == nil:
			return nil
		case o == f:
			r.errorf(id.Pos, "", "%s cannot be calculated from itself", id.Name)
		case o.column.Generated != nil || o.column.Identity:
			r.errorf(id.Pos, "", "%s is set by the database, and cannot be used in another field", id.Name)
		default:
			return o.column
		}
		return nil
	}
	t := f.column.Type
	from := other(set.Field)
	if from == nil {
		return nil
	}
	if len(set.Terms) == 0 && from.Type.Kind == t.Kind { // the same value
		return &Sum{Column: from.Name}
	}
	if k := family(t); k != "number" && k != "time" || k != family(from.Type) {
		r.errorf(set.Pos, `texts are joined as "{one} {other}"`,
			"%s is %s and cannot be calculated from %s, which is %s", f.decl.Name.Name, t, set.Field.Name, from.Type)
		return nil
	}
	out := &Sum{Column: from.Name}
	for _, x := range set.Terms {
		term := Term{Op: x.Op, Unit: x.Unit}
		switch {
		case family(t) == "time" && (x.Op == '*' || x.Field != nil):
			r.errorf(set.Pos, "write {"+set.Field.Name+"} + 14..60 days",
				"only days, hours, minutes and seconds can be added to a time")
			return nil
		case family(t) == "number" && x.Unit != "":
			r.errorf(set.Pos, "", "%s is a number and takes no %s", f.decl.Name.Name, x.Unit)
			return nil
		case family(t) == "time" && x.Unit == "" && t.Kind != schema.Date:
			r.errorf(set.Pos, "write days, hours, minutes or seconds after it", "the unit is missing")
			return nil
		}
		if x.Field != nil {
			o := other(*x.Field)
			if o == nil {
				return nil
			}
			if family(o.Type) != "number" {
				r.errorf(x.Field.Pos, "", "%s is %s, not a number", x.Field.Name, o.Type)
				return nil
			}
			term.Column = o.Name
		} else {
			term.From, _ = strconv.ParseFloat(x.From.Text, 64)
			term.To = term.From
			if x.To != nil {
				if term.To, _ = strconv.ParseFloat(x.To.Text, 64); term.To < term.From {
					r.errorf(x.To.Pos, "", "the range is reversed")
				}
			}
		}
		out.Terms = append(out.Terms, term)
	}
	return out
}
