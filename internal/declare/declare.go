// Package declare turns the tree of the model language into what is declared (package schema).
// It knows the naming rules and what a name in a line refers to, and reports every line that
// makes no sense; what an engine keeps for a declaration is the engine's business.
//
//	f, _ := lang.Parse("models/specimen.erbario", "model Specimen\n    label text(40) unique\n")
//	d, mistakes := declare.Resolve([]*lang.File{f}, declare.Rules{}, "sqlite")
//	d.Schema.Table("specimens").Key // [id]: it has got one
package declare

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Declared is what the models of a project say.
type Declared struct {
	Schema *schema.Schema
	Seeds  []*Seed
	Rows   []*Rows
}

type resolver struct {
	rules   Rules
	engine  string
	diags   []lang.Diagnostic
	choices map[string]*lang.Block
	shapes  map[string]*lang.Block
	models  map[string]*model
	order   []*model
	given   map[*schema.Index]lang.Pos // indexes with names of their own, and where these are
	seedsIn []*lang.Block
	rowsIn  []*lang.Block
	rowKeys map[*model][]*field // by which the rows of a model are told apart
	out     *Declared
}

// model is a model under resolution.
type model struct {
	block   *lang.Block
	lines   []*lang.Line // with the lines of its shapes
	table   *schema.Table
	fields  map[string]*field
	order   []*field
	keyed   bool
	soft    *lang.SoftDelete
	softPos lang.Pos
	key     []string // names of the key's fields
}

type field struct {
	model     *model
	decl      *lang.Field
	column    *schema.Column
	resolving bool
	resolved  bool
	target    *field // of a reference
	unique    bool   // on its own, among all rows
	partly    bool   // unique only among undeleted rows
}

// Resolve gives the schema that the files declare for one engine, and every
// mistake in them. The schema is of use only if no diagnostic is an error.
func Resolve(files []*lang.File, rules Rules, engine string) (*Declared, []lang.Diagnostic) {
	r := &resolver{
		rules: rules, engine: engine,
		choices: map[string]*lang.Block{}, shapes: map[string]*lang.Block{}, models: map[string]*model{},
		given: map[*schema.Index]lang.Pos{},
		out:   &Declared{Schema: &schema.Schema{}},
	}
	r.collect(files)
	for _, name := range slices.Sorted(maps.Keys(r.shapes)) {
		r.flatten(r.shapes[name].Lines, []string{name}) // also those that none includes
	}
	for _, m := range r.order {
		m.lines = r.flatten(m.block.Lines, nil)
		r.begin(m)
	}
	for _, m := range r.order {
		for _, f := range m.order {
			r.resolveType(f)
		}
	}
	for _, m := range r.order {
		r.clauses(m)
	}
	for _, m := range r.order {
		r.constraints(m)
	}
	for _, m := range r.order {
		r.references(m)
	}
	for _, m := range r.order {
		r.out.Schema.Tables = append(r.out.Schema.Tables, m.table)
	}
	r.clashes()
	r.rowBlocks(r.rowsIn)
	r.seeds(r.seedsIn)
	for _, t := range r.out.Schema.Tables {
		t.KeyRule = r.rules.Names.PrimaryKeyName(t.Bare())
	}
	apart(r.out.Schema.Tables, r.given, r.rules.perTable(r.engine))
	r.out.Schema.Sort()
	return r.out, lang.Sort(r.diags)
}

func (r *resolver) errorf(pos lang.Pos, hint, format string, args ...any) {
	r.diags = append(r.diags, lang.Diagnostic{Pos: pos, Hint: hint, Message: fmt.Sprintf(format, args...)})
}

// warnf reports what an engine takes, and is most likely not meant.
func (r *resolver) warnf(pos lang.Pos, hint, format string, args ...any) {
	r.errorf(pos, hint, format, args...)
	r.diags[len(r.diags)-1].Warning = true
}

