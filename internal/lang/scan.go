package lang

// This file groups the lines of a file by their indentation and reads words
// from them. Reading is driven by the parser, since what a character means
// depends on where one stands: "#" begins a comment between words and means
// whatever the engine says in SQL.

import (
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"
)

// group is a line with those that continue it, as a piece of the source.
type group struct {
	above      []comment // the comments and empty lines before it
	indent     int
	start, end int // offsets; end is behind its last character
}

// physical is one line of the file, without its indentation and what follows its
// last word; blank, or a comment alone, or text.
type physical struct {
	start, end int
	indent     int
	blank      bool
	comment    string
}

func physicals(src string) []physical {
	var out []physical
	for off := 0; off < len(src); {
		end := strings.IndexByte(src[off:], '\n')
		next := len(src)
		if end < 0 {
			end = len(src)
		} else {
			end += off
			next = end + 1
		}
		p := physical{start: off, end: end}
		i := off
	indent:
		for ; i < end; i++ {
			switch src[i] {
			case ' ':
				p.indent++
			case '\t':
				p.indent += 4
			case '\r':
			default:
				break indent
			}
		}
		text := strings.TrimRight(src[i:end], " \t\r")
		p.start, p.end = i, i+len(text)
		switch {
		case text == "":
			p.blank = true
		case text[0] == '#':
			p.comment = text
		}
		out = append(out, p)
		off = next
	}
	return out
}

// cursor reads one group.
type cursor struct {
	p       *parser
	src     string
	off     int
	end     int
	words   []word
	segment int
	broken  bool      // a line break was passed since the last word
	above   []comment // comment lines passed since the last word
	behind  string    // the comment at the end of the last physical line
}

// space skips blanks, line breaks and comments up to the next word.
func (c *cursor) space() {
	for c.off < c.end {
		switch b := c.src[c.off]; {
		case b == ' ' || b == '\t' || b == '\r':
			c.off++
		case b == '\n':
			c.off++
			c.broken = true
			if c.behind != "" { // a comment at the end of a line that goes on
				c.above = append(c.above, comment(c.behind))
				c.behind = ""
			}
		case b == '#':
			end := strings.IndexByte(c.src[c.off:c.end], '\n')
			if end < 0 {
				end = c.end
			} else {
				end += c.off
			}
			c.behind = strings.TrimRight(c.src[c.off:end], " \t\r")
			c.off = end
		default:
			return
		}
	}
}

// rest is the comment behind the last word, with those on the lines after it that
// no word follows.
func (c *cursor) rest() string {
	all := c.behind
	for _, above := range slices.Backward(c.above) {
		if above != "" {
			all = strings.TrimRight(string(above)+"  "+all, " ")
		}
	}
	return all
}

// done tells whether the line has ended.
func (c *cursor) done() bool {
	c.space()
	return c.off >= c.end
}

// peek returns the next byte behind blanks, 0 at the end.
func (c *cursor) peek() byte {
	if c.done() {
		return 0
	}
	return c.src[c.off]
}

// peekWord returns the word that stands next, without reading it.
func (c *cursor) peekWord() string {
	c.space()
	return c.src[c.off : c.off+nameLength(c.src[c.off:c.end])]
}

// IsName tells whether a text is a name that needs no quotes.
func IsName(s string) bool { return s != "" && nameLength(s) == len(s) }

// nameLength is the length of the name that s begins with, 0 for none.
func nameLength(s string) int {
	for i, r := range s {
		if r == '_' || unicode.IsLetter(r) || i > 0 && (unicode.IsDigit(r) || unicode.Is(unicode.Mn, r)) {
			continue
		}
		return i
	}
	return len(s)
}

// take reads n bytes as a word of the line.
func (c *cursor) take(n int, glued bool) Pos {
	pos := c.p.pos(c.off, c.off+n)
	c.words = append(c.words, word{
		text:    c.src[c.off : c.off+n],
		off:     c.off,
		glued:   glued,
		broken:  c.broken,
		segment: c.segment,
		above:   c.above,
	})
	c.broken, c.above = false, nil
	c.off += n
	return pos
}

