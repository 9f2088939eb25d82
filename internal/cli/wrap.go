package cli

// This file makes lines fit the width of the terminal: they break at spaces, and what
// follows hangs under the column that it belongs to. A word is never cut, and neither is
// what is in quotes, so that a command can be pasted from what is printed.

import (
	"os"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/term"
)

// defaultWidth is where lines break without a terminal.
const defaultWidth = 80

// width is how many columns there are to write in: those of the terminal, or COLUMNS, or 80.
func (p *printer) width() int {
	w := p.columns()
	if p.most > 0 {
		w = min(w, p.most)
	}
	return w
}

func (p *printer) columns() int {
	if f, ok := p.w.(*os.File); ok {
		if w, _, err := term.GetSize(f.Fd()); err == nil && w > 20 {
			return w
		}
	}
	if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w > 20 {
		return w
	}
	return defaultWidth
}

// wrapped breaks each line of a text that is wider than width.
func wrapped(text string, width int) string {
	if !strings.Contains(text, "\n") {
		return wrappedLine(text, width)
	}
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = wrappedLine(l, width)
	}
	return strings.Join(lines, "\n")
}

func wrappedLine(line string, width int) string {
	if len(line) <= width || ansi.StringWidth(line) <= width {
		return line
	}
	list := pieces(line)
	hang, at := 0, 0
	for i, p := range list {
		switch gap := ansi.StringWidth(p.gap); {
		case i == 0:
			hang = gap + 2
		case gap >= 2 && at+gap <= width/2:
			hang = at + gap
		}
		at += ansi.StringWidth(p.gap + p.word)
	}
	var b strings.Builder
	at = 0
	for i, p := range list {
		gap, word := ansi.StringWidth(p.gap), ansi.StringWidth(p.word)
		if i > 0 && at+gap+word > width && at > hang {
			b.WriteString("\n" + strings.Repeat(" ", hang))
			at = hang
		} else {
			b.WriteString(p.gap)
			at += gap
		}
		b.WriteString(p.word)
		at += word
	}
	return b.String()
}

// longestQuote is how much in quotes is kept whole: what is longer is no word of a command.
const longestQuote = 60

// piece is a word, or what is in quotes, with the spaces before it.
type piece struct{ gap, word string }

func pieces(line string) []piece {
	var out []piece
	for i := 0; i < len(line); {
		start := i
		for i < len(line) && line[i] == ' ' {
			i++
		}
		gap := line[start:i]
		start = i
		for i < len(line) && line[i] != ' ' {
			if c := line[i]; (c == '\'' || c == '"') && (i == start || strings.IndexByte("=('\"", line[i-1]) >= 0) {
				if end := strings.IndexByte(line[i+1:], c); end >= 0 && end < longestQuote {
					i += end + 1
				}
			}
			i++
		}
		out = append(out, piece{gap, line[start:i]})
	}
	return out
}

// table aligns rows of cells, the first of which has the names of the columns. Where that is
// wider than the terminal, there is no head, and each row becomes a block of lines, a column
// in each.
func (p *printer) table(rows [][]string) (head string, lines [][]string) {
	all := columns(rows)
	widest := 0
	for _, l := range all {
		widest = max(widest, ansi.StringWidth(l))
	}
	if widest <= p.width() {
		for _, l := range all[1:] {
			lines = append(lines, []string{l})
		}
		return all[0], lines
	}
	for i, r := range rows[1:] {
		var block [][]string
		for j, c := range r {
			if c != "" {
				block = append(block, []string{strings.TrimSpace(rows[0][j]), strings.TrimSpace(c)})
			}
		}
		lines = append(lines, columns(block))
		if i < len(rows)-2 {
			lines[i] = append(lines[i], "")
		}
	}
	return "", lines
}

// headed prints a table, its head in bold.
func (p *printer) headed(rows [][]string) {
	head, lines := p.table(rows)
	if head != "" {
		p.line(p.paint(styleHead, head))
	}
	for _, block := range lines {
		for _, l := range block {
			p.line(l)
		}
	}
}

// paragraphs prints prose, each paragraph filled to the width. Those that are indented are
// examples and tables, and stay as they are.
func (p *printer) paragraphs(text string) {
	for i, block := range strings.Split(text, "\n\n") {
		if i > 0 {
			p.line("")
		}
		if strings.HasPrefix(block, " ") || strings.HasPrefix(block, "+ ") {
			for line := range strings.Lines(block) {
				p.raw(strings.TrimRight(line, "\n"))
			}
			continue
		}
		p.line(ansi.Wordwrap(strings.ReplaceAll(block, "\n", " "), p.width(), ""))
	}
}
