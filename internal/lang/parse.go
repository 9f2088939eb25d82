package lang

// This file is the parser. It reads a line at a time and goes on behind a line
// that it cannot read, so that one run reports every mistake.

import (
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

	"erbario/internal/schema"
)

// MaxSize is the size in bytes that a file of models may have.
const MaxSize = 16 << 20

type parser struct {
	file  *File
	lines []int // offsets of line starts
	diags []Diagnostic
}

// Parse reads one file. It always returns a tree of what could be read, and
// every mistake it met; the tree may be formatted only if there was none.
func Parse(path, src string) (*File, []Diagnostic) {
	p := &parser{file: &File{Path: path, Src: src}, lines: []int{0}}
	for i := 0; i < len(src); i++ {
		if src[i] == '\n' {
			p.lines = append(p.lines, i+1)
		}
	}
	if len(src) > MaxSize {
		p.errorf(p.pos(0, 0), "split the file", "the file is larger than %d MB", MaxSize>>20)
		return p.file, p.diags
	}
	for i, r := range src {
		if r == utf8.RuneError {
			if _, n := utf8.DecodeRuneInString(src[i:]); n == 1 {
				p.errorf(p.pos(i, i+1), "save the file as UTF-8", "this is not UTF-8 text")
				return p.file, p.diags
			}
		}
		if r < ' ' && r != '\n' && r != '\t' && r != '\r' {
			p.errorf(p.pos(i, i+1), "remove it", "the control character U+%04X is not allowed here", r)
			return p.file, p.diags
		}
	}
	p.blocks()
	return p.file, Sort(p.diags)
}

func (p *parser) pos(off, end int) Pos {
	line := sort.Search(len(p.lines), func(i int) bool { return p.lines[i] > off }) - 1
	return Pos{
		Path: p.file.Path,
		Line: line + 1,
		Col:  utf8.RuneCountInString(p.file.Src[p.lines[line]:off]) + 1,
		Off:  off,
		End:  end,
	}
}

func (p *parser) errorf(pos Pos, hint, format string, args ...any) {
	p.diags = append(p.diags, Diagnostic{Pos: pos, Message: fmt.Sprintf(format, args...), Hint: hint})
}

// bad is panicked with to leave a line that cannot be read.
type bad struct{}

func (c *cursor) fail(pos Pos, hint, format string, args ...any) {
	c.p.errorf(pos, hint, format, args...)
	panic(bad{})
}

// blocks groups the physical lines into blocks and reads each.
func (p *parser) blocks() {
	lines := p.unconflicted(physicals(p.file.Src))
	var above []comment
	for i := 0; i < len(lines); {
		l := lines[i]
		if l.blank || l.comment != "" {
			above = append(above, comment(l.comment))
			i++
			continue
		}
		// The block goes on to the last indented line; comments behind that
		// stand at the margin or belong to what follows.
		last := i
		for j := i + 1; j < len(lines); j++ {
			if lines[j].blank {
				continue
			}
			if lines[j].indent == 0 && (lines[j].comment == "" || !indentedNext(lines[j:])) {
				break
			}
			if lines[j].comment == "" || lines[j].indent > 0 {
				last = j
			}
		}
		p.block(above, lines[i:last+1])
		above = nil
		i = last + 1
	}
	p.file.tail = above
}

// unconflicted tells of the marks that a merge left where two branches changed the same
// lines, and reads the first of each two versions.
func (p *parser) unconflicted(lines []physical) []physical {
	var mine, theirs bool
	for i := range lines {
		l := &lines[i]
		text := p.file.Src[l.start:l.end]
		mark := l.indent == 0 && len(text) >= 7 && (len(text) == 7 || text[7] == ' ')
		switch {
		case mark && strings.HasPrefix(text, "<<<<<<<"):
			p.errorf(p.pos(l.start, l.end),
				"keep what is right of the two versions, and delete the lines <<<<<<<, ======= and >>>>>>>",
				"unresolved merge conflict")
			mine, theirs = true, false
		case mark && mine && (strings.HasPrefix(text, "|||||||") || text == "======="):
			theirs = true
		case mark && mine && strings.HasPrefix(text, ">>>>>>>"):
			mine, theirs = false, false
		case !theirs:
			continue
		}
		l.blank, l.comment = true, ""
	}
	return lines
}

