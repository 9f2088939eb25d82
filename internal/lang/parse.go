package lang

// This file is the parser. It reads a line at a time and goes on behind a line
// that it cannot read, so that one run reports every mistake.

import (
	"fmt"
	"maps"
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
	return Pos{Path: p.file.Path, Line: line + 1, Col: utf8.RuneCountInString(p.file.Src[p.lines[line]:off]) + 1, Off: off, End: end}
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

var blockWords = []string{"model", "choice", "shape", "seed", "rows"}

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
			p.errorf(p.pos(l.start, l.end), "keep what is right of the two versions, and delete the lines <<<<<<<, ======= and >>>>>>>", "unresolved merge conflict")
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
		p.errorf(p.pos(head.start, head.end), "do not indent it, or put the line it belongs to above it", "an indented line outside a block")
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
			p.errorf(p.pos(left[0].start, left[0].end), "indent it equally", "this line is indented less than the first one of the seed")
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

// fieldName reads a field's name, which may stand in quotes.
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
		c.fail(c.p.pos(c.off, c.lineEnd()), `only \" and \\ are escaped`, "the quotes are not closed on this line")
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
				c.fail(c.p.pos(base+i, base+i+2), "put the comment on a line of its own with #", "an SQL comment is not allowed within a line")
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
			if first, order, _ := strings.Cut(name, " "); nameLength(first) != len(first) || !slices.Contains([]string{"asc", "desc"}, strings.ToLower(strings.TrimSpace(order))) {
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
	case ChoiceBlock:
		if c.accept("as") {
			if !c.accept("enum") {
				c.fail(c.here(), "write choice "+b.Name.Name+" as enum: one, another", `expected "enum" after "as"`)
			}
			b.Enum = true
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
				c.fail(w.Pos, DidYouMean(w.Name, []string{"view", "children", "guard"}), `expected "view", "children" or "guard" after "with"`)
			}
		default:
			c.fail(c.here(), DidYouMean(c.peekWord(), []string{"column", "with"}), `unexpected %s after "soft delete"`, c.showNext())
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
		c.fail(c.here(), "write foreign key a, b references MODEL by c, d", `expected "references", not %s`, c.showNext())
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
			c.fail(c.here(), DidYouMean(c.peekWord(), []string{"on", "by", "no"}), "unexpected %s in a foreign key", c.showNext())
		}
	}
	return k
}

var actionWords = []string{"restrict", "cascade", "set null", "set default", "no action"}

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

// Elsewhere is what to write instead of a type's name from elsewhere, in any case; "": it
// is none.
func Elsewhere(name string) string { return elsewhere[strings.ToLower(name)] }

// elsewhere gives what to write for a type's name from elsewhere.
var elsewhere = map[string]string{
	"varchar": "text(n)", "varchar2": "text(n)", "nvarchar": "text(n)", "char": "text(n)", "character": "text(n)",
	"string": "text(n)", "str": "text(n)", "clob": "text", "longtext": "text", "mediumtext": "text", "citext": "text(n) unique ignoring case",
	"int": "integer", "int2": "smallint", "int4": "integer", "int8": "bigint", "tinyint": "smallint", "mediumint": "integer", "long": "bigint", "number": "integer or decimal(p,s)",
	"serial": "integer key identity", "bigserial": "bigint key identity",
	"numeric": "decimal(p,s)", "money": "decimal(p,s)", "float": "double", "float4": "real", "float8": "double",
	"bool": "boolean", "bit": "boolean", "timestamptz": "timestamp", "instant": "timestamp", "guid": "uuid",
	"jsonb": "json", "object": "json", "blob": "bytes", "bytea": "bytes", "binary": "bytes", "varbinary": "bytes", "enum": "choice(a, b)",
}

