// Package sqltok cuts SQL into tokens. There is one reader for all engines; how their SQL
// differs (quotes, escapes, comments, operators) is a table of rules that each engine
// holds:
//
//	rules := &sqltok.Rules{NameQuotes: "`", TextQuotes: "'", Operators: []string{"<>"}}
//	for _, t := range rules.Tokens("SELECT `code` FROM sheets") {
//		fmt.Println(t.Kind, t.Text)
//	}
//
// What a statement names and means is told by its tokens, never by searching in its text.
package sqltok

import (
	"iter"
	"strings"
	"sync"
	"unicode/utf8"
)

// Kind is a kind of token.
type Kind int

// The kinds of tokens.
const (
	Word    Kind = iota // a bare word: keyword or name
	Name                // a quoted name
	Text                // a text, with what may stand before its quote
	Number              // 12, 1.5e3, 0xFF
	Blob                // x'…', where the engine tells it from a text
	Param               // :name, $1, ?
	Mark                // an operator or other mark
	Comment             // -- …, # … or /* … */
	Bad                 // a quote or a comment that does not end, or a character that cannot be
)

// Token is one token of SQL.
type Token struct {
	Kind       Kind
	Text       string // as written
	Val        string // of quoted names and texts: what they stand for
	Start, End int    // its place in the SQL, in bytes
	// Placed: it can only be the name of something that lies in a schema, and Val is that as
	// the rules have it; In is the schema where it stands before the name.
	Placed bool
	In     string

	rules *Rules
}

// Is tells whether the token is this keyword or mark, compared without case.
func (t Token) Is(w string) bool {
	return len(t.Text) == len(w) && (t.Kind == Word || t.Kind == Mark) && strings.EqualFold(t.Text, w)
}

// Word is a bare word in capitals, to be compared with keywords; "" for all others.
func (t Token) Word() string {
	if t.Kind != Word {
		return ""
	}
	return strings.ToUpper(t.Text)
}

// Bare tells whether it is a keyword, or a name without quotes.
func (t Token) Bare() bool { return t.Kind == Word }

// Named tells whether the token can be a name.
func (t Token) Named() bool {
	return t.Kind == Word || t.Kind == Name || t.Kind == Text && t.rules != nil && t.rules.TextsAsNames
}

// Name is what the token stands for as a name, "" if it can be none: bare words are folded
// as the server folds them.
func (t Token) Name() string {
	switch {
	case t.Kind == Word && t.rules != nil && t.rules.FoldNames:
		return strings.ToLower(t.Text)
	case t.Kind == Word:
		return t.Text
	case t.Named():
		return t.Val
	}
	return ""
}

// Rules are what tells the SQL of one engine from that of another. They do not change once
// they are in use.
type Rules struct {
	NameQuotes   string // the characters that quote a name; [ ends with ]
	TextQuotes   string // those that quote a text
	TextsAsNames bool   // a text can be a name, too
	FoldNames    bool   // bare names are in lower case
	// InSchema is the name of something with the schema before it, in one form; "": without one. nil: no
	// schema stands before names.
	InSchema func(schema, name string) string

	// Escapes are the quotes of texts in which a backslash escapes the next character;
	// Escaped are characters that then stand for another.
	Escapes string
	Escaped map[byte]byte
	// Prefixes are what may stand right before the quote of a text or a name.
	Prefixes    []Prefix
	CharsetText bool // _utf8mb4'…' is a text
	DollarTexts bool // $tag$…$tag$ is a text

	Dollar      bool   // $ can begin a bare word
	DollarAfter bool   // $ can be in a bare word
	Params      string // the characters that begin a parameter, besides :name

	HashComments   bool     // # begins a comment
	DashBlank      bool     // -- begins a comment only before a blank
	NestedComments bool     // /* … */ stand within each other
	RunComments    []string // beginnings of comments whose text the server runs: they are Bad

	Hex         bool // 0xFF is a number
	Underscores bool // 1_000 is a number
	Operators   []string

	once sync.Once
	// What a byte can be: the first of a bare word, another of it, the first of something
	// before a quote, of an operator.
	begin, more, head, operator [256]bool
}

// table fills in what a byte can be: most tokens are told by their first one.
func (r *Rules) table() {
	for i := range 256 {
		b := byte(i)
		letter := b|0x20 >= 'a' && b|0x20 <= 'z' || b == '_' || b >= 0x80
		r.begin[b] = letter || b == '$' && r.Dollar
		r.more[b] = r.begin[b] || digit(b) || b == '$' && r.DollarAfter
	}
	r.head['_'] = r.CharsetText
	for _, p := range r.Prefixes {
		for _, head := range []string{strings.ToLower(p.Head), strings.ToUpper(p.Head)} {
			r.head[head[0]] = true
		}
	}
	for _, op := range r.Operators {
		r.operator[op[0]] = true
	}
}

