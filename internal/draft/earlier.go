package draft

// This file works out what was declared before some changes, from what is declared now.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/diff"
	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
	"erbario/internal/migration"
	"erbario/internal/runner"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// earlier takes changes out of what is declared: what was declared before them. Of what
// was there before, another engine's words are all that is known; values, and names by
// the rules, are read from them.
type earlier struct {
	engine runner.Engine
	home   runner.Engine // whose words they are
	out    *schema.Schema
	files  []*migration.Migration // of engine
}

// enum is the enum type that the files gave a column last, where that is one.
func (w *earlier) enum(table, column string) string {
	if name, made := w.typeIn(table, column); made {
		return name
	}
	return ""
}

// typeIn is the name of the type that the files gave a column last, empty where they do not
// tell, and whether they made a type of that name.
func (w *earlier) typeIn(table, column string) (string, bool) {
	if !w.engine.Caps().Enums {
		return "", false
	}
	var statements []string
	for _, m := range w.files {
		statements = append(statements, m.SQL(false)...)
	}
	return engine.EnumsOf(w.engine).TypeIn(statements, table, column)
}

func (w *earlier) without(changes []diff.Change) (*schema.Schema, error) {
	rank := func(c diff.Change) int { // tables first, and what shows them last
		switch c.Object.(type) {
		case *sqlschema.View:
			return 2
		case *sqlschema.Table:
			return 0
		}
		return 1
	}
	changes = slices.Clone(changes)
	slices.SortStableFunc(changes, func(a, b diff.Change) int { return rank(a) - rank(b) })
	for _, c := range changes {
		if !w.takeOut(c) {
			return nil, fmt.Errorf("%s cannot be calculated: %s", c.Target(), cmp.Or(c.What, string(c.Kind)))
		}
	}
	for _, t := range w.out.Tables { // a choice that becomes an enum type is none for an engine without any
		for _, c := range t.Columns {
			if c.Type.Enum == "" {
				continue
			}
			if name, made := w.typeIn(t.Name, c.Name); name != "" && !made {
				c.Type.Enum = ""
			}
		}
	}
	return w.out, nil
}

// takeOut takes one change out; false: that is not known.
func (w *earlier) takeOut(c diff.Change) bool {
	if v, ok := c.Object.(*sqlschema.View); ok {
		t := w.out.Table(v.LiveOf)
		switch {
		case v.LiveOf == "":
			return false
		case t != nil && c.Kind == diff.AddView:
			t.LiveView = ""
		case t != nil && c.Kind == diff.DropView:
			t.LiveView = v.Name
		}
		return true
	}
	switch c.Kind {
	case diff.AddTable:
		w.out.Tables = slices.DeleteFunc(w.out.Tables,
			func(o *schema.Table) bool { return strings.EqualFold(o.Name, c.Table) })
		return true
	case diff.DropTable:
		return w.putTable(c.Object.(*sqlschema.Table))
	case diff.AddRow, diff.ChangeRow, diff.DropRow: // told by the files
		return true
	}
	t := w.out.Table(c.Table)
	if t == nil {
		return false
	}
	switch object := c.Object.(type) {
	case *sqlschema.Column:
		if schema.Own(object.Name) { // it stands for a part of an index, which is taken out by itself
			return true
		}
		before, _ := c.Before.(*sqlschema.Column)
		return w.column(t, c.Kind, object, before)
	case *sqlschema.Index:
		before, _ := c.Before.(*sqlschema.Index)
		return w.index(t, c.Kind, object, before)
	case *sqlschema.ForeignKey:
		others := func(o *schema.ForeignKey) bool {
			return slices.EqualFunc(o.Columns, object.Columns, strings.EqualFold)
		}
		if c.Kind != diff.DropReference {
			t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys, others)
		}
		switch c.Kind {
		case diff.DropReference:
			t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, object))
		case diff.ChangeRef:
			t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, c.Before.(*sqlschema.ForeignKey)))
		}
		return true
	case *sqlschema.Check:
		before, _ := c.Before.(*sqlschema.Check)
		return w.check(t, c.Kind, object, before)
	case *sqlschema.Trigger:
		return trigger(t, object, c.Kind != diff.AddTrigger)
	case *sqlschema.Table:
		switch c.Kind {
		case diff.AddComment:
			t.Comment = ""
			return true
		case diff.ChangeComment, diff.DropComment:
			t.Comment = c.From
			return true
		}
	}
	return false
}