func (c *cursor) field() *Field {
	f := &Field{Name: c.fieldName()}
	c.segment = 1
	if c.done() {
		hint := "write " + f.Name.Name + " text(80), or another type"
		if near := Nearest(f.Name.Name, lineWords); near != "" && !f.Name.Quoted {
			hint = "write " + near + ", if that is meant, or a type after it"
		}
		c.fail(f.Name.Pos, hint, "the field %s has no type", f.Name.Name)
	}
	// Two names with a comma between them, or brackets, are no type.
	if rest := strings.TrimLeft(c.src[c.off:c.end], " \t"); rest[0] == '(' || strings.HasPrefix(strings.TrimLeft(rest[nameLength(rest):], " \t"), ",") {
		if near := Nearest(f.Name.Name, []string{"unique", "index", "check", "foreign"}); near != "" && near != f.Name.Name && !f.Name.Quoted {
			c.fail(f.Name.Pos, DidYouMean(f.Name.Name, []string{near}), "%s has no type after it, if it is a field", f.Name.Name)
		}
	}
	f.Type = c.fieldType()
	c.segment = 2
	for !c.done() {
		f.Clauses = append(f.Clauses, c.clause())
	}
	return f
}

func (c *cursor) fieldType() Type {
	w := c.name("a type")
	t := Type{Pos: w.Pos}
	kind := schema.Kind(w.Name)
	switch w.Name {
	case "text", "bytes":
		t.Builtin = schema.Type{Kind: kind}
		if c.acceptByte('(', true) {
			t.Builtin.Length = c.integer("a length", true)
			c.closeType(w.Name + "(80)")
			if t.Builtin.Length == 0 {
				c.fail(w.Pos, "", "a length of 0 holds nothing")
			}
		}
	case "smallint", "integer", "bigint", "real", "double", "boolean", "date", "time", "timestamp", "datetime", "uuid", "json":
		t.Builtin = schema.Type{Kind: kind}
		if c.peek() == '(' {
			c.fail(c.here(), "write "+w.Name, "%s takes no length", w.Name)
		}
	case "decimal":
		if !c.acceptByte('(', true) {
			c.fail(w.Pos, "write decimal(8,2): total digits, digits after the point", "decimal needs its digits")
		}
		t.Builtin = schema.Type{Kind: kind, Precision: c.integer("the number of digits", true)}
		if c.acceptByte(',', true) {
			t.Builtin.Scale = c.integer("the digits after the point", true)
		} else {
			c.fail(c.here(), "write decimal(8,2): total digits, digits after the point", "decimal also needs its digits after the point")
		}
		c.closeType("decimal(8,2)")
		if t.Builtin.Precision == 0 || t.Builtin.Scale > t.Builtin.Precision || t.Builtin.Precision > 65 || t.Builtin.Scale > 30 {
			c.fail(w.Pos, "up to 65 digits in total, up to 30 of them after the point", "decimal(%d,%d) is not possible", t.Builtin.Precision, t.Builtin.Scale)
		}
	case "choice":
		if !c.acceptByte('(', true) {
			c.fail(w.Pos, "write choice(one, another), or declare choice Name: one, another", "choice needs its values")
		}
		t.Builtin = schema.Type{Kind: schema.Choice}
		n := len(c.words)
		for _, v := range c.choiceValues() {
			if slices.Contains(t.Builtin.Choices, v.Name) {
				c.fail(v.Pos, "", "the value %q is repeated", v.Name)
			}
			t.Builtin.Choices = append(t.Builtin.Choices, v.Name)
		}
		c.words[n].glued = true
		c.closeType("choice(one, another)")
	case "sql":
		v := c.str("a type of the engine's own")
		c.checkSQL(c.src[v.Pos.Off+1:v.Pos.End-1], v.Pos)
		t.Builtin = schema.Type{Kind: schema.Native, Name: v.Text}
	case "references":
		t.Ref = &Reference{Model: c.name("a model")}
		if list := c.bracketed(); list != "" {
			c.fail(c.here(), "write references "+t.Ref.Model.Name+", or references "+t.Ref.Model.Name+" by "+list+" where that is not its key", "unexpected brackets")
		}
		if c.accept("by") {
			by := c.fieldName()
			t.Ref.By = &by
		}
	default:
		lower := strings.ToLower(w.Name)
		if write := Elsewhere(w.Name); write != "" && w.Name == lower { // else it may be a choice
			c.fail(w.Pos, "write "+write, "no type %s", w.Name)
		}
		t.Choice = &w
		if b := c.peek(); b == '(' {
			c.fail(w.Pos, TypeHint(w.Name, nil), "no type %s", w.Name)
		} else if next := c.peekWord(); next != "" && next[0] >= 'A' && next[0] <= 'Z' && Nearest(w.Name, []string{"references"}) != "" {
			c.fail(w.Pos, "write references "+next, "no type %s", w.Name)
		}
	}
	return t
}