// Prefix stands right before a quote, compared without case.
type Prefix struct {
	Head    string
	Quote   byte
	Kind    Kind
	Escapes bool // a backslash escapes
}

// Lex are all tokens of SQL but comments.
func (r *Rules) Lex(src string) []Token {
	list := make([]Token, 0, len(src)/4)
	for off := 0; ; {
		t := r.Next(src, off)
		if t.Start >= len(src) {
			if r.InSchema != nil && pointed(src) {
				return r.placed(src, list)
			}
			return list
		}
		if t.Kind != Comment {
			list = append(list, t)
		}
		off = t.End
	}
}

// Next reads the token that src holds at off, behind blanks; its start is len(src) at the
// end.
func (r *Rules) Next(src string, off int) Token {
	r.once.Do(r.table)
	for off < len(src) && (src[off] == ' ' || src[off] >= '\t' && src[off] <= '\r') {
		off++
	}
	t := Token{Start: off, rules: r}
	rest := src[off:]
	n := 0
	if rest == "" {
		t.Kind = Mark
	} else {
		t.Kind, n, t.Val = r.read(rest)
	}
	t.Text, t.End = rest[:n], off+n
	return t
}

// read gives kind, length and value of the token that s begins with.
func (r *Rules) read(s string) (kind Kind, n int, val string) {
	b := s[0]
	if r.head[b] {
		if kind, n, val := r.prefixed(s); n > 0 {
			return kind, n, val
		}
	}
	switch {
	case r.begin[b]: // most of them
		return Word, r.word(s, 1), ""
	case b == '(' || b == ')' || b == ',' || b == ';':
		return Mark, 1, ""
	case r.comment(s):
		return r.readComment(s)
	case strings.IndexByte(r.TextQuotes, b) >= 0:
		return quoted(Text, s, 0, strings.IndexByte(r.Escapes, b) >= 0, r.Escaped)
	case strings.IndexByte(r.NameQuotes, b) >= 0:
		return quoted(Name, s, 0, false, nil)
	case digit(b) || b == '.' && len(s) > 1 && digit(s[1]):
		return Number, r.number(s), ""
	case b == '$' && r.DollarTexts:
		if tag := r.dollarTag(s); tag != "" {
			end := strings.Index(s[len(tag):], tag)
			if end < 0 {
				return Bad, len(s), ""
			}
			return Text, end + 2*len(tag), s[len(tag) : len(tag)+end]
		}
		n := 1
		for n < len(s) && digit(s[n]) {
			n++
		}
		return Param, n, ""
	case b == ':' && len(s) > 1 && r.begin[s[1]], strings.IndexByte(r.Params, b) >= 0:
		n := r.word(s, 1)
		if at := strings.IndexByte(s[1:n], '$'); at >= 0 && r.DollarTexts { // a text begins there
			n = 1 + at
		}
		return Param, n, ""
	case b == 0:
		return Bad, 1, ""
	}
	for _, op := range r.Operators {
		if r.operator[b] && strings.HasPrefix(s, op) {
			return Mark, len(op), ""
		}
	}
	_, n = utf8.DecodeRuneInString(s)
	return Mark, n, ""
}

// Begins tells whether a byte can begin a bare word. Bytes above 127 can.
func (r *Rules) Begins(b byte) bool {
	r.once.Do(r.table)
	return r.begin[b]
}

// word is the length of what s begins with, of which from bytes are known to be a word or
// the mark before it.
func (r *Rules) word(s string, from int) int {
	for from < len(s) && r.more[s[from]] {
		from++
	}
	return from
}

// BareWord tells whether s could be written as a bare word, keywords aside.
func (r *Rules) BareWord(s string) bool { return s != "" && r.Begins(s[0]) && r.word(s, 1) == len(s) }

func digit(b byte) bool { return b >= '0' && b <= '9' }

// prefixed reads a quoted piece with something before its quote; n is 0 where s begins with
// none.
func (r *Rules) prefixed(s string) (kind Kind, n int, val string) {
	for _, p := range r.Prefixes {
		if head := len(p.Head); len(s) > head && s[head] == p.Quote && strings.EqualFold(s[:head], p.Head) {
			return quoted(p.Kind, s, head, p.Escapes, r.Escaped)
		}
	}
	if r.CharsetText && s[0] == '_' {
		n := 1
		for n < len(s) && (s[n] >= 'a' && s[n] <= 'z' || digit(s[n])) {
			n++
		}
		if n > 1 && n < len(s) && s[n] == '\'' {
			return quoted(Text, s, n, strings.Contains(r.Escapes, "'"), r.Escaped)
		}
	}
	return 0, 0, ""
}

