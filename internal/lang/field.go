package lang

// This file reads a field: its type and its clauses.

import (
	"maps"
	"slices"
	"strings"

	"erbario/internal/schema"
)

// Elsewhere is what to write instead of a type's name from elsewhere, in any case; "": it
// is none.
func Elsewhere(name string) string { return elsewhere[strings.ToLower(name)] }

// elsewhere gives what to write for a type's name from elsewhere.
var elsewhere = map[string]string{
	"varchar": "text(n)", "varchar2": "text(n)", "nvarchar": "text(n)", "character": "char(n)",
	"string": "text(n)", "str": "text(n)", "clob": "text", "longtext": "text", "mediumtext": "text",
	"citext": "text(n) unique ignoring case",
	"int":    "integer", "int2": "smallint", "int4": "integer", "int8": "bigint", "tinyint": "smallint",
	"mediumint": "integer", "long": "bigint", "number": "integer or decimal(p,s)",
	"serial": "integer key identity", "bigserial": "bigint key identity",
	"numeric": "decimal(p,s)", "money": "decimal(p,s)", "float": "double", "float4": "real", "float8": "double",
	"bool": "boolean", "bit": "boolean", "timestamptz": "timestamp", "instant": "timestamp", "guid": "uuid",
	"jsonb": "json", "object": "json", "blob": "bytes", "bytea": "bytes", "binary": "bytes", "varbinary": "bytes",
	"enum": "choice(a, b)",
}

func (c *cursor) field() *Field {
	f := &Field{Name: c.fieldName()}
	c.segment = 1
	if c.done() {
		hint := "write " + f.Name.Name + " text(80), or another type"
		if near := Nearest(f.Name.Name, lineWords); near != "" && !f.Name.Quoted {
			hint = "write " + near + ", if that is meant, or a type after it"
		}
		c.fail(f.Name.Pos, hint, "the field %s has no type", f.Name.Name)
	}
	// Two names with a comma between them, or brackets, are no type.
	if rest := strings.TrimLeft(c.src[c.off:c.end], " \t"); rest[0] == '(' ||
		strings.HasPrefix(strings.TrimLeft(rest[nameLength(rest):], " \t"), ",") {
		if near := Nearest(f.Name.Name, []string{"unique", "index", "check", "foreign"}); near != "" &&
			near != f.Name.Name && !f.Name.Quoted {
			c.fail(f.Name.Pos, DidYouMean(f.Name.Name, []string{near}), "%s has no type after it, if it is a field",
				f.Name.Name)
		}
	}
	f.Type = c.fieldType()
	c.segment = 2
	for !c.done() {
		f.Clauses = append(f.Clauses, c.clause())
	}
	return f
}

func (c *cursor) fieldType() Type {
	w := c.name("a type")
	t := Type{Pos: w.Pos}
	kind := schema.Kind(w.Name)
	switch w.Name {
	case "text", "bytes":
		t.Builtin = schema.Type{Kind: kind}
		if c.acceptByte('(', true) {
			t.Builtin.Length = c.integer("a length", true)
			c.closeType(w.Name + "(80)")
			if t.Builtin.Length == 0 {
				c.fail(w.Pos, "", "a length of 0 holds nothing")
			}
		}
	case "char", "time", "timestamp", "datetime", "array":
		t.Builtin = c.measuredType(w)
	case "smallint",
		"integer",
		"bigint",
		"real",
		"double",
		"boolean",
		"date",
		"uuid",
		"json":
		t.Builtin = schema.Type{Kind: kind}
		if kind.Whole() && c.accept("unsigned") {
			t.Builtin.Unsigned = true
		}
		if c.peek() == '(' {
			c.fail(c.here(), "write "+w.Name, "%s takes no length", w.Name)
		}
	case "decimal":
		t.Builtin = c.decimalType(w.Pos)
	case "choice":
		t.Builtin = c.choiceType(w.Pos)
	case "sql":
		v := c.str("a type of the engine's own")
		c.checkSQL(c.src[v.Pos.Off+1:v.Pos.End-1], v.Pos)
		t.Builtin = schema.Type{Kind: schema.Native, Name: v.Text}
	case "references":
		t.Ref = &Reference{Model: c.name("a model")}
		if list := c.bracketed(); list != "" {
			c.fail(c.here(),
				"write references "+t.Ref.Model.Name+", or references "+t.Ref.Model.Name+" by "+list+" where that is not its key",
				"unexpected brackets")
		}
		if c.accept("by") {
			by := c.fieldName()
			t.Ref.By = &by
		}
		c.stored(&t.Ref.Stored, ofReference)
	default:
		lower := strings.ToLower(w.Name)
		if write := Elsewhere(w.Name); write != "" && w.Name == lower { // else it may be a choice
			c.fail(w.Pos, "write "+write, "no type %s", w.Name)
		}
		t.Choice = &w
		if b := c.peek(); b == '(' {
			c.fail(w.Pos, TypeHint(w.Name, nil), "no type %s", w.Name)
		} else if next := c.peekWord(); next != "" && next[0] >= 'A' && next[0] <= 'Z' &&
			Nearest(w.Name, []string{"references"}) != "" {
			c.fail(w.Pos, "write references "+next, "no type %s", w.Name)
		}
	}
	return t
}

