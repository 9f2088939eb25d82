package editor

// This file is the structure of a document: outline, folding, selections, tokens, hints, links, the format,
// and quick fixes.

import (
	"cmp"
	"context"
	"path/filepath"
	"slices"
	"strings"

	"github.com/sourcegraph/jsonrpc2"

	"erbario/internal/lang"
	"erbario/internal/migration"
)

var symbolKinds = map[lang.BlockKind]int{
	lang.ModelBlock: symbolClass, lang.ChoiceBlock: symbolEnum, lang.ShapeBlock: symbolInterface,
	lang.SeedBlock: symbolFunction, lang.RowsBlock: symbolArray,
}

// blockSpan is the range of a block: to the end of its last line.
func (d *document) blockSpan(b *lang.Block) span {
	last := d.spanOf(b.Pos.Off, b.Pos.Off).Start.Line
	for n := last + 1; n < len(d.lines); n++ {
		text := d.line(n)
		if text != "" && text[0] != ' ' && text[0] != '\t' && text[0] != '#' {
			break
		}
		if strings.TrimSpace(text) != "" && text[0] != '#' {
			last = n
		}
	}
	start := d.spanOf(b.Pos.Off, b.Pos.Off).Start
	return span{start, position{last, units(d.line(last))}}
}

func (w *workspace) outline(d *document) any {
	out := []documentSymbol{}
	if e := w.migrationFile(d); e != nil {
		if m, err := migration.Parse(d.path, strings.ReplaceAll(d.text, "\r\n", "\n"), e); err == nil {
			for i, s := range m.Steps {
				line := max(0, min(s.Line-1, len(d.lines)-1))
				end := len(d.lines) - 1
				if i+1 < len(m.Steps) {
					end = max(line, m.Steps[i+1].Line-2)
				}
				at := span{position{line, 0}, position{min(end, len(d.lines)-1), 0}}
				out = append(out, documentSymbol{Name: cmp.Or(s.Title, "step"), Kind: symbolEvent, Range: at,
					SelectionRange: span{position{line, 0}, position{line, 0}}})
			}
		}
		return out
	}
	if !w.modelFile(d) {
		return out
	}
	f := w.tree(d)
	for _, b := range f.Blocks {
		if b.Name.Name == "" {
			continue
		}
		s := documentSymbol{Name: b.Name.Name, Detail: string(b.Kind), Kind: symbolKinds[b.Kind],
			Range: d.blockSpan(b), SelectionRange: d.spanOf(b.Name.Pos.Off, b.Name.Pos.End)}
		for _, l := range b.Lines {
			if l.Field != nil && l.Field.Name.Name != "" {
				at := d.spanOf(l.Field.Name.Pos.Off, l.Field.Name.Pos.End)
				s.Children = append(s.Children, documentSymbol{Name: l.Field.Name.Name, Detail: typeWords(l.Field),
					Kind: symbolProperty, Range: at, SelectionRange: at})
			}
		}
		for _, v := range b.Values {
			at := d.spanOf(v.Pos.Off, v.Pos.End)
			s.Children = append(s.Children, documentSymbol{Name: cmp.Or(v.Name, `""`), Kind: symbolEnumMember,
				Range: at, SelectionRange: at})
		}
		out = append(out, s)
	}
	return out
}

// symbols answers workspace/symbol.
func (s *Server) symbols(_ context.Context, r *jsonrpc2.Request) (any, error) {
	p, err := params[struct {
		Query string `json:"query"`
	}](r)
	if err != nil {
		return nil, err
	}
	kinds := map[kind]int{aModel: symbolClass, aField: symbolProperty, aChoice: symbolEnum, aShape: symbolInterface,
		aSeed: symbolFunction, aValue: symbolEnumMember}
	out := []workspaceSymbol{}
	for _, w := range s.projects {
		for _, m := range w.names().mentions {
			if m.declared && matches(m.name.name, p.Query) && len(out) < 200 {
				out = append(out, workspaceSymbol{m.name.name, kinds[m.kind], w.locationOf(m.pos), m.owner})
			}
		}
	}
	return out, nil
}

