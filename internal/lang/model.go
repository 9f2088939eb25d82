package lang

// This file reads the lines of a model beside its fields: uniqueness, keys, checks, references, soft deletion.

import (
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
)

// modelLine reads a line of a model or a shape. Its second word tells whether it
// is a field.
func (c *cursor) modelLine(l *Line) {
	l.On = c.on()
	first := c.peekWord()
	behind := c.behindWord()
	bare := behind == "" || behind[0] == '#'
	switch first {
	case "table", "schema", "comment", "collation", "options":
		if behind != "" && (behind[0] == '"' || behind[0] == '\'') {
			c.take(len(first), false)
			v := c.str("a name")
			*map[string]**Value{"table": &l.Table, "schema": &l.Schema, "comment": &l.Comment,
				"collation": &l.Collation, "options": &l.Options}[first] = v
			return
		}
	case "timestamps":
		if bare {
			c.take(len(first), false)
			l.Timestamps = true
			return
		}
	case "primary", "no":
		c.take(len(first), false)
		if first == "no" && c.accept("timestamps") {
			l.Untimed = true
			return
		}
		if first == "no" && c.accept("type") {
			c.must("checks", "no type")
			l.Unchecked = true
			return
		}
		if !c.accept("key") {
			c.fail(c.here(), c.quoteHint(first), `expected "key" after %q`, first)
		}
		l.Key = &KeyLine{None: first == "no"}
		if first == "primary" {
			c.keyParts(l.Key)
			c.stored(&l.Key.Stored, ofKey)
		}
		return
	case "unique", "index", "check":
		c.take(len(first), false)
		l.Constraint = c.constraint(first)
		return
	case "foreign":
		c.take(len(first), false)
		if !c.accept("key") {
			c.fail(c.here(), c.quoteHint(first), `expected "key" after "foreign"`)
		}
		l.ForeignKey = c.foreignKey()
		return
	case "include":
		c.take(len(first), false)
		name := c.name("the name of a shape")
		l.Include = &name
		return
	case "soft":
		c.take(len(first), false)
		if !c.accept("delete") {
			c.fail(c.here(), c.quoteHint(first), `expected "delete" after "soft"`)
		}
		l.SoftDelete = c.softDelete()
		return
	}
	l.Field = c.field()
}

func (c *cursor) quoteHint(w string) string {
	return fmt.Sprintf("a field with this name is written %q, in quotes", w)
}

func (c *cursor) softDelete() *SoftDelete {
	s := &SoftDelete{}
	for !c.done() {
		switch {
		case c.accept("column"):
			s.Column = c.str("the name of a column")
		case c.accept("with"):
			switch w := c.name(`"view", "children" or "guard"`); w.Name {
			case "view":
				s.View = true
			case "children":
				s.Children = true
			case "guard":
				s.Guard = true
				if c.accept("by") {
					s.By = c.str("the name of a role")
					if s.By.Text == "" {
						c.fail(s.By.Pos, `write with guard by "keepers"`, "a role has a name")
					}
				}
			default:
				c.fail(w.Pos, DidYouMean(w.Name, []string{"view", "children", "guard"}),
					`expected "view", "children" or "guard" after "with"`)
			}
		default:
			c.fail(c.here(), DidYouMean(c.peekWord(), []string{"column", "with"}), `unexpected %s after "soft delete"`,
				c.showNext())
		}
	}
	return s
}

