package project

// This file reads the files of reference rows that blocks of the models name: CSV,
// with the fields' names in the first line.

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"unicode/utf8"

	"erbario/internal/lang"
	"erbario/internal/schema"
)

// rowFiles fills the blocks of rows that name a file with its lines. The file
// stands beside the models, and nowhere outside of the project.
func (p *Project) rowFiles(f *lang.File, src Sources) []lang.Diagnostic {
	var out []lang.Diagnostic
	for _, b := range f.Blocks {
		if b.Kind != lang.RowsBlock || b.From == nil {
			continue
		}
		wrong := func(pos lang.Pos, hint, format string, args ...any) {
			out = append(out, lang.Diagnostic{Pos: pos, Hint: hint, Message: fmt.Sprintf(format, args...)})
		}
		if len(b.Lines) > 0 {
			wrong(b.Lines[0].Pos, "leave one of the two", "the rows are in %s, and here too", b.From.Text)
			continue
		}
		path := filepath.ToSlash(filepath.Join(filepath.Dir(b.From.Pos.Path), b.From.Text))
		if !filepath.IsLocal(path) {
			wrong(b.From.Pos, "put the file in the folder of the models", "%s is outside of the project", b.From.Text)
			continue
		}
		text, err := ReadFile(filepath.Join(p.Dir, path))
		if err != nil {
			wrong(b.From.Pos, "its path is relative to the folder of "+b.From.Pos.Path,
				"the file %s cannot be read: %v", path, reason(err))
			continue
		}
		src[path] = text
		lines, diag := readRows(path, text)
		if diag != nil {
			out = append(out, *diag)
		} else if len(lines) == 0 {
			wrong(b.From.Pos, "its first line names the fields, such as code,name", "the file %s is empty", path)
		}
		b.FromLines = lines
	}
	return out
}

// reason is what went wrong with a file, without its path, which has been said.
func reason(err error) error {
	var e *os.PathError
	if errors.As(err, &e) {
		return e.Err
	}
	return err
}

// readRows reads CSV into lines as a block has them; the values are left as they
// stand, since only the models know their types.
func readRows(path, text string) ([]*lang.Line, *lang.Diagnostic) {
	text = strings.TrimPrefix(text, "\ufeff")
	r := csv.NewReader(strings.NewReader(text))
	starts := []int{0} // the offsets of lines
	for i := range len(text) {
		if text[i] == '\n' {
			starts = append(starts, i+1)
		}
	}
	at := func(line, col int) lang.Pos {
		pos := lang.Pos{Path: path, Line: line, Col: max(col, 1)}
		if line >= 1 && line <= len(starts) {
			pos.Off = min(starts[line-1]+pos.Col-1, len(text))
		}
		pos.End = pos.Off
		return pos
	}
	if !utf8.ValidString(text) {
		off := 0
		for off < len(text) {
			r, n := utf8.DecodeRuneInString(text[off:])
			if r == utf8.RuneError && n == 1 {
				break
			}
			off += n
		}
		line := 1 + strings.Count(text[:off], "\n")
		return nil, &lang.Diagnostic{
			Pos:     at(line, off-starts[line-1]+1),
			Message: fmt.Sprintf("the file is not UTF-8: the byte %#x here is no character", text[off]),
			Hint:    "save it as UTF-8",
		}
	}
	var lines []*lang.Line
	for {
		record, err := r.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			hint := "a value with a comma, a quote or a line break is written in double quotes, with each quote doubled"
			if errors.Is(bad.Err, csv.ErrFieldCount) {
				hint = fmt.Sprintf("the first line has %d fields", r.FieldsPerRecord)
			}
			return lines, &lang.Diagnostic{Pos: at(bad.Line, bad.Column), Message: bad.Err.Error(), Hint: hint}
		}
		if err != nil {
			return lines, &lang.Diagnostic{Pos: at(1, 1), Message: err.Error()}
		}
		l := &lang.Line{}
		for i, value := range record {
			line, col := r.FieldPos(i)
			pos := at(line, col)
			if strings.HasPrefix(text[pos.Off:], value) {
				pos.End += len(value)
			}
			if i == 0 {
				l.Pos = pos
			}
			if len(lines) == 0 {
				l.Cells = append(l.Cells, lang.Cell{Name: lang.Ident{Name: strings.TrimSpace(value), Pos: pos}})
				continue
			}
			l.Cells = append(
				l.Cells,
				lang.Cell{
					Value: &lang.Value{
						Value:  schema.Value{Kind: schema.TextValue, Text: value},
						Raw:    true,
						Quoted: strings.HasPrefix(text[pos.Off:], `"`),
						Pos:    pos,
					},
				},
			)
		}
		lines = append(lines, l)
	}
	return lines, nil
}
