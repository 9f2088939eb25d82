package sqlite

// This file is a tokenizer of SQLite's SQL, after the rules of SQLite's own:
// what the engine keeps of a schema is the text of its CREATE statements, and
// what a text means is told by its tokens, never by searching in it.

import (
	"strings"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
	"erbario/internal/schema"
)

type tokenKind int

const (
	tokWord    tokenKind = iota // a bare word: keyword or name
	tokName                     // a name in "…", `…` or […]
	tokString                   // '…'
	tokNumber                   // 12, 1.5e3, 0xFF
	tokBlob                     // x'…'
	tokParam                    // ?1, :a, @a, $a
	tokMark                     // an operator or other mark
	tokComment                  // -- … or /* … */
	tokBad                      // a quote that does not end, or a character that cannot be
)

type token struct {
	kind       tokenKind
	text       string // as written
	val        string // of names and strings: what it stands for
	start, end int
}

// is tells whether the token is the keyword or mark, compared without case.
func (t token) is(w string) bool {
	return len(t.text) == len(w) && (t.kind == tokWord || t.kind == tokMark) && strings.EqualFold(t.text, w)
}

// named tells whether the token can be a name; SQLite takes '…' for one too.
func (t token) named() bool { return t.kind == tokWord || t.kind == tokName || t.kind == tokString }

// name is what the token stands for as a name.
func (t token) name() string {
	if t.kind == tokWord {
		return t.text
	}
	return t.val
}

// next reads the token that src holds at off, behind blanks; its start is
// len(src) at the end.
func next(src string, off int) token {
	for off < len(src) && (src[off] == ' ' || src[off] >= '\t' && src[off] <= '\r') {
		off++
	}
	if off >= len(src) {
		return token{kind: tokMark, start: len(src), end: len(src)}
	}
	rest := src[off:]
	tok := func(kind tokenKind, n int, val string) token {
		return token{kind: kind, text: rest[:n], val: val, start: off, end: off + n}
	}
	switch b := rest[0]; {
	case wordBytes[b] && b > '9' && !((b == 'x' || b == 'X') && len(rest) > 1 && rest[1] == '\''): // most of them
		n := 1
		for n < len(rest) && wordBytes[rest[n]] {
			n++
		}
		return tok(tokWord, n, "")
	case b == '(' || b == ')' || b == ',' || b == ';':
		return tok(tokMark, 1, "")
	case strings.HasPrefix(rest, "--"):
		n := strings.IndexByte(rest, '\n')
		if n < 0 {
			n = len(rest)
		}
		return tok(tokComment, n, "")
	case strings.HasPrefix(rest, "/*"):
		n := strings.Index(rest[2:], "*/")
		if n < 0 {
			return tok(tokBad, len(rest), "")
		}
		return tok(tokComment, n+4, "")
	case b == '\'' || b == '"' || b == '`':
		n, val := unquote(rest, b)
		if n == 0 {
			return tok(tokBad, len(rest), "")
		}
		if b == '\'' {
			return tok(tokString, n, val)
		}
		return tok(tokName, n, val)
	case b == '[':
		n := strings.IndexByte(rest, ']')
		if n < 0 {
			return tok(tokBad, len(rest), "")
		}
		return tok(tokName, n+1, rest[1:n])
	case b >= '0' && b <= '9' || b == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
		return tok(tokNumber, numberLength(rest), "")
	case (b == 'x' || b == 'X') && len(rest) > 1 && rest[1] == '\'':
		n, val := unquote(rest[1:], '\'')
		if n == 0 {
			return tok(tokBad, len(rest), "")
		}
		return tok(tokBlob, n+1, val)
	case b == '?' || b == ':' || b == '@' || b == '$' || b == '#':
		n := 1
		for n < len(rest) && wordByte(rest[n]) {
			n++
		}
		return tok(tokParam, n, "")
	case b == 0:
		return tok(tokBad, 1, "")
	default:
		for _, op := range []string{"->>", "<>", "<=", ">=", "<<", ">>", "==", "!=", "||", "->"} {
			if strings.HasPrefix(rest, op) {
				return tok(tokMark, len(op), "")
			}
		}
		_, n := utf8.DecodeRuneInString(rest)
		return tok(tokMark, n, "")
	}
}

