package declare

// This file reads the clauses of fields and the constraint lines of models
// into columns, keys, checks and indexes, and says which of them make no sense
// together.

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"erbario/internal/lang"
	"erbario/internal/schema"
	"erbario/internal/words"
)

// clauses fills the columns of the model from its fields.
func (r *resolver) clauses(m *model) {
	byName := map[string]*field{}
	for _, f := range m.order {
		key := strings.ToLower(f.column.Name)
		if old := byName[key]; old != nil {
			r.errorf(f.decl.Name.Pos, `name one with column "…"`, "the fields %s and %s have the same column, %s",
				old.decl.Name.Name, f.decl.Name.Name, f.column.Name)
		}
		byName[key] = f
		f.column.NotNull = true
		seen := map[string]bool{}
		for _, c := range f.decl.Clauses {
			if !r.here(c.On) {
				continue
			}
			word := c.Word
			if c.Do != "" {
				word = "on " + word
			}
			if seen[word] && word != "check" {
				r.errorf(c.Pos, "", "%q is repeated", word)
				continue
			}
			seen[word] = true
			r.clause(m, f, c)
		}
		r.together(f, seen)
		m.table.Columns = append(m.table.Columns, f.column)
	}
	if len(m.key) > 0 {
		pk := []string{}
		for _, name := range m.key {
			f := m.fields[name]
			if f == nil {
				for _, l := range m.lines {
					if l.Key != nil {
						for _, id := range l.Key.Fields {
							if id.Name == name {
								r.lookup(m, id)
							}
						}
					}
				}
				continue
			}
			pk = append(pk, f.column.Name)
			if len(m.key) == 1 {
				f.unique = true
			}
		}
		m.table.Key = pk
		m.keyParts(pk)
	}
}

// keyParts are the parts of the primary key, where a line says more of one than its field.
func (m *model) keyParts(pk []string) {
	for _, l := range m.lines {
		if l.Key == nil || len(l.Key.Parts) != len(pk) {
			continue
		}
		parts, plain := make([]schema.Part, len(pk)), true
		for i, p := range l.Key.Parts {
			parts[i] = heldPart(p)
			parts[i].Column = pk[i]
			plain = plain && parts[i].Plain()
		}
		if !plain {
			m.table.KeyParts = parts
		}
	}
}

// heldPart is a part of an index or a key without what it is of.
func heldPart(p lang.IndexPart) schema.Part {
	out := schema.Part{Desc: p.Desc, Length: p.Length, Nulls: strings.ToUpper(p.Nulls)}
	if p.Collation != nil {
		out.Collation = p.Collation.Text
	}
	if p.Class != nil {
		out.Class = p.Class.Text
	}
	return out
}

