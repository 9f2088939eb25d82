package mariadb

// This file is a tokenizer of MariaDB's SQL: names in backticks, texts with
// backslashes, three kinds of comment. What a piece of SQL names and means is told by
// its tokens, never by searching in its text.

import (
	"slices"
	"strings"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
)

type tokenKind int

const (
	tokWord    tokenKind = iota // a bare word: keyword or name
	tokName                     // a name in `…`
	tokString                   // '…' or "…", with the character set before it
	tokNumber                   // 12, 1.5e3, 0x4142
	tokParam                    // :name
	tokMark                     // an operator or other mark
	tokComment                  // -- …, # … or /* … */
	tokBad                      // a quote or a comment that does not end, or a comment that is run
)

type token struct {
	kind       tokenKind
	text       string // as written
	val        string // of names and texts: what it stands for
	start, end int
}

// is tells whether the token is the keyword or mark, compared without case.
func (t token) is(w string) bool {
	return (t.kind == tokWord || t.kind == tokMark) && strings.EqualFold(t.text, w)
}

// named tells whether the token can be a name.
func (t token) named() bool { return t.kind == tokWord || t.kind == tokName }

// name is what the token stands for as a name.
func (t token) name() string {
	if t.kind == tokWord {
		return t.text
	}
	return t.val
}

// next reads the token that src holds at off, behind blanks; its start is len(src) at
// the end.
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
	quoted := func(kind tokenKind, head int) token {
		n, val := unquote(rest[head:])
		if n == 0 {
			return tok(tokBad, len(rest), "")
		}
		return tok(kind, head+n, val)
	}
	line := func() token {
		n := strings.IndexByte(rest, '\n')
		if n < 0 {
			n = len(rest)
		}
		return tok(tokComment, n, "")
	}
	switch b := rest[0]; {
	case b == '#', strings.HasPrefix(rest, "--") && (len(rest) == 2 || rest[2] <= ' '):
		return line()
	case strings.HasPrefix(rest, "/*!"), strings.HasPrefix(rest, "/*M!"): // the server runs what is in it
		return tok(tokBad, len(rest), "")
	case strings.HasPrefix(rest, "/*"):
		if n := strings.Index(rest[2:], "*/"); n >= 0 {
			return tok(tokComment, n+4, "")
		}
		return tok(tokBad, len(rest), "")
	case b == '\'' || b == '"':
		return quoted(tokString, 0)
	case b == '`':
		return quoted(tokName, 0)
	case len(rest) > 1 && rest[1] == '\'' && strings.IndexByte("bBxXnN", b) >= 0:
		return quoted(tokString, 1)
	case b == '_' && introducer(rest) > 0:
		return quoted(tokString, introducer(rest))
	case b >= '0' && b <= '9' || b == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
		return tok(tokNumber, numberLength(rest), "")
	case wordByte(b):
		n := 1
		for n < len(rest) && (wordByte(rest[n]) || rest[n] >= '0' && rest[n] <= '9') {
			n++
		}
		return tok(tokWord, n, "")
	case b == ':' && len(rest) > 1 && wordByte(rest[1]):
		n := 2
		for n < len(rest) && (wordByte(rest[n]) || rest[n] >= '0' && rest[n] <= '9') {
			n++
		}
		return tok(tokParam, n, "")
	case b == 0:
		return tok(tokBad, 1, "")
	default:
		for _, op := range []string{"<=>", "->>", "<>", "<=", ">=", "!=", "||", "&&", "->", ":="} {
			if strings.HasPrefix(rest, op) {
				return tok(tokMark, len(op), "")
			}
		}
		_, n := utf8.DecodeRuneInString(rest)
		return tok(tokMark, n, "")
	}
}

// introducer is the length of the character set before a text, such as _utf8mb4'…'; 0
// if s does not begin with one.
func introducer(s string) int {
	n := 1
	for n < len(s) && (s[n] >= 'a' && s[n] <= 'z' || s[n] >= '0' && s[n] <= '9') {
		n++
	}
	if n > 1 && n < len(s) && s[n] == '\'' {
		return n
	}
	return 0
}

