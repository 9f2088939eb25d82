package cli

// This file writes to the terminal, plain or coloured, and JSON documents.

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"strings"
	"unicode"

	"charm.land/lipgloss/v2"
	"github.com/mattn/go-isatty"
	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"erbario/internal/engine"
	"erbario/internal/lang"
	"erbario/internal/words"
)

type printer struct {
	w      io.Writer
	colour bool
	most   int // columns at most; 0: as many as there are
}

// The styles. The words carry the meaning; colour only helps the eye. 172 is an
// orange that can be read on a light ground as on a dark one; yellow cannot.
var (
	styleAdd  = lipgloss.NewStyle().Foreground(lipgloss.Color("2"))
	styleDrop = lipgloss.NewStyle().Foreground(lipgloss.Color("1"))
	styleEdit = lipgloss.NewStyle().Foreground(lipgloss.Color("172"))
	styleBad  = lipgloss.NewStyle().Foreground(lipgloss.Color("1")).Bold(true)
	styleWarn = lipgloss.NewStyle().Foreground(lipgloss.Color("172")).Bold(true)
	styleHead = lipgloss.NewStyle().Bold(true)
	styleDim  = lipgloss.NewStyle().Faint(true)
)

func (p *printer) paint(s lipgloss.Style, text string) string {
	if !p.colour || text == "" {
		return text
	}
	return s.Render(text)
}

// line prints a line, broken where it is wider than the terminal.
func (p *printer) line(text string) { fmt.Fprintln(p.w, wrapped(text, p.width())) }

// raw prints a line as it is: a command, which a line break would make another.
func (p *printer) raw(text string) { fmt.Fprintln(p.w, text) }

func (p *printer) printf(format string, args ...any) { p.line(fmt.Sprintf(format, args...)) }

// colour tells whether colour is wanted where w goes.
func (a *app) colour(w io.Writer) bool {
	if a.noColour || a.json || os.Getenv("NO_COLOR") != "" || os.Getenv("TERM") == "dumb" {
		return false
	}
	return a.forceTerm || isTerminal(w)
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && isatty.IsTerminal(f.Fd())
}

// clean takes out what could drive a terminal; line breaks stay.
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && (unicode.IsControl(r) || r == '\u2028' || r == '\u2029') {
			return '\uFFFD'
		}
		return r
	}, s)
}

// cell is one line's worth of a text from a database or a file.
func cell(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, s)
}

// sign colours + ~ - and what stands behind.
func (p *printer) sign(sign, text string) string {
	return p.paint(styleOf(sign), sign+" "+text)
}

func styleOf(sign string) lipgloss.Style {
	return map[string]lipgloss.Style{"+": styleAdd, "-": styleDrop, "~": styleEdit}[sign]
}

// columns aligns rows of cells by two spaces; the last cell of a row is free.
func columns(rows [][]string) []string {
	var widths []int
	for _, r := range rows {
		for i, c := range r {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			if i < len(r)-1 {
				widths[i] = max(widths[i], runewidth.StringWidth(c))
			}
		}
	}
	out := make([]string, len(rows))
	for i, r := range rows {
		var b strings.Builder
		for j, c := range r {
			b.WriteString(c)
			if j < len(r)-1 {
				b.WriteString(strings.Repeat(" ", max(0, widths[j]-runewidth.StringWidth(c))+2))
			}
		}
		out[i] = strings.TrimRight(b.String(), " ")
	}
	return out
}

// document adds to the one JSON document of a run.
func (a *app) document(with map[string]any) error {
	if a.doc == nil {
		a.doc = map[string]any{}
	}
	maps.Copy(a.doc, with)
	return nil
}

// writeDocument writes the JSON document of the run, if there is one.
func (a *app) writeDocument() {
	if a.report != nil {
		a.report.write(a.out.w)
		return
	}
	if a.doc == nil {
		return
	}
	enc := json.NewEncoder(a.out.w)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(a.doc); err != nil {
		a.err.line(a.err.paint(styleBad, "error: ") + clean(err.Error()))
	}
	a.doc = nil
}

// next tells the next command to type.
func (a *app) next(text string) {
	if !a.json {
		a.err.raw(a.err.paint(styleDim, "next: ") + text)
	}
}

func (a *app) warn(format string, args ...any) {
	a.err.line(a.err.paint(styleWarn, "warning: ") + clean(fmt.Sprintf(format, args...)))
}

func meant(word string, known []string) string {
	if h := lang.DidYouMean(word, known); h != "" {
		return "; " + h
	}
	return ""
}

func thousands(n int64) string { return words.Thousands(n) }

func rows(n int64) string { return words.Rows(n) }

func plural(n int, one, many string) string {
	return words.Count(int64(n), one, many)
}

// sample shows a few rows, a column's name before each value.
func sample(r engine.Rows, indent string) []string {
	var out []string
	for _, row := range r.Values {
		var parts []string
		for i, v := range row {
			parts = append(parts, cell(r.Columns[i])+" "+short(cell(v), 60))
		}
		out = append(out, indent+strings.Join(parts, ", "))
	}
	return out
}

func short(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return s
}