// head reads what is before a colon, if a colon follows: a name, or the word unnamed, a
// comment, and of a check whether it is valid and inherited.
func (c *cursor) head(s *Stored, check bool) *Ident {
	off, words, broken, above, behind := c.off, len(c.words), c.broken, c.above, c.behind
	var name *Ident
	ok := c.quietly(func() {
		s.Pos = c.here()
		switch w := c.peekWord(); {
		case w == "unnamed":
			c.take(len(w), false)
			s.Unnamed = true
		case w != "" && w != "comment" && (!check || w != "not" && w != "no"):
			n := c.name("a name")
			name = &n
		case c.peek() == '"':
			v := c.str("a name")
			name = &Ident{Name: v.Text, Quoted: true, Pos: v.Pos}
		}
		for {
			switch w := c.peekWord(); {
			case w == "comment":
				c.take(len(w), false)
				s.Comment = c.str("a text")
			case check && w == "not":
				c.both("not", "valid")
				s.NotValid = true
			case check && w == "no":
				c.both("no", "inherit")
				s.NoInherit = true
			default:
				if c.peek() != ':' || strings.HasPrefix(c.src[c.off:c.end], "::") || c.off == off {
					panic(bad{})
				}
				c.acceptByte(':', true)
				return
			}
		}
	})
	if !ok {
		c.off, c.words, c.broken, c.above, c.behind = off, c.words[:words], broken, above, behind
		*s = Stored{}
		return nil
	}
	return name
}

// quietly is try without a word of what could not be read.
func (c *cursor) quietly(f func()) bool {
	told := len(c.p.diags)
	ok := c.try(f)
	if !ok {
		c.p.diags = c.p.diags[:told]
	}
	return ok
}

// of is what a word about storage is about.
type of int

const (
	ofUnique of = 1 << iota
	ofIndex
	ofKey
	ofReference
)

// storedWords are those that say how something is kept, and go directly after it.
var storedWords = []string{"named", "unnamed", "deferrable", "match"}

// stored reads how something is kept, as far as that is said next.
func (c *cursor) stored(s *Stored, about of) {
	for {
		if s.Pos.End == 0 {
			s.Pos = c.here()
		}
		switch w := c.peekWord(); {
		case w == "named":
			c.take(len(w), false)
			s.Name = c.str("a name")
			if s.Name.Text == "" {
				c.fail(s.Name.Pos, "write unnamed, if the database is to name it", "a name is not empty")
			}
		case w == "unnamed":
			c.take(len(w), false)
			s.Unnamed = true
		case w == "as" && about == ofUnique && c.formNext() != "":
			form := c.formNext()
			c.take(len(w), false)
			c.accept(form)
			s.Form = form
		case w == "deferrable" && about != ofIndex:
			c.take(len(w), false)
			s.Deferrable = "DEFERRABLE"
			if c.accept("initially") {
				if c.accept("deferred") {
					s.Deferrable += " INITIALLY DEFERRED"
				} else {
					c.must("immediate", "initially")
				}
			}
		case w == "on" && about&(ofUnique|ofKey) != 0 && c.conflictNext():
			c.both("on", "conflict")
			s.Conflict = c.oneOf("on conflict", conflictWords)
		case w == "match" && about == ofReference:
			c.both("match", "full")
			s.Full = true
		case w == "not" && about == ofReference:
			c.both("not", "valid")
			s.NotValid = true
		default:
			return
		}
	}
}

// conflictWords are what becomes of a row that conflicts with another.
var conflictWords = []string{"abort", "fail", "ignore", "replace", "rollback"}

// conflictNext tells whether "on conflict" is next.
func (c *cursor) conflictNext() bool {
	rest := strings.TrimLeft(strings.TrimPrefix(c.src[c.off:c.end], "on"), " \t")
	return rest[:nameLength(rest)] == "conflict"
}

// oneOf reads one of some words, which is behind another.
func (c *cursor) oneOf(behind string, words []string) string {
	for _, w := range words {
		if c.accept(w) {
			return w
		}
	}
	c.fail(c.here(), DidYouMean(c.peekWord(), words), "expected one of %s after %q", strings.Join(words, ", "), behind)
	return ""
}

// formNext is the word after "as" that says what a uniqueness is kept as; "": none does.
func (c *cursor) formNext() string {
	rest := strings.TrimLeft(strings.TrimPrefix(c.src[c.off:c.end], "as"), " \t")
	for _, w := range []string{"constraint", "index"} {
		if rest[:nameLength(rest)] == w {
			return w
		}
	}
	return ""
}