// wordByte tells whether a byte can begin a bare word.
func wordByte(b byte) bool {
	return b == '_' || b == '$' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
}

// unquote gives the length of the quoted piece that s begins with, 0 if it does not
// end, and what it stands for. A name knows no backslashes.
func unquote(s string) (int, string) {
	q := s[0]
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case q != '`' && s[i] == '\\' && i+1 < len(s):
			i++
			switch s[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'r':
				b.WriteByte('\r')
			case '0':
				b.WriteByte(0)
			case 'Z':
				b.WriteByte(26)
			default:
				b.WriteByte(s[i])
			}
		case s[i] != q:
			b.WriteByte(s[i])
		case i+1 < len(s) && s[i+1] == q:
			b.WriteByte(q)
			i++
		default:
			return i + 1, b.String()
		}
	}
	return 0, ""
}

func numberLength(s string) int {
	n := 0
	if strings.HasPrefix(s, "0x") || strings.HasPrefix(s, "0X") {
		for n = 2; n < len(s) && strings.IndexByte("0123456789abcdefABCDEF", s[n]) >= 0; n++ {
		}
		return n
	}
	digits := func() {
		for n < len(s) && s[n] >= '0' && s[n] <= '9' {
			n++
		}
	}
	digits()
	if n < len(s) && s[n] == '.' {
		n++
		digits()
	}
	if n < len(s) && s[n]|0x20 == 'e' {
		m := n + 1
		if m < len(s) && (s[m] == '+' || s[m] == '-') {
			m++
		}
		if m < len(s) && s[m] >= '0' && s[m] <= '9' {
			n = m
			digits()
		}
	}
	return n
}

// tokens are all tokens of SQL but comments.
func tokens(src string) []token {
	var out []token
	for off := 0; off < len(src); {
		t := next(src, off)
		if t.start >= len(src) {
			break
		}
		off = t.end
		if t.kind != tokComment {
			out = append(out, t)
		}
	}
	return out
}

// mentions tells whether a name stands among the tokens of SQL.
func mentions(sql, name string) bool {
	return slices.ContainsFunc(tokens(sql), func(t token) bool { return t.named() && t.name() == name })
}

// canon is the form of an expression in which two that mean the same are equal: words
// without case, names without quotes, and no brackets around the whole.
func canon(text string) string { return strings.Join(canonWords(text), " ") }

func canonWords(text string) []string {
	list := tokens(text)
	for len(list) > 1 && list[0].is("(") && closes(list) {
		list = list[1 : len(list)-1]
	}
	var out []string
	for _, t := range list {
		switch t.kind {
		case tokWord:
			out = append(out, strings.ToLower(t.text))
		case tokName:
			out = append(out, strings.ToLower(t.val))
		case tokString:
			out = append(out, literal(t.val))
		case tokMark:
			if t.text == "!=" {
				t.text = "<>"
			}
			out = append(out, t.text)
		default:
			out = append(out, t.text)
		}
	}
	return out
}

// closes tells whether the bracket with which tokens begin is the one that ends them.
func closes(list []token) bool {
	depth := 0
	for i, t := range list {
		switch {
		case t.is("("):
			depth++
		case t.is(")"):
			depth--
		}
		if depth == 0 {
			return i == len(list)-1
		}
	}
	return false
}

// Tokens cuts SQL into its tokens, comments left out.
func (Engine) Tokens(sql string) []engine.Token { return sqltext.Shared(tokens(sql)) }

// Shared is the token in the form that all engines share.
func (t token) Shared() engine.Token {
	return engine.Token{Text: t.text, Name: t.name(), Named: t.named(), Bare: t.kind == tokWord, Start: t.start, End: t.end}
}

// tablesOf are the tables that a statement names; what one locks, others name.
func tablesOf(statement string) []string {
	if locksTables(statement) {
		return nil
	}
	return sqltext.Touches(Engine{}.Tokens(statement), nil).Tables
}