// decimalType reads the digits of a decimal.
func (c *cursor) decimalType(pos Pos) schema.Type {
	if c.peekWord() == "as" { // the engine's own type says how many, if any
		return schema.Type{Kind: schema.Decimal, Precision: 38, Scale: 10}
	}
	if !c.acceptByte('(', true) {
		c.fail(pos, "write decimal(8,2): total digits, digits after the point", "decimal needs its digits")
	}
	t := schema.Type{Kind: schema.Decimal, Precision: c.integer("the number of digits", true)}
	if c.acceptByte(',', true) {
		t.Scale = c.integer("the digits after the point", true)
	} else {
		c.fail(c.here(), "write decimal(8,2): total digits, digits after the point",
			"decimal also needs its digits after the point")
	}
	c.closeType("decimal(8,2)")
	if t.Precision == 0 || t.Scale > t.Precision || t.Precision > 65 ||
		t.Scale > 30 {
		c.fail(pos, "up to 65 digits in total, up to 30 of them after the point",
			"decimal(%d,%d) is not possible", t.Precision, t.Scale)
	}
	return t
}

// choiceType reads the values of a choice.
func (c *cursor) choiceType(pos Pos) schema.Type {
	if !c.acceptByte('(', true) {
		c.fail(pos, "write choice(one, another), or declare choice Name: one, another", "choice needs its values")
	}
	t := schema.Type{Kind: schema.Choice}
	n := len(c.words)
	for _, v := range c.choiceValues() {
		if slices.Contains(t.Choices, v.Name) {
			c.fail(v.Pos, "", "the value %q is repeated", v.Name)
		}
		t.Choices = append(t.Choices, v.Name)
	}
	c.words[n].glued = true
	c.closeType("choice(one, another)")
	return t
}

// TypeHint says what to write where no type or choice has a name; known are the choices.
func TypeHint(name string, known []string) string {
	if write := Elsewhere(name); write != "" {
		return "write " + write
	}
	near := Nearest(name, slices.Concat(typeNames, known, slices.Sorted(maps.Keys(elsewhere))))
	if write := elsewhere[near]; write != "" {
		return "write " + write
	}
	return DidYouMean(name, append(slices.Clone(typeNames), known...))
}

func (c *cursor) closeType(example string) {
	if !c.acceptByte(')', true) {
		c.fail(c.here(), "write "+example, `expected ")", not %s`, c.showNext())
	}
}

func (c *cursor) clause() *Clause {
	k := &Clause{On: c.on(), Pos: c.here()}
	w := c.peekWord()
	if w == "on" {
		k.Word, k.Do, k.Pos = c.action(true)
		c.stored(&k.Stored, ofReference)
		return k
	}
	if w == "" {
		c.fail(c.here(), "", "unexpected %s", c.showNext())
	}
	if !slices.Contains(clauseWords, w) && w != "no" || slices.Contains(storedWords, w) {
		hint := DidYouMean(w, clauseWords)
		switch strings.ToLower(w) {
		case "required":
			hint = "remove it: a field is required unless it says optional"
		case "null", "nullable":
			hint = "write optional"
		case "not":
			hint = "remove it: a field is required unless it says optional"
		case "primary":
			hint = "write key"
		case "named", "unnamed", "deferrable", "match":
			hint = "it belongs directly after what it is about: key, unique, index, references MODEL or on delete ACTION"
		case "references":
			hint = "the type of a reference is references MODEL: write " + "name references MODEL"
		}
		c.fail(c.here(), hint, "%q is not a field clause", w)
	}
	k.Pos = c.take(len(w), false)
	k.Word = w
	c.storedClause(k)
	switch w {
	case "no":
		c.must("index", "no")
		k.Word = "no index"
	case "default":
		k.Value = c.value()
	case "unique":
		for {
			if c.accept("ignoring") {
				c.must("case", "ignoring")
				k.IgnoringCase = true
			} else if c.accept("including") {
				c.must("deleted", "including")
				k.IncludingDeleted = true
			} else {
				break
			}
		}
		c.stored(&k.Stored, ofUnique)
	case "range":
		c.rangeEnds(k)
	case "column", "comment":
		k.Value = c.str("a text")
	case "fake":
		k.Name = c.name("a generator")
		for b := c.peek(); b == '"' || b >= '0' && b <= '9'; b = c.peek() {
			k.Args = append(k.Args, c.value())
		}
	case "check":
		if name := c.head(&k.Stored, true); name != nil {
			k.Stored.Name = &Value{Value: schema.Value{Kind: schema.TextValue, Text: name.Name}, Pos: name.Pos}
		}
		k.SQL = c.checked()
	case "generated":
		k.Kept = c.accept("stored")
		c.must("as", "generated")
		k.SQL = c.sql()
	}
	return k
}

