package editor

// This file completes what is being typed: by the words before the cursor, since the line is not whole yet.

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"erbario/internal/fake"
	"erbario/internal/lang"
	"erbario/internal/schema"
)

// typing is where something is typed.
type typing struct {
	block  string   // the word of the block; empty: at the margin
	of     string   // its name
	words  []string // before the word at the cursor, on this line
	from   int      // the byte where the word at the cursor begins
	braces bool     // the cursor is in { }
	line   int
}

// typingAt reads the line up to a place.
func (d *document) typingAt(p position) typing {
	off := d.offset(p)
	line := d.position(off).Line
	text := d.text[d.lines[line]:off]
	t := typing{from: off, line: line}
	for t.from > d.lines[line] {
		r := rune(d.text[t.from-1])
		if r != '_' && r < 0x80 && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			break
		}
		t.from--
	}
	before := text[:t.from-d.lines[line]]
	t.words = typedWords(before)
	if open := strings.LastIndexByte(before, '{'); open >= 0 && !strings.Contains(before[open:], "}") {
		t.braces = true
	}
	if strings.TrimSpace(text) == "" && text == "" || text != "" && text[0] != ' ' && text[0] != '\t' {
		return t
	}
	for n := line - 1; n >= 0; n-- {
		above := d.line(n)
		if above == "" || above[0] == ' ' || above[0] == '\t' || above[0] == '#' {
			continue
		}
		words := typedWords(above)
		if t.block = words[0]; len(words) > 1 {
			t.of = words[1]
		}
		break
	}
	return t
}

// typedWords are the words of a line: texts in quotes and signs are words too.
func typedWords(s string) (out []string) {
	for i := 0; i < len(s); {
		c := s[i]
		j := i + 1
		switch {
		case c == ' ' || c == '\t' || c == '\r':
			i++
			continue
		case c == '#':
			return out
		case c == '"':
			for j < len(s) && s[j] != '"' {
				if s[j] == '\\' {
					j++
				}
				j++
			}
			j = min(j+1, len(s))
		case c == '(':
			if k := strings.IndexByte(s[i:], ')'); k >= 0 {
				j = i + k + 1
			}
		case isWord(c):
			for j < len(s) && isWord(s[j]) {
				j++
			}
		}
		out = append(out, s[i:j])
		i = j
	}
	return out
}

func isWord(c byte) bool {
	return c == '_' || c >= 0x80 || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9'
}

// completing is a list that is being made.
type completing struct {
	w        *workspace
	x        *index
	d        *document
	t        typing
	snippets bool
	to       position
	items    []completionItem
}

func (w *workspace) complete(d *document, p position) any {
	c := &completing{w: w, x: w.names(), d: d, t: d.typingAt(p), snippets: w.server.snippets, to: p}
	if w.modelFile(d) {
		c.line()
	}
	if c.items == nil {
		c.items = []completionItem{}
	}
	return completionList{Items: c.items}
}

// add adds one item: what is typed so far is replaced.
func (c *completing) add(label string, kind int, about string) {
	if slices.ContainsFunc(c.items, func(i completionItem) bool { return i.Label == label }) {
		return
	}
	c.items = append(c.items, completionItem{Label: label, Kind: kind, Detail: about,
		SortText: fmt.Sprintf("%03d", len(c.items)), TextEdit: &textEdit{span{c.d.position(c.t.from), c.to}, label}})
}

// snippet adds one whose places a client that can goes through; others get the word alone.
func (c *completing) snippet(label, about, text string) {
	c.add(label, kindSnippet, about)
	if c.snippets {
		item := &c.items[len(c.items)-1]
		item.Format, item.TextEdit.NewText = 2, text
	}
}

func (c *completing) list(names []string, kind int, about string) {
	for _, n := range names {
		c.add(n, kind, about)
	}
}

func (c *completing) words(place string, words []string) {
	for _, w := range words {
		c.add(w, kindKeyword, explain(place, w))
	}
}

func (c *completing) fields(model string) {
	for _, f := range c.x.fields(model) {
		c.add(f.Name.Name, kindField, typeWords(f))
	}
}

// typeWords is the type of a field as the model says it.
func typeWords(f *lang.Field) string {
	switch {
	case f.Type.Ref != nil:
		return "references " + f.Type.Ref.Model.Name
	case f.Type.Choice != nil:
		return f.Type.Choice.Name
	}
	return f.Type.Builtin.String()
}

func (c *completing) models() {
	for _, name := range known(c.x.models) {
		c.add(name, kindClass, "")
	}
}

// line completes by the block and the words of the line.
func (c *completing) line() {
	t := c.t
	if t.block == "" {
		c.margin()
		return
	}
	if t.braces {
		c.fields(t.of)
		return
	}
	switch t.block {
	case "model", "shape":
		c.modelLine()
	case "seed":
		c.seedLine()
	case "rows":
		if len(t.words) == 0 || !c.headed() {
			c.fields(t.of)
		} else {
			c.cell()
		}
	}
}