func (r *resolver) clause(m *model, f *field, c *lang.Clause) {
	col, t := f.column, f.column.Type
	name := f.decl.Name.Name
	textual := t.Kind == schema.Text || t.Kind == schema.Choice || t.Kind == schema.Native
	r.storedClause(m, f, c)
	switch c.Word {
	case "optional":
		col.NotNull = false
	case "default":
		if r.value(c.Value, t, name) {
			v := r.fit(c.Value.Value, t)
			if v.Kind == schema.SQLValue {
				v.Text = r.sql(m, c.Value.Text, nil)
			}
			col.Value = &v
		}
	case "unique":
		if c.IgnoringCase && !textual {
			r.errorf(c.Pos, "", "only text can ignore case; %s is %s", name, t)
		}
		if c.IncludingDeleted && m.soft == nil {
			r.errorf(c.Pos, "", "%s has no soft delete", m.table.Model)
		}
		f.unique = !c.IgnoringCase && (m.soft == nil || c.IncludingDeleted)
		f.partly = m.soft != nil && !c.IncludingDeleted
		x := &schema.Index{
			Unique: true,
			Column: col.Name,
			Name:   r.rules.Names.IndexName(m.table.Bare(), []string{col.Name}, true),
			Parts:  []schema.Part{{Column: col.Name}},
		}
		if c.IgnoringCase {
			x.Parts[0].IgnoringCase = true
		}
		r.among(m, x, c.IncludingDeleted)
		r.storedIndex(x, c.Stored, nil)
		m.table.Indexes = append(m.table.Indexes, x)
	case "index":
		x := &schema.Index{
			Column: col.Name,
			Name:   r.rules.Names.IndexName(m.table.Bare(), []string{col.Name}, false),
			Parts:  []schema.Part{{Column: col.Name}},
		}
		r.storedIndex(x, c.Stored, nil)
		m.table.Indexes = append(m.table.Indexes, x)
	case "immutable":
		col.Immutable = true
	case "nonblank":
		col.Nonblank = true
		if t.Kind != schema.Text && t.Kind != schema.Native {
			r.errorf(c.Pos, "", "only text can be nonblank; %s is %s", name, t)
		}
	case "stamped":
		col.Stamped = true
		if t.Kind != schema.Timestamp && t.Kind != schema.Datetime {
			r.errorf(c.Pos, "make it a timestamp", "only a timestamp can be stamped; %s is %s", name, t)
		}
	case "range":
		r.rangeOf(f, c)
	case "comment":
		col.Comment = c.Value.Text
	case "fake":
		col.Fake = r.generator(col, name, c.Name.Name, c.Name.Pos, c.Args)
	case "check":
		r.checkClause(m, f, c)
	case "generated":
		col.Generated = &schema.Generated{Stored: c.Kept, SQL: r.sql(m, c.SQL.Text, c.SQL.Fields)}
	case "delete", "update", "no index":
		if f.decl.Type.Ref == nil {
			word := c.Word
			if c.Do != "" {
				word = "on " + word
			}
			r.errorf(c.Pos, "", "%q is for references; %s is %s", word, name, t)
		}
	}
}

// checkClause reads a check that stands with its field.
func (r *resolver) checkClause(m *model, f *field, c *lang.Clause) {
	col := f.column
	k := &schema.Check{
		Name:    r.rules.Names.checkName(m.table, []string{col.Name}),
		Column:  col.Name,
		Purpose: schema.ForCheck,
		SQL:     r.sql(m, c.SQL.Text, c.SQL.Fields),
		Stored:  stored(c.Stored),
	}
	if c.Stored.Name != nil {
		k.Name = c.Stored.Name.Text
	}
	m.table.Checks = append(m.table.Checks, k)
}

// together reports clauses that contradict each other.
func (r *resolver) together(f *field, seen map[string]bool) {
	pos, col := f.decl.Name.Pos, f.column
	name := f.decl.Name.Name
	if col.Generated != nil {
		for _, w := range []string{"default", "stamped", "identity", "immutable", "key", "serial", "rowid",
			"on update now"} {
			if seen[w] {
				r.errorf(pos, "", "%s is generated and cannot have %q", name, w)
			}
		}
		col.NotNull = false // what it is depends on the expression alone
	}
	if col.Stamped && (seen["default"] || col.Immutable) {
		r.errorf(pos, "", "%s is stamped: it takes neither default nor immutable", name)
	}
	if col.Identity && seen["default"] && !seen["rowid"] { // SQLite takes it there, and never uses it
		r.errorf(pos, "", "%s is numbered by the database and takes no default", name)
	}
	if seen["identity"] && (seen["serial"] || seen["rowid"]) || seen["serial"] && seen["rowid"] {
		r.errorf(pos, "keep one of identity, serial and rowid", "%s is numbered in more than one way", name)
	}
	if col.Stamped && col.UpdateNow {
		r.errorf(pos, "keep one of the two", "%s is both stamped and set on update", name)
	}
	if col.Value != nil && col.Value.Kind == schema.NullValue && col.NotNull {
		r.errorf(pos, "write optional, or another default", "%s is required and cannot be null by default", name)
	}
	if seen["index"] && seen["unique"] {
		r.warnf(pos, "remove index", "%s is unique and so has an index", name)
	}
	if ref := f.decl.Type.Ref; ref != nil {
		for _, c := range f.decl.Clauses {
			if c.Do == "" || !r.here(c.On) {
				continue
			}
			if c.Do == schema.SetNull && col.NotNull {
				r.warnf(c.Pos, "write optional", "%s is required and cannot be set null", name)
			}
			if c.Do == schema.SetDefault && col.Value == nil {
				r.errorf(c.Pos, "give it a default", "%s has no default to be set to", name)
			}
			if col.Immutable &&
				(c.Do == schema.SetNull || c.Do == schema.SetDefault || c.Do == schema.Cascade && c.Word == "update") {
				r.errorf(c.Pos, "", "%s is immutable and cannot be changed by its reference", name)
			}
		}
	}
}

