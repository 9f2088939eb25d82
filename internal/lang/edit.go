package lang

// This file edits a file in place: lines come into a block or go from it, and
// everything else stays to the byte.

import (
	"fmt"
	"strings"
)

// Declare returns src with the lines added to the model, or with a new model at
// its end that holds them. Fields go behind the last field, all other lines to
// the end of the model. A line that cannot be read is returned as a diagnostic
// about line (numbered from 1 as argument), and src is returned as it was.
func Declare(path, src, model string, lines []string) (string, []Diagnostic) {
	f, diags := Parse(path, src)
	if len(diags) > 0 {
		return src, diags
	}
	block := f.model(model)
	indent := indentation
	if block != nil && len(block.Lines) > 0 { // as the model's other lines are
		first := block.Lines[0].Pos.Off
		indent = src[strings.LastIndexByte(src[:first], '\n')+1 : first]
	}
	var fields, others []string
	for _, text := range lines {
		one, wrong := parseLine(model, text)
		if len(wrong) > 0 {
			diags = append(diags, wrong...)
			continue
		}
		for _, l := range one.Lines {
			var b strings.Builder
			writeWords(&b, inOrder(l), indent, l.layout.behind)
			if l.Field != nil {
				fields = append(fields, b.String())
			} else {
				others = append(others, b.String())
			}
		}
	}
	if len(diags) > 0 {
		return src, diags
	}
	if block == nil {
		var b strings.Builder
		b.WriteString(src)
		if src != "" && !strings.HasSuffix(src, "\n") {
			b.WriteByte('\n')
		}
		if src != "" && !strings.HasSuffix(src, "\n\n") {
			b.WriteByte('\n')
		}
		fmt.Fprintf(&b, "model %s\n%s%s", model, strings.Join(fields, ""), strings.Join(others, ""))
		return b.String(), nil
	}
	lastField := -1
	for _, l := range block.Lines {
		if l.Field != nil {
			lastField = l.end
		}
	}
	if lastField < 0 { // above the model's other lines
		lastField = block.headEnd(src)
	}
	out := insertAfterLine(src, block.end, strings.Join(others, ""))
	return insertAfterLine(out, lastField, strings.Join(fields, "")), nil
}

// Remove returns src without the line of the model that declares the field, and
// without the lines that continue it; ok is false if there is none.
func Remove(path, src, model, field string) (out string, ok bool, diags []Diagnostic) {
	f, diags := Parse(path, src)
	if len(diags) > 0 {
		return src, false, diags
	}
	block := f.model(model)
	if block == nil {
		return src, false, nil
	}
	for _, l := range block.Lines {
		if l.Field == nil || l.Field.Name.Name != field {
			continue
		}
		start := strings.LastIndexByte(src[:l.Pos.Off], '\n') + 1
		end := lineEnd(src, l.end)
		return src[:start] + src[end:], true, nil
	}
	return src, false, nil
}

// FieldLine returns the field that a line declares, and the line, without its indentation,
// that the model has for that field; empty where it has none or the line declares no field.
func FieldLine(path, src, model, line string) (field, old string) {
	one, diags := parseLine(model, line)
	if len(diags) > 0 || len(one.Lines) != 1 || one.Lines[0].Field == nil {
		return "", ""
	}
	field = one.Lines[0].Field.Name.Name
	f, diags := Parse(path, src)
	block := f.model(model)
	if len(diags) > 0 || block == nil {
		return field, ""
	}
	for _, l := range block.Lines {
		if l.Field != nil && l.Field.Name.Name == field {
			return field, strings.Join(strings.Fields(src[l.Pos.Off:l.end]), " ")
		}
	}
	return field, ""
}