// typeNames are the words that begin a type.
var typeNames = []string{"text", "smallint", "integer", "bigint", "decimal", "real", "double", "boolean", "date", "time", "timestamp", "datetime", "uuid", "json", "bytes", "choice", "references"}

// TypeHint says what to write where no type or choice has a name; known are the choices.
func TypeHint(name string, known []string) string {
	if write := Elsewhere(name); write != "" {
		return "write " + write
	}
	near := Nearest(name, slices.Concat(typeNames, known, slices.Sorted(maps.Keys(elsewhere))))
	if write := elsewhere[near]; write != "" {
		return "write " + write
	}
	return DidYouMean(name, append(slices.Clone(typeNames), known...))
}

// lineWords are what a line of a model may begin with that is no field.
var lineWords = []string{"table", "comment", "timestamps", "no timestamps", "primary key", "no key", "unique", "index", "check", "foreign key", "include", "soft delete"}

func (c *cursor) closeType(example string) {
	if !c.acceptByte(')', true) {
		c.fail(c.here(), "write "+example, `expected ")", not %s`, c.showNext())
	}
}

var clauseWords = []string{"optional", "default", "unique", "index", "no index", "immutable", "nonblank", "range", "key", "identity", "column", "comment", "stamped", "fake", "check", "generated", "on delete", "on update"}

func (c *cursor) clause() *Clause {
	k := &Clause{On: c.on(), Pos: c.here()}
	w := c.peekWord()
	if w == "on" {
		k.Word, k.Do, k.Pos = c.action()
		return k
	}
	if w == "" {
		c.fail(c.here(), "", "unexpected %s", c.showNext())
	}
	if !slices.Contains(clauseWords, w) && w != "no" {
		hint := DidYouMean(w, clauseWords)
		switch strings.ToLower(w) {
		case "required":
			hint = "remove it: a field is required unless it says optional"
		case "null", "nullable":
			hint = "write optional"
		case "not":
			hint = "remove it: a field is required unless it says optional"
		case "primary":
			hint = "write key"
		case "references":
			hint = "the type of a reference is references MODEL: write " + "name references MODEL"
		}
		c.fail(c.here(), hint, "%q is not a field clause", w)
	}
	k.Pos = c.take(len(w), false)
	k.Word = w
	switch w {
	case "no":
		c.must("index", "no")
		k.Word = "no index"
	case "default":
		k.Value = c.value()
	case "unique":
		for {
			if c.accept("ignoring") {
				c.must("case", "ignoring")
				k.IgnoringCase = true
			} else if c.accept("including") {
				c.must("deleted", "including")
				k.IncludingDeleted = true
			} else {
				break
			}
		}
	case "range":
		c.rangeEnds(k)
	case "column", "comment":
		k.Value = c.str("a text")
	case "fake":
		k.Name = c.name("a generator")
		for b := c.peek(); b == '"' || b >= '0' && b <= '9'; b = c.peek() {
			k.Args = append(k.Args, c.value())
		}
	case "check":
		k.SQL = c.sql()
	case "generated":
		k.Stored = c.accept("stored")
		c.must("as", "generated")
		k.SQL = c.sql()
	}
	return k
}