// among makes a uniqueness of a soft-deletable model hold among the rows that
// are left.
func (r *resolver) among(m *model, x *schema.Index, includingDeleted bool) {
	if m.soft == nil || includingDeleted {
		return
	}
	where := "{" + m.table.SoftDelete + "} IS NULL"
	x.Live = x.Where == ""
	if x.Where != "" {
		where = "(" + x.Where + ") AND " + where
	}
	x.Where = where
}

// sql gives SQL of a model with the names of columns in the place of fields.
func (r *resolver) sql(m *model, text string, fields []lang.Ident) string {
	for _, id := range fields {
		r.lookup(m, id)
	}
	return schema.Braces(text, func(name string) string {
		if f := m.fields[name]; f != nil {
			return "{" + f.column.Name + "}"
		}
		return "{" + name + "}"
	})
}

// fit gives a literal the form of the type: a word for a choice or text is its
// text, a quoted date is a date.
func (r *resolver) fit(v schema.Value, t schema.Type) schema.Value {
	switch {
	case t.Kind == schema.JSON && v.Constant() && v.Kind != schema.NullValue && v.Kind != schema.JSONValue:
		if v.Kind == schema.TextValue {
			quoted, _ := json.Marshal(v.Text)
			v.Text = string(quoted)
		}
		v.Kind = schema.JSONValue
	case v.Kind == schema.DateValue && t.Kind == schema.Text:
		v.Kind = schema.TextValue
	}
	return v
}

// value tells whether a literal can stand for a value of the type, and reports
// it if not.
func (r *resolver) value(v *lang.Value, t schema.Type, name string) bool {
	if v.Word && t.Kind == schema.Text {
		r.errorf(v.Pos, `write "`+v.Text+`", in quotes`, "%s is not a value of %s", v.Value, t)
		return false
	}
	if v.Word && t.Kind == schema.JSON {
		r.errorf(v.Pos, "", "%s is not a value of %s", v.Value, t)
		return false
	}
	if message, hint := v.Misfit(t, name); message != "" {
		if near := lang.DidYouMean(v.Text, t.Choices); t.Kind == schema.Choice && near != "" {
			hint = near
		}
		r.errorf(v.Pos, hint, "%s", message)
		return false
	}
	return true
}