// indentedNext tells whether the next line that is no comment is indented: a
// comment at the margin amid a block's lines belongs to the block.
func indentedNext(lines []physical) bool {
	for _, l := range lines {
		if !l.blank && l.comment == "" {
			return l.indent > 0
		}
	}
	return false
}

func (p *parser) block(above []comment, lines []physical) {
	head := lines[0]
	b := &Block{Pos: p.pos(head.start, head.end), end: lines[len(lines)-1].end}
	if head.indent > 0 {
		p.errorf(p.pos(head.start, head.end), "do not indent it, or put the line it belongs to above it",
			"an indented line outside a block")
		return
	}
	// A choice may go on on deeper lines; all others end their head here.
	end, rest := head.end, lines[1:]
	if strings.HasPrefix(p.file.Src[head.start:], "choice") {
		end, rest = lines[len(lines)-1].end, nil
	}
	c := &cursor{p: p, src: p.file.Src, off: head.start, end: end}
	ok := c.try(func() { c.blockHead(b) })
	b.head = layout{above: above, words: c.words, behind: c.rest()}
	if !ok {
		return
	}
	p.file.Blocks = append(p.file.Blocks, b)
	groups, tail := joinLines(rest, b.Kind == SeedBlock || b.Kind == RowsBlock)
	switch b.Kind {
	case SeedBlock:
		var left []group
		if b.Lines, left = p.seedLines(groups, 0); len(left) > 0 {
			p.errorf(p.pos(left[0].start, left[0].end), "indent it equally",
				"this line is indented less than the first one of the seed")
		}
	case RowsBlock:
		b.Lines = p.rowLines(groups)
	default:
		for _, g := range groups {
			if l := p.line(g, func(c *cursor, l *Line) { c.modelLine(l) }); l != nil {
				b.Lines = append(b.Lines, l)
			}
		}
	}
	b.tail = tail
}

// joinLines joins continuation lines to the lines they continue. With flat, every
// line stands for itself. It also returns the comments behind the last line.
func joinLines(lines []physical, flat bool) (groups []group, tail []comment) {
	base := -1
	for _, l := range lines {
		switch {
		case l.blank || l.comment != "":
			tail = append(tail, comment(l.comment))
		case base >= 0 && l.indent > base && !flat:
			groups[len(groups)-1].end = l.end
			tail = nil // they lie inside of the group's text
		default:
			base = l.indent
			groups = append(groups, group{above: tail, indent: l.indent, start: l.start, end: l.end})
			tail = nil
		}
	}
	for len(tail) > 0 && tail[len(tail)-1] == "" {
		tail = tail[:len(tail)-1]
	}
	return groups, tail
}

// try runs f and tells whether it came to its end.
func (c *cursor) try(f func()) (ok bool) {
	defer func() {
		if r := recover(); r != nil {
			if _, is := r.(bad); !is {
				panic(r)
			}
			ok = false
		}
	}()
	f()
	return true
}

// line reads one group with f; nil if it could not be read.
func (p *parser) line(g group, f func(*cursor, *Line)) *Line {
	l := &Line{Pos: p.pos(g.start, g.end), end: g.end}
	c := &cursor{p: p, src: p.file.Src, off: g.start, end: g.end}
	ok := c.try(func() {
		f(c, l)
		c.mustEnd()
	})
	l.layout = layout{above: g.above, words: c.words, behind: c.rest()}
	if !ok {
		return nil
	}
	return l
}

