package lang

// This file edits a model as two other texts of it differ: what is the same in both stays as its
// author wrote it.

import (
	"slices"
	"strings"
)

// Merge returns src with the changes of a model that lead from one text of it to another. Fields
// are told by their names, their clauses by their words, other lines by what they say. left are
// changes that found no place, such as a field that a shape declares.
func Merge(path, src, model, was, now string) (out string, left []string, diags []Diagnostic) {
	a, wrong := Parse("", was)
	b, more := Parse("", now)
	if wrong = append(wrong, more...); len(wrong) > 0 {
		return src, nil, wrong
	}
	before, after := linesOf(a), linesOf(b)
	m := &merging{path: path, out: src, model: model}
	for _, l := range before.order {
		switch text := after.text[l]; {
		case text == before.text[l]:
		case text == "":
			m.remove(l, before.text[l])
		default:
			m.replace(l, before.text[l], text)
		}
	}
	last := ""
	for _, l := range after.order {
		if before.text[l] == "" && len(m.diags) == 0 {
			m.insert(last, after.text[l])
		}
		if strings.HasPrefix(l, fieldKey) {
			last = strings.TrimPrefix(l, fieldKey)
		}
	}
	return m.out, m.left, m.diags
}

// fieldKey begins the key of a field's line.
const fieldKey = "field "

// insert adds a line to the model: a field directly after the one that gives the last column
// before it.
func (m *merging) insert(last, text string) {
	one, wrong := parseLine(m.model, text)
	f, more := Parse(m.path, m.out)
	block := f.model(m.model)
	if wrong = append(wrong, more...); len(wrong) > 0 || block == nil {
		m.diags = append(m.diags, wrong...)
		return
	}
	var at *Line
	for _, l := range block.Lines {
		if one.Lines[0].Field != nil && l.gives(last) {
			at = l
		}
	}
	if at == nil {
		m.out, wrong = Declare(m.path, m.out, m.model, []string{text})
		m.diags = append(m.diags, wrong...)
		return
	}
	var b strings.Builder
	start := strings.LastIndexByte(m.out[:at.Pos.Off], '\n') + 1
	writeWords(&b, inOrder(one.Lines[0]), m.out[start:at.Pos.Off], "")
	m.out = insertAfterLine(m.out, at.end, b.String())
}

// gives tells whether the column of a field comes from a line.
func (l *Line) gives(field string) bool {
	switch {
	case l.Field != nil:
		return l.Field.Name.Name == field
	case l.Timestamps:
		return field == "updated_at"
	case l.SoftDelete != nil:
		return field == "deleted_at" || l.SoftDelete.Column != nil && l.SoftDelete.Column.Text == field
	}
	return false
}

// modelLines are the lines of the only model of a text, by what tells them apart.
type modelLines struct {
	order []string
	text  map[string]string
}

func linesOf(f *File) modelLines {
	out := modelLines{text: map[string]string{}}
	for _, block := range f.Blocks {
		for _, l := range block.Lines {
			text := f.Src[l.Pos.Off:l.end]
			key := text
			if l.Field != nil {
				key = fieldKey + l.Field.Name.Name
			}
			out.order, out.text[key] = append(out.order, key), text
		}
	}
	return out
}

// loose is a text with one space for several.
func loose(text string) string { return strings.Join(strings.Fields(text), " ") }

type merging struct {
	path, model string
	out         string
	left        []string
	diags       []Diagnostic
}

// find is a line of the model, in the text as it is by now; nil: there is none.
func (m *merging) find(key, text string) *Line {
	f, diags := Parse(m.path, m.out)
	block := f.model(m.model)
	if len(diags) > 0 || block == nil {
		m.diags = append(m.diags, diags...)
		return nil
	}
	for _, l := range block.Lines {
		if l.Field != nil && key == fieldKey+l.Field.Name.Name ||
			l.Field == nil && loose(m.out[l.Pos.Off:l.end]) == loose(text) {
			return l
		}
	}
	m.left = append(m.left, loose(text))
	return nil
}

func (m *merging) put(l *Line, text string) {
	start := strings.LastIndexByte(m.out[:l.Pos.Off], '\n') + 1
	m.out = m.out[:start] + text + m.out[lineEnd(m.out, l.end):]
}

func (m *merging) remove(key, text string) {
	if l := m.find(key, text); l != nil {
		m.put(l, "")
	}
}

// replace changes the line of a field as was changes into now.
func (m *merging) replace(key, was, now string) {
	l := m.find(key, was)
	if l == nil {
		return
	}
	old, wrong := parseLine(m.model, was)
	fresh, more := parseLine(m.model, now)
	if wrong = append(wrong, more...); len(wrong) > 0 {
		m.diags = append(m.diags, wrong...)
		return
	}
	const head = "model M\n    " // before the text of a line that was read alone
	mine := pieces(m.out, l)
	from, to := pieces(head+was, old.Lines[0]), pieces(head+now, fresh.Lines[0])
	if from[0].text != to[0].text {
		mine[0] = to[0]
	}
	for _, word := range wordsOf(from, to) {
		a, b := textsOf(from, word), textsOf(to, word)
		if slices.Equal(a, b) {
			continue
		}
		mine = slices.DeleteFunc(mine, func(p piece) bool { return p.word == word })
		for _, text := range b {
			mine = append(mine, piece{word, text})
		}
	}
	slices.SortStableFunc(mine, func(a, b piece) int { return rank(a.word) - rank(b.word) })
	words := []string{m.out[l.Field.Name.Pos.Off:l.Field.Name.Pos.End]}
	for _, p := range mine {
		words = append(words, p.text)
	}
	one, wrong := parseLine(m.model, strings.Join(words, " "))
	if len(wrong) > 0 {
		m.diags = append(m.diags, wrong...)
		return
	}
	var b strings.Builder
	start := strings.LastIndexByte(m.out[:l.Pos.Off], '\n') + 1
	writeWords(&b, inOrder(one.Lines[0]), m.out[start:l.Pos.Off], l.layout.behind)
	m.put(l, b.String())
}

// piece is the type of a field, whose word is empty, or one of its clauses.
type piece struct{ word, text string }

// rank is the place of a clause in a line.
func rank(word string) int {
	if word == "" {
		return -1
	}
	return slices.Index(clauseOrder, word)
}

// pieces are the type and the clauses of a field's line.
func pieces(src string, l *Line) []piece {
	type start struct {
		off  int
		word string
	}
	starts := []start{{l.Field.Type.Pos.Off, ""}}
	for _, k := range l.Field.Clauses {
		off := k.Pos.Off
		if len(k.On) > 0 {
			off = strings.LastIndex(src[:k.On[0].Pos.Off], "on")
		}
		starts = append(starts, start{off, k.Word})
	}
	slices.SortFunc(starts, func(a, b start) int { return a.off - b.off })
	var out []piece
	for i, s := range starts {
		end := l.end
		if i+1 < len(starts) {
			end = starts[i+1].off
		}
		text := strings.TrimSpace(src[s.off:end])
		if strings.Contains(text, "\n") {
			text = loose(text)
		}
		out = append(out, piece{s.word, text})
	}
	return out
}

func textsOf(list []piece, word string) []string {
	var out []string
	for _, p := range list {
		if p.word == word {
			out = append(out, p.text)
		}
	}
	return out
}

func wordsOf(lists ...[]piece) []string {
	var out []string
	for _, p := range slices.Concat(lists...) {
		if p.word != "" && !slices.Contains(out, p.word) {
			out = append(out, p.word)
		}
	}
	return out
}