// constraints reads the model's lines of unique, index and check.
func (r *resolver) constraints(m *model) {
	t := m.table
	checks := map[string]bool{}
	for _, l := range m.lines {
		k := l.Constraint
		if k == nil {
			continue
		}
		if k.Word == "check" {
			c := &schema.Check{Purpose: schema.ForCheck, SQL: r.sql(m, k.SQL.Text, k.SQL.Fields)}
			c.Stored = stored(k.Stored)
			if k.Name != nil {
				c.Name, c.Stored.Named = k.Name.Name, true
				if checks[strings.ToLower(c.Name)] {
					r.errorf(k.Name.Pos, "", "the check %s is declared twice in %s", c.Name, t.Model)
				}
				checks[strings.ToLower(c.Name)] = true
			}
			if c.Name == "" {
				c.Name = r.rules.Names.checkName(t, nil)
			}
			t.Checks = append(t.Checks, c)
			continue
		}
		x := &schema.Index{Unique: k.Word == "unique", NullsEqual: k.NullsEqual}
		var columns []string
		for _, p := range k.Parts {
			part := heldPart(p)
			if p.SQL != nil {
				part.SQL = r.sql(m, p.SQL.Text, p.SQL.Fields)
				columns = append(columns, "expr")
			} else {
				f := r.lookup(m, p.Field)
				if f == nil {
					continue
				}
				part.Column = f.column.Name
				if slices.Contains(columns, f.column.Name) {
					r.errorf(p.Field.Pos, "", "%s is repeated", p.Field.Name)
				}
				columns = append(columns, f.column.Name)
				if k.IgnoringCase && (f.column.Type.Kind == schema.Text || f.column.Type.Kind == schema.Choice ||
					f.column.Type.Kind == schema.Native) {
					part.IgnoringCase = true
				}
				if len(k.Parts) == 1 && x.Unique && k.Where == nil && !k.IgnoringCase && p.Length == 0 &&
					(m.soft == nil || k.IncludingDeleted) {
					f.unique = true
				}
			}
			x.Parts = append(x.Parts, part)
		}
		x.Name = r.rules.Names.IndexName(t.Bare(), columns, x.Unique)
		if k.Name != nil {
			x.Name = k.Name.Name
			r.given[x] = k.Name.Pos
		}
		r.storedIndex(x, k.Stored, m)
		if k.Using != nil {
			x.Using = k.Using.Name
		}
		if k.Where != nil {
			x.Where = r.sql(m, k.Where.Text, k.Where.Fields)
		}
		if x.Unique {
			r.among(m, x, k.IncludingDeleted)
		}
		t.Indexes = append(t.Indexes, x)
	}
}

// references turns reference fields and foreign key lines into foreign keys,
// with their indexes.
func (r *resolver) references(m *model) {
	t := m.table
	for _, f := range m.order {
		ref := f.decl.Type.Ref
		if ref == nil || f.target == nil {
			continue
		}
		target := f.target
		at := ref.Model.Pos
		if ref.By != nil {
			at = ref.By.Pos
		}
		if !target.unique {
			if target.partly {
				r.errorf(at, "write unique including deleted there",
					"%s.%s is unique only among the rows that are not deleted", target.model.table.Model,
					target.decl.Name.Name)
			} else {
				r.warnf(at, "make it unique, or refer to the key", "%s.%s is not unique", target.model.table.Model,
					target.decl.Name.Name)
			}
		}
		fk := &schema.ForeignKey{
			Name:    r.rules.Names.ForeignKeyName(t.Bare(), []string{f.column.Name}, target.model.table.Bare()),
			Columns: []string{f.column.Name}, Table: target.model.table.Name, References: []string{target.column.Name},
			OnDelete: cmp.Or(r.rules.OnDelete, schema.Restrict), OnUpdate: cmp.Or(r.rules.OnUpdate,
				schema.Restrict), Stored: stored(ref.Stored),
		}
		if ref.Stored.Name != nil {
			fk.Name = ref.Stored.Name.Text
		}
		noIndex := false
		for _, c := range f.decl.Clauses {
			if !r.here(c.On) {
				continue
			}
			if c.Do != "" {
				fk.Stored = more(fk.Stored, stored(c.Stored))
				if c.Stored.Name != nil {
					fk.Name = c.Stored.Name.Text
				}
			}
			switch {
			case c.Do != "" && c.Word == "delete":
				fk.OnDelete = c.Do
			case c.Do != "" && c.Word == "update":
				fk.OnUpdate = c.Do
			case c.Word == "no index":
				noIndex = true
			}
		}
		t.ForeignKeys = append(t.ForeignKeys, fk)
		r.indexReference(m, fk, noIndex)
	}
	for _, l := range m.lines {
		if l.ForeignKey != nil {
			r.foreignKey(m, l.ForeignKey)
		}
	}
}

