package ddl

// This file reads a check of ours back into what was declared: the server has kept it in its
// own words.

import (
	"strings"

	"erbario/internal/engine/sqltok"
	"erbario/internal/schema"
	"erbario/internal/sqlschema"
)

// ReadCheck gives a check its choices or its range, by its purpose; list are the tokens of
// its SQL.
func ReadCheck(k *sqlschema.Check, c *sqlschema.Column, list []sqltok.Token) {
	switch {
	case k.Purpose == schema.ForChoice:
		k.Choices = nil
		for _, t := range list {
			if t.Kind == sqltok.Text {
				k.Choices = append(k.Choices, t.Val)
			}
		}
	case k.Purpose == schema.ForRange && c != nil:
		k.Range = readRange(c, uncast(list))
	}
}

// uncast leaves out brackets, and types that stand behind "::".
func uncast(list []sqltok.Token) []sqltok.Token {
	var out []sqltok.Token
	for i := 0; i < len(list); i++ {
		switch {
		case list[i].Is("(") || list[i].Is(")") || list[i].Kind == sqltok.Comment:
		case list[i].Is("::"):
			for i+1 < len(list) && list[i+1].Bare() && !list[i+1].Is("AND") {
				i++
			}
			if i+1 < len(list) && list[i+1].Is("(") { // the length of the type
				for i+1 < len(list) && !list[i].Is(")") {
					i++
				}
				for i+1 < len(list) && list[i+1].Bare() && !list[i+1].Is("AND") { // with time zone
					i++
				}
			}
		default:
			out = append(out, list[i])
		}
	}
	return out
}

// readRange reads x >= 1 AND x <= 10, x BETWEEN 1 AND 10, x >= 1 or x <= 10; nil: it is none
// of them.
func readRange(c *sqlschema.Column, list []sqltok.Token) *schema.Range {
	at := 0
	is := func(word string) bool {
		if at < len(list) && list[at].Is(word) {
			at++
			return true
		}
		return false
	}
	name := func() bool {
		if at < len(list) && list[at].Named() && strings.EqualFold(list[at].Name(), c.Name) {
			at++
			return true
		}
		return false
	}
	value := func() *schema.Value {
		minus := ""
		if is("-") {
			minus = "-"
		}
		if at == len(list) {
			return nil
		}
		t := list[at]
		at++
		switch t.Kind {
		case sqltok.Number:
			return rangeEnd(minus+t.Text, c.Type)
		case sqltok.Text:
			return rangeEnd(t.Val, c.Type)
		}
		return nil
	}
	var out schema.Range
	ok := name()
	switch {
	case ok && is("BETWEEN"):
		out.From = value()
		ok = out.From != nil && is("AND")
		out.To = value()
		ok = ok && out.To != nil
	case ok && is(">="):
		out.From = value()
		if ok = out.From != nil; ok && is("AND") {
			ok = name() && is("<=")
			out.To = value()
			ok = ok && out.To != nil
		}
	case ok && is("<="):
		out.To = value()
		ok = out.To != nil
	default:
		ok = false
	}
	if !ok || at < len(list) {
		return nil
	}
	return &out
}

// rangeEnd is an end of a range as a model writes it.
func rangeEnd(text string, t schema.Type) *schema.Value {
	switch {
	case t.Kind.Number():
		if strings.Contains(text, ".") { // stored with the digits of its type
			text = strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
		}
		return &schema.Value{Kind: schema.NumberValue, Text: text}
	case t.Kind == schema.Date:
		return &schema.Value{Kind: schema.DateValue, Text: text}
	}
	return &schema.Value{Kind: schema.TextValue, Text: text}
}