func (c *cursor) mustEnd() {
	if !c.done() {
		c.fail(c.here(), "", "unexpected %s", c.showNext())
	}
}

// showNext quotes what stands next for a message.
func (c *cursor) showNext() string {
	if c.done() {
		return "the end of the line"
	}
	return strconv.Quote(c.src[c.off : c.off+c.unit()])
}

func (c *cursor) name(what string) Ident {
	if c.peek() == '"' {
		c.fail(c.here(), "", "expected %s, without quotes", what)
	}
	n := len(c.peekWord())
	if n == 0 {
		c.fail(c.here(), "", "expected %s, not %s", what, c.showNext())
	}
	return Ident{Name: c.src[c.off : c.off+n], Pos: c.take(n, false)}
}

// fieldName reads a field's name, which may be in quotes.
func (c *cursor) fieldName() Ident {
	if c.peek() != '"' {
		return c.name("a field's name")
	}
	v := c.str("a field's name")
	if v.Text == "" {
		c.fail(v.Pos, "", "a field needs a name")
	}
	return Ident{Name: v.Text, Quoted: true, Pos: v.Pos}
}

func (c *cursor) str(what string) *Value {
	if c.peek() != '"' {
		c.fail(c.here(), "", "expected %s in double quotes, not %s", what, c.showNext())
	}
	n, text := quoted(c.src[c.off:c.end])
	if n == 0 {
		c.fail(c.p.pos(c.off, c.lineEnd()), `write \" and \\ for a quote and a backslash, and \n for a new line`,
			"the quotes are not closed on this line")
	}
	return &Value{Value: schema.Value{Kind: schema.TextValue, Text: text}, Pos: c.take(n, false)}
}

func (c *cursor) lineEnd() int {
	if i := strings.IndexByte(c.src[c.off:c.end], '\n'); i >= 0 {
		return c.off + i
	}
	return c.end
}

func (c *cursor) integer(what string, glued bool) int {
	c.space()
	n := digits(c.src[c.off:c.end])
	if n == 0 {
		c.fail(c.here(), "", "expected %s, not %s", what, c.showNext())
	}
	v, err := strconv.Atoi(c.src[c.off : c.off+n])
	pos := c.take(n, glued)
	if err != nil || v > 1<<31-1 {
		c.fail(pos, "", "%s is too large", what)
	}
	return v
}

// value reads a literal. Bare words other than the language's own are a
// choice's values.
func (c *cursor) value() *Value {
	c.space()
	rest := c.src[c.off:c.end]
	lit := func(kind schema.ValueKind, n int, text string) *Value {
		return &Value{Value: schema.Value{Kind: kind, Text: text}, Pos: c.take(n, false)}
	}
	if rest == "" {
		c.fail(c.here(), "", "expected a value")
	}
	switch rest[0] {
	case '"':
		return c.str("a text")
	case '(':
		n := balanced(rest, false)
		if n == 0 {
			c.fail(c.p.pos(c.off, c.lineEnd()), "", "the brackets or quotes of this SQL do not match")
		}
		text := strings.TrimSpace(rest[1 : n-1])
		pos := c.take(n, false)
		c.checkSQL(text, pos)
		return &Value{Value: schema.Value{Kind: schema.SQLValue, Text: text}, Pos: pos}
	case '{', '[':
		n := balanced(rest, true)
		if n == 0 {
			c.fail(c.p.pos(c.off, c.lineEnd()), "", "the brackets or quotes of this JSON do not match")
		}
		return lit(schema.JSONValue, n, rest[:n])
	}
	if n := dateLength(rest); n > 0 {
		return lit(schema.DateValue, n, rest[:n])
	}
	if n := numberLength(rest); n > 0 {
		return lit(schema.NumberValue, n, rest[:n])
	}
	switch w := c.peekWord(); w {
	case "":
		if rest[0] == '\'' {
			write := "write it in double quotes"
			if n := strings.IndexByte(rest[1:], '\''); n >= 0 && !strings.ContainsAny(rest[1:1+n], "\n\"\\") {
				write = `write "` + rest[1:1+n] + `"`
			}
			c.fail(c.p.pos(c.off, c.off+1), write, "text is written in double quotes")
		}
		c.fail(c.here(), "", "expected a value, not %s", c.showNext())
	case "true", "false":
		return lit(schema.BooleanValue, len(w), w)
	case "null":
		return lit(schema.NullValue, len(w), "")
	case "now":
		return lit(schema.NowValue, len(w), "")
	case "today":
		return lit(schema.TodayValue, len(w), "")
	case "new":
		pos := c.take(len(w), false)
		if !c.accept("uuid") {
			c.fail(c.here(), `write "new uuid"`, `expected "uuid" after "new"`)
		}
		return &Value{Value: schema.Value{Kind: schema.UUIDValue}, Pos: pos}
	default:
		v := lit(schema.TextValue, len(w), w)
		v.Word = true
		return v
	}
	return nil
}

