package diagram

// This file makes a page of a graph: one file, which needs nothing else.

import (
	_ "embed"
	"strings"
)

//go:embed page.html
var page string

// HTML is the graph as a page, with a title: it can be moved, made larger and smaller, and searched,
// with keys too.
func (g *Graph) HTML(title string) string {
	return strings.NewReplacer("{{TITLE}}", escaped(title), "{{SUMMARY}}", escaped(g.Summary()), "{{STYLE}}", style,
		"{{SVG}}", g.svg("", "")).Replace(page)
}
