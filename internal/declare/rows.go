package declare

// This file resolves reference rows: every value is one of its field's type, no
// two rows have the same key, and a value of a reference names a row by the field
// that tells the rows of that model apart.

import (
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// Rows is a block of reference rows with its names resolved. They stand with
// their table too.
type Rows struct {
	Pos   lang.Pos
	Table *schema.Table
	*schema.Rows

	cells [][]lang.Pos
}

func (r *resolver) rowBlocks(blocks []*lang.Block) {
	by := map[*model][]*field{}
	r.rowKeys = by
	for _, b := range blocks {
		if m := r.models[b.Name.Name]; m != nil {
			by[m] = nil
			for _, id := range b.By {
				by[m] = append(by[m], m.fields[id.Name])
			}
		}
	}
	seen := map[*model]bool{}
	for _, b := range blocks {
		lines := b.Lines
		if b.From != nil {
			lines = b.FromLines
		}
		m := r.lookupModel(b.Name)
		if m == nil {
			continue
		}
		if seen[m] {
			r.errorf(b.Name.Pos, "put all of them in one block", "the rows of %s are declared twice", m.table.Model)
			continue
		}
		seen[m] = true
		if m.table.Outside {
			r.errorf(b.Name.Pos, "", "%s is %s: no rows of it are declared", m.table.Model, elsewhere(m.table))
			continue
		}
		var key []*field
		known := true
		for i, id := range b.By {
			f := r.lookup(m, id)
			if f != nil && slices.Contains(key, f) {
				r.errorf(b.By[i].Pos, "", "%s is repeated", id.Name)
				f = nil
			}
			known = known && f != nil
			key = append(key, f)
		}
		if len(lines) == 0 {
			continue
		}
		if !known {
			for _, cell := range lines[0].Cells {
				r.lookup(m, cell.Name)
			}
			continue
		}
		if names := theirNames(b.By); !tellsApart(m, key) {
			hint := "make it unique in the model"
			if len(key) > 1 {
				hint = "write unique " + strings.Join(names, ", ") + " in the model"
			}
			r.errorf(b.By[0].Pos, hint, "%s %s not identify one %s", strings.Join(names, " and "),
				map[bool]string{true: "do", false: "does"}[len(key) > 1], m.table.Model)
		}
		for i, f := range key {
			if f.column.Identity {
				r.errorf(b.By[i].Pos, "identify them by another field, such as code text(20) unique",
					"%s is numbered by the database, and differs between databases", b.By[i].Name)
			}
		}
		out := &Rows{Pos: b.Pos, Table: m.table}
		if r.rowBlock(b, lines, m, key, out) {
			m.table.Rows = out.Rows
			r.out.Rows = append(r.out.Rows, out)
		}
	}
	r.rowLinks()
}

// tellsApart tells whether no two rows of a model have the same values in some fields.
func tellsApart(m *model, key []*field) bool {
	if len(key) == 1 {
		return key[0].unique || key[0].partly
	}
	among := func(columns []string) bool {
		return !slices.ContainsFunc(columns, func(column string) bool {
			return !slices.ContainsFunc(key, func(f *field) bool { return f.column.Name == column })
		})
	}
	return m.table.Key != nil && among(m.table.Key) ||
		slices.ContainsFunc(m.table.Indexes, func(x *schema.Index) bool {
			names := schema.Names(x.Parts)
			return x.Unique && (x.Where == "" || x.Live) && len(names) == len(x.Parts) && among(names)
		})
}

// theirNames are names as they are written.
func theirNames(list []lang.Ident) []string {
	var out []string
	for _, id := range list {
		out = append(out, id.Name)
	}
	return out
}

func (r *resolver) rowBlock(b *lang.Block, lines []*lang.Line, m *model, key []*field, into *Rows) bool {
	out := &schema.Rows{InsertOnly: b.InsertOnly}
	for _, f := range key {
		out.By = append(out.By, f.column.Name)
	}
	into.Rows = out
	var fields []*field
	known := true
	for _, cell := range lines[0].Cells {
		f := r.lookup(m, cell.Name)
		if f == nil {
			known = false
			continue
		}
		c := f.column
		switch {
		case slices.Contains(out.Columns, c.Name):
			r.errorf(cell.Name.Pos, "", "%s is repeated", cell.Name.Name)
		case c.Generated != nil || c.Identity:
			r.errorf(cell.Name.Pos, "remove it", "%s is set by the database", cell.Name.Name)
		}
		link, to, toBy, ok := r.rowLink(cell.Name.Pos, f)
		known = known && ok
		fields = append(fields, f)
		out.Columns = append(out.Columns, c.Name)
		out.Refers = append(out.Refers, link)
		out.Points = append(out.Points, to)
		out.PointsBy = append(out.PointsBy, toBy)
	}
	if !known {
		return false
	}
	for _, f := range m.order {
		c := f.column
		if c.NotNull && c.Value == nil && c.Generated == nil && !c.Identity && !c.Stamped &&
			!slices.Contains(fields, f) {
			r.errorf(b.Pos, "give it a column here, or a default in the model",
				"%s.%s is required, and the rows have no value for it", m.table.Model, f.decl.Name.Name)
		}
	}
	for i, c := range out.By {
		if out.Place(c) < 0 {
			r.errorf(b.By[i].Pos, "give it a column", "the rows have no %s, which identifies them", b.By[i].Name)
			known = false
		}
	}
	if !known {
		return false
	}
	rows := &rowReading{resolver: r, block: b, key: key, fields: fields, into: into,
		keys: map[string]bool{}, taken: map[*field]map[string]bool{}}
	for _, l := range lines[1:] {
		if len(l.Cells) == len(fields) { // else the parser has said so
			rows.row(l)
		}
	}
	return true
}

// rowLink is how a column of rows refers to rows of another model: by the value that
// identifies those, where that is not the value referred to.
func (r *resolver) rowLink(pos lang.Pos, f *field) (link *schema.RowLink, to, toBy string, ok bool) {
	by := r.rowKeys
	if f.target == nil {
		return nil, "", "", true
	}
	toBy, ok = f.target.column.Name, true
	of := f.target.model
	if len(by[of]) > 1 {
		if f.target.column.Identity {
			ok = false
			r.errorf(pos, "refer to a unique field instead, such as references "+of.table.Model+" by code",
				"rows of %s are identified by several fields, but %s holds one value", of.table.Model,
				f.decl.Name.Name)
		}
		return nil, of.table.Name, toBy, ok
	}
	if by[of] == nil || by[of][0] == nil {
		return nil, "", toBy, ok
	}
	if k := by[of][0]; k != f.target {
		toBy = k.column.Name
		link = &schema.RowLink{Table: of.table.Name, By: k.column.Name, Column: f.target.column.Name,
			Type: k.column.Type, Marked: of.table.SoftDelete}
	}
	return link, of.table.Name, toBy, ok
}

// rowReading reads the rows of a block.
type rowReading struct {
	*resolver
	block  *lang.Block
	key    []*field
	fields []*field // of the columns
	into   *Rows
	keys   map[string]bool
	taken  map[*field]map[string]bool // of what is unique beside the key
}

func (r *rowReading) row(l *lang.Line) {
	out := r.into.Rows
	row := make([]schema.Value, len(r.fields))
	at := make([]lang.Pos, len(r.fields))
	for i, cell := range l.Cells {
		f := r.fields[i]
		t := f.column.Type
		if link := out.Refers[i]; link != nil {
			t = link.Type
		}
		at[i] = cell.Value.Pos
		row[i] = r.rowValue(cell.Value, f, t)
		if v := row[i]; (f.unique || f.partly) && (len(r.key) > 1 || f != r.key[0]) && v.Kind != schema.NullValue {
			if r.taken[f] == nil {
				r.taken[f] = map[string]bool{}
			}
			if r.taken[f][v.Text] {
				r.errorf(cell.Value.Pos, "", "%s is unique, and two rows have %s", f.decl.Name.Name, v)
			}
			r.taken[f][v.Text] = true
		}
	}
	out.Values = append(out.Values, row)
	whole := true
	for i, c := range out.By {
		place := out.Place(c)
		switch v := row[place]; {
		case v.Kind == schema.NullValue:
			if whole = false; !r.key[i].column.NotNull {
				r.errorf(l.Cells[place].Value.Pos, "", "%s identifies the rows and cannot be null", r.block.By[i].Name)
			}
		case v.Kind == schema.TextValue && v.Text == "":
			r.errorf(l.Cells[place].Value.Pos, "give the row one", "%s identifies the rows and cannot be empty",
				r.block.By[i].Name)
		}
	}
	name := out.Key(len(out.Values) - 1)
	if first := out.Place(out.By[0]); whole && r.keys[name] {
		what := row[first].String()
		if len(r.key) > 1 {
			what = name
		}
		r.errorf(l.Cells[first].Value.Pos, "", "two rows have the same %s, %s",
			strings.Join(theirNames(r.block.By), " and "), what)
	}
	r.keys[name] = true
	r.into.cells = append(r.into.cells, at)
}

// rowValue reads a cell: a bare word is a text, and what comes from a file of
// rows is read as the type wants it.
func (r *resolver) rowValue(v *lang.Value, f *field, t schema.Type) schema.Value {
	name := f.decl.Name.Name
	c := *v
	if c.Raw {
		if c.Text == "" && !c.Quoted {
			c.Value = schema.Value{Kind: schema.NullValue}
		} else {
			value, err := schema.ReadValue(c.Text, t)
			if err != nil {
				r.errorf(c.Pos, "", "%s: %s", name, err)
				return value
			}
			if t.Kind == schema.JSON {
				value.Kind = schema.JSONValue
			}
			c.Value = value
		}
	}
	if c.Word && c.Kind == schema.TextValue && t.Kind == schema.Text {
		c.Word = false
	}
	switch {
	case c.Kind == schema.NullValue && f.column.NotNull:
		r.errorf(c.Pos, "", "%s is required and cannot be null", name)
	case c.Kind == schema.NullValue:
	case !c.Constant() && c.Kind != schema.SQLValue:
		r.errorf(c.Pos, "write the value itself, or leave the field to its default",
			"%s would be different on every database", c.Value)
	case r.value(&c, t, name):
		if x := f.column; x.Nonblank && strings.TrimSpace(c.Text) == "" && c.Kind == schema.TextValue {
			r.errorf(c.Pos, "", "%s cannot be blank", name)
		}
		r.inRange(c, f)
	}
	return r.fit(c.Value, t)
}

// inRange tells of a literal that is out of its field's range.
func (r *resolver) inRange(v lang.Value, f *field) {
	t := f.column.Type
	if x := f.column.Range; x != nil && v.Constant() && v.Kind != schema.NullValue &&
		(x.From != nil && !inOrder(*x.From, v.Value, t) || x.To != nil && !inOrder(v.Value, *x.To, t)) {
		r.errorf(v.Pos, "", "%s is out of the range of %s", v.Value, f.decl.Name.Name)
	}
}

// rowLinks checks that the rows that are named by others are declared.
func (r *resolver) rowLinks() {
	var reaches func(from, to string, steps int) bool // by the names of tables
	reaches = func(from, to string, steps int) bool {
		m := r.modelOf(from)
		return m != nil && m.table.Rows != nil && steps < len(r.out.Rows) &&
			slices.ContainsFunc(m.table.Rows.Points, func(next string) bool {
				return next != "" && next != from && (next == to || reaches(next, to, steps+1))
			})
	}
	for _, rows := range r.out.Rows {
		if _, ok := rows.ParentsFirst(rows.Table.Name); !ok {
			r.errorf(rows.Pos, "leave one of the references null",
				"rows of %s refer to each other in a circle, and none can be the first", rows.Table.Model)
		} else if reaches(rows.Table.Name, rows.Table.Name, 0) {
			r.errorf(rows.Pos, "remove the reference from one of the blocks", "the rows of %s and of other models refer to each other in a circle, and none can be the first", rows.Table.Model)
		}
		for i, link := range rows.Refers {
			if link == nil {
				continue
			}
			target := r.modelOf(link.Table)
			if target == nil || target.table.Rows == nil {
				continue
			}
			place := target.table.Rows.Place(link.By)
			known := map[string]bool{}
			var names []string
			for _, row := range target.table.Rows.Values {
				known[row[place].Text] = true
				names = append(names, row[place].Text)
			}
			for n, row := range rows.Values {
				if v := row[i]; v.Kind != schema.NullValue && !known[v.Text] {
					hint := lang.DidYouMean(v.Text, names)
					if hint == "" {
						hint = "give the rows of " + target.table.Model + " one"
					}
					r.errorf(rows.cells[n][i], hint, "%s has no row %s", target.table.Model, v)
				}
			}
		}
	}
}