// SQL reads the rest of the line, and of those that continue it, as SQL.
func (c *cursor) sql() *SQLText {
	c.space()
	if c.off >= c.end {
		c.fail(c.here(), "", "expected SQL")
	}
	start := c.off
	pos := c.take(c.end-start, false)
	raw := c.src[start:c.end]
	text := &SQLText{Text: strings.TrimSpace(raw), Pos: pos}
	text.Fields = c.checkSQL(raw, pos)
	return text
}

// checkSQL refuses what would let an expression reach beyond its place, and
// returns the fields named in it.
func (c *cursor) checkSQL(raw string, pos Pos) (fields []Ident) {
	depth := 0
	base := strings.Index(c.src[pos.Off:pos.End], raw) + pos.Off
	for i := 0; i < len(raw); i++ {
		switch b := raw[i]; b {
		case '\'', '"', '`':
			n := quoteLength(raw[i:], false)
			if n == 0 {
				c.fail(c.p.pos(base+i, base+i+1), "", "the quotes of this SQL are not closed on their line")
			}
			i += n - 1
		case '(', '[':
			depth++
		case ')', ']':
			if depth--; depth < 0 {
				c.fail(c.p.pos(base+i, base+i+1), "", "unmatched bracket")
			}
		case ';':
			c.fail(c.p.pos(base+i, base+i+1), "write one expression", `";" is not allowed in SQL within a line`)
		case '-', '/':
			if two := raw[i:min(i+2, len(raw))]; two == "--" || two == "/*" {
				c.fail(c.p.pos(base+i, base+i+2), "put the comment on a line of its own with #",
					"an SQL comment is not allowed within a line")
			}
		case '{':
			n := strings.IndexByte(raw[i:], '}')
			if n < 0 {
				c.fail(c.p.pos(base+i, base+i+1), "write {field}", "this brace is not closed")
			}
			name := strings.TrimSpace(raw[i+1 : i+n])
			at := c.p.pos(base+i+1, base+i+n)
			if name == "" {
				c.fail(at, "write {field}", "expected a field name in the braces")
			}
			fields = append(fields, Ident{Name: strings.Trim(name, `"`), Quoted: name[0] == '"', Pos: at})
			i += n
		}
	}
	if depth > 0 {
		c.fail(pos, "", "a bracket of this SQL is not closed")
	}
	return fields
}

// names reads the names of fields; before is what stands before them, for a hint.
func (c *cursor) names(before string) []Ident {
	if list := c.bracketed(); list != "" {
		c.fail(c.here(), "write "+before+" "+list, "the fields are written without brackets")
	}
	list := []Ident{c.fieldName()}
	for c.acceptByte(',', true) {
		list = append(list, c.fieldName())
	}
	return list
}