func (c *cursor) rangeEnds(k *Clause) {
	if !c.hasPrefix("..") {
		k.From = c.value()
	}
	if !c.hasPrefix("..") {
		c.fail(c.here(), "write range 1..10, range 1.. or range ..10", `expected "..", not %s`, c.showNext())
	}
	c.take(2, k.From != nil)
	// An open end: nothing, or a clause, stands behind.
	if b := c.peek(); b == 0 || nameLength(c.src[c.off:c.end]) > 0 && !slices.Contains([]string{"now", "today"}, c.peekWord()) {
		if k.From == nil {
			c.fail(c.here(), "write range 1..10, range 1.. or range ..10", "a range needs at least one end")
		}
		return
	}
	n := len(c.words)
	k.To = c.value()
	c.words[n].glued = true
}

// seedLines reads the lines of a seed that are indented at least as deep as the
// first, and returns those that are left.
func (p *parser) seedLines(groups []group, depth int) ([]*Line, []group) {
	if len(groups) == 0 {
		return nil, nil
	}
	if depth > 50 {
		p.errorf(p.pos(groups[0].start, groups[0].end), "", "these lines are nested more than 50 levels deep")
		return nil, nil
	}
	indent := groups[0].indent
	var lines []*Line
	for len(groups) > 0 && groups[0].indent >= indent {
		g := groups[0]
		if g.indent > indent {
			var under []*Line
			under, groups = p.seedLines(groups, depth+1)
			if len(lines) == 0 {
				continue
			}
			last := lines[len(lines)-1]
			if last.Make == nil && len(under) > 0 {
				p.errorf(under[0].Pos, "only a line MODEL COUNT can have lines under it", "this line is under a field")
				continue
			}
			last.Lines = append(last.Lines, under...)
			continue
		}
		groups = groups[1:]
		if l := p.line(g, func(c *cursor, l *Line) { c.seedLine(l) }); l != nil {
			lines = append(lines, l)
		} else {
			for len(groups) > 0 && groups[0].indent > indent {
				groups = groups[1:]
			}
		}
	}
	return lines, groups
}

// counts are numbers as words.
var counts = []string{"one", "two", "three", "four", "five", "six", "seven", "eight", "nine", "ten", "twenty", "hundred", "thousand", "some", "many", "few"}

// seedLine reads `MODEL COUNT` or `field VALUE`. A model's name begins with a
// capital and a count behind it.
func (c *cursor) seedLine(l *Line) {
	behind := c.behindWord()
	first := c.peekWord()
	if first != "" && first[0] >= 'A' && first[0] <= 'Z' {
		// A field may have such a name too, but not such a value.
		switch word := behind[:nameLength(behind)]; {
		case strings.HasPrefix(behind, "-") && digits(behind[1:]) > 0, slices.Contains(counts, word):
			c.fail(c.here(), "write "+first+" 10, or another number", "the number of rows of %s is a whole number from 0", first)
		}
	}
	if first != "" && first[0] >= 'A' && first[0] <= 'Z' && digits(behind) > 0 {
		m := &Make{Model: c.name("a model")}
		m.From = c.integer("a count", false)
		m.To = m.From
		if c.hasPrefix("..") {
			c.take(2, true)
			pos := c.here()
			m.To = c.integer("the end of the range", true)
			if m.To < m.From {
				c.fail(pos, "", "the range is reversed")
			}
		}
		for !c.done() {
			at := c.here()
			switch {
			case m.Via == nil && c.accept("via"):
				via := c.fieldName()
				m.Via = &via
			case m.Depth == 0 && c.accept("depth"):
				m.DepthPos = c.here()
				if m.Depth = c.integer("the number of levels", false); m.Depth == 0 || m.Depth > 20 {
					c.fail(m.DepthPos, "", "a tree has 1 to 20 levels")
				}
			default:
				c.fail(at, "", "unexpected %s: the count may be followed by via FIELD or depth LEVELS", c.showNext())
			}
		}
		l.Make = m
		return
	}
	l.Set = c.set()
}

