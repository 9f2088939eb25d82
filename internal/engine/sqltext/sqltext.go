// Package sqltext cuts SQL into statements and puts values into it, by the tokens of an
// engine: how a token is read is the engine's own, what is done with them is the same.
package sqltext

import (
	"strings"

	"erbario/internal/engine"
)

// Token is what matters of an engine's token here.
type Token struct {
	Text       string
	Start, End int
	Comment    bool
	Param      bool // :name
	Bad        bool // a quote or a comment that does not end, or no character of SQL
}

// Lexer reads the token that src holds at off, behind blanks; its start is len(src) at
// the end.
type Lexer func(src string, off int) Token

// Split cuts SQL into statements and the comments between them. within begins a
// statement, and gives a function that is told each of its tokens: whether a ; at this
// place would not end the statement.
func (next Lexer) Split(src string, within func() func(Token) bool) []engine.Piece {
	var out []engine.Piece
	line, counted := 1, 0
	lineAt := func(off int) int {
		line += strings.Count(src[counted:off], "\n")
		counted = off
		return line
	}
	for off := 0; off < len(src); {
		t := next(src, off)
		if t.Start >= len(src) {
			break
		}
		if t.Comment {
			out = append(out, engine.Piece{Comment: true, Text: strings.TrimRight(t.Text, "\r\n"), Line: lineAt(t.Start)})
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
			if t.Bad {
				p.Bad = "a quote or a comment is not closed, or a character is not allowed in SQL"
			}
			held := !t.Comment && inside(t)
			if t.Text == ";" && !held {
				ended = true
				off = t.End
				break
			}
			end, off = t.End, t.End
			t = next(src, off)
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
func (next Lexer) Bind(sql string, values map[string]string) string {
	var b strings.Builder
	last := 0
	for off := 0; off < len(sql); {
		t := next(sql, off)
		if t.Start >= len(sql) {
			break
		}
		off = t.End
		if !t.Param {
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