func (r *resolver) collect(files []*lang.File) {
	for _, f := range files {
		for _, b := range f.Blocks {
			name := b.Name.Name
			switch b.Kind {
			case lang.ModelBlock:
				if old := r.models[name]; old != nil {
					r.errorf(b.Name.Pos, "", "the model %s is declared twice, also at %s:%d", name, old.block.Pos.Path,
						old.block.Pos.Line)
					continue
				}
				m := &model{
					block:  b,
					fields: map[string]*field{},
					table: &schema.Table{
						Name: schema.Cut(r.rules.tableName(name)), Model: name,
						Outside: b.Outside || b.InSQL, InSQL: b.InSQL,
						Unchecked: r.rules.Unchecked, Collation: r.rules.Collation[r.engine],
					},
				}
				r.models[name] = m
				r.order = append(r.order, m)
			case lang.ChoiceBlock:
				r.once(r.choices, b, "choice")
				if b.EnumSchema != nil && r.rules.Schemas[r.engine] {
					r.otherSchema(b.EnumSchema)
				}
				seen := map[string]bool{}
				for _, v := range b.Values {
					if seen[v.Name] {
						r.errorf(v.Pos, "", "the value %q is listed twice in the choice", v.Name)
					}
					seen[v.Name] = true
				}
			case lang.ShapeBlock:
				r.once(r.shapes, b, "shape")
			case lang.SeedBlock:
				r.seedsIn = append(r.seedsIn, b)
			case lang.RowsBlock:
				r.rowsIn = append(r.rowsIn, b)
			}
		}
	}
	slices.SortFunc(r.order, func(a, b *model) int { return strings.Compare(a.block.Name.Name, b.block.Name.Name) })
}

func (r *resolver) once(in map[string]*lang.Block, b *lang.Block, what string) {
	if old := in[b.Name.Name]; old != nil {
		r.errorf(b.Name.Pos, "", "the %s %s is declared twice, also at %s:%d", what, b.Name.Name, old.Pos.Path,
			old.Pos.Line)
		return
	}
	in[b.Name.Name] = b
}

// here tells whether a line or clause kept to some engines holds for this one.
func (r *resolver) here(on []lang.Ident) bool {
	if len(on) == 0 {
		return true
	}
	hit := false
	for _, e := range on {
		if known := r.rules.Engines; known != nil && !slices.Contains(known, e.Name) {
			r.errorf(e.Pos, lang.DidYouMean(e.Name, known), "%q is not an engine (%s)", e.Name,
				strings.Join(known, ", "))
		}
		hit = hit || e.Name == r.engine
	}
	return hit
}

// flatten puts the lines of included shapes in the place of their include.
func (r *resolver) flatten(lines []*lang.Line, inside []string) []*lang.Line {
	var out []*lang.Line
	for _, l := range lines {
		if !r.here(l.On) {
			continue
		}
		if l.Include == nil {
			out = append(out, l)
			continue
		}
		name := l.Include.Name
		shape := r.shapes[name]
		switch {
		case shape == nil:
			r.errorf(l.Include.Pos, lang.DidYouMean(name, slices.Sorted(maps.Keys(r.shapes))), "there is no shape %s",
				name)
		case slices.Contains(inside, name):
			r.errorf(l.Include.Pos, "", "the shape %s includes itself", name)
		default:
			out = append(out, r.flatten(shape.Lines, append(slices.Clone(inside), name))...)
		}
	}
	return out
}

