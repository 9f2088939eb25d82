// Package diagram draws the models: a box for each with its fields, and a line for each
// reference, as SVG, as a page, as text for other programs, or as a sketch in the terminal.
//
//	g := diagram.Of(declared.Schema, groups)
//	g.Layout()
//	os.WriteFile("models.svg", []byte(g.SVG()), 0o644)
//
// A Graph is made from a schema, or from two with what differs between them. Layout gives its boxes
// places; what draws it takes the graph as it is. The same graph gives the same bytes.
package diagram

import (
	"cmp"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Graph is what a diagram shows.
type Graph struct {
	Boxes  []*Box  // in order of name
	Lines  []*Line // in order of the boxes that they start from
	Groups []string
	Width  int // of the layout
	Height int
	// Changes says that boxes, fields and lines have signs.
	Changes bool
}

// Box is one model.
type Box struct {
	Name    string // of the model; of a table without one, its own
	Table   string
	Comment string
	Group   string   // the file or folder that declares it
	Outside bool     // of another owner
	Sign    string   // + added, ~ changed, - dropped; empty: neither, or nothing is compared
	Notes   []string // changes of it that no field shows, such as of an index, with their signs
	Fields  []*Field
	// Where it is, after Layout: its upper left corner and its size, in pixels.
	X, Y, Width, Height int

	layer int
	far   int // the size of its name that can be read when all is on a screen
}

// Field is one column of a box.
type Field struct {
	Name     string
	Column   string
	Type     string
	Key      bool
	Optional bool
	Unique   bool
	Refers   string // the box to which it refers, alone or with others
	Sign     string
	Was      string // the type before it changed; empty: the same
	Change   string // what else changed of it, in words
}

// Line is one reference.
type Line struct {
	From, To *Box
	Columns  []string // that refer
	Field    int      // the first of them among the fields
	ToField  int      // the first of the fields referred to
	Optional bool     // a row need not refer to one
	One      bool     // at most one row refers to each
	OnDelete schema.Action
	Sign     string
	Points   []Point // where it runs, after Layout, from From to To

	shift int // from the middle of the field referred to, where optional references meet others
}

// Point is a place in the layout, in pixels.
type Point struct{ X, Y int }

// Of is the graph of a schema. groups says by model what declares it; nil: nothing is said.
func Of(s *schema.Schema, groups map[string]string) *Graph {
	g := &Graph{}
	boxes := map[string]*Box{}
	for _, t := range s.Tables {
		b := boxOf(t, groups[t.Model])
		boxes[strings.ToLower(t.Name)] = b
		g.Boxes = append(g.Boxes, b)
	}
	for _, t := range s.Tables {
		from := boxes[strings.ToLower(t.Name)]
		for _, k := range t.ForeignKeys {
			if to := boxes[strings.ToLower(k.Table)]; to != nil {
				g.Lines = append(g.Lines, lineOf(t, k, from, to))
			}
		}
	}
	g.sort()
	return g
}

func (g *Graph) sort() {
	slices.SortStableFunc(g.Boxes, func(a, b *Box) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Table, b.Table))
	})
	slices.SortStableFunc(g.Lines, func(a, b *Line) int {
		return cmp.Or(strings.Compare(a.From.Name, b.From.Name), cmp.Compare(a.Field, b.Field),
			strings.Compare(a.To.Name, b.To.Name))
	})
	g.Groups = nil
	for _, b := range g.Boxes {
		if b.Group != "" {
			g.Groups = append(g.Groups, b.Group)
		}
	}
	slices.Sort(g.Groups)
	g.Groups = slices.Compact(g.Groups)
}

func boxOf(t *schema.Table, group string) *Box {
	b := &Box{Name: cmp.Or(t.Model, t.Name), Table: t.Name, Comment: t.Comment, Group: group, Outside: t.Outside}
	for _, c := range t.Columns {
		f := &Field{Name: cmp.Or(c.Field, c.Name), Column: c.Name, Type: c.Type.String(), Optional: !c.NotNull,
			Key: slices.Contains(t.Key, c.Name), Unique: alone(t, c.Name)}
		if f.Key {
			f.Optional = false
		}
		b.Fields = append(b.Fields, f)
	}
	return b
}