// index takes a change of an index out.
func (w *earlier) index(t *schema.Table, kind diff.Kind, x, before *sqlschema.Index) bool {
	was := before
	if kind.Drops() {
		was = x
	}
	if was != nil && slices.ContainsFunc(sqlschema.Names(was.Parts), schema.Own) {
		return false // what the model said is not to be read from it
	}
	named := func(o *schema.Index) bool { return strings.EqualFold(o.Name, x.Name) }
	switch i := slices.IndexFunc(t.Indexes, named); {
	case kind == diff.AddIndex || kind == diff.AddUnique:
		t.Indexes = slices.DeleteFunc(t.Indexes, named)
	case kind.Drops():
		t.Indexes = append(t.Indexes, w.declaredIndex(x))
	case i >= 0:
		t.Indexes[i] = w.declaredIndex(before)
	}
	return true
}

// putTable declares a table again that is no longer declared.
func (w *earlier) putTable(old *sqlschema.Table) bool {
	if old.Options.Virtual != "" || len(old.Others) > 0 {
		return false
	}
	t := &schema.Table{Name: old.Name, Key: old.Key(), Comment: old.Comment}
	w.out.Tables = append(w.out.Tables, t)
	ok := true
	for _, c := range old.Columns {
		ok = ok && w.column(t, diff.DropColumn, c, nil)
	}
	for _, x := range old.Indexes {
		t.Indexes = append(t.Indexes, w.declaredIndex(x))
	}
	for _, k := range old.ForeignKeys {
		t.ForeignKeys = append(t.ForeignKeys, declaredReference(t.Name, k))
	}
	for _, k := range old.Checks {
		ok = ok && w.check(t, diff.DropCheck, k, nil)
	}
	for _, g := range old.Triggers {
		ok = ok && trigger(t, g, true)
	}
	return ok
}

// column takes a change of a column out.
func (w *earlier) column(t *schema.Table, kind diff.Kind, c, before *sqlschema.Column) bool {
	col := t.Column(c.Name)
	if kind == diff.DropColumn {
		if c.Type.Kind == schema.Native || c.Generated != nil {
			return false
		}
		o := &schema.Column{
			Name: c.Name, Type: c.Type, NotNull: c.NotNull, Identity: c.Identity, Comment: c.Comment,
			Immutable: c.Immutable, Stamped: c.Stamped, Value: w.value(c.Default, c.Type),
		}
		if c.Identity {
			o.Type = schema.Type{Kind: schema.Bigint}
		}
		t.Columns = append(t.Columns, o)
		return true
	}
	if col == nil {
		return false
	}
	switch kind {
	case diff.AddColumn:
		takeColumn(t, col.Name)
	case diff.MakeRequired:
		col.NotNull = false
	case diff.MakeOptional:
		col.NotNull = true
	case diff.ChangeType:
		if before.Type.Kind == schema.Native {
			return false
		}
		col.Type = before.Type
	case diff.ChangeDefault:
		col.Value = w.value(before.Default, before.Type)
	case diff.AddComment:
		col.Comment = ""
	case diff.ChangeComment, diff.DropComment:
		col.Comment = cmp.Or(before, c).Comment
	default:
		return false
	}
	return true
}

// value reads a default in the words of the engine that it is of.
func (w *earlier) value(def *sqlschema.SQL, t schema.Type) *schema.Value {
	if def == nil {
		return nil
	}
	text := strings.TrimSpace(def.Text)
	plain := text
	if in, ok := strings.CutPrefix(text, "'"); ok {
		plain = strings.ReplaceAll(strings.TrimSuffix(in, "'"), "''", "'")
	}
	list := []schema.Value{
		{Kind: schema.NowValue},
		{Kind: schema.TodayValue},
		{Kind: schema.UUIDValue},
		{Kind: schema.BooleanValue, Text: "true"},
		{Kind: schema.BooleanValue, Text: "false"},
	}
	for _, v := range append(list, schema.Value{Kind: schema.NumberValue, Text: text}, schema.Value{Kind: schema.NumberValue, Text: strings.TrimRight(strings.TrimRight(plain, "0"), ".")}, schema.Value{Kind: schema.TextValue, Text: plain}) {
		if v.Kind == schema.BooleanValue && t.Kind != schema.Boolean ||
			v.Kind == schema.NumberValue && !t.Kind.Number() {
			continue
		}
		sql, err := w.home.SQL().Literal(v, t)
		if err == nil && (sql == text || sql == "("+text+")") {
			return &v
		}
	}
	return &schema.Value{Kind: schema.SQLValue, Text: strings.TrimSuffix(strings.TrimPrefix(text, "("), ")")}
}

// sql is SQL of the other engine as a model would have it, with quoted names in braces.
func (w *earlier) sql(text string) string {
	var b strings.Builder
	at := 0
	for _, t := range w.home.SQL().Lex(text) {
		if t.Kind == sqltok.Name {
			b.WriteString(text[at:t.Start] + `{"` + t.Val + `"}`)
			at = t.End
		}
	}
	return b.String() + text[at:]
}

