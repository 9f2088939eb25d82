package editor

// This file is what is wrong, at its place, and what was probably meant.

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"

	"erbario/internal/engine"
	"erbario/internal/migration"
)

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// span is the range of something that the language found: its bytes are those of a text with the lines of Unix.
func (d *document) spanOf(off, end int) span {
	if d.crlf() {
		off, end = d.withReturns(off), d.withReturns(end)
	}
	return d.span(off, end)
}

// withReturns is the byte of a text in the document, which has more bytes at the ends of lines.
func (d *document) withReturns(off int) int {
	at := 0
	for i := 0; i < len(d.text); i++ {
		if at == off { // at the end of a line before its return
			return i
		}
		if d.text[i] != '\r' || i+1 == len(d.text) || d.text[i+1] != '\n' {
			at++
		}
	}
	return len(d.text)
}

// unix is the byte of a place in the text with the lines of Unix.
func (d *document) unix(p position) int {
	off := d.offset(p)
	return off - strings.Count(d.text[:off], "\r\n")
}

func diagnosticOf(f found, d *document) diagnostic {
	off, end := f.Pos.Off, f.Pos.End
	if end <= off {
		end = off + wordLength(strings.ReplaceAll(d.text, "\r\n", "\n"), off)
	}
	out := diagnostic{Range: d.spanOf(off, end), Severity: severityError, Code: f.code, Source: "erbario",
		Message: f.Message}
	switch {
	case f.code == "rows":
		out.Severity = severityInformation
	case f.Warning:
		out.Severity = severityWarning
	}
	if f.Hint != "" {
		out.Message += "; " + f.Hint
	}
	if word, ok := strings.CutPrefix(f.Hint, "did you mean "); ok {
		out.Data = &fix{strings.TrimSuffix(word, "?")}
	}
	return out
}

// wordLength is the length of the word at a byte, or of one character.
func wordLength(text string, off int) int {
	if off >= len(text) {
		return 0
	}
	for i, r := range text[off:] {
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			if i == 0 {
				return utf8.RuneLen(r)
			}
			return i
		}
	}
	return len(text) - off
}

// migrationProblems are what is wrong with a migration: its form, and whether it was edited since its proof.
func (w *workspace) migrationProblems(d *document, e engine.Engine) []diagnostic {
	at := func(line, severity int, code, message string) []diagnostic {
		line = max(0, min(line, len(d.lines)-1))
		return []diagnostic{{Range: d.span(d.lines[line], d.lineEnd(line)), Severity: severity, Code: code,
			Source: "erbario", Message: message}}
	}
	m, err := migration.Parse(d.path, strings.ReplaceAll(d.text, "\r\n", "\n"), e)
	var wrong *migration.ParseError
	switch {
	case errors.As(err, &wrong):
		return at(wrong.Line-1, severityError, "migration", wrong.Message)
	case err != nil:
		return at(0, severityError, "migration", err.Error())
	case m.Proof != "" && m.ProofOf != "" && !m.Proved():
		return at(0, severityWarning, "not-proved", fmt.Sprintf("edited since its proof: erbario prove %s", m.ID))
	case m.Proof == "":
		return at(0, severityWarning, "not-proved", fmt.Sprintf("not proved: erbario prove %s", m.ID))
	}
	return nil
}