// begin gives the model its table's name and its fields their places; types
// come later, since they may depend on other models.
func (r *resolver) begin(m *model) {
	t := m.table
	named := false
	var timed, untimed *lang.Pos // the lines that say whether it has timestamps
	for _, l := range m.lines {
		storedLine(t, l)
		switch {
		case l.Table != nil:
			if named {
				r.errorf(l.Pos, "", "the table is named twice")
			}
			named = true
			t.Name = l.Table.Text
			if t.Name == "" || len(t.Name) > schema.NameLimit {
				r.errorf(l.Table.Pos, "", "a table's name has 1 to %d bytes", schema.NameLimit)
			}
		case l.Schema != nil:
			r.schemaLine(m, l.Schema)
		case l.Comment != nil:
			t.Comment = l.Comment.Text
		case l.Field != nil:
			r.addField(m, l.Field)
		case l.Timestamps:
			timed = &l.Pos
			for _, f := range timestamps(l.Pos) {
				r.addField(m, f)
			}
		case l.Untimed:
			untimed = &l.Pos
		case l.SoftDelete != nil:
			if m.soft != nil {
				r.errorf(l.Pos, "", "soft delete is declared twice")
			}
			m.soft, m.softPos = l.SoftDelete, l.Pos
		}
	}
	switch {
	case timed != nil && untimed != nil:
		r.errorf(*untimed, "remove one of the two", "%s has both timestamps and no timestamps", t.Model)
	case r.rules.Timestamps && timed == nil && untimed == nil && !t.Outside:
		for _, f := range timestamps(m.block.Name.Pos) {
			if m.fields[f.Name.Name] == nil { // its own field is one just as well
				r.addField(m, f)
			}
		}
	}
	if schema.Own(t.Name) || strings.HasPrefix(strings.ToLower(t.Name), "sqlite_") {
		r.errorf(m.block.Name.Pos, `give another name with table "…"`,
			"a table cannot be called %s: names that begin so are reserved", t.Name)
	}
	if r.rules.Schemas[r.engine] {
		t.Name = schema.InSchema(t.Schema, t.Name)
	}
	if m.soft != nil {
		name := "deleted_at"
		if m.soft.Column != nil {
			name = m.soft.Column.Text
		}
		r.addField(m, &lang.Field{
			Name:    lang.Ident{Name: name, Pos: m.softPos},
			Type:    lang.Type{Pos: m.softPos, Builtin: schema.Type{Kind: schema.Timestamp}},
			Clauses: []*lang.Clause{{Word: "optional", Pos: m.softPos}},
		})
		t.SoftDelete, t.Children, t.Guard = name, m.soft.Children, m.soft.Guard
		if m.soft.By != nil {
			t.GuardRole = m.soft.By.Text
		}
		if m.soft.View {
			t.LiveView = t.Beside(schema.Cut(LivePrefix + t.Bare()))
		}
	}
	r.impliedKey(m)
	if len(m.order) == 0 {
		r.errorf(m.block.Name.Pos, "add a line such as name text(80)", "the model %s has no fields", t.Model)
	}
}

// timestamps are the fields that the line timestamps stands for.
func timestamps(pos lang.Pos) []*lang.Field {
	field := func(name string, clause *lang.Clause) *lang.Field {
		return &lang.Field{
			Name:    lang.Ident{Name: name, Pos: pos},
			Type:    lang.Type{Pos: pos, Builtin: schema.Type{Kind: schema.Timestamp}},
			Clauses: []*lang.Clause{clause},
		}
	}
	now := &lang.Value{Value: schema.Value{Kind: schema.NowValue}}
	return []*lang.Field{
		field("created_at", &lang.Clause{Word: "default", Value: now, Pos: pos}),
		field("updated_at", &lang.Clause{Word: "stamped", Pos: pos}),
	}
}

func (r *resolver) addField(m *model, decl *lang.Field) {
	name := decl.Name.Name
	if m.fields[name] != nil {
		r.errorf(decl.Name.Pos, "", "the field %s is declared twice in %s", name, m.table.Model)
		return
	}
	f := &field{model: m, decl: decl, column: &schema.Column{Field: name, Name: name}}
	m.fields[name] = f
	m.order = append(m.order, f)
}

