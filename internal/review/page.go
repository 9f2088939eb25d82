package review

// This file writes a review as a page: one file, which needs nothing else.

import (
	_ "embed"
	"strings"
	"text/template"

	"erbario/internal/diagram"
)

// escape makes a text one that has no meaning to HTML but what it says.
func escape(s string) string { return template.HTMLEscapeString(s) }

//go:embed page.html
var frame string

// HTML is the review as a page.
func (r *Review) HTML() string {
	w := &page{}
	w.line("<h1>%s</h1>", escape(r.title()))
	switch {
	case len(r.Migrations) == 0:
		w.line("<p>Nothing is pending.</p>")
	case !r.Asked:
		w.line("<p>No database was asked: sizes, times and the rows that block are not known " +
			"(<code>--database NAME</code>).</p>")
	}
	if len(r.Migrations) > 1 {
		w.line("<ol>")
		for _, m := range r.Migrations {
			w.line(`<li><a href="#%s">%s</a></li>`, escape(m.ID), escape(m.ID))
		}
		w.line("</ol>")
	}
	for _, m := range r.Migrations {
		m.html(w)
	}
	if r.Asked && len(r.Migrations) > 0 {
		w.line(`<p class="quiet">%s</p>`, basis)
	}
	return strings.NewReplacer("{{TITLE}}", escape(r.title()), "{{DIAGRAM}}", diagram.Style(),
		"{{BODY}}", w.String()).Replace(frame)
}

func (w *page) items(class string, items []string) {
	w.line(`<ul class="%s">`, class)
	for _, i := range items {
		w.line("<li>%s</li>", escape(i))
	}
	w.line("</ul>")
}

func (m *Migration) html(w *page) {
	w.line(`<section id="%s">`, escape(m.ID))
	w.line("<h2>%s</h2>", escape(m.ID))
	w.items("plain", m.facts())
	w.line("<h3>What changes</h3>")
	switch {
	case m.Unknown != "":
		w.line("<p>%s</p>", escape(m.Unknown))
	case len(m.Changes) == 0:
		w.line("<p>Nothing in the schema.</p>")
	default:
		w.line(`<ul class="changes">`)
		for _, c := range m.Changes {
			sign := c.Kind.Sign()
			class := map[string]string{"+": "added", "~": "changed", "-": "dropped"}[sign]
			w.line(`<li class="%s"><b>%s</b> %s</li>`, class, sign, escape(changeWords(c)))
		}
		w.line("</ul>")
	}
	if m.Graph != nil && len(m.Graph.Boxes) > 0 {
		w.line(`<figure>%s</figure>`, m.Graph.Inline())
	}
	w.line("<h3>Values</h3>")
	w.items("", m.rowsWords())
	w.line("<h3>Undo</h3>")
	w.items("", m.undoWords())
	if len(m.Before) > 0 && len(m.Databases) == 0 {
		var list []string
		for _, q := range m.Before {
			list = append(list, "none of these may exist: "+sentence(q.Sentence))
		}
		w.line("<h3>Required before it is applied</h3>")
		w.items("", list)
	}
	for _, d := range m.Databases {
		m.databaseHTML(w, d)
	}
	w.line("<h3>Steps</h3>")
	for i, s := range m.Steps {
		w.line("<h4>%d. %s <small>%s</small></h4>", i+1, escape(s.Title), escape(aside(s)))
		w.line("<pre>%s</pre>", escape(sqlText(s.Apply)))
		switch {
		case s.NoUndo:
			w.line("<p>It has no undo.</p>")
		case len(s.Undo) == 0:
			w.line("<p>Its undo has nothing to run.</p>")
		default:
			w.line("<details><summary>undo</summary><pre>%s</pre></details>", escape(sqlText(s.Undo)))
		}
	}
	w.line("</section>")
}

func (m *Migration) databaseHTML(w *page, d *Database) {
	w.line("<h3>On %s</h3>", escape(d.Name))
	if d.Problem != "" || d.State == Applied {
		w.line("<p>%s.</p>", escape(d.stateWords()))
		return
	}
	w.line("<p>%s; work with rows takes %s</p>", escape(d.stateWords()), timeWords(d.Total()))
	w.line(`<ul class="needs">`)
	for _, n := range d.Needs {
		class := "holds"
		if n.Rows > 0 || !n.Asked {
			class = "blocked"
		}
		w.line(`<li class="%s">%s</li>`, class, escape(needWords(n)))
	}
	w.line("</ul>")
	w.line("<table><tr><th>step</th><th>locks</th><th>tables</th><th>time</th></tr>")
	for i, c := range d.Steps {
		w.line("<tr><td>%d</td><td>%s</td><td>%s</td><td>%s</td></tr>", i+1, escape(m.lockWords(i, c)),
			escape(c.sizeWords()), timeWords(c.About))
	}
	w.line("</table>")
}
