// Package sqltext cuts SQL into statements, puts values into it and tells what it touches,
// by its tokens: the same for all engines, whose SQL sqltok reads by their rules.
//
//	t := sqltext.Touches(e.SQL().Lex("INSERT INTO boxes SELECT * FROM crates"), nil)
//	t.Tables // [boxes crates]
package sqltext

import (
	"strings"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltok"
)

// Split cuts SQL into statements and the comments between them. within begins a
// statement, and gives a function that is told each of its tokens: whether a ; at this
// place would not end the statement.
func Split(rules *sqltok.Rules, src string, within func() func(sqltok.Token) bool) []engine.Piece {
	var out []engine.Piece
	line, counted := 1, 0
	lineAt := func(off int) int {
		line += strings.Count(src[counted:off], "\n")
		counted = off
		return line
	}
	for off := 0; off < len(src); {
		t := rules.Next(src, off)
		if t.Start >= len(src) {
			break
		}
		if t.Kind == sqltok.Comment {
			out = append(out,
				engine.Piece{Comment: true, Text: strings.TrimRight(t.Text, "\r\n"), Line: lineAt(t.Start)})
			off = t.End
			continue
		}
		if t.Text == ";" {
			off = t.End
			continue
		}
		p := engine.Piece{Line: lineAt(t.Start)}
		start, end, ended, inside := t.Start, t.Start, false, within()
		for t.Start < len(src) {
			if t.Kind == sqltok.Bad {
				p.Bad = "a quote or a comment is not closed, or a character is not allowed in SQL"
			}
			held := t.Kind != sqltok.Comment && inside(t)
			if t.Text == ";" && !held {
				ended = true
				off = t.End
				break
			}
			end, off = t.End, t.End
			t = rules.Next(src, off)
		}
		p.Text = src[start:end]
		if !ended && p.Bad == "" {
			p.Bad = "the statement does not end with ;"
		}
		out = append(out, p)
		if !ended {
			break
		}
	}
	return out
}

// Bind puts values, by name, in the place of the words :name.
func Bind(rules *sqltok.Rules, sql string, values map[string]string) string {
	var b strings.Builder
	last := 0
	for off := 0; off < len(sql); {
		t := rules.Next(sql, off)
		if t.Start >= len(sql) {
			break
		}
		off = t.End
		if t.Kind != sqltok.Param || t.Text[0] != ':' {
			continue
		}
		if v, ok := values[t.Text[1:]]; ok {
			b.WriteString(sql[last:t.Start] + v)
			last = t.End
		}
	}
	return b.String() + sql[last:]
}

// CompareKey compares a row of keys with a place in their order, which is (VALUE, …).
func CompareKey(keys []string, op, place string) string {
	return "(" + strings.Join(keys, ", ") + ") " + op + " " + place
}
