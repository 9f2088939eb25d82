package lang

// This file is the formatter: one layout for every file. Types stand at column
// 24 and clauses at column 48, or behind one space where what stands before is
// longer, so that no line's layout depends on its neighbours (only the cells of
// reference rows are aligned with each other). Comments and the author's line
// breaks stay where they are. Formatting twice changes nothing.

import (
	"slices"
	"strings"
	"unicode/utf8"
)

const (
	typeColumn   = 23 // counted from 0
	clauseColumn = 47
	indentation  = "    "
)

// Format returns the file in the one layout. The file must have been parsed
// without a mistake.
func Format(f *File) string {
	out, moved := format(f)
	if !moved {
		return out
	}
	// What became a clause has its place only once it is read as one.
	if again, wrong := Parse(f.Path, out); len(wrong) == 0 {
		out, _ = format(again)
	}
	return out
}

// format is Format, and tells whether lines became clauses.
func format(f *File) (out string, moved bool) {
	var b strings.Builder
	for i, block := range f.Blocks {
		above := trimBlank(block.head.above)
		apart := i > 0
		if apart && block.Kind == ChoiceBlock && f.Blocks[i-1].Kind == ChoiceBlock && len(block.head.above) == 0 {
			apart = false // a list of choices may stand together
		}
		if apart {
			b.WriteByte('\n')
		}
		writeComments(&b, above, "")
		if n := len(block.head.above); len(above) > 0 && block.head.above[n-1] == "" {
			b.WriteByte('\n') // a comment about the file rather than the block
		}
		writeWords(&b, block.head.words, "", block.head.behind)
		if block.Kind == RowsBlock {
			writeRows(&b, block.Lines)
		} else {
			lines := asClauses(block.Lines)
			moved = moved || len(lines) < len(block.Lines)
			writeLines(&b, lines, indentation)
		}
		if tail := trimBlank(block.tail); len(tail) > 0 {
			if block.tail[0] == "" {
				b.WriteByte('\n')
			}
			writeComments(&b, tail, indentation)
		}
	}
	if tail := trimBlank(f.tail); len(tail) > 0 {
		if b.Len() > 0 {
			b.WriteByte('\n')
		}
		writeComments(&b, tail, "")
	}
	return b.String(), moved
}

// trimBlank drops empty lines at both ends and repeated ones between.
func trimBlank(list []comment) []comment {
	for len(list) > 0 && list[0] == "" {
		list = list[1:]
	}
	for len(list) > 0 && list[len(list)-1] == "" {
		list = list[:len(list)-1]
	}
	return slices.CompactFunc(slices.Clone(list), func(a, b comment) bool { return a == "" && b == "" })
}

func writeComments(b *strings.Builder, list []comment, indent string) {
	for _, c := range list {
		if c != "" {
			b.WriteString(indent)
			b.WriteString(string(c))
		}
		b.WriteByte('\n')
	}
}

func writeLines(b *strings.Builder, lines []*Line, indent string) {
	for i, l := range lines {
		writeAbove(b, l.layout.above, indent, i == 0)
		writeWords(b, inOrder(l), indent, l.layout.behind)
		writeLines(b, l.Lines, indent+indentation)
	}
}

// writeAbove writes what stands above a line: comments, and one empty line
// where there was any, except under the head of the block.
func writeAbove(b *strings.Builder, above []comment, indent string, first bool) {
	list := trimBlank(above)
	if len(above) > 0 && above[0] == "" && !first {
		b.WriteByte('\n')
	}
	writeComments(b, list, indent)
	if len(list) > 0 && above[len(above)-1] == "" {
		b.WriteByte('\n')
	}
}

func writeWords(b *strings.Builder, words []word, indent, behind string) {
	line := indent
	flush := func() {
		b.WriteString(strings.TrimRight(line, " "))
		b.WriteByte('\n')
	}
	deeper := indent + indentation
	segment, start := 0, true
	for _, w := range words {
		if (w.broken || len(w.above) > 0) && !start {
			flush()
			writeComments(b, trimBlank(w.above), deeper)
			line, segment, start = deeper, w.segment, true
		}
		switch {
		case start || w.glued:
		case w.segment != segment:
			column := typeColumn
			if w.segment == 2 {
				column = clauseColumn
			}
			line += strings.Repeat(" ", max(1, column-utf8.RuneCountInString(line)))
		default:
			line += " "
		}
		segment, start = w.segment, false
		for i, part := range strings.Split(w.text, "\n") {
			if i > 0 {
				flush()
				line = deeper
			}
			line += strings.TrimSpace(part)
		}
	}
	if behind != "" {
		line += "  " + behind
	}
	flush()
}

// writeRows aligns the cells of reference rows.
func writeRows(b *strings.Builder, lines []*Line) {
	var widths []int
	for _, l := range lines {
		for i, w := range l.layout.words {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(w.text))
		}
	}
	for i, l := range lines {
		writeAbove(b, l.layout.above, indentation, i == 0)
		line := indentation
		for i, w := range l.layout.words {
			line += w.text
			if i < len(l.layout.words)-1 {
				line += strings.Repeat(" ", widths[i]-utf8.RuneCountInString(w.text)+2)
			}
		}
		if l.layout.behind != "" {
			line += "  " + l.layout.behind
		}
		b.WriteString(line + "\n")
	}
}

// asClauses writes a constraint of one field as a clause of it, the one way to
// say it. A line with a comment of its own stays, and so does one whose field
// stands elsewhere.
func asClauses(lines []*Line) []*Line {
	var out []*Line
	for _, l := range lines {
		field, text := singleField(l)
		target := -1
		if text != "" && l.layout.behind == "" && len(trimBlank(l.layout.above)) == 0 {
			target = slices.IndexFunc(lines, func(o *Line) bool {
				return o.Field != nil && o.Field.Name.Name == field && len(o.On) == 0 &&
					o.Field.Clause(strings.Fields(text)[0]) == nil
			})
		}
		if target < 0 {
			out = append(out, l)
			continue
		}
		// The first clause that takes the rest of the line stays last.
		t := lines[target]
		at := len(t.layout.words)
		for _, c := range t.Field.Clauses {
			if c.SQL == nil {
				continue
			}
			off := c.Pos.Off
			if len(c.On) > 0 {
				off = c.On[0].Pos.Off - len("on ")
			}
			for at > 0 && t.layout.words[at-1].off >= off {
				at--
			}
			break
		}
		var words []word
		for _, w := range strings.Fields(text) {
			words = append(words, word{text: w, segment: 2})
		}
		t.layout.words = slices.Insert(slices.Clone(t.layout.words), at, words...)
		t.Field.Clauses = append(t.Field.Clauses, &Clause{Word: strings.Fields(text)[0]})
	}
	return out
}

// singleField tells which field a constraint line is about if it could be a
// clause of it, and the clause.
func singleField(l *Line) (field, clause string) {
	if len(l.On) > 0 {
		return "", ""
	}
	if k := l.Key; k != nil && len(k.Fields) == 1 && k.Parts[0].whole() && !k.Stored.said() {
		return k.Fields[0].Name, "key"
	}
	k := l.Constraint
	if k == nil || k.Word == "check" || k.Name != nil || len(k.Parts) != 1 || k.Where != nil || k.Using != nil ||
		k.NullsEqual || !k.Parts[0].whole() || k.Stored.said() {
		return "", ""
	}
	clause = k.Word
	if k.IgnoringCase {
		clause += " ignoring case"
	}
	if k.IncludingDeleted {
		clause += " including deleted"
	}
	return k.Parts[0].Field.Name, clause
}