// alone reports whether one column is unique by itself.
func alone(t *schema.Table, column string) bool {
	return slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool {
		return x.Unique && (x.Where == "" || x.Live) && len(x.Parts) == 1 && x.Parts[0].Column == column
	})
}

func lineOf(t *schema.Table, k *schema.ForeignKey, from, to *Box) *Line {
	l := &Line{From: from, To: to, Columns: k.Columns, OnDelete: k.OnDelete, Field: from.at(k.Columns),
		One: unique(t, k.Columns)}
	if l.ToField = to.at(k.References); len(k.References) == 0 {
		l.ToField = max(0, slices.IndexFunc(to.Fields, func(f *Field) bool { return f.Key }))
	}
	for _, c := range k.Columns {
		if f := from.field(c); f != nil {
			f.Refers = to.Name
			l.Optional = l.Optional || f.Optional
		}
	}
	return l
}

// unique reports whether no two rows have the same values of some columns.
func unique(t *schema.Table, columns []string) bool {
	all := func(of []string) bool {
		return len(of) > 0 && !slices.ContainsFunc(of, func(c string) bool { return !slices.Contains(columns, c) })
	}
	return all(t.Key) || slices.ContainsFunc(t.Indexes, func(x *schema.Index) bool {
		names := schema.Names(x.Parts)
		return x.Unique && (x.Where == "" || x.Live) && all(names) && len(names) == len(x.Parts)
	})
}

func (b *Box) field(column string) *Field {
	for _, f := range b.Fields {
		if strings.EqualFold(f.Column, column) {
			return f
		}
	}
	return nil
}

// at is the index of the field with the first of some columns.
func (b *Box) at(columns []string) int {
	for i, f := range b.Fields {
		if len(columns) > 0 && strings.EqualFold(f.Column, columns[0]) {
			return i
		}
	}
	return 0
}

// Only leaves the boxes with some names, and those that references connect with them over so many
// steps. A name is that of a model or of its table. unknown are those that no box has.
func (g *Graph) Only(names []string, around int) (unknown []string) {
	keep := map[*Box]bool{}
	for _, name := range names {
		i := slices.IndexFunc(g.Boxes, func(b *Box) bool {
			return strings.EqualFold(b.Name, name) || strings.EqualFold(b.Table, name)
		})
		if i < 0 {
			unknown = append(unknown, name)
			continue
		}
		keep[g.Boxes[i]] = true
	}
	if len(names) == 0 {
		return nil
	}
	for range around {
		var more []*Box
		for _, l := range g.Lines {
			if keep[l.From] != keep[l.To] {
				more = append(more, l.From, l.To)
			}
		}
		for _, b := range more {
			keep[b] = true
		}
	}
	g.keep(keep)
	return unknown
}

// Changed leaves the boxes that have signs, and those that references with signs connect with them.
func (g *Graph) Changed() {
	keep := map[*Box]bool{}
	for _, b := range g.Boxes {
		keep[b] = b.Sign != ""
	}
	for _, l := range g.Lines {
		if l.Sign != "" {
			keep[l.From], keep[l.To] = true, true
		}
	}
	g.keep(keep)
}

func (g *Graph) keep(these map[*Box]bool) {
	g.Boxes = slices.DeleteFunc(g.Boxes, func(b *Box) bool { return !these[b] })
	g.Lines = slices.DeleteFunc(g.Lines, func(l *Line) bool { return !these[l.From] || !these[l.To] })
	g.sort()
}