func (c *completing) margin() {
	switch words := c.t.words; {
	case len(words) == 0:
		c.snippet("model", explain("block", "model"), "model ${1:Name}\n    ${2:field}    ${3:text(40)}\n    $0")
		c.snippet("choice", explain("block", "choice"), "choice ${1:Name}: ${2:one}, ${3:other}\n$0")
		c.snippet("shape", explain("block", "shape"), "shape ${1:name}\n    $0")
		c.snippet("seed", explain("block", "seed"), "seed ${1:demo}\n    ${2:Model} ${3:20}\n    $0")
		c.snippet("rows", explain("block", "rows"), "rows ${1:Model} by ${2:field}\n    ${2:field}\n    $0")
	case words[0] == "rows" && len(words) == 1:
		c.models()
	case words[0] == "rows" && len(words) == 2:
		c.words("", []string{"by"})
	case words[0] == "rows":
		c.fields(words[1])
	case words[0] == "model" && len(words) == 2:
		c.words("", []string{"outside", "in sql"})
	}
}

// headed reports whether the block of rows has its header above the cursor's line.
func (c *completing) headed() bool {
	for n := c.t.line - 1; n >= 0; n-- {
		above := c.d.line(n)
		if above != "" && above[0] != ' ' && above[0] != '\t' && above[0] != '#' {
			return false
		}
		if strings.TrimSpace(above) != "" && !strings.HasPrefix(strings.TrimSpace(above), "#") {
			return true
		}
	}
	return false
}

// cell completes a cell of reference rows: the values of the choice, true and false.
func (c *completing) cell() {
	for n := c.t.line - 1; n >= 0; n-- {
		above := c.d.line(n)
		if above != "" && above[0] != ' ' && above[0] != '\t' {
			heads := typedWords(c.d.line(n + 1))
			if at := len(c.t.words); at < len(heads) {
				_, f := c.x.owner(c.t.of, heads[at])
				c.values(f)
			}
			return
		}
	}
}

// modelLine completes a line of a model or a shape.
func (c *completing) modelLine() {
	words := c.t.words
	if n := slices.Index(words, ":"); n > 0 && words[0] == "on" { // kept to an engine
		words = words[n+1:]
	}
	last := func(n int) string {
		if len(words) < n {
			return ""
		}
		return words[len(words)-n]
	}
	switch {
	case len(words) == 0:
		c.words("line", lang.LineWords())
		if c.snippets {
			c.snippet("field", "a field with its type", "${1:name}    ${2:text(40)}")
		}
	case last(1) == "references":
		c.models()
	case last(1) == "by" && last(3) == "references":
		c.fields(last(2))
	case last(1) == "include" && len(words) == 1:
		c.list(known(c.x.shapes), kindType, "")
	case words[0] == "no" && len(words) == 1:
		c.words("line", []string{"timestamps", "key", "type checks"})
	case words[0] == "primary" || words[0] == "foreign" && !slices.Contains(words, "references"):
		if len(words) == 1 {
			c.words("", []string{"key"})
		} else {
			c.fields(c.t.of)
		}
	case words[0] == "foreign" && slices.Contains(words, "by"):
		c.fields(words[slices.Index(words, "references")+1])
	case words[0] == "unique" || words[0] == "index":
		c.fields(c.t.of)
		c.words("", []string{"where"})
	case words[0] == "soft":
		if c.words("", []string{"delete"}); len(words) > 1 {
			c.items = nil
			c.words("", []string{"with view", "with children", "with guard", "column"})
		}
	case words[0] == "check" || words[0] == "table" || words[0] == "comment" && len(words) == 1:
	case len(words) == 1:
		c.types()
	case words[1] == "array" && len(words) < 4:
		c.types()
	default:
		c.clause(words, last(1), last(2))
	}
}

func (c *completing) types() {
	for _, t := range lang.TypeWords() {
		switch t {
		case "text", "char", "bytes":
			c.snippet(t, explain("type", t), t+"(${1:40})")
		case "decimal":
			c.snippet(t, explain("type", t), "decimal(${1:8},${2:2})")
		case "choice":
			c.snippet(t, explain("type", t), "choice(${1:one}, ${2:other})")
		default:
			c.add(t, kindType, explain("type", t))
		}
	}
	for _, name := range known(c.x.choices) {
		var values []string
		for _, v := range c.x.choices[name].Values {
			values = append(values, v.Name)
		}
		c.add(name, kindEnum, strings.Join(values, ", "))
	}
}

// freely are the words after which anything can follow.
var freely = []string{"column", "comment", "named", "collation", "storage", "statistics", "range", "as", "check"}