func (r *resolver) foreignKey(m *model, k *lang.ForeignKey) {
	target := r.lookupModel(k.Model)
	fk := &schema.ForeignKey{OnDelete: cmp.Or(r.rules.OnDelete, schema.Restrict),
		OnUpdate: cmp.Or(r.rules.OnUpdate, schema.Restrict)}
	var from, to []*field
	for _, id := range k.Fields {
		if f := r.lookup(m, id); f != nil {
			from = append(from, f)
			fk.Columns = append(fk.Columns, f.column.Name)
		}
	}
	if target == nil || len(from) < len(k.Fields) {
		return
	}
	fk.Table = target.table.Name
	by := k.By
	if len(by) == 0 {
		for _, name := range target.key {
			by = append(by, lang.Ident{Name: name, Pos: k.Model.Pos})
		}
	}
	for _, id := range by {
		if f := r.lookup(target, id); f != nil {
			to = append(to, f)
			fk.References = append(fk.References, f.column.Name)
		}
	}
	if len(to) < len(by) {
		return
	}
	if len(from) != len(to) {
		r.errorf(k.Model.Pos, "", "the reference has %s, and what it refers to has %d", words.Count(int64(len(from)), "field", "fields"), len(to))
		return
	}
	for i := range from {
		if a, b := from[i].column.Type, to[i].column.Type; a.Kind != b.Kind || a.Length != b.Length {
			r.warnf(k.Fields[i].Pos, "", "%s is %s and %s.%s is %s", k.Fields[i].Name, a, target.table.Model,
				by[i].Name, b)
		}
		if k.OnDelete == schema.SetNull && from[i].column.NotNull {
			r.warnf(k.Fields[i].Pos, "write optional there", "%s is required and cannot be set null", k.Fields[i].Name)
		}
	}
	if !r.uniqueTogether(target, fk.References) {
		r.warnf(k.Model.Pos, "declare unique "+strings.Join(fk.References, ", ")+" there", "%s is not unique by %s",
			target.table.Model, strings.Join(fk.References, ", "))
	}
	if k.OnDelete != "" {
		fk.OnDelete = k.OnDelete
	}
	if k.OnUpdate != "" {
		fk.OnUpdate = k.OnUpdate
	}
	fk.Name = r.rules.Names.ForeignKeyName(m.table.Bare(), fk.Columns, target.table.Bare())
	fk.Stored = stored(k.Stored)
	if k.Name != nil {
		fk.Name, fk.Stored.Named = k.Name.Name, true
	}
	// It takes the place of single ones.
	if len(fk.Columns) > 1 {
		m.table.ForeignKeys = slices.DeleteFunc(m.table.ForeignKeys, func(o *schema.ForeignKey) bool {
			return len(o.Columns) == 1 && slices.Contains(fk.Columns, o.Columns[0]) && o.Table == fk.Table
		})
	}
	m.table.ForeignKeys = append(m.table.ForeignKeys, fk)
	r.indexReference(m, fk, k.NoIndex)
}

func (r *resolver) uniqueTogether(m *model, columns []string) bool {
	same := func(names []string) bool {
		if len(names) != len(columns) {
			return false
		}
		for _, n := range names {
			if !slices.Contains(columns, n) {
				return false
			}
		}
		return true
	}
	if m.table.Key != nil && same(m.table.Key) {
		return true
	}
	return slices.ContainsFunc(m.table.Indexes, func(x *schema.Index) bool {
		names := schema.Names(x.Parts)
		return x.Unique && x.Where == "" && len(names) == len(x.Parts) && same(names)
	})
}

// indexReference gives a reference its index, unless the key or an index
// already begins with its columns.
func (r *resolver) indexReference(m *model, fk *schema.ForeignKey, no bool) {
	begins := func(names []string) bool {
		return len(names) >= len(fk.Columns) && slices.Equal(names[:len(fk.Columns)], fk.Columns)
	}
	if no || begins(m.table.Key) {
		return
	}
	if slices.ContainsFunc(m.table.Indexes, func(x *schema.Index) bool {
		names := schema.Names(x.Parts)
		return x.Where == "" && len(names) == len(x.Parts) && begins(names)
	}) {
		return
	}
	x := &schema.Index{Name: r.rules.Names.IndexName(m.table.Bare(), fk.Columns, false)}
	for _, c := range fk.Columns {
		x.Parts = append(x.Parts, schema.Part{Column: c})
	}
	if len(fk.Columns) == 1 {
		x.Column = fk.Columns[0]
	}
	m.table.Indexes = append(m.table.Indexes, x)
}