func (c *cursor) constraint(word string) *Constraint {
	k := &Constraint{Word: word}
	k.Name = c.head(&k.Stored, word == "check")
	if word == "check" {
		k.SQL = c.checked()
		return k
	}
	if list := c.bracketed(); list != "" {
		c.fail(c.here(), "write "+word+" "+list, "brackets are for SQL expressions: fields are written without them")
	}
	for {
		k.Parts = append(k.Parts, c.part(word))
		if !c.acceptByte(',', true) {
			break
		}
	}
	for !c.done() {
		c.constraintEnd(k)
	}
	return k
}

// checked reads the expression of a check, before which there is a colon only where it has a name.
func (c *cursor) checked() *SQLText {
	if c.peek() == ':' {
		c.fail(c.here(), "write check SQL, or check NAME: SQL", "a check without a name has no colon")
	}
	return c.sql()
}

// keyParts reads the fields of a primary key.
func (c *cursor) keyParts(k *KeyLine) {
	if list := c.bracketed(); list != "" {
		c.fail(c.here(), "write primary key "+list, "the fields are written without brackets")
	}
	for {
		p := c.part("primary key")
		if p.SQL != nil {
			c.fail(p.SQL.Pos, "declare a generated field, and name that", "a primary key is made of fields")
		}
		k.Parts, k.Fields = append(k.Parts, p), append(k.Fields, p.Field)
		if !c.acceptByte(',', true) {
			return
		}
	}
}

// part reads a field or an expression of a unique or an index, or a field of a primary key.
func (c *cursor) part(word string) IndexPart {
	var p IndexPart
	if c.peek() == '(' {
		start := c.off
		v := c.value()
		p.SQL = &SQLText{Text: v.Text, Pos: v.Pos, Fields: c.checkSQL(c.src[start+1:v.Pos.End-1], v.Pos)}
	} else {
		if w := c.peekWord(); w == "" && c.peek() != '"' {
			c.fail(c.here(), c.quoteHint(word), "expected a field, not %s", c.showNext())
		}
		p.Field = c.fieldName()
		if c.off < c.end && c.src[c.off] == '(' {
			if !p.Field.Quoted && slices.Contains(typeNames, p.Field.Name) { // a field called index
				c.fail(c.here(), c.quoteHint(word), "unexpected %s in this line", c.showNext())
			}
			c.acceptByte('(', true)
			p.Length = c.integer("a number of characters", true)
			c.closeType(p.Field.Name + "(20)")
		}
	}
	for {
		switch w := c.peekWord(); {
		case w == "collation" || w == "class":
			c.take(len(w), false)
			v := c.str("a name")
			if w == "class" {
				p.Class = v
			} else {
				p.Collation = v
			}
		case w == "desc":
			c.take(len(w), false)
			p.Desc = true
		case w == "asc":
			c.take(len(w), false)
		case w == "nulls" && !c.follows("nulls", "equal"):
			c.take(len(w), false)
			if p.Nulls = "first"; !c.accept("first") {
				c.must("last", "nulls")
				p.Nulls = "last"
			}
		default:
			return p
		}
	}
}

// follows tells whether a word is behind the one that is next.
func (c *cursor) follows(w, second string) bool {
	rest := strings.TrimLeft(c.src[c.off+len(w):c.end], " \t")
	return rest[:nameLength(rest)] == second
}