// clause completes what follows the type of a field.
func (c *completing) clause(words []string, last, before string) {
	f := c.field(words)
	switch {
	case last == "default":
		c.values(f)
	case last == "fake":
		c.generators()
	case last == "on":
		c.words("clause", []string{"delete", "update"})
		c.list(c.w.server.engines.Names(), kindValue, "for this engine alone")
	case (last == "delete" || last == "update") && before == "on":
		c.words("action", lang.ActionWords())
	case last == "set":
		c.words("action", []string{"null", "default"})
	case last == "no":
		c.words("", []string{"index", "action"})
	case last == "unique":
		c.words("", []string{"ignoring case", "including deleted", "as constraint", "as index", "named"})
		c.clauses(f, words)
	case last == "generated":
		c.words("", []string{"as", "stored as"})
	case slices.Contains(freely, last):
	default:
		c.clauses(f, words)
	}
}

// clauses completes the clauses that the type can have, and that are not there yet.
func (c *completing) clauses(f *lang.Field, words []string) {
	for _, word := range lang.ClauseWords() {
		first, _, _ := strings.Cut(word, " ")
		if first != "on" && first != "no" && slices.Contains(words[2:], first) || !possible(f, word) {
			continue
		}
		c.add(word, kindKeyword, explain("clause", word))
	}
	c.add("on", kindKeyword, "for an engine alone: on sqlite: CLAUSE")
}

// possible reports whether a field can have a clause.
func possible(f *lang.Field, word string) bool {
	if f == nil {
		return true
	}
	reference := f.Type.Ref != nil
	k := f.Type.Builtin.Kind
	if reference || f.Type.Choice != nil {
		k = ""
	}
	times := k == schema.Timestamp || k == schema.Datetime
	switch word {
	case "on delete", "no index", "match":
		return reference
	case "nonblank", "storage":
		return k == schema.Text
	case "collation":
		return k == schema.Text || f.Type.Choice != nil
	case "range":
		return k.Number() || times || k == schema.Date || k == schema.Time
	case "stamped":
		return times
	case "on update":
		return reference || times
	case "identity", "serial", "rowid":
		return k.Whole()
	case "fake":
		return !reference
	}
	return true
}

// field is the field whose line is typed, as far as it can be read.
func (c *completing) field(words []string) *lang.Field {
	if _, f := c.x.owner(c.t.of, strings.Trim(words[0], `"`)); f != nil {
		return f
	}
	n := 2
	if len(words) > 2 && strings.HasPrefix(words[2], "(") {
		n = 3
	}
	f, _ := lang.Parse("", "model M\n    "+strings.Join(words[:n], " ")+"\n")
	for _, b := range f.Blocks {
		for _, l := range b.Lines {
			return l.Field
		}
	}
	return nil
}

// values completes a value of a field.
func (c *completing) values(f *lang.Field) {
	if f == nil {
		return
	}
	if f.Type.Choice != nil {
		if b := c.x.choices[f.Type.Choice.Name]; b != nil {
			for _, v := range b.Values {
				c.add(valueText(v.Name), kindMember, f.Type.Choice.Name)
			}
		}
		return
	}
	switch k := f.Type.Builtin; k.Kind {
	case schema.Boolean:
		c.words("value", []string{"true", "false"})
	case schema.Date:
		c.words("value", []string{"today"})
	case schema.Timestamp, schema.Datetime:
		c.words("value", []string{"now"})
	case schema.UUID:
		c.words("value", []string{"new uuid"})
	case schema.Choice:
		for _, v := range k.Choices {
			c.add(valueText(v), kindMember, "")
		}
	}
}

// valueText is a value as a model writes it.
func valueText(v string) string {
	if plainName(v) {
		return v
	}
	return schema.Value{Kind: schema.TextValue, Text: v}.String()
}

func (c *completing) generators() {
	for _, g := range fake.Generators() {
		c.add(g.Name, kindValue, g.About)
	}
}

// seedLine completes a line of a seed.
func (c *completing) seedLine() {
	model := c.seeded()
	words := c.t.words
	switch {
	case len(words) == 0:
		if model != "" {
			c.fields(model)
		}
		c.models()
	case words[len(words)-1] == "via":
		for _, f := range c.x.fields(words[0]) {
			if f.Type.Ref != nil {
				c.add(f.Name.Name, kindField, typeWords(f))
			}
		}
	case c.x.models[words[0]] != nil && len(words) > 1:
		c.words("", []string{"via", "depth"})
	default:
		if _, f := c.x.owner(model, words[0]); f != nil {
			c.values(f)
			c.words("", []string{"empty"})
			c.generators()
		}
	}
}

// seeded is the model that the line is below: that of the nearest line above that is less indented.
func (c *completing) seeded() string {
	indent := func(s string) int { return len(s) - len(strings.TrimLeft(s, " \t")) }
	own := indent(c.d.line(c.t.line))
	for n := c.t.line - 1; n >= 0; n-- {
		above := c.d.line(n)
		words := typedWords(above)
		if len(words) == 0 || indent(above) >= own {
			continue
		}
		if c.x.models[words[0]] != nil {
			return words[0]
		}
		if own = indent(above); own == 0 {
			return ""
		}
	}
	return ""
}