// Replace returns src with another line in place of the one by which the model declares the
// field. Lines that continue the old one go with it.
func Replace(path, src, model, field, line string) (string, []Diagnostic) {
	one, diags := parseLine(model, line)
	if len(diags) > 0 {
		return src, diags
	}
	f, diags := Parse(path, src)
	if len(diags) > 0 {
		return src, diags
	}
	block := f.model(model)
	if block == nil {
		return src, nil
	}
	for _, l := range block.Lines {
		if l.Field == nil || l.Field.Name.Name != field {
			continue
		}
		start := strings.LastIndexByte(src[:l.Pos.Off], '\n') + 1
		var b strings.Builder
		writeWords(&b, inOrder(one.Lines[0]), src[start:l.Pos.Off], one.Lines[0].layout.behind)
		return src[:start] + b.String() + src[lineEnd(src, l.end):], nil
	}
	return src, nil
}

// AddClause returns src with a clause added to the line of the model's field, laid
// out again; ok is false if the model has no line of its own for it.
func AddClause(path, src, model, field, clause string) (out string, ok bool) {
	f, diags := Parse(path, src)
	block := f.model(model)
	if len(diags) > 0 || block == nil {
		return src, false
	}
	for _, l := range block.Lines {
		if l.Field == nil || l.Field.Name.Name != field {
			continue
		}
		at := l.end
		for _, c := range l.Field.Clauses {
			if c.Word == "check" || c.Word == "generated" { // what follows is SQL to its end
				at = c.Pos.Off
				if len(c.On) > 0 {
					at = strings.LastIndex(src[:c.On[0].Pos.Off], "on")
				}
				break
			}
		}
		line := strings.TrimRight(src[l.Pos.Off:at], " \t") + " " + clause
		if rest := src[at:l.end]; strings.TrimSpace(rest) != "" {
			line += " " + rest
		}
		one, wrong := parseLine(model, strings.Join(strings.Fields(strings.ReplaceAll(line, "\n", " ")), " "))
		if len(wrong) == 0 && !strings.ContainsAny(line, `"\n`) {
			var b strings.Builder
			writeWords(&b, inOrder(one.Lines[0]), indentation, "")
			line = strings.TrimSpace(b.String())
		}
		return src[:l.Pos.Off] + line + src[l.end:], true
	}
	return src, false
}

// HasModel tells whether the file declares the model.
func (f *File) HasModel(name string) bool { return f.model(name) != nil }

func (f *File) model(name string) *Block {
	for _, b := range f.Blocks {
		if b.Kind == ModelBlock && b.Name.Name == name {
			return b
		}
	}
	return nil
}

func (b *Block) headEnd(src string) int {
	return lineEnd(src, b.Pos.End) - 1
}

// parseLine reads one line as the only one of a model.
func parseLine(model, text string) (*Block, []Diagnostic) {
	const head = "model M\n    "
	f, diags := Parse("", head+strings.TrimSpace(text))
	for i := range diags {
		diags[i].Pos = Pos{
			Path: fmt.Sprintf("line for %s", model),
			Line: 1,
			Col:  diags[i].Pos.Col - len(indentation),
			Off:  diags[i].Pos.Off - len(head),
			End:  diags[i].Pos.End - len(head),
		}
	}
	if len(diags) == 0 &&
		(len(f.Blocks) != 1 || len(f.Blocks[0].Lines) == 0 || strings.Contains(strings.TrimSpace(text), "\n")) {
		diags = append(
			diags,
			Diagnostic{
				Pos:     Pos{Path: fmt.Sprintf("line for %s", model), Line: 1, Col: 1},
				Message: "one line of the language is expected",
				Hint:    `write each line as an argument of its own, such as 'label text(120) unique'`,
			},
		)
	}
	if len(diags) > 0 {
		return nil, diags
	}
	return f.Blocks[0], nil
}

// lineEnd is the offset behind the line break that follows off.
func lineEnd(src string, off int) int {
	if i := strings.IndexByte(src[off:], '\n'); i >= 0 {
		return off + i + 1
	}
	return len(src)
}

func insertAfterLine(src string, off int, text string) string {
	if text == "" {
		return src
	}
	at := lineEnd(src, off)
	if at == len(src) && !strings.HasSuffix(src, "\n") {
		return src + "\n" + text
	}
	return src[:at] + text + src[at:]
}