// set reads how a seed fills a field.
func (c *cursor) set() *Set {
	s := &Set{Field: c.fieldName()}
	if c.done() {
		c.fail(s.Field.Pos, "write MODEL COUNT, or field VALUE", "expected a count or a value after %s", s.Field.Name)
	}
	if c.peekWord() == "empty" && digits(c.behindWord()) > 0 {
		c.accept("empty")
		s.Empty = c.share()
		if c.done() {
			return s
		}
	} else if s.Share = c.acceptShare(); s.Share != nil {
		return s
	}
	if c.reference() {
		s.Sum = c.sum()
		return s
	}
	first := c.moment()
	s.Picks = []Pick{{Value: first}}
	switch {
	case c.hasPrefix(".."):
		c.take(2, true)
		if c.done() {
			c.fail(c.here(), "write both ends, such as 1..10", "the end of the range is missing")
		}
		n := len(c.words)
		s.To = c.moment()
		c.words[n].glued = true
		return s
	case first.Word:
		for b := c.peek(); b == '"' || b >= '0' && b <= '9' && c.shareLength() == 0; b = c.peek() {
			s.Args = append(s.Args, c.value())
		}
		if len(s.Args) > 0 {
			return s
		}
	}
	for {
		s.Picks[len(s.Picks)-1].Share = c.acceptShare()
		if !c.acceptByte(',', true) {
			return s
		}
		s.Picks = append(s.Picks, Pick{Value: c.moment()})
		if c.hasPrefix("..") {
			c.fail(c.here(), "write a list of values, or a single range", "a range cannot be one of several values")
		}
	}
}

// moment reads a value of a seed, where times stand without quotes, also behind a day, and
// days and moments can be told from today or now: 08:00, 2026-01-31 08:00, today - 30 days.
func (c *cursor) moment() *Value {
	c.space()
	if n := clockLength(c.src[c.off:c.end]); n > 0 {
		text := c.src[c.off : c.off+n]
		return &Value{Value: schema.Value{Kind: schema.TextValue, Text: fullClock(text)}, Pos: c.take(n, false)}
	}
	v := c.value()
	switch v.Kind {
	case schema.DateValue:
		c.space()
		n := clockLength(c.src[c.off:c.end])
		if n == 0 {
			return v
		}
		v.Value = schema.Value{Kind: schema.TextValue, Text: v.Text + " " + fullClock(c.src[c.off:c.off+n])}
		v.Pos.End = c.take(n, false).End
	case schema.TodayValue, schema.NowValue:
		sign := c.peek()
		if sign != '+' && sign != '-' {
			return v
		}
		c.take(1, false)
		far := c.value()
		n, err := strconv.ParseInt(far.Text, 10, 32)
		if far.Kind != schema.NumberValue || err != nil || n < 0 {
			c.fail(far.Pos, "write "+v.Value.String()+" - 30 days", "expected a whole number, not %s", far.Value)
		}
		at, unit := c.here(), c.peekWord()
		size := Seconds(unit)
		switch {
		case unit == "":
			c.fail(at, "write days, hours, minutes or seconds", "the unit is missing")
		case size == 0:
			c.fail(at, "write weeks, days, hours, minutes or seconds", "%s is not a unit here: they differ in length", unit)
		}
		c.accept(unit)
		if sign == '-' {
			n = -n
		}
		v.Shift, v.Pos.End = n*size, c.off
	}
	return v
}

// Seconds is how many a unit of time has, 0 of what is none.
func Seconds(unit string) int64 {
	return map[string]int64{"weeks": 7 * 24 * 3600, "week": 7 * 24 * 3600, "days": 24 * 3600, "day": 24 * 3600, "hours": 3600, "hour": 3600, "minutes": 60, "minute": 60, "seconds": 1, "second": 1}[unit]
}