// impliedKey finds the model's key, and gives it an id where it has none.
func (r *resolver) impliedKey(m *model) {
	var line *lang.KeyLine
	for _, l := range m.lines {
		if l.Key == nil {
			continue
		}
		if line != nil {
			r.errorf(l.Pos, "", "the primary key of %s is declared twice", m.table.Model)
		}
		line = l.Key
	}
	for _, f := range m.order {
		for _, c := range f.decl.Clauses {
			if c.Word == "key" && r.here(c.On) {
				m.key = append(m.key, f.decl.Name.Name)
				if line != nil || len(m.key) > 1 {
					r.errorf(c.Pos, "write one line primary key a, b", "the primary key of %s is declared twice",
						m.table.Model)
				}
			}
		}
	}
	switch {
	case line != nil && line.None:
		m.keyed = true
	case line != nil:
		m.keyed = true
		for _, id := range line.Fields {
			if slices.Contains(m.key, id.Name) {
				r.errorf(id.Pos, "", "%s is in the primary key twice", id.Name)
				continue
			}
			m.key = append(m.key, id.Name)
		}
	case len(m.key) > 0:
		m.keyed = true
	default:
		if f := m.fields["id"]; f != nil {
			r.errorf(f.decl.Name.Pos, "add key to it, or write no key for the model",
				"%s has a field id that is not its primary key", m.table.Model)
			return
		}
		typ := schema.Type{Kind: schema.Bigint}
		clauses := []*lang.Clause{{Word: "key"}, {Word: "identity"}}
		if r.rules.Key == "uuid" {
			typ.Kind = schema.UUID
			clauses[1] = &lang.Clause{Word: "default", Value: &lang.Value{Value: schema.Value{Kind: schema.UUIDValue}}}
		}
		f := &field{
			model: m,
			decl: &lang.Field{
				Name:    lang.Ident{Name: "id", Pos: m.block.Name.Pos},
				Type:    lang.Type{Pos: m.block.Name.Pos, Builtin: typ},
				Clauses: clauses,
			},
			column: &schema.Column{Field: "id", Name: "id"},
		}
		m.fields["id"] = f
		m.order = slices.Insert(m.order, 0, f)
		m.key = []string{"id"}
		m.keyed = true
	}
}

// lookup finds a field by the name in a line, or says what was meant.
func (r *resolver) lookup(m *model, id lang.Ident) *field {
	if f := m.fields[id.Name]; f != nil {
		return f
	}
	r.errorf(id.Pos, lang.DidYouMean(id.Name, fieldNames(m)), "%s has no field %s", m.table.Model, id.Name)
	return nil
}

func fieldNames(m *model) []string {
	var names []string
	for _, f := range m.order {
		names = append(names, f.decl.Name.Name)
	}
	return names
}

func (r *resolver) lookupModel(id lang.Ident) *model {
	if m := r.models[id.Name]; m != nil {
		return m
	}
	r.errorf(id.Pos, lang.DidYouMean(id.Name, slices.Sorted(maps.Keys(r.models))), "there is no model %s", id.Name)
	return nil
}

// resolveType gives the field's column its name and type; that of a reference
// is the type of the field it points at.
func (r *resolver) resolveType(f *field) bool {
	if f.resolved {
		return true
	}
	if f.resolving {
		r.errorf(f.decl.Type.Pos, "give one of the models in the circle a primary key of its own",
			"the type of %s depends on itself", f.decl.Name.Name)
		f.resolved = true
		return false
	}
	f.resolving = true
	defer func() { f.resolving, f.resolved = false, true }()
	col, t := f.column, f.decl.Type
	switch {
	case t.Ref != nil:
		if !r.resolveReference(f) {
			return false
		}
	case t.Choice != nil:
		c := r.choices[t.Choice.Name]
		if c == nil {
			known := slices.Sorted(maps.Keys(r.choices))
			hint := lang.TypeHint(t.Choice.Name, known)
			if r.models[t.Choice.Name] != nil {
				hint = "write references " + t.Choice.Name
			}
			r.errorf(t.Choice.Pos, hint, "there is no type or choice %s", t.Choice.Name)
			return false
		}
		col.Type = schema.Type{Kind: schema.Choice, Name: c.Name.Name}
		if c.Enum {
			col.Type.Enum = TypeName(c, r.rules.Schemas[r.engine])
		}
		for _, v := range c.Values {
			col.Type.Choices = append(col.Type.Choices, v.Name)
		}
	default:
		col.Type = t.Builtin
	}
	for _, c := range f.decl.Clauses {
		if !slices.Contains([]string{"column", "as", "collation"}, c.Word) || !r.here(c.On) {
			continue
		}
		switch c.Word {
		case "column":
			col.Name = c.Value.Text
		case "as":
			r.storedAs(f, c)
		default:
			col.Collation = c.Value.Text
		}
	}
	if col.Name == "" || len(col.Name) > schema.NameLimit {
		r.errorf(f.decl.Name.Pos, "", "the name of a column has 1 to %d bytes", schema.NameLimit)
	}
	return true
}