// constraintEnd reads one of the words behind the parts of a unique or an index.
func (c *cursor) constraintEnd(k *Constraint) {
	unique := k.Word == "unique"
	w := c.peekWord()
	switch {
	case w == "where":
		c.take(len(w), false)
		k.Where = c.sql()
	case w == "using":
		c.take(len(w), false)
		u := c.name("the method of the index")
		k.Using = &u
	case w == "include":
		c.take(len(w), false)
		k.Stored.Include = c.names("include")
	case w == "invisible" && !unique:
		c.take(len(w), false)
		k.Stored.Invisible = true
	case w == "options":
		c.take(len(w), false)
		k.Stored.Options = c.str("options of the engine's own")
	case unique && (w == "as" || w == "deferrable" || w == "on" && c.conflictNext()):
		c.stored(&k.Stored, ofUnique)
		if c.peekWord() == "as" {
			c.take(len("as"), false)
			c.fail(c.here(), "write as constraint, or as index", `expected "constraint" or "index" after "as"`)
		}
	case unique && w == "nulls":
		c.both("nulls", "equal")
		k.NullsEqual = true
	case unique && w == "ignoring":
		c.both("ignoring", "case")
		k.IgnoringCase = true
	case unique && w == "including":
		c.both("including", "deleted")
		k.IncludingDeleted = true
	default:
		hint := DidYouMean(w, []string{"where", "using", "nulls", "ignoring", "including", "desc", "include",
			"options"})
		if len(k.Parts) == 1 && hint == "" {
			hint = c.quoteHint(k.Word)
		}
		c.fail(c.here(), hint, "unexpected %s in this line", c.showNext())
	}
}

// both reads a word that is next, and the one that has to follow it.
func (c *cursor) both(first, second string) {
	c.take(len(first), false)
	c.must(second, first)
}

func (c *cursor) must(w, before string) {
	if !c.accept(w) {
		c.fail(c.here(), fmt.Sprintf("write \"%s %s\"", before, w), "expected %q after %q", w, before)
	}
}

func (c *cursor) foreignKey() *ForeignKey {
	k := &ForeignKey{}
	k.Name = c.head(&k.Stored, false)
	k.Fields = c.names("foreign key")
	if !c.accept("references") {
		c.fail(c.here(), "write foreign key a, b references MODEL by c, d", `expected "references", not %s`,
			c.showNext())
	}
	k.Model = c.name("a model")
	if list := c.bracketed(); list != "" {
		c.fail(c.here(), "write references "+k.Model.Name+" by "+list, "unexpected brackets")
	}
	if c.accept("by") {
		k.By = c.names("by")
	}
	for !c.done() {
		switch c.peekWord() {
		case "on":
			which, do, _ := c.action(false)
			if which == "delete" {
				k.OnDelete = do
			} else {
				k.OnUpdate = do
			}
		case "no":
			c.both("no", "index")
			k.NoIndex = true
		case "deferrable", "match", "not":
			c.stored(&k.Stored, ofReference)
		default:
			c.fail(c.here(), DidYouMean(c.peekWord(), []string{"on", "by", "no", "deferrable", "match"}),
				"unexpected %s in a foreign key",
				c.showNext())
		}
	}
	return k
}

// action reads `on delete cascade` and the like; of a field that may be `on update now`, too,
// of which there is no action.
func (c *cursor) action(field bool) (which string, do schema.Action, pos Pos) {
	pos = c.here()
	c.take(2, false)
	w := c.name(`"delete" or "update"`)
	if w.Name != "delete" && w.Name != "update" {
		c.fail(w.Pos, DidYouMean(w.Name, []string{"delete", "update"}), `expected "delete" or "update" after "on"`)
	}
	if field && w.Name == "update" && c.peekWord() == "now" {
		now := c.take(len("now"), false)
		pos.End = now.End
		return "update now", "", pos
	}
	a := c.name("what to do (" + strings.Join(actionWords, ", ") + ")")
	text := a.Name
	if text == "set" || text == "no" {
		second := c.name(`the rest of "` + text + ` …"`)
		text += " " + second.Name
		a.Pos.End = second.Pos.End
	}
	pos.End = a.Pos.End
	if !slices.Contains(actionWords, text) {
		c.fail(a.Pos, DidYouMean(text, actionWords), "%q is not one of %s", text, strings.Join(actionWords, ", "))
	}
	return w.Name, schema.Action(strings.ToUpper(text)), pos
}
