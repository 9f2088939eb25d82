package postgres

// This file is a tokenizer of PostgreSQL's SQL: dollar quotes, E'' strings,
// comments within comments, casts. Where a statement ends, what it names and what
// it means is told by its tokens, never by searching in its text.

import (
	"strings"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/engine/sqltext"
)

type tokenKind int

const (
	tokWord    tokenKind = iota // a bare word: keyword or name
	tokName                     // a name in "…"
	tokString                   // '…', E'…', B'…', X'…' or $tag$…$tag$
	tokNumber                   // 12, 1.5e3
	tokParam                    // $1 or :name
	tokMark                     // an operator or other mark
	tokComment                  // -- … or /* … */
	tokBad                      // a quote or a comment that does not end, or a character that cannot be
)

type token struct {
	kind       tokenKind
	text       string // as written
	val        string // of names and strings: what it stands for
	start, end int
}

// is tells whether the token is the keyword or mark, compared without case.
func (t token) is(w string) bool {
	return (t.kind == tokWord || t.kind == tokMark) && strings.EqualFold(t.text, w)
}

// named tells whether the token can be a name.
func (t token) named() bool { return t.kind == tokWord || t.kind == tokName }

// name is what the token stands for as a name: bare words are folded as the
// server folds them.
func (t token) name() string {
	if t.kind == tokWord {
		return strings.ToLower(t.text)
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
	quoted := func(kind tokenKind, head int, escapes bool) token {
		n, val := unquote(rest[head:], escapes)
		if n == 0 {
			return tok(tokBad, len(rest), "")
		}
		return tok(kind, head+n, val)
	}
	letter := func(i int) byte {
		if i < len(rest) {
			return rest[i] | 0x20
		}
		return 0
	}
	switch b := rest[0]; {
	case strings.HasPrefix(rest, "--"):
		n := strings.IndexByte(rest, '\n')
		if n < 0 {
			n = len(rest)
		}
		return tok(tokComment, n, "")
	case strings.HasPrefix(rest, "/*"):
		if n := commentLength(rest); n > 0 {
			return tok(tokComment, n, "")
		}
		return tok(tokBad, len(rest), "")
	case b == '\'':
		return quoted(tokString, 0, false)
	case b == '"':
		return quoted(tokName, 0, false)
	case letter(0) == 'e' && letter(1) == '\'':
		return quoted(tokString, 1, true)
	case (letter(0) == 'b' || letter(0) == 'x' || letter(0) == 'n') && letter(1) == '\'':
		return quoted(tokString, 1, false)
	case letter(0) == 'u' && strings.HasPrefix(rest[1:], "&'"):
		return quoted(tokString, 2, false)
	case letter(0) == 'u' && strings.HasPrefix(rest[1:], `&"`):
		return quoted(tokName, 2, false)
	case b == '$':
		if tag := dollarTag(rest); tag != "" {
			n := strings.Index(rest[len(tag):], tag)
			if n < 0 {
				return tok(tokBad, len(rest), "")
			}
			return tok(tokString, n+2*len(tag), rest[len(tag):len(tag)+n])
		}
		n := 1
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			n++
		}
		return tok(tokParam, n, "")
	case b >= '0' && b <= '9' || b == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
		return tok(tokNumber, numberLength(rest), "")
	case wordByte(b):
		n := 1
		for n < len(rest) && (wordByte(rest[n]) || rest[n] == '$' || rest[n] >= '0' && rest[n] <= '9') {
			n++
		}
		return tok(tokWord, n, "")
	case strings.HasPrefix(rest, "::"):
		return tok(tokMark, 2, "")
	case b == ':' && len(rest) > 1 && wordByte(rest[1]):
		n := 2
		for n < len(rest) && (wordByte(rest[n]) || rest[n] >= '0' && rest[n] <= '9') {
			n++
		}
		return tok(tokParam, n, "")
	case b == 0:
		return tok(tokBad, 1, "")
	default:
		for _, op := range []string{"#>>", "!~*", "->>", "<>", "<=", ">=", "!=", "||", "->", "#>", "@>", "<@", "&&", "!~", "~*", ":="} {
			if strings.HasPrefix(rest, op) {
				return tok(tokMark, len(op), "")
			}
		}
		_, n := utf8.DecodeRuneInString(rest)
		return tok(tokMark, n, "")
	}
}

// wordByte tells whether a byte can begin a bare word. Bytes above 127 can.
func wordByte(b byte) bool {
	return b == '_' || b >= 'a' && b <= 'z' || b >= 'A' && b <= 'Z' || b >= 0x80
}

// commentLength is the length of the comment that s begins with; comments stand
// within each other here. 0 if it does not end.
func commentLength(s string) int {
	depth := 0
	for i := 0; i+1 < len(s); {
		switch s[i : i+2] {
		case "/*":
			depth++
			i += 2
		case "*/":
			depth--
			i += 2
			if depth == 0 {
				return i
			}
		default:
			i++
		}
	}
	return 0
}

// dollarTag is the $tag$ that s begins with, or "".
func dollarTag(s string) string {
	for i := 1; i < len(s); i++ {
		switch b := s[i]; {
		case b == '$':
			return s[:i+1]
		case wordByte(b) || i > 1 && b >= '0' && b <= '9':
		default:
			return ""
		}
	}
	return ""
}

// unquote gives the length of the quoted piece that s begins with, 0 if it does
// not end, and what it stands for.
func unquote(s string, escapes bool) (int, string) {
	q := s[0]
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch {
		case escapes && s[i] == '\\' && i+1 < len(s):
			i++
			switch s[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'r':
				b.WriteByte('\r')
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
	digits := func() {
		for n < len(s) && (s[n] >= '0' && s[n] <= '9' || s[n] == '_') {
			n++
		}
	}
	digits()
	if n < len(s) && s[n] == '.' && !strings.HasPrefix(s[n:], "..") {
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
	for _, t := range tokens(sql) {
		if t.named() && t.name() == name {
			return true
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