// wordBytes are the bytes that can stand in a bare word. Those above 127 can.
var wordBytes = func() (t [256]bool) {
	for i := range t {
		b := byte(i)
		t[i] = b == '_' || b == '$' || b >= '0' && b <= '9' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
	}
	return t
}()

func wordByte(b byte) bool { return wordBytes[b] }

// unquote gives the length of the quoted piece that s begins with, 0 if it does
// not end, and what it stands for.
func unquote(s string, q byte) (int, string) {
	for i := 1; i < len(s); i++ {
		if s[i] != q {
			continue
		}
		if i+1 < len(s) && s[i+1] == q {
			i++
			continue
		}
		return i + 1, strings.ReplaceAll(s[1:i], string([]byte{q, q}), string(q))
	}
	return 0, ""
}

func numberLength(s string) int {
	i := 0
	if len(s) > 2 && s[0] == '0' && (s[1] == 'x' || s[1] == 'X') {
		for i = 2; i < len(s) && wordByte(s[i]); i++ {
		}
		return i
	}
	for i < len(s) && (wordByte(s[i]) || s[i] == '.') {
		if (s[i] == 'e' || s[i] == 'E') && i+1 < len(s) && (s[i+1] == '+' || s[i+1] == '-') {
			i++
		}
		i++
	}
	return i
}

// tokens reads all of src but comments.
func tokens(src string) []token {
	list := make([]token, 0, len(src)/4)
	for off := 0; ; {
		t := next(src, off)
		if t.start >= len(src) {
			return list
		}
		if t.kind != tokComment {
			list = append(list, t)
		}
		off = t.end
	}
}

// canonical is the form in which two pieces of SQL are compared: their tokens,
// with names unquoted, words in lower case, comments gone, one spelling for
// operators that have two, and brackets around the whole taken off.
func canonical(src string) string {
	return key(unwrap(tokens(src)))
}

func key(list []token) string {
	var b strings.Builder
	for i, t := range list {
		if i > 0 {
			b.WriteByte(' ')
		}
		switch {
		case t.kind == tokWord:
			b.WriteString(strings.ToLower(t.text))
		case t.kind == tokName && plainName(t.val):
			b.WriteString(strings.ToLower(t.val))
		case t.kind == tokName:
			b.WriteString(`"` + strings.ReplaceAll(strings.ToLower(t.val), `"`, `""`) + `"`)
		case t.text == "!=":
			b.WriteString("<>")
		case t.text == "==":
			b.WriteString("=")
		case t.kind == tokBlob, t.kind == tokNumber:
			b.WriteString(strings.ToLower(t.text))
		default:
			b.WriteString(t.text)
		}
	}
	return b.String()
}

func plainName(s string) bool {
	for i := 0; i < len(s); i++ {
		if !wordByte(s[i]) || s[i] == '$' || i == 0 && s[i] >= '0' && s[i] <= '9' {
			return false
		}
	}
	return s != ""
}

// unwrap takes brackets off that go around all of list.
func unwrap(list []token) []token {
	for len(list) >= 2 && list[0].is("(") && closing(list, 0) == len(list)-1 {
		list = list[1 : len(list)-1]
	}
	return list
}

// closing is the index of the bracket that closes the one at i; len(list) if
// there is none.
func closing(list []token, i int) int {
	depth := 0
	for j := i; j < len(list); j++ {
		switch {
		case list[j].is("("):
			depth++
		case list[j].is(")"):
			if depth--; depth == 0 {
				return j
			}
		}
	}
	return len(list)
}

// sqlOf makes a comparable piece of SQL of a text.
func sqlOf(text string) schema.SQL {
	return schema.SQL{Text: text, Canon: canonical}
}

// Tokens cuts SQL into its tokens, comments left out.
func (Engine) Tokens(sql string) []engine.Token { return sqltext.Shared(tokens(sql)) }

// Shared is the token in the form that all engines share.
func (t token) Shared() engine.Token {
	return engine.Token{Text: t.text, Name: t.name(), Named: t.named(), Bare: t.kind == tokWord, Start: t.start, End: t.end}
}

// tablesOf are the tables that a statement names.
func tablesOf(statement string) []string {
	return sqltext.Touches(Engine{}.Tokens(statement), nil).Tables
}
