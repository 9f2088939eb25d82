package ddl

// This file tells what is stored in the terms of the models: the inverse of lowering. What it
// gives is a proposal, since not all that a database holds can be said: whoever takes it lowers
// it again, and compares.

import (
	"bytes"
	"encoding/json"
	"slices"
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// Raising is an engine's own words for the way from what is stored to what is declared.
type Raising struct {
	*Lowering
	Lex func(sql string) []sqltok.Token
	// Meaning is the type of the language whose values have the form of those of a column; ok is
	// false where there is none.
	Meaning func(c *sqlschema.Column) (t schema.Type, ok bool)
	// TypeName is the stored type of a declared one.
	TypeName func(t schema.Type) string
	// Constraint tells what a uniqueness is kept as where no model says it.
	Constraint func(x *sqlschema.Index) bool
	// Own adds to a table, a column and an index what the engine alone keeps of them.
	Own      func(t *sqlschema.Table, out *schema.Table)
	OwnIndex func(x *sqlschema.Index, out *schema.Index)
}

// Table is what would be declared for a stored table. With plain, no word of the language stands
// for a check: each is written as it is.
func (w *Raising) Table(t *sqlschema.Table, plain bool) *schema.Table {
	out := &schema.Table{Name: t.Name, Comment: t.Comment, Unchecked: !slices.ContainsFunc(t.Checks, ofType)}
	for _, c := range t.Columns {
		out.Columns = append(out.Columns, w.column(t, c, plain))
	}
	if pk := t.PrimaryKey; pk != nil {
		out.Key = sqlschema.Names(pk.Columns)
		for _, p := range pk.Columns {
			out.KeyParts = append(out.KeyParts, w.part(t, p))
		}
		if !slices.ContainsFunc(out.KeyParts, func(p schema.Part) bool { return !p.Plain() }) {
			out.KeyParts = nil
		}
		out.KeyName = pk.Name
		out.KeyStored.Deferrable, out.KeyStored.Conflict = strings.TrimSpace(pk.Options), pk.Conflict
	}
	for _, k := range t.Checks {
		if ofType(k) || !plain && said(k) {
			continue
		}
		out.Checks = append(out.Checks, &schema.Check{
			Name: k.Name, SQL: w.inModel(t, k.SQL.Text), Column: k.Column, Purpose: schema.ForCheck,
			Stored: schema.Stored{Named: k.Name != "", Unnamed: k.Name == "", NotValid: k.NotValid,
				NoInherit: k.NoInherit},
		})
	}
	for _, x := range t.Indexes {
		out.Indexes = append(out.Indexes, w.unlowered(t, x))
	}
	for _, k := range t.ForeignKeys {
		fk := &schema.ForeignKey{
			Name: k.Name, Columns: k.Columns, Table: k.Table, References: k.References,
			OnDelete: k.OnDelete, OnUpdate: k.OnUpdate,
			Stored: schema.Stored{Named: k.Name != "", Deferrable: k.Deferrable, Match: k.Match, NotValid: k.NotValid},
		}
		out.ForeignKeys = append(out.ForeignKeys, fk)
	}
	w.Own(t, out)
	return out
}

// ofType tells whether a check holds a column to its type.
func ofType(k *sqlschema.Check) bool { return k.Purpose == schema.ForType }

// said tells whether words of the language stand for a check.
func said(k *sqlschema.Check) bool {
	switch k.Purpose {
	case schema.ForChoice:
		return len(k.Choices) > 0
	case schema.ForRange:
		return k.Range != nil
	}
	return k.Purpose == schema.ForNonblank
}

func (w *Raising) column(t *sqlschema.Table, c *sqlschema.Column, plain bool) *schema.Column {
	out := &schema.Column{
		Name: c.Name, NotNull: c.NotNull, Comment: c.Comment, Collation: c.Collation, Invisible: c.Invisible,
		Storage: strings.ToLower(c.Storage), Statistics: c.Statistics,
		Identity: c.Identity || c.Serial != "",
		Numbers:  schema.Numbers{Always: c.IdentityAlways, Start: c.Start, Serial: c.Serial != ""},
	}
	out.Numbers.NoKey = out.Identity && !slices.Equal(t.Key(), []string{c.Name})
	meaning, ok := w.Meaning(c)
	if t.HoldsType(c.Name) && c.Type.Kind != schema.Native && sqlschema.SameForm(w.TypeName(c.Type), c.SQLType) {
		meaning, ok = c.Type, true // a check sees to the form of its values
	}
	switch {
	case !ok:
		meaning = schema.Type{Kind: schema.Native, Name: c.SQLType}
	case !sqlschema.SameForm(w.TypeName(meaning), c.SQLType):
		meaning.As, meaning.Typeless = c.SQLType, c.SQLType == ""
	}
	for _, k := range t.Checks {
		if plain || !strings.EqualFold(k.Column, c.Name) {
			continue
		}
		switch {
		case k.Purpose == schema.ForChoice && len(k.Choices) > 0 && meaning.As == "":
			meaning = schema.Type{Kind: schema.Choice, Choices: k.Choices}
		case k.Purpose == schema.ForRange && k.Range != nil:
			out.Range = k.Range
		case k.Purpose == schema.ForNonblank:
			out.Nonblank = true
		}
	}
	for _, g := range t.Triggers {
		if !plain && strings.EqualFold(g.Column, c.Name) {
			out.Immutable = out.Immutable || g.Purpose == schema.ForImmutable
			out.Stamped = out.Stamped || g.Purpose == schema.ForStamped
		}
	}
	out.Type = meaning
	if c.Generated != nil {
		out.Generated = &schema.Generated{SQL: w.inModel(t, c.Generated.SQL.Text), Stored: c.Generated.Stored}
		out.NotNull = false
	}
	if c.Default != nil && c.Generated == nil && c.Serial == "" {
		out.Value = &schema.Value{Kind: schema.SQLValue, Text: unwrapped(w.Lex, c.Default.Text)}
		if !plain {
			out.Value = w.value(c, meaning)
		}
	}
	return out
}

// value is a default as the language has it: a literal, if that is lowered to the same, else SQL.
func (w *Raising) value(c *sqlschema.Column, t schema.Type) *schema.Value {
	list := w.Lex(c.Default.Text)
	for len(list) > 2 && list[0].Is("(") && list[len(list)-1].Is(")") {
		list = list[1 : len(list)-1]
	}
	for i, tok := range list { // the type behind a constant
		if tok.Is("::") {
			list = list[:i]
			break
		}
	}
	var guesses []schema.Value
	if c.Value != nil {
		guesses = append(guesses, *c.Value)
	}
	if t.Kind == schema.Timestamp || t.Kind == schema.Datetime {
		guesses = append(guesses, schema.Value{Kind: schema.NowValue})
	}
	number := strings.TrimPrefix(c.Default.Text, "-")
	switch {
	case len(list) == 1 && list[0].Kind == sqltok.Text:
		v := list[0].Val
		if t.Kind == schema.Date {
			guesses = append(guesses, schema.Value{Kind: schema.DateValue, Text: v})
		}
		var compact bytes.Buffer
		switch {
		case t.Kind != schema.JSON:
			guesses = append(guesses, schema.Value{Kind: schema.TextValue, Text: v})
		case json.Compact(&compact, []byte(v)) == nil && compact.String() == v:
			guesses = append(guesses, schema.Value{Kind: schema.JSONValue, Text: v})
		}
		guesses = append(guesses, schema.Value{Kind: schema.NumberValue, Text: v})
	case len(list) == 1 && list[0].Kind == sqltok.Number, len(list) == 2 && list[0].Is("-"):
		guesses = append(guesses, schema.Value{Kind: schema.NumberValue, Text: c.Default.Text})
		if number == "0" || number == "1" {
			word := map[string]string{"0": "false", "1": "true"}[number]
			guesses = append(guesses, schema.Value{Kind: schema.BooleanValue, Text: word})
		}
	case len(list) == 1 && (list[0].Is("true") || list[0].Is("false")):
		guesses = append(guesses, schema.Value{Kind: schema.BooleanValue, Text: strings.ToLower(list[0].Text)})
	}
	for _, v := range guesses {
		if message, _ := v.Misfit(t, c.Name); message != "" || t.Kind == schema.Native || !plainText(v.Text) {
			continue
		}
		sql, err := w.Value(v, t)
		if err == nil && (w.SQL(sql).Same(*c.Default) || c.Values != nil && c.Default.Text == sql+"::"+c.SQLType) {
			return &v
		}
	}
	return &schema.Value{Kind: schema.SQLValue, Text: unwrapped(w.Lex, c.Default.Text)}
}

// plainText tells whether a text can be written in a line of a model.
func plainText(s string) bool {
	return !strings.ContainsFunc(s, func(r rune) bool { return r < ' ' && r != '\n' && r != '\t' && r != '\r' })
}

// unwrapped is an expression without brackets around all of it: the language has its own.
func unwrapped(lex func(string) []sqltok.Token, text string) string {
	list := lex(text)
	if !sqltok.Bracketed(list) {
		return strings.TrimSpace(text)
	}
	return strings.TrimSpace(text[list[0].End:list[len(list)-1].Start])
}

// flat is SQL without comments, and without line breaks between its tokens.
func flat(lex func(string) []sqltok.Token, text string) string {
	var b strings.Builder
	last := 0
	for _, t := range lex(text) {
		gap := text[last:t.Start]
		if strings.TrimLeft(gap, " ") != "" {
			gap = " "
		}
		b.WriteString(gap + text[t.Start:t.End])
		last = t.End
	}
	return strings.TrimSpace(b.String())
}

// inModel is an expression with the names of columns in braces, if that is lowered to the same.
func (w *Raising) inModel(t *sqlschema.Table, text string) string {
	text = flat(w.Lex, text)
	list := w.Lex(text)
	var b strings.Builder
	last := 0
	for i, tok := range list {
		if !tok.Named() || tok.Kind == sqltok.Text || i > 0 && (list[i-1].Is(".") || list[i-1].Is("::") ||
			list[i-1].Is("AS")) ||
			i+1 < len(list) && (list[i+1].Is("(") || list[i+1].Is(".")) {
			continue
		}
		c := t.Column(tok.Name())
		if c == nil || c.Name != tok.Name() || !braceable(c.Name) {
			continue
		}
		b.WriteString(text[last:tok.Start] + "{" + c.Name + "}")
		last = tok.End
	}
	out := b.String() + text[last:]
	if w.SQL(schema.Braces(out, w.Quote)).Same(w.SQL(text)) {
		return out
	}
	return text
}

// braceable tells whether a name can be in braces.
func braceable(name string) bool { return !strings.ContainsAny(name, "{}\"'`\\") && plainText(name) }

func (w *Raising) unlowered(t *sqlschema.Table, x *sqlschema.Index) *schema.Index {
	out := &schema.Index{
		Name: x.Name, Unique: x.Unique, Using: x.Using, NullsEqual: x.NullsEqual,
		Stored: schema.Stored{Named: x.Name != "", Unnamed: x.Name == "", Conflict: x.Conflict},
	}
	if x.Where != nil {
		out.Where = w.inModel(t, x.Where.Text)
	}
	if x.Unique && x.Constraint != w.Constraint(x) {
		out.Stored.Form = map[bool]schema.Form{true: schema.AsConstraint, false: schema.AsIndex}[x.Constraint]
	}
	for _, tok := range w.Lex(x.Included) {
		if tok.Named() {
			out.Stored.Include = append(out.Stored.Include, tok.Name())
		}
	}
	for _, p := range x.Parts {
		out.Parts = append(out.Parts, w.part(t, p))
	}
	w.OwnIndex(x, out)
	return out
}

func (w *Raising) part(t *sqlschema.Table, p sqlschema.Part) schema.Part {
	out := schema.Part{Column: p.Column, Desc: p.Desc, Length: p.Length, Collation: p.Collation, Class: p.Class,
		Nulls: p.Nulls}
	if p.Expr != nil {
		out.SQL = w.inModel(t, unwrapped(w.Lex, p.Expr.Text))
	}
	if p.Collation == sqlschema.IgnoringCase {
		out.IgnoringCase, out.Collation = true, ""
	}
	return out
}
