package declare

// This file resolves seeds: what every line makes, by which reference its rows
// hang on those of the line above, and how each field is filled. What a value
// is worked out from is checked here; making the values is the business of
// package seed.

import (
	"fmt"
	"slices"
	"strings"

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
				r.errorf(l.Make.Model.Pos, "", "%s is %s, and is not filled by seeds", m.table.Model,
					elsewhere(m.table))
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

// elsewhere says where a table comes from that no model declares.
func elsewhere(t *schema.Table) string {
	if t.InSQL {
		return "declared in SQL"
	}
	return "outside"
}