// bracketed is a list of names that stands next in brackets, without them; "": none does.
func (c *cursor) bracketed() string {
	if c.peek() != '(' {
		return ""
	}
	rest := c.src[c.off:c.end]
	n := balanced(rest, false)
	if n == 0 {
		return ""
	}
	inside := strings.TrimSpace(rest[1 : n-1])
	for name := range strings.SplitSeq(inside, ",") {
		name = strings.TrimSpace(name)
		if bare := strings.Trim(name, `"`); bare == "" || nameLength(bare) != len(bare) {
			if first, order, _ := strings.Cut(name, " "); nameLength(first) != len(first) ||
				!slices.Contains([]string{"asc", "desc"}, strings.ToLower(strings.TrimSpace(order))) {
				return ""
			}
		}
	}
	return inside
}

func (c *cursor) blockHead(b *Block) {
	w := c.name(`a block ("model", "choice", "shape", "seed" or "rows")`)
	b.Kind = BlockKind(w.Name)
	if !slices.Contains(blockWords, w.Name) {
		c.fail(w.Pos, DidYouMean(w.Name, blockWords), "%q does not begin a block", w.Name)
	}
	b.Name = c.name("the name of the " + w.Name)
	switch b.Kind {
	case ModelBlock:
		b.Outside = c.accept("outside")
		if !b.Outside && c.accept("in") {
			if b.InSQL = c.accept("sql"); !b.InSQL {
				c.fail(c.here(), "write model "+b.Name.Name+" in sql", `expected "sql" after "in"`)
			}
		}
	case ChoiceBlock:
		if c.accept("as") {
			if !c.accept("enum") {
				c.fail(c.here(), "write choice "+b.Name.Name+" as enum: one, another", `expected "enum" after "as"`)
			}
			b.Enum = true
			if c.peek() == '"' {
				b.EnumName = c.str("the name of the type")
			}
			if c.accept("schema") {
				b.EnumSchema = c.str("the name of a schema")
			}
		}
		if !c.acceptByte(':', true) {
			c.fail(c.here(), "write choice "+b.Name.Name+": one, another", `expected ":", not %s`, c.showNext())
		}
		b.Values = c.choiceValues()
	case RowsBlock:
		if c.accept("by") {
			b.By = c.names("by")
		} else {
			c.fail(c.here(), "write rows "+b.Name.Name+" by FIELD", `expected "by" and the field that identifies a row`)
		}
		if c.accept("insert") {
			if !c.accept("only") {
				c.fail(c.here(), `write "insert only"`, `expected "only" after "insert"`)
			}
			b.InsertOnly = true
		}
		if c.accept("from") {
			b.From = c.str("the name of a file")
		}
	}
	c.mustEnd()
}

func (c *cursor) choiceValues() []Ident {
	var list []Ident
	for {
		if c.peek() == '"' {
			v := c.str("a value")
			list = append(list, Ident{Name: v.Text, Quoted: true, Pos: v.Pos})
		} else {
			list = append(list, c.name("a value of the choice"))
		}
		if !c.acceptByte(',', true) {
			return list
		}
	}
}

// on reads `on postgres, mariadb:` if it stands next.
func (c *cursor) on() []Ident {
	if c.peekWord() != "on" {
		return nil
	}
	rest := strings.TrimLeft(c.src[c.off+2:c.end], " \t")
	n := nameLength(rest)
	after := strings.TrimLeft(rest[n:], " \t")
	if n == 0 || after == "" || after[0] != ':' && after[0] != ',' {
		return nil
	}
	c.take(2, false)
	engines := []Ident{c.name("an engine")}
	for c.acceptByte(',', true) {
		engines = append(engines, c.name("an engine"))
	}
	if !c.acceptByte(':', true) {
		c.fail(c.here(), "", `expected ":" after the engine`)
	}
	return engines
}

// behindWord returns what stands behind the next word, without reading.
func (c *cursor) behindWord() string {
	n := len(c.peekWord())
	return strings.TrimLeft(c.src[c.off+n:c.end], " \t\r\n")
}