// quoted reads the quoted piece of s behind its head.
func quoted(kind Kind, s string, head int, escapes bool, escaped map[byte]byte) (Kind, int, string) {
	n, val := unquote(s[head:], escapes, escaped)
	if n == 0 {
		return Bad, len(s), ""
	}
	return kind, head + n, val
}

// unquote gives the length of the quoted piece that s begins with, 0 if it does not end,
// and what it stands for.
func unquote(s string, escapes bool, escaped map[byte]byte) (n int, val string) {
	q := s[0]
	if q == '[' {
		end := strings.IndexByte(s, ']')
		if end < 0 {
			return 0, ""
		}
		return end + 1, s[1:end]
	}
	plain := true // nothing is doubled or escaped
	for i := 1; i < len(s); i++ {
		switch {
		case escapes && s[i] == '\\':
			plain = false
			i++
		case s[i] != q:
		case i+1 < len(s) && s[i+1] == q:
			plain = false
			i++
		case plain:
			return i + 1, s[1:i]
		default:
			return i + 1, meaning(s[1:i], q, escapes, escaped)
		}
	}
	return 0, ""
}

// meaning is what the inside of a quoted piece stands for.
func meaning(s string, q byte, escapes bool, escaped map[byte]byte) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		switch {
		case escapes && s[i] == '\\' && i+1 < len(s):
			i++
			c := s[i]
			if now, ok := escaped[c]; ok {
				c = now
			}
			b.WriteByte(c)
			continue
		case s[i] == q:
			i++ // doubled
		}
		b.WriteByte(s[min(i, len(s)-1)])
	}
	return b.String()
}

// comment tells whether s begins with a comment.
func (r *Rules) comment(s string) bool {
	switch s[0] {
	case '#':
		return r.HashComments
	case '-':
		return strings.HasPrefix(s, "--") && (!r.DashBlank || len(s) == 2 || s[2] <= ' ')
	}
	return strings.HasPrefix(s, "/*")
}

func (r *Rules) readComment(s string) (kind Kind, n int, val string) {
	if s[0] != '/' {
		if n := strings.IndexByte(s, '\n'); n >= 0 {
			return Comment, n, ""
		}
		return Comment, len(s), ""
	}
	for _, run := range r.RunComments {
		if strings.HasPrefix(s, run) {
			return Bad, len(s), ""
		}
	}
	depth := 0
	for i := 0; i+1 < len(s); i++ {
		switch s[i : i+2] {
		case "/*":
			if depth > 0 && !r.NestedComments {
				continue
			}
			depth++
			i++
		case "*/":
			depth--
			i++
			if depth == 0 {
				return Comment, i + 1, ""
			}
		}
	}
	return Bad, len(s), ""
}

// dollarTag is the $tag$ that s begins with, or "".
func (r *Rules) dollarTag(s string) string {
	for i := 1; i < len(s); i++ {
		switch b := s[i]; {
		case b == '$':
			return s[:i+1]
		case r.begin[b] || i > 1 && digit(b):
		default:
			return ""
		}
	}
	return ""
}

// number is the length of the number that s begins with.
func (r *Rules) number(s string) int {
	n := 0
	if r.Hex && len(s) > 1 && s[0] == '0' && s[1]|0x20 == 'x' {
		for n = 2; n < len(s) && strings.IndexByte("0123456789abcdefABCDEF", s[n]) >= 0; n++ {
		}
		return n
	}
	digits := func() {
		for n < len(s) && (digit(s[n]) || s[n] == '_' && r.Underscores) {
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
		if m < len(s) && digit(s[m]) {
			n = m
			digits()
		}
	}
	return n
}

// Closing is the index of the bracket that closes the first one in a list; the length of the list
// if none does.
func Closing(list []Token) int {
	depth := 0
	for i, t := range list {
		switch {
		case t.Is("("):
			depth++
		case t.Is(")"):
			if depth--; depth == 0 {
				return i
			}
		}
	}
	return len(list)
}

// Outside goes through the tokens of a list that stand in no brackets, with their indexes.
func Outside(list []Token) iter.Seq2[int, Token] {
	return func(yield func(int, Token) bool) {
		depth := 0
		for i, t := range list {
			switch {
			case t.Is("("):
				depth++
			case t.Is(")"):
				depth--
			case depth == 0 && !yield(i, t):
				return
			}
		}
	}
}

// Names are the names that SQL holds, in the order of the text.
func (r *Rules) Names(src string) []string {
	var out []string
	for _, t := range r.Lex(src) {
		if t.Named() {
			out = append(out, t.Name())
		}
	}
	return out
}

// Bracketed tells whether one pair of brackets holds all of a list.
func Bracketed(list []Token) bool {
	return len(list) > 1 && list[0].Is("(") && Closing(list) == len(list)-1
}