// clockLength is the length of a time such as 08:00 or 08:00:30 with which s begins, else 0.
func clockLength(s string) int {
	two := func(s string) bool { return len(s) >= 2 && digits(s[:2]) == 2 }
	if !two(s) || len(s) < 5 || s[2] != ':' || !two(s[3:]) {
		return 0
	}
	if len(s) >= 8 && s[5] == ':' && two(s[6:]) {
		return 8
	}
	return 5
}

func fullClock(s string) string {
	if len(s) == 5 {
		return s + ":00"
	}
	return s
}

// shareLength is the length of a share such as 40% that stands next, without
// its sign; 0: none does.
func (c *cursor) shareLength() int {
	c.space()
	rest := c.src[c.off:c.end]
	if n := numberLength(rest); n > 0 && n < len(rest) && rest[n] == '%' {
		return n
	}
	return 0
}

func (c *cursor) acceptShare() *Share {
	if c.shareLength() == 0 {
		return nil
	}
	return c.share()
}

func (c *cursor) share() *Share {
	n := c.shareLength()
	if n == 0 {
		c.fail(c.here(), "write a share such as 40%", "expected a share, not %s", c.showNext())
	}
	v, err := strconv.ParseFloat(c.src[c.off:c.off+n], 64)
	s := &Share{Percent: v, Pos: c.take(n+1, false)}
	if err != nil || v < 0 || v > 100 {
		c.fail(s.Pos, "", "a share is between 0%% and 100%%")
	}
	return s
}

// reference tells whether a field of the row stands next, {field}, and not JSON.
func (c *cursor) reference() bool {
	c.space()
	rest := c.src[c.off:c.end]
	if rest == "" || rest[0] != '{' {
		return false
	}
	n := nameLength(rest[1:])
	return n > 0 && 1+n < len(rest) && rest[1+n] == '}'
}

func (c *cursor) braced() Ident {
	n := nameLength(c.src[c.off+1 : c.end])
	name := c.src[c.off+1 : c.off+1+n]
	pos := c.take(n+2, false)
	return Ident{Name: name, Pos: pos}
}

// sum reads a value worked out from other fields of the row.
func (c *cursor) sum() *Sum {
	s := &Sum{Pos: c.here(), Field: c.braced()}
	for !c.done() {
		op := c.peek()
		if op != '+' && op != '-' && op != '*' {
			c.fail(c.here(), "write {field} + 14, {field} + 14..60 days, {field} * {other}", "unexpected %s", c.showNext())
		}
		c.take(1, false)
		t := Term{Op: op}
		if c.reference() {
			f := c.braced()
			t.Field = &f
		} else {
			number := func(glued bool) *Value {
				n := len(c.words)
				v := c.value()
				c.words[n].glued = glued
				if v.Kind != schema.NumberValue {
					c.fail(v.Pos, "", "expected a number or {field}, not %s", v.Value)
				}
				return v
			}
			t.From = number(false)
			if c.hasPrefix("..") {
				c.take(2, true)
				t.To = number(true)
			}
			if w := c.peekWord(); Seconds(w) > 0 {
				c.accept(w)
				t.Unit = w
			}
		}
		s.Terms = append(s.Terms, t)
	}
	return s
}

func (p *parser) rowLines(groups []group) []*Line {
	var lines []*Line
	width := 0
	for i, g := range groups {
		l := p.line(g, func(c *cursor, l *Line) {
			for !c.done() {
				if i == 0 {
					l.Cells = append(l.Cells, Cell{Name: c.fieldName()})
				} else {
					l.Cells = append(l.Cells, Cell{Value: c.value()})
				}
			}
		})
		if l == nil {
			if i == 0 {
				return lines
			}
			continue
		}
		if i == 0 {
			width = len(l.Cells)
		} else if len(l.Cells) != width {
			p.errorf(l.Pos, "text of more than one word is written in double quotes, a missing value is null", "this row has %d values for %d fields", len(l.Cells), width)
		}
		lines = append(lines, l)
	}
	return lines
}