// accept reads the word if it stands next.
func (c *cursor) accept(w string) bool {
	if c.peekWord() != w {
		return false
	}
	c.take(len(w), false)
	return true
}

// acceptByte reads a mark if it stands next, printed without a space before it.
func (c *cursor) acceptByte(b byte, glued bool) bool {
	if c.peek() != b {
		return false
	}
	c.take(1, glued)
	return true
}

// hasPrefix tells whether s stands next, at once.
func (c *cursor) hasPrefix(s string) bool {
	c.space()
	return strings.HasPrefix(c.src[c.off:c.end], s)
}

// here is the place of what stands next: to its end if it is a word.
func (c *cursor) here() Pos {
	c.space()
	if c.off >= c.end {
		return c.p.pos(c.end, c.end)
	}
	n := c.unit()
	return c.p.pos(c.off, c.off+n)
}

// unit is the length of what a reader would call the next word.
func (c *cursor) unit() int {
	rest := c.src[c.off:c.end]
	if n := nameLength(rest); n > 0 {
		return n
	}
	n := strings.IndexAny(rest, " \t\r\n,():#")
	if n > 0 {
		return n
	}
	if n < 0 && rest != "" {
		return len(rest)
	}
	_, n = utf8.DecodeRuneInString(rest)
	return max(n, 1)
}

// quoted returns the length of the string in double quotes that stands next and
// its value; 0 if it does not end on its line.
func quoted(s string) (int, string) {
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		switch s[i] {
		case '"':
			return i + 1, b.String()
		case '\n':
			return 0, ""
		case '\\':
			if i+1 == len(s) || !strings.ContainsRune(`"\ntr`, rune(s[i+1])) {
				return 0, ""
			}
			i++
			if at := strings.IndexByte("ntr", s[i]); at >= 0 {
				b.WriteByte("\n\t\r"[at])
			} else {
				b.WriteByte(s[i])
			}
		default:
			b.WriteByte(s[i])
		}
	}
	return 0, ""
}

// numberLength is the length of the number that s begins with, 0 for none.
func numberLength(s string) int {
	i := 0
	if i < len(s) && s[i] == '-' {
		i++
	}
	d := digits(s[i:])
	if d == 0 {
		return 0
	}
	i += d
	if i+1 < len(s) && s[i] == '.' && digits(s[i+1:]) > 0 {
		i += 1 + digits(s[i+1:])
	}
	return i
}

func digits(s string) int {
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return i
		}
	}
	return len(s)
}

// dateLength is 10 if s begins with a date, else 0.
func dateLength(s string) int {
	if len(s) >= 10 && digits(s) == 4 && s[4] == '-' && digits(s[5:]) == 2 && s[7] == '-' && digits(s[8:]) == 2 {
		return 10
	}
	return 0
}

// balanced is the length of the bracketed piece that s begins with, 0 if its
// brackets do not match or a quote in it does not end on its line. In SQL,
// both '…' and "…" are quotes and a doubled quote stands for itself; in JSON
// a backslash escapes.
func balanced(s string, json bool) int {
	var open []byte
	for i := 0; i < len(s); i++ {
		switch b := s[i]; b {
		case '(', '[', '{':
			open = append(open, b)
		case ')', ']', '}':
			want := map[byte]byte{')': '(', ']': '[', '}': '{'}[b]
			if len(open) == 0 || open[len(open)-1] != want {
				return 0
			}
			open = open[:len(open)-1]
			if len(open) == 0 {
				return i + 1
			}
		case '"', '\'', '`':
			if json && b != '"' {
				continue
			}
			n := quoteLength(s[i:], json)
			if n == 0 {
				return 0
			}
			i += n - 1
		}
	}
	return 0
}

// quoteLength is the length of the quoted piece that s begins with.
func quoteLength(s string, backslash bool) int {
	for i := 1; i < len(s); i++ {
		switch {
		case s[i] == '\n':
			return 0
		case backslash && s[i] == '\\':
			i++
		case s[i] == s[0]:
			if !backslash && i+1 < len(s) && s[i+1] == s[0] {
				i++
				continue
			}
			return i + 1
		}
	}
	return 0
}