func (c *cursor) rangeEnds(k *Clause) {
	if !c.hasPrefix("..") {
		k.From = c.value()
	}
	if !c.hasPrefix("..") {
		c.fail(c.here(), "write range 1..10, range 1.. or range ..10", `expected "..", not %s`, c.showNext())
	}
	c.take(2, k.From != nil)
	// An open end: nothing, or a clause, stands behind.
	if b := c.peek(); b == 0 ||
		nameLength(c.src[c.off:c.end]) > 0 && !slices.Contains([]string{"now", "today"}, c.peekWord()) {
		if k.From == nil {
			c.fail(c.here(), "write range 1..10, range 1.. or range ..10", "a range needs at least one end")
		}
		return
	}
	n := len(c.words)
	k.To = c.value()
	c.words[n].glued = true
}

// storedClause reads what is behind a word that says how a field is kept.
func (c *cursor) storedClause(k *Clause) {
	switch w := k.Word; w {
	case "as":
		if k.Enum = c.accept("enum"); !k.Enum {
			k.Value = c.str(`a type of the engine's own, or the word enum,`)
			c.checkSQL(c.src[k.Value.Pos.Off+1:k.Value.Pos.End-1], k.Value.Pos)
		}
	case "collation":
		k.Value = c.str("a name")
		if k.Value.Text == "" {
			c.fail(k.Value.Pos, "", "%s needs a name", w)
		}
	case "storage":
		k.Value = c.str("a storage, such as external,")
	case "statistics":
		k.Number = c.integer("a number of values", false)
	case "index":
		c.stored(&k.Stored, ofIndex)
	case "key":
		c.stored(&k.Stored, ofKey)
	case "identity":
		k.Always = c.accept("always")
		if c.accept("start") {
			k.Start = c.integer("the first number", false)
		}
	case "serial":
		if c.accept("by") {
			k.Value = c.str("the name of a sequence")
		}
	}
}

// measuredType reads a type with a length of its own kind, or of other values.
func (c *cursor) measuredType(w Ident) (t schema.Type) {
	switch w.Name {
	case "char":
		t = schema.Type{Kind: schema.Text, Fixed: true}
		if !c.acceptByte('(', true) {
			c.fail(w.Pos, "write char(8)", "char needs its length")
		}
		t.Length = c.integer("a length", true)
		c.closeType("char(8)")
		if t.Length == 0 {
			c.fail(w.Pos, "", "a length of 0 holds nothing")
		}
	case "time", "timestamp", "datetime":
		t = schema.Type{Kind: schema.Kind(w.Name)}
		if c.acceptByte('(', true) {
			n := c.integer("the digits of a second", true)
			c.closeType(w.Name + "(3)")
			if n > 6 {
				c.fail(w.Pos, "", "seconds have up to 6 digits after the point, not %d", n)
			}
			t.Seconds = n + 1
		}
	case "array":
		c.must("of", "array")
		of := c.fieldType()
		if of.Ref != nil || of.Choice != nil || of.Builtin.Of != nil || of.Builtin.Kind == schema.Choice {
			c.fail(of.Pos, `write the type itself, or sql "…"`,
				"an array is of a type of its own, not of a reference, a choice or an array")
		}
		t = schema.Type{Kind: schema.Native, Of: &of.Builtin}
	}
	return t
}