// resolveReference gives the column of a reference the type of the field that it points at, and
// its name.
func (r *resolver) resolveReference(f *field) bool {
	col, t := f.column, f.decl.Type
	target := r.lookupModel(t.Ref.Model)
	if target == nil {
		return false
	}
	var by string
	switch {
	case t.Ref.By != nil:
		if r.lookup(target, *t.Ref.By) == nil {
			return false
		}
		by = t.Ref.By.Name
	case len(target.key) == 1:
		by = target.key[0]
	case len(target.key) == 0:
		r.errorf(t.Ref.Model.Pos, "write references "+t.Ref.Model.Name+" by FIELD, with a unique field",
			"%s has no primary key to refer to", t.Ref.Model.Name)
		return false
	default:
		r.errorf(
			t.Ref.Model.Pos,
			fmt.Sprintf("declare the fields and write foreign key … references %s by %s", t.Ref.Model.Name,
				strings.Join(target.key, ", ")),
			"the primary key of %s has %d fields",
			t.Ref.Model.Name,
			len(target.key),
		)
		return false
	}
	f.target = target.fields[by]
	if f.target == nil || !r.resolveType(f.target) {
		return false
	}
	col.Type = f.target.column.Type
	if col.Collation = f.target.column.Collation; col.Collation == "" && target != f.model {
		if of := target.table.Collation; of != f.model.table.Collation && col.Type.Kind == schema.Text {
			col.Collation = of
		}
	}
	col.Name = r.rules.ReferenceColumn(f.decl.Name.Name, f.target.column.Name)
	return true
}

// LivePrefix begins the names of the views of rows that are not deleted.
const LivePrefix = "live_"

// clashes reports tables and given names that stand twice in the database.
func (r *resolver) clashes() {
	tables := map[string]*model{}
	for _, m := range r.order {
		key := strings.ToLower(m.table.Name)
		if old := tables[key]; old != nil {
			r.errorf(m.block.Name.Pos, `name one of them with table "…"`,
				"the models %s and %s have the same table, %s", old.table.Model, m.table.Model, m.table.Name)
		}
		tables[key] = m
	}
	for _, m := range r.order {
		if old := tables[strings.ToLower(m.table.LiveView)]; old != nil && m.table.LiveView != "" {
			r.errorf(m.softPos, `give that table another name with table "…"`,
				"the view %s of %s has the same name as the table of %s", m.table.LiveView, m.table.Model,
				old.table.Model)
		}
		if m.table.Children && len(schema.Children(r.out.Schema, m.table)) == 0 {
			r.diags = append(r.diags, lang.Diagnostic{
				Pos:     m.softPos,
				Warning: true,
				Message: fmt.Sprintf("no model with soft delete refers to %s, so with children does nothing",
					m.table.Model),
				Hint: "a child has soft delete itself, and a reference that is not on delete set null",
			})
		}
	}
	names := map[string]string{}
	perTable := r.rules.PerTable[r.engine]
	for _, m := range r.order {
		for _, x := range m.table.Indexes {
			pos, given := r.given[x]
			if !given || m.table.Outside {
				continue
			}
			key := strings.ToLower(m.table.Beside(x.Name))
			if tables[key] != nil && !perTable {
				r.errorf(pos, "give it another name", "the name %s is taken by a table", x.Name)
			}
			if perTable {
				key = strings.ToLower(m.table.Name) + "." + key
			}
			if old, ok := names[key]; ok {
				r.errorf(pos, "give it another name", "the name %s is taken by an index of %s", x.Name, old)
			}
			names[key] = m.table.Model
		}
	}
}
