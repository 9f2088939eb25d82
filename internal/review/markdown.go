package review

// This file writes a review as Markdown, for a pull request.

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// long is how many lines of SQL are shown without being asked for.
const long = 30

// page is a text in Markdown that is being written.
type page struct{ strings.Builder }

func (w *page) line(format string, args ...any) { fmt.Fprintf(w, format+"\n", args...) }

// list writes the items of a list, in Markdown's signs.
func (w *page) list(items []string) {
	for _, i := range items {
		w.line("- %s", plain(i))
	}
	w.line("")
}

// plain is text that has no meaning to Markdown but what it says.
func plain(s string) string {
	s = strings.Join(strings.Fields(s), " ")
	return strings.NewReplacer(`\`, `\\`, "*", `\*`, "_", `\_`, "`", "\\`", "<", "&lt;", "|", `\|`, "[", `\[`, "#", `\#`,
		"~", `\~`, "$", `\$`).Replace(s)
}

// fenced is a block of code, in a fence longer than any within it.
func fenced(kind, text string) string {
	fence := "```"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	return fence + kind + "\n" + strings.TrimRight(text, "\n") + "\n" + fence
}

// Markdown is the review as a page of Markdown.
func (r *Review) Markdown() string {
	w := &page{}
	w.line("<!-- written by erbario review -->")
	w.line("# %s", plain(r.title()))
	w.line("")
	if len(r.Migrations) == 0 {
		w.line("Nothing is pending.")
		return w.String()
	}
	if !r.Asked {
		w.line("No database was asked: sizes, times and the rows that block are not known (`--database NAME`).")
		w.line("")
	}
	for _, m := range r.Migrations {
		m.markdown(w, r.Asked)
	}
	if r.Asked {
		w.line("%s", basis)
	}
	return strings.TrimRight(w.String(), "\n") + "\n"
}

func (m *Migration) markdown(w *page, asked bool) {
	w.line("## %s", plain(m.ID))
	w.line("")
	w.list(m.facts())
	w.line("### What changes")
	w.line("")
	switch {
	case m.Unknown != "":
		w.line("%s", plain(m.Unknown))
		w.line("")
	case len(m.Changes) == 0:
		w.line("Nothing in the schema.")
		w.line("")
	default:
		var lines []string
		for _, c := range m.Changes {
			lines = append(lines, c.Kind.Sign()+" "+strings.Join(strings.Fields(changeWords(c)), " "))
		}
		w.line("%s\n", fenced("diff", strings.Join(lines, "\n")))
	}
	if m.Graph != nil && len(m.Graph.Boxes) > 0 {
		w.line("%s\n", fenced("mermaid", m.Graph.Mermaid()))
	}
	w.line("### Values")
	w.line("")
	w.list(m.rowsWords())
	w.line("### Undo")
	w.line("")
	w.list(m.undoWords())
	if len(m.Before) > 0 && !asked {
		var list []string
		for _, q := range m.Before {
			list = append(list, "none of these may exist: "+sentence(q.Sentence))
		}
		w.line("### Required before it is applied")
		w.line("")
		w.list(list)
	}
	for _, d := range m.Databases {
		m.onDatabase(w, d)
	}
	w.line("### Steps")
	w.line("")
	for i, s := range m.Steps {
		m.step(w, i, s)
	}
}

// facts are what is to be known first.
func (m *Migration) facts() []string {
	list := []string{"engine: " + m.Engine, "proof: " + m.proofWords()}
	if m.Follows != "" {
		list = append(list, "follows: "+m.Follows)
	}
	if len(m.Answers) > 0 {
		list = append(list, "answered: "+strings.Join(m.Answers, " "))
	}
	if len(m.ByPerson) > 0 {
		var steps []string
		for _, n := range m.ByPerson {
			steps = append(steps, fmt.Sprint(n))
		}
		list = append(list, "written by a person: step "+strings.Join(steps, ", "))
	}
	return list
}

func (m *Migration) onDatabase(w *page, d *Database) {
	w.line("### On %s", plain(d.Name))
	w.line("")
	if d.Problem != "" || d.State == Applied {
		w.line("%s.", plain(d.stateWords()))
		w.line("")
		return
	}
	var needs []string
	for _, n := range d.Needs {
		needs = append(needs, needWords(n))
	}
	w.list(append([]string{d.stateWords() + "; work with rows takes " + timeWords(d.Total())}, needs...))
	rows := [][]string{{"step", "locks", "tables", "time"}}
	for i, c := range d.Steps {
		rows = append(rows, []string{fmt.Sprint(i + 1), m.lockWords(i, c), c.sizeWords(), timeWords(c.About)})
	}
	w.table(rows)
}

// table writes a table whose cells are as wide as their columns, so that it can be read as text too.
func (w *page) table(rows [][]string) {
	widths := make([]int, len(rows[0]))
	for i := range rows {
		for j := range rows[i] {
			rows[i][j] = plain(rows[i][j])
			widths[j] = max(widths[j], utf8.RuneCountInString(rows[i][j]))
		}
	}
	for i, row := range rows {
		line := "|"
		for j, c := range row {
			line += " " + c + strings.Repeat(" ", widths[j]-utf8.RuneCountInString(c)) + " |"
		}
		w.line("%s", line)
		if i == 0 {
			line = "|"
			for _, n := range widths {
				line += strings.Repeat("-", n+2) + "|"
			}
			w.line("%s", line)
		}
	}
	w.line("")
}

func (m *Migration) step(w *page, i int, s Step) {
	w.line("%s", strings.TrimRight(fmt.Sprintf("**%d. %s** %s", i+1, plain(s.Title), plain(aside(s))), " "))
	w.line("")
	if sql := sqlText(s.Apply); strings.Count(sql, "\n") > long {
		w.line("<details><summary>SQL, %d lines</summary>\n\n%s\n\n</details>\n", strings.Count(sql, "\n"),
			fenced("sql", sql))
	} else {
		w.line("%s\n", fenced("sql", sql))
	}
	switch {
	case s.NoUndo:
		w.line("It has no undo.\n")
	case len(s.Undo) == 0:
		w.line("Its undo has nothing to run.\n")
	default:
		w.line("<details><summary>undo</summary>\n\n%s\n\n</details>\n", fenced("sql", sqlText(s.Undo)))
	}
}

// aside is what follows the title of a step.
func aside(s Step) string {
	var list []string
	if s.Note != "" {
		list = append(list, s.Note)
	} else if w := s.Work.String(); w != "" {
		list = append(list, w)
	}
	if s.Kind != "" {
		list = append(list, string(s.Kind))
	}
	if len(list) == 0 {
		return ""
	}
	return "(" + strings.Join(list, "; ") + ")"
}

func sqlText(list []string) string {
	var w strings.Builder
	for _, s := range list {
		w.WriteString(strings.TrimSpace(s) + ";\n")
	}
	if len(list) == 0 {
		return "-- nothing is run"
	}
	return w.String()
}
