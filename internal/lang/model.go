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
	case "table", "comment":
		if behind != "" && (behind[0] == '"' || behind[0] == '\'') {
			c.take(len(first), false)
			v := c.str("a name")
			if first == "table" {
				l.Table = v
			} else {
				l.Comment = v
			}
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
		if !c.accept("key") {
			c.fail(c.here(), c.quoteHint(first), `expected "key" after %q`, first)
		}
		l.Key = &KeyLine{None: first == "no"}
		if first == "primary" {
			l.Key.Fields = c.names("primary key")
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

// constraintName reads `name:` if it stands next.
func (c *cursor) constraintName() *Ident {
	n := len(c.peekWord())
	if n == 0 {
		return nil
	}
	after := strings.TrimLeft(c.src[c.off+n:c.end], " \t")
	if !strings.HasPrefix(after, ":") || strings.HasPrefix(after, "::") {
		return nil
	}
	name := c.name("a name")
	c.acceptByte(':', true)
	return &name
}

func (c *cursor) constraint(word string) *Constraint {
	k := &Constraint{Word: word, Name: c.constraintName()}
	if word == "check" {
		k.SQL = c.sql()
		return k
	}
	if list := c.bracketed(); list != "" {
		c.fail(c.here(), "write "+word+" "+list, "brackets are for SQL expressions: fields are written without them")
	}
	for {
		var part IndexPart
		if c.peek() == '(' {
			start := c.off
			v := c.value()
			part.SQL = &SQLText{Text: v.Text, Pos: v.Pos, Fields: c.checkSQL(c.src[start+1:v.Pos.End-1], v.Pos)}
		} else {
			if w := c.peekWord(); w == "" && c.peek() != '"' {
				c.fail(c.here(), c.quoteHint(word), "expected a field, not %s", c.showNext())
			}
			part.Field = c.fieldName()
		}
		if c.accept("desc") {
			part.Desc = true
		} else {
			c.accept("asc")
		}
		k.Parts = append(k.Parts, part)
		if !c.acceptByte(',', true) {
			break
		}
	}
	for !c.done() {
		switch {
		case c.accept("where"):
			k.Where = c.sql()
		case word == "index" && c.accept("using"):
			u := c.name("the method of the index")
			k.Using = &u
		case word == "unique" && c.accept("nulls"):
			c.must("equal", "nulls")
			k.NullsEqual = true
		case word == "unique" && c.accept("ignoring"):
			c.must("case", "ignoring")
			k.IgnoringCase = true
		case word == "unique" && c.accept("including"):
			c.must("deleted", "including")
			k.IncludingDeleted = true
		default:
			hint := DidYouMean(c.peekWord(), []string{"where", "using", "nulls", "ignoring", "including", "desc"})
			if len(k.Parts) == 1 && hint == "" {
				hint = c.quoteHint(word)
			}
			c.fail(c.here(), hint, "unexpected %s in this line", c.showNext())
		}
	}
	return k
}

func (c *cursor) must(w, before string) {
	if !c.accept(w) {
		c.fail(c.here(), fmt.Sprintf("write \"%s %s\"", before, w), "expected %q after %q", w, before)
	}
}

func (c *cursor) foreignKey() *ForeignKey {
	k := &ForeignKey{Name: c.constraintName()}
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
			which, do, _ := c.action()
			if which == "delete" {
				k.OnDelete = do
			} else {
				k.OnUpdate = do
			}
		case "no":
			c.take(2, false)
			c.must("index", "no")
			k.NoIndex = true
		default:
			c.fail(c.here(), DidYouMean(c.peekWord(), []string{"on", "by", "no"}), "unexpected %s in a foreign key",
				c.showNext())
		}
	}
	return k
}

// action reads `on delete cascade` and the like.
func (c *cursor) action() (which string, do schema.Action, pos Pos) {
	pos = c.here()
	c.take(2, false)
	w := c.name(`"delete" or "update"`)
	if w.Name != "delete" && w.Name != "update" {
		c.fail(w.Pos, DidYouMean(w.Name, []string{"delete", "update"}), `expected "delete" or "update" after "on"`)
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