// Compared is the graph of what a schema becomes, with what differs from it before marked by signs:
// what is dropped is in it too. after gives the names of models; before is read from a database.
func Compared(before, after *schema.Schema, changes []diff.Change, groups map[string]string) *Graph {
	whole := &schema.Schema{Tables: slices.Clone(after.Tables)}
	for _, c := range changes {
		if old := before.Table(c.Table); c.Kind == diff.DropTable && old != nil && whole.Table(c.Table) == nil {
			whole.Tables = append(whole.Tables, old)
		}
	}
	g := Of(whole, groups)
	g.Changes = true
	boxes := map[string]*Box{}
	for _, b := range g.Boxes {
		boxes[strings.ToLower(b.Table)] = b
	}
	for _, c := range changes {
		if b := boxes[strings.ToLower(c.Table)]; b != nil {
			b.mark(c, before.Table(c.Table))
		}
	}
	for _, l := range g.Lines {
		l.Sign = l.sign(changes)
	}
	g.droppedLines(before, after, boxes)
	return g
}

// mark notes one change at a box.
func (b *Box) mark(c diff.Change, old *schema.Table) {
	switch c.Kind {
	case diff.AddTable, diff.DropTable:
		b.Sign = c.Kind.Sign()
		for _, f := range b.Fields {
			f.Sign = b.Sign
		}
		return
	case diff.AddRow, diff.ChangeRow, diff.DropRow:
		return
	}
	if b.Sign == "" {
		b.Sign = "~"
	}
	f := b.field(c.Name)
	switch c.Kind {
	case diff.DropColumn:
		if old == nil || f != nil {
			return
		}
		for _, gone := range boxOf(old, "").Fields {
			if strings.EqualFold(gone.Column, c.Name) {
				gone.Sign = "-"
				b.Fields = append(b.Fields, gone)
			}
		}
		return
	case diff.AddColumn:
		if f != nil {
			f.Sign = "+"
			return
		}
	case diff.ChangeType:
		if f != nil && old != nil && old.Column(c.Name) != nil {
			f.Was = old.Column(c.Name).Type.String()
		}
	}
	said := strings.ReplaceAll(c.What, " -> ", " → ")
	if f != nil && f.Sign == "" {
		f.Sign = "~"
	}
	switch {
	case f != nil && f.Was == "" && f.Sign == "~" && c.Told():
		f.Change = said
	case f == nil && c.Told():
		b.Notes = append(b.Notes, c.Kind.Sign()+" "+said)
	}
}

// sign is that of a reference among changes.
func (l *Line) sign(changes []diff.Change) string {
	if l.From.Sign == "+" || l.From.Sign == "-" {
		return l.From.Sign
	}
	for _, c := range changes {
		if !strings.EqualFold(c.Table, l.From.Table) || c.Kind.Drops() || c.Kind.Thing() != "reference" {
			continue
		}
		if columns := changedColumns(c); slices.EqualFunc(columns, l.Columns, strings.EqualFold) {
			return c.Kind.Sign()
		}
	}
	if f := l.From.field(l.Columns[0]); f != nil && f.Sign == "+" {
		return "+"
	}
	return ""
}

// droppedLines adds the references that no longer exist.
func (g *Graph) droppedLines(before, after *schema.Schema, boxes map[string]*Box) {
	for _, t := range before.Tables {
		from, now := boxes[strings.ToLower(t.Name)], after.Table(t.Name)
		if from == nil || now == nil { // a dropped table has its own lines
			continue
		}
		for _, k := range t.ForeignKeys {
			to := boxes[strings.ToLower(k.Table)]
			if to == nil || slices.ContainsFunc(now.ForeignKeys, func(o *schema.ForeignKey) bool {
				return strings.EqualFold(o.Table, k.Table) && slices.EqualFunc(o.Columns, k.Columns, strings.EqualFold)
			}) {
				continue
			}
			l := lineOf(t, k, from, to)
			l.Sign = "-"
			g.Lines = append(g.Lines, l)
		}
	}
	g.sort()
}

// changedColumns are the columns of the reference that a change is about.
func changedColumns(c diff.Change) []string {
	if k, ok := c.Object.(*sqlschema.ForeignKey); ok {
		return k.Columns
	}
	return nil
}