func (w *workspace) folding(d *document) any {
	out := []foldingRange{}
	if w.modelFile(d) {
		f := w.tree(d)
		for _, b := range f.Blocks {
			if at := d.blockSpan(b); at.End.Line > at.Start.Line {
				out = append(out, foldingRange{StartLine: at.Start.Line, EndLine: at.End.Line})
			}
		}
	}
	return out
}

// selections answers textDocument/selectionRange: the word, the line, the block.
func (s *Server) selections(_ context.Context, r *jsonrpc2.Request) (any, error) {
	p, err := params[struct {
		ofDocument
		Positions []position `json:"positions"`
	}](r)
	d, w := s.document(p.TextDocument.URI)
	if err != nil || w == nil {
		return nil, err
	}
	out := []*selectionRange{}
	for _, at := range p.Positions {
		off := d.offset(at)
		line := d.position(off).Line
		whole := &selectionRange{Range: d.span(0, len(d.text))}
		if w.modelFile(d) {
			f := w.tree(d)
			for _, b := range f.Blocks {
				if in := d.blockSpan(b); in.Start.Line <= line && line <= in.End.Line {
					whole = &selectionRange{Range: in, Parent: whole}
				}
			}
		}
		begin, end := d.lines[line], d.lineEnd(line)
		for begin < end && (d.text[begin] == ' ' || d.text[begin] == '\t') {
			begin++
		}
		whole = &selectionRange{Range: d.span(min(begin, off), max(end, off)), Parent: whole}
		from, to := off, off
		for from > d.lines[line] && isWord(d.text[from-1]) {
			from--
		}
		for to < end && isWord(d.text[to]) {
			to++
		}
		out = append(out, &selectionRange{Range: d.span(from, to), Parent: whole})
	}
	return out, nil
}

// format is the document in the one layout: one edit of the lines that differ. A document with errors stays.
func (w *workspace) format(d *document) any {
	if !w.modelFile(d) {
		return nil
	}
	f, diags := w.cache.parse(w.rel(d.path), strings.ReplaceAll(d.text, "\r\n", "\n"))
	if lang.Errors(diags) {
		return nil
	}
	text := lang.Format(f)
	if d.crlf() {
		text = strings.ReplaceAll(text, "\n", "\r\n")
	}
	if text == d.text {
		return []textEdit{}
	}
	from, to, end := 0, len(d.text), len(text)
	for from < min(to, end) && d.text[from] == text[from] {
		from++
	}
	from = strings.LastIndexByte(d.text[:from], '\n') + 1
	for to > from && end > from && d.text[to-1] == text[end-1] {
		to, end = to-1, end-1
	}
	for to < len(d.text) && (to == 0 || d.text[to-1] != '\n') {
		to, end = to+1, end+1
	}
	return []textEdit{{d.span(from, to), text[from:end]}}
}

// formatAbove lays out the line above a new one, and no other: the cursor stays where it is.
func (w *workspace) formatAbove(d *document, p position) any {
	if !w.modelFile(d) || p.Line == 0 {
		return nil
	}
	f, diags := w.cache.parse(w.rel(d.path), strings.ReplaceAll(d.text, "\r\n", "\n"))
	if lang.Errors(diags) {
		return nil
	}
	// Lines above it that are laid out otherwise may have moved it: then it stays as it is.
	lines := strings.Split(lang.Format(f), "\n")
	line, above := p.Line-1, d.line(p.Line-1)
	words := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	if line >= len(lines) || words(lines[line]) != words(above) || lines[line] == above {
		return []textEdit{}
	}
	return []textEdit{{d.span(d.lines[line], d.lineEnd(line)), lines[line]}}
}

// links lead from rows to the files that hold them.
func (w *workspace) links(d *document) any {
	out := []documentLink{}
	if !w.modelFile(d) {
		return out
	}
	for _, b := range w.tree(d).Blocks {
		if b.From != nil {
			path := filepath.Join(filepath.Dir(d.path), filepath.FromSlash(b.From.Text))
			out = append(out, documentLink{d.spanOf(b.From.Pos.Off, b.From.Pos.End), uriOf(path)})
		}
	}
	return out
}