// diagnostics shows errors and warnings with the lines they are in, and returns how many
// of them are errors.
func (a *app) diagnostics(list []lang.Diagnostic, src map[string]string) int {
	n := 0
	for _, d := range list {
		style := styleBad
		kind := "error"
		if d.Warning {
			style, kind = styleWarn, "warning"
		} else {
			n++
		}
		at := fmt.Sprintf("%s:%d:%d: ", d.Pos.Path, d.Pos.Line, d.Pos.Col)
		a.err.line(a.err.paint(styleHead, at) + a.err.paint(style, kind) + ": " + clean(d.Message))
		line, mark := d.Excerpt(src[d.Pos.Path])
		if line != "" && !d.Warning {
			// Neither is broken, since the one points into the other.
			a.err.raw("    " + line)
			hint := "  " + clean(d.Hint)
			apart := runewidth.StringWidth("    "+mark+hint) > a.err.width()
			if apart || d.Hint == "" {
				a.err.raw("    " + a.err.paint(style, mark))
			} else {
				a.err.raw("    " + a.err.paint(style, mark) + hint)
			}
			if apart && d.Hint != "" {
				a.err.line("    " + hint)
			}
		} else if d.Hint != "" {
			a.err.line("    " + clean(d.Hint))
		}
	}
	return n
}

type jsonDiagnostic struct {
	File    string `json:"file"`
	Line    int    `json:"line"`
	Column  int    `json:"column"`
	Message string `json:"message"`
	Hint    string `json:"hint,omitempty"`
	Warning bool   `json:"warning"`
}

func jsonDiagnostics(list []lang.Diagnostic) []jsonDiagnostic {
	out := []jsonDiagnostic{}
	for _, d := range list {
		out = append(out, jsonDiagnostic{d.Pos.Path, d.Pos.Line, d.Pos.Col, d.Message, d.Hint, d.Warning})
	}
	return out
}

// help prints the help of a command, or of the program.
func (a *app) help(w io.Writer, _ string, data any) {
	c, ok := data.(*cli.Command)
	if !ok {
		return
	}
	p := &printer{w: w, colour: a.colour(w), most: defaultWidth}
	if c.Root() == c {
		a.rootHelp(p, c)
		return
	}
	p.printf("%s", p.paint(styleHead, strings.TrimSpace(c.FullName()+" "+c.ArgsUsage)))
	p.paragraphs(upperFirst(c.Usage) + ".")
	if c.Description != "" {
		p.line("")
		p.paragraphs(strings.TrimRight(c.Description, "\n"))
	}
	if len(c.VisibleCommands()) > 0 {
		p.line("")
		var table [][]string
		for _, s := range c.Commands {
			if s.Name != "help" && !s.Hidden {
				table = append(table, []string{"  " + strings.TrimSpace(s.Name+" "+s.ArgsUsage), s.Usage})
			}
		}
		for _, l := range columns(table) {
			p.line(l)
		}
	}
	flags(p, "\nFlags", c.Flags)
	flags(p, "\nGlobal flags", c.Root().Flags)
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

func flags(p *printer, title string, list []cli.Flag) {
	var table [][]string
	for _, f := range list {
		if v, ok := f.(cli.VisibleFlag); ok && !v.IsVisible() {
			continue
		}
		name := f.Names()[0]
		dash := "--"
		if len(name) == 1 {
			dash = "-"
		}
		usage, value := "", ""
		if d, ok := f.(cli.DocGenerationFlag); ok {
			usage = d.GetUsage()
			if i := strings.IndexByte(usage, '`'); i >= 0 {
				if j := strings.IndexByte(usage[i+1:], '`'); j >= 0 {
					value = " " + usage[i+1:i+1+j]
					name := usage[i+1 : i+1+j]
					if rest := usage[i+j+2:]; rest == "" && strings.HasSuffix(usage[:i], ": ") {
						usage = strings.TrimSuffix(usage[:i], ": ") // it stands with the flag
					} else {
						usage = usage[:i] + name + rest
					}
				}
			} else if d.TakesValue() {
				value = " VALUE"
			}
		}
		table = append(table, []string{"  " + dash + name + value, usage})
	}
	if len(table) == 0 {
		return
	}
	p.line(title)
	for _, l := range columns(table) {
		p.line(l)
	}
}

func (a *app) rootHelp(p *printer, c *cli.Command) {
	p.line("Declare data models in files; erbario compares them with the live database and")
	p.line("writes migrations that are proved before they are written and can be undone.")
	p.line("")
	p.line(p.paint(styleHead, "Start"))
	p.line("  erbario demo                               run the whole cycle on an example")
	p.line("  erbario init --url sqlite:herbarium.db     start a project here")
	p.line("")
	p.line(p.paint(styleHead, "Commands, in the order of the work"))
	var table [][]string
	for _, s := range c.Commands {
		if s.Hidden || s.Name == "help" || s.Name == "completion" {
			continue
		}
		table = append(table, []string{"  " + s.Name, s.Usage})
	}
	table = append(table, []string{"  completion", "print a shell completion script (bash, zsh, fish, pwsh)"})
	for _, l := range columns(table) {
		p.line(l)
	}
	flags(p, "\n"+p.paint(styleHead, "Global flags"), c.Flags)
	p.line("\nerbario COMMAND --help shows more.")
}