// declaredIndex is an index as a model would declare it.
func (w *earlier) declaredIndex(x *sqlschema.Index) *schema.Index {
	o := &schema.Index{Name: x.Name, Unique: x.Unique, Using: x.Using, NullsEqual: x.NullsEqual}
	if x.Where != nil {
		o.Where = w.sql(x.Where.Text)
	}
	for _, p := range x.Parts {
		part := schema.Part{Column: p.Column, Desc: p.Desc}
		if p.Expr != nil {
			part.SQL = w.sql(p.Expr.Text)
		}
		part.IgnoringCase = p.Collation != "" && !strings.EqualFold(p.Collation, "binary")
		o.Parts = append(o.Parts, part)
	}
	return o
}

// declaredReference is a reference with the name that it has by the rules.
func declaredReference(table string, k *sqlschema.ForeignKey) *schema.ForeignKey {
	return &schema.ForeignKey{
		Name: cmp.Or(k.Name, schema.ConstraintName(table, k.Columns, "fkey")), Columns: k.Columns,
		Table: k.Table, References: k.References, OnDelete: k.OnDelete, OnUpdate: k.OnUpdate,
	}
}

// takeColumn takes a column out of a declared table, with what stands on it.
func takeColumn(t *schema.Table, name string) {
	t.Columns = slices.DeleteFunc(t.Columns, func(o *schema.Column) bool { return o.Name == name })
	on := func(parts []schema.Part) bool { return slices.Contains(schema.Names(parts), name) }
	t.Indexes = slices.DeleteFunc(t.Indexes, func(x *schema.Index) bool { return on(x.Parts) })
	t.ForeignKeys = slices.DeleteFunc(t.ForeignKeys,
		func(k *schema.ForeignKey) bool { return slices.Contains(k.Columns, name) })
	if t.SoftDelete == name {
		t.SoftDelete, t.LiveView, t.Children, t.Guard, t.GuardRole = "", "", false, false, ""
	}
}

// check takes a change of a check out, where its field, its type or a line of the model
// says it.
func (w *earlier) check(t *schema.Table, kind diff.Kind, k, before *sqlschema.Check) bool {
	c := t.Column(k.Column)
	was := before // what was there, if anything
	if kind == diff.DropCheck {
		was = k
	}
	again := func() { // a check as the other engine had it, under its name
		t.Checks = append(t.Checks,
			&schema.Check{Name: was.Name, SQL: w.sql(was.SQL.Text), Column: was.Column, Purpose: was.Purpose})
	}
	switch {
	case k.Purpose == schema.ForType:
	case k.Purpose == schema.ForSoftDelete:
		if kind == diff.DropCheck {
			t.SoftDelete = k.Column
		}
	case k.Purpose != "" && k.Purpose != schema.ForCheck && c == nil: // of a column that came with it
	case k.Purpose == schema.ForNonblank:
		c.Nonblank = was != nil
	case k.Purpose == schema.ForRange:
		if c.Range = nil; was != nil && was.Range != nil {
			c.Range = was.Range
		} else if was != nil {
			again()
		}
	case k.Purpose == schema.ForChoice:
		if was != nil {
			c.Type = schema.Type{Kind: schema.Choice, Choices: was.Choices, Enum: w.enum(t.Name, c.Name)}
		} else if c.Type.Kind == schema.Choice { // a text, of whose type nothing else changed
			c.Type = schema.Type{Kind: schema.Text}
		}
	default:
		n := len(t.Checks)
		if kind != diff.DropCheck {
			t.Checks = slices.DeleteFunc(t.Checks,
				func(o *schema.Check) bool { return o.Name == k.Name && k.Name != "" })
			if len(t.Checks) == n && (c != nil || k.Column == "") {
				return false
			}
		}
		if was != nil {
			again()
		}
	}
	return true
}

// trigger takes a trigger of ours out that came, or puts one in that went or changed.
func trigger(t *schema.Table, g *sqlschema.Trigger, was bool) bool {
	c := t.Column(g.Column)
	switch g.Purpose {
	case schema.ForChildren,
		schema.ForGuard,
		schema.ForGuardMark,
		schema.ForGuardAll,
		schema.ForGuardChildren: // the other engine's table tells
	case schema.ForImmutable:
		if c != nil { // else it came with its column
			c.Immutable = was
		}
	case schema.ForStamped:
		if c != nil {
			if c.Stamped = was; was {
				c.Value = nil
			}
		}
	default:
		return false
	}
	return true
}
