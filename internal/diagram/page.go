package diagram

// This file makes a page of a graph: one file, which needs nothing else.

import (
	_ "embed"
	"strconv"
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

// Inline is the graph as a picture within a page, whose style has Style.
func (g *Graph) Inline() string {
	return g.svg(` width="`+strconv.Itoa(g.Width)+`"`, "")
}

// Style is the style of pictures within a page.
func Style() string { return style }