// hints say what a reference becomes: its column and its type.
func (w *workspace) hints(d *document) any {
	out := []inlayHint{}
	if !w.modelFile(d) {
		return out
	}
	view, ok := w.view()
	if !ok {
		return out
	}
	for _, b := range w.tree(d).Blocks {
		if b.Kind != lang.ModelBlock {
			continue
		}
		for _, t := range view.wanted.Tables {
			if t.Declared == nil || t.Declared.Model != b.Name.Name {
				continue
			}
			for _, l := range b.Lines {
				if l.Field == nil || l.Field.Type.Ref == nil {
					continue
				}
				for _, c := range t.Columns {
					if c.Declared != nil && c.Declared.Field == l.Field.Name.Name {
						at := l.Field.Type.Ref.Model.Pos.End
						if by := l.Field.Type.Ref.By; by != nil {
							at = by.Pos.End
						}
						label := "→ " + c.Name + " " + c.Declared.Type.String()
						out = append(out, inlayHint{d.spanOf(at, at).Start, label, true})
					}
				}
			}
		}
	}
	return out
}

// view is what the models declare for the first engine of the project.
func (w *workspace) view() (engineView, bool) {
	if w.project != nil {
		for _, e := range w.project.Engines() {
			if v, ok := w.of[e.Name()]; ok {
				return v, true
			}
		}
	}
	return engineView{}, false
}

// tokens are the semantic tokens: what each name is.
func (w *workspace) tokens(d *document) any {
	types := map[kind]string{aModel: "class", aField: "property", aChoice: "enum", aValue: "enumMember",
		aShape: "interface", aSeed: "function"}
	type token struct {
		at   span
		kind int
	}
	var list []token
	if w.modelFile(d) {
		for _, m := range newIndexOf(w.names(), w.rel(d.path)) {
			at := d.spanOf(m.pos.Off, m.pos.End)
			if at.Start.Line == at.End.Line && at.End.Character > at.Start.Character {
				list = append(list, token{at, slices.Index(tokenTypes, types[m.kind])})
			}
		}
	}
	slices.SortFunc(list, func(a, b token) int {
		return cmp.Or(a.at.Start.Line-b.at.Start.Line, a.at.Start.Character-b.at.Start.Character)
	})
	out := []int{}
	last := position{}
	for i, t := range list {
		if i > 0 && list[i-1].at == t.at {
			continue
		}
		column := t.at.Start.Character
		if t.at.Start.Line == last.Line {
			column -= last.Character
		}
		out = append(out, t.at.Start.Line-last.Line, column, t.at.End.Character-t.at.Start.Character, t.kind, 0)
		last = t.at.Start
	}
	return map[string]any{"data": out}
}

// newIndexOf are the mentions in one file.
func newIndexOf(x *index, path string) (out []mention) {
	for _, m := range x.mentions {
		if m.pos.Path == path && m.pos.End > m.pos.Off {
			out = append(out, m)
		}
	}
	return out
}

// actions answers textDocument/codeAction: the word that was probably meant.
func (s *Server) actions(_ context.Context, r *jsonrpc2.Request) (any, error) {
	p, err := params[struct {
		ofDocument
		Context struct {
			Diagnostics []diagnostic `json:"diagnostics"`
		} `json:"context"`
	}](r)
	if err != nil {
		return nil, err
	}
	out := []codeAction{}
	_, w := s.document(p.TextDocument.URI)
	for _, d := range p.Context.Diagnostics {
		if d.Code == "rows" && strings.Contains(d.Message, notDrafted) && w != nil && w.draftable() {
			out = append(out, codeAction{Title: "draft it", Kind: "quickfix", Diagnostics: []diagnostic{d},
				Command: &command{"draft it", draftCommand, []string{p.TextDocument.URI}}})
			continue
		}
		word := ""
		if d.Data != nil {
			word = d.Data.Word
		} else if i := strings.LastIndex(d.Message, "did you mean "); i >= 0 { // clients may not keep the data
			word = strings.TrimSuffix(d.Message[i+len("did you mean "):], "?")
		}
		if word == "" || d.Source != "erbario" {
			continue
		}
		edit := &workspaceEdit{map[string][]textEdit{p.TextDocument.URI: {{d.Range, word}}}}
		out = append(out, codeAction{Title: "write " + word, Kind: "quickfix", IsPreferred: true,
			Diagnostics: []diagnostic{d}, Edit: edit})
	}
	return out, nil
}
