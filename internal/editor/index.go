package editor

// This file finds every name in the models: where it is declared, and where it is meant.

import (
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// kind is what a name is the name of.
type kind string

const (
	aModel  kind = "model"
	aField  kind = "field"
	aChoice kind = "choice"
	aValue  kind = "value"
	aShape  kind = "shape"
	aSeed   kind = "seed"
)

// name is something with a name: a field is one of its model or shape, a value one of its choice.
type name struct {
	kind  kind
	owner string
	name  string
}

// mention is one place where a name is.
type mention struct {
	name
	pos      lang.Pos
	declared bool
	quoted   bool
	braces   bool // within SQL, in braces
}

// index is all mentions, and the blocks by name.
type index struct {
	mentions []mention
	models   map[string]*lang.Block
	choices  map[string]*lang.Block
	shapes   map[string]*lang.Block
	seeds    []*lang.Block
}

// names gives the index of the files as they are.
func (w *workspace) names() *index {
	if w.index == nil {
		w.index = newIndex(w.files)
	}
	return w.index
}

func newIndex(files []*lang.File) *index {
	x := &index{models: map[string]*lang.Block{}, choices: map[string]*lang.Block{}, shapes: map[string]*lang.Block{}}
	of := map[lang.BlockKind]map[string]*lang.Block{
		lang.ModelBlock: x.models, lang.ChoiceBlock: x.choices, lang.ShapeBlock: x.shapes,
	}
	for _, f := range files {
		for _, b := range f.Blocks {
			if into := of[b.Kind]; into != nil && into[b.Name.Name] == nil {
				into[b.Name.Name] = b
			}
			if b.Kind == lang.SeedBlock {
				x.seeds = append(x.seeds, b)
			}
		}
	}
	for _, f := range files {
		for _, b := range f.Blocks {
			x.block(b)
		}
	}
	return x
}

func (x *index) add(k kind, owner string, id lang.Ident, declared bool) {
	if id.Name != "" {
		x.mentions = append(x.mentions, mention{name{k, owner, id.Name}, id.Pos, declared, id.Quoted, false})
	}
}

// block adds the names of a block.
func (x *index) block(b *lang.Block) {
	switch b.Kind {
	case lang.ChoiceBlock:
		x.add(aChoice, "", b.Name, true)
		for _, v := range b.Values {
			x.add(aValue, b.Name.Name, v, true)
		}
	case lang.ModelBlock, lang.ShapeBlock:
		k := aModel
		if b.Kind == lang.ShapeBlock {
			k = aShape
		}
		x.add(k, "", b.Name, true)
		for _, l := range b.Lines {
			x.line(b, l)
		}
	case lang.SeedBlock:
		x.add(aSeed, "", b.Name, true)
		for _, l := range b.Lines {
			x.seedLine(l, "")
		}
	case lang.RowsBlock:
		x.rows(b)
	}
}

// line adds the names of a line of a model or a shape.
func (x *index) line(b *lang.Block, l *lang.Line) {
	of := b.Name.Name
	fields := func(list []lang.Ident) {
		for _, id := range list {
			x.fieldOf(of, id)
		}
	}
	sql := func(s *lang.SQLText) {
		if s != nil {
			for _, id := range s.Fields {
				x.fieldOf(of, id)
				if n := len(x.mentions); n > 0 {
					x.mentions[n-1].braces = true
				}
			}
		}
	}
	switch {
	case l.Field != nil:
		x.field(b, l.Field, sql)
	case l.Include != nil:
		x.add(aShape, "", *l.Include, false)
	case l.Key != nil:
		fields(l.Key.Fields)
	case l.Constraint != nil:
		for _, p := range l.Constraint.Parts {
			if p.SQL == nil {
				x.fieldOf(of, p.Field)
			}
			sql(p.SQL)
		}
		fields(l.Constraint.Stored.Include)
		sql(l.Constraint.Where)
		sql(l.Constraint.SQL)
	case l.ForeignKey != nil:
		fields(l.ForeignKey.Fields)
		x.add(aModel, "", l.ForeignKey.Model, false)
		for _, id := range l.ForeignKey.By {
			x.fieldOf(l.ForeignKey.Model.Name, id)
		}
	}
}

// field adds the names of a field's line.
func (x *index) field(b *lang.Block, f *lang.Field, sql func(*lang.SQLText)) {
	x.add(aField, b.Name.Name, f.Name, true)
	switch t := f.Type; {
	case t.Ref != nil:
		x.add(aModel, "", t.Ref.Model, false)
		if t.Ref.By != nil {
			x.fieldOf(t.Ref.Model.Name, *t.Ref.By)
		}
	case t.Choice != nil:
		x.add(aChoice, "", *t.Choice, false)
	}
	for _, c := range f.Clauses {
		sql(c.SQL)
		if c.Word == "default" {
			x.value(f, c.Value)
		}
	}
}

// value adds a value of a field whose type is a named choice.
func (x *index) value(f *lang.Field, v *lang.Value) {
	if f == nil || f.Type.Choice == nil || v == nil || v.Kind != schema.TextValue {
		return
	}
	x.mentions = append(x.mentions, mention{name{aValue, f.Type.Choice.Name, v.Text}, v.Pos, false, !v.Word, false})
}

// fieldOf adds a field of a model, which a shape may declare.
func (x *index) fieldOf(model string, id lang.Ident) {
	if owner, _ := x.owner(model, id.Name); owner != "" {
		x.add(aField, owner, id, false)
	} else {
		x.add(aField, model, id, false)
	}
}

// owner is the model or the shape that declares a field of a model, and the field; "": none does.
func (x *index) owner(model, field string) (string, *lang.Field) {
	seen := map[string]bool{}
	var look func(b *lang.Block) (string, *lang.Field)
	look = func(b *lang.Block) (string, *lang.Field) {
		if b == nil || seen[b.Name.Name] {
			return "", nil
		}
		seen[b.Name.Name] = true
		for _, l := range b.Lines {
			if l.Field != nil && l.Field.Name.Name == field {
				return b.Name.Name, l.Field
			}
		}
		for _, l := range b.Lines {
			if l.Include != nil {
				if owner, f := look(x.shapes[l.Include.Name]); f != nil {
					return owner, f
				}
			}
		}
		return "", nil
	}
	b := x.models[model]
	if b == nil {
		b = x.shapes[model]
	}
	return look(b)
}

// fields are the fields of a model, with those of its shapes, in their order.
func (x *index) fields(model string) (out []*lang.Field) {
	seen := map[string]bool{}
	var look func(b *lang.Block)
	look = func(b *lang.Block) {
		if b == nil || seen[b.Name.Name] {
			return
		}
		seen[b.Name.Name] = true
		for _, l := range b.Lines {
			if l.Field != nil {
				out = append(out, l.Field)
			}
			if l.Include != nil {
				look(x.shapes[l.Include.Name])
			}
		}
	}
	if b := x.models[model]; b != nil {
		look(b)
	} else {
		look(x.shapes[model])
	}
	return out
}

// seedLine adds the names of a line of a seed, below a model.
func (x *index) seedLine(l *lang.Line, model string) {
	switch {
	case l.Make != nil:
		x.add(aModel, "", l.Make.Model, false)
		if l.Make.Via != nil {
			x.fieldOf(l.Make.Model.Name, *l.Make.Via)
		}
		model = l.Make.Model.Name
	case l.Set != nil:
		x.fieldOf(model, l.Set.Field)
		_, f := x.owner(model, l.Set.Field.Name)
		for _, p := range l.Set.Picks {
			x.value(f, p.Value)
		}
		if s := l.Set.Sum; s != nil {
			x.fieldOf(model, s.Field)
			for _, t := range s.Terms {
				if t.Field != nil {
					x.fieldOf(model, *t.Field)
				}
			}
		}
	}
	for _, below := range l.Lines {
		x.seedLine(below, model)
	}
}

// rows adds the names of reference rows.
func (x *index) rows(b *lang.Block) {
	model := b.Name.Name
	x.add(aModel, "", b.Name, false)
	for _, id := range b.By {
		x.fieldOf(model, id)
	}
	var heads []*lang.Field
	for i, l := range b.Lines {
		for j, c := range l.Cells {
			if i == 0 {
				x.fieldOf(model, c.Name)
				_, f := x.owner(model, c.Name.Name)
				heads = append(heads, f)
			} else if j < len(heads) {
				x.value(heads[j], c.Value)
			}
		}
	}
}

// at is the mention at a byte of a file; nil: there is none.
func (x *index) at(path string, off int) *mention {
	for i := range x.mentions {
		m := &x.mentions[i]
		if m.pos.Path == path && m.pos.Off <= off && off <= m.pos.End && m.pos.End > m.pos.Off {
			return m
		}
	}
	return nil
}

// all are the mentions of a name.
func (x *index) all(n name) (out []mention) {
	for _, m := range x.mentions {
		if m.name == n {
			out = append(out, m)
		}
	}
	return out
}

// known are the names of a kind.
func known(blocks map[string]*lang.Block) (out []string) {
	for n := range blocks {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

func (w *workspace) locationOf(p lang.Pos) location {
	return location{URI: w.uri(p.Path), Range: w.read(p.Path).spanOf(p.Off, p.End)}
}

// mentionAt is the name at a place of a document.
func (w *workspace) mentionAt(d *document, p position) *mention {
	if !w.modelFile(d) {
		return nil
	}
	return w.names().at(w.rel(d.path), d.unix(p))
}

func (w *workspace) definition(d *document, p position) any {
	m := w.mentionAt(d, p)
	if m == nil {
		return nil
	}
	out := []location{}
	for _, o := range w.names().all(m.name) {
		if o.declared {
			out = append(out, w.locationOf(o.pos))
		}
	}
	return out
}

func (w *workspace) references(d *document, p position) any {
	m := w.mentionAt(d, p)
	if m == nil {
		return nil
	}
	out := []location{}
	for _, o := range w.names().all(m.name) {
		out = append(out, w.locationOf(o.pos))
	}
	return append(out, w.inSQLFiles(m.name)...)
}

func (w *workspace) highlights(d *document, p position) any {
	m := w.mentionAt(d, p)
	if m == nil {
		return nil
	}
	out := []map[string]any{}
	for _, o := range w.names().all(m.name) {
		if o.pos.Path == w.rel(d.path) {
			out = append(out, map[string]any{"range": d.spanOf(o.pos.Off, o.pos.End)})
		}
	}
	return out
}

// matches reports whether a name has the letters of a query, in their order.
func matches(name, query string) bool {
	rest := strings.ToLower(query)
	for _, r := range strings.ToLower(name) {
		if rest != "" && strings.HasPrefix(rest, string(r)) {
			rest = rest[len(string(r)):]
		}
	}
	return rest == ""
}
