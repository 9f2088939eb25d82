package diagram

// This file draws a graph as SVG.

import (
	_ "embed"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"erbario/internal/schema"
	"erbario/internal/words"
)

// madeBy is in every file that is written here: what has it can be overwritten.
const madeBy = "drawn by erbario diagram"

// Ours reports whether a file was written here.
func Ours(text string) bool { return strings.Contains(text, madeBy) }

//go:embed style.css
var style string

// SVG is the graph as a picture of its own, in light and dark.
func (g *Graph) SVG() string {
	far := ""
	if len(g.Boxes) >= many { // small, it shows the names alone
		far = fmt.Sprintf("@media (max-width: %dpx) { .rows { display: none } .far { display: inline } }\n",
			g.Width*2/5)
	}
	return g.svg(fmt.Sprintf(` width="%d" height="%d"`, g.Width, g.Height),
		"<style>\n"+style+far+"</style>\n<rect class=\"page\" width=\"100%\" height=\"100%\"/>\n")
}

// svg is the picture, with attributes of its own and what is written before the boxes.
func (g *Graph) svg(attributes, first string) string {
	var w strings.Builder
	fmt.Fprintf(&w, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %d %d"%s role="img" aria-label="%s">`+"\n",
		g.Width, g.Height, attributes, escaped(g.Summary()))
	w.WriteString("<!-- " + madeBy + " -->\n" + first)
	for _, l := range g.Lines {
		l.draw(&w)
	}
	for _, b := range g.Boxes {
		b.draw(&w, slices.Index(g.Groups, b.Group))
	}
	w.WriteString("</svg>\n")
	return w.String()
}

// Summary counts what is shown.
func (g *Graph) Summary() string {
	return words.Count(int64(len(g.Boxes)), "model", "models") + ", " +
		words.Count(int64(len(g.Lines)), "reference", "references")
}

func escaped(s string) string {
	var out strings.Builder
	_ = xml.EscapeText(&out, []byte(s)) // of a strings.Builder
	return out.String()
}

// marked are the classes of something with a sign.
func marked(class, sign string) string {
	if m := map[string]string{"+": " added", "~": " changed", "-": " dropped"}[sign]; m != "" {
		return class + m
	}
	return class
}

// text is a text that takes up just the width that was counted for it, in whatever font.
func text(x, y int, class, s string, size int) string {
	bold := class == "name" || strings.Contains(class, " ")
	return fmt.Sprintf(`<text x="%d" y="%d" class="%s" textLength="%d" lengthAdjust="spacingAndGlyphs">%s</text>`+"\n",
		x, y, class, textWidth(s, size, bold), escaped(s))
}

func (b *Box) draw(w *strings.Builder, group int) {
	fmt.Fprintf(w, `<g class="%s" id="box-%s" data-name="%s" transform="translate(%d %d)" tabindex="0">`+"\n",
		marked("box", b.Sign), escaped(b.Table), escaped(b.Name), b.X, b.Y)
	about := b.Table
	if b.Group != "" {
		about += ", " + b.Group
	}
	if b.Comment != "" {
		about += ": " + b.Comment
	}
	fmt.Fprintf(w, "<title>%s</title>\n", escaped(about))
	fmt.Fprintf(w, `<rect class="frame" width="%d" height="%d" rx="4"/>`+"\n", b.Width, b.Height)
	fmt.Fprintf(w, `<path class="head group%d" d="M0 %d V4 Q0 0 4 0 H%d Q%d 0 %d 4 V%d Z"/>`+"\n", max(group, 0)%8,
		headHeight, b.Width-4, b.Width, b.Width, headHeight)
	w.WriteString(`<g class="rows">` + "\n")
	class := "name"
	if b.Outside {
		class = "name outside"
	}
	w.WriteString(text(padding, 16, class, b.sign()+b.Name, nameSize))
	y := headHeight
	for _, f := range b.Fields {
		f.draw(w, y, b.Width)
		y += rowHeight
	}
	for _, n := range b.Notes {
		n = cut(n, b.Width-2*padding-12)
		w.WriteString(text(padding+12, y+13, "note", n, fieldSize))
		y += rowHeight
	}
	w.WriteString("</g>\n")
	size := max(b.far, farSize)
	fmt.Fprintf(w, `<text class="far" x="%d" y="%d" style="font-size:%dpx"`, b.Width/2, b.Height/2+size/3, size)
	fmt.Fprintf(w, ` textLength="%d" lengthAdjust="spacingAndGlyphs">%s</text>`+"\n", textWidth(b.Name, size, true),
		escaped(b.Name))
	w.WriteString("</g>\n")
}

// cut shortens a text to a width.
func cut(s string, width int) string {
	runes := []rune(s)
	for n := len(runes); n > 0; n-- {
		one := string(runes[:n])
		if n < len(runes) {
			one = strings.TrimRight(one, " ") + "…"
		}
		if textWidth(one, fieldSize, false) <= width {
			return one
		}
	}
	return ""
}

func (f *Field) draw(w *strings.Builder, y, width int) {
	fmt.Fprintf(w, `<g class="%s">`+"\n", marked("field", f.Sign))
	if f.Sign != "" {
		fmt.Fprintf(w, `<rect class="mark" x="1" y="%d" width="%d" height="%d"/>`+"\n", y+1, width-2, rowHeight)
	}
	class := "label"
	if f.Key {
		fmt.Fprintf(w, `<path class="key" d="M%d %d l3 -3 l3 3 l-3 3 Z"/>`+"\n", padding, y+9)
		class = "label bold"
	}
	w.WriteString(text(padding+12, y+13, class, f.label(), fieldSize))
	about := f.about()
	w.WriteString(text(width-padding-textWidth(about, fieldSize, false), y+13, "type", about, fieldSize))
	w.WriteString("</g>\n")
}

// draw draws a reference: its way, and the ends, which say how many rows there are on each side.
func (l *Line) draw(w *strings.Builder) {
	if len(l.Points) < 2 {
		return
	}
	fmt.Fprintf(w, `<g class="%s" data-from="%s" data-to="%s">`+"\n", marked("line", l.Sign), escaped(l.From.Table),
		escaped(l.To.Table))
	fmt.Fprintf(w, "<title>%s</title>\n", escaped(l.Sentence()))
	fmt.Fprintf(w, `<path d="%s"/>`+"\n", path(l.Points))
	n := len(l.Points)
	many, one := l.Points[0], l.Points[n-1]
	away := func(at, next Point) int {
		if next.X < at.X {
			return -1
		}
		return 1
	}
	d := away(many, l.Points[1])
	if l.One {
		fmt.Fprintf(w, `<path d="M%d %d v10"/>`+"\n", many.X+7*d, many.Y-5)
	} else {
		fmt.Fprintf(w, `<path d="M%d %d L%d %d L%d %d"/>`+"\n", many.X, many.Y-5, many.X+10*d, many.Y, many.X, many.Y+5)
	}
	d = away(one, l.Points[n-2])
	fmt.Fprintf(w, `<path d="M%d %d v10"/>`+"\n", one.X+6*d, one.Y-5)
	if l.Optional {
		fmt.Fprintf(w, `<circle cx="%d" cy="%d" r="3.5"/>`+"\n", one.X+11*d, one.Y)
	}
	w.WriteString("</g>\n")
}

// Sentence says what the reference means.
func (l *Line) Sentence() string {
	from, to := "each "+l.From.Name, "one "+l.To.Name
	if l.Optional {
		to = "no or " + to
	}
	s := from + " refers to " + to
	if l.One {
		s += ", and no two to the same"
	}
	if l.OnDelete != "" && l.OnDelete != schema.NoAction && l.OnDelete != schema.Restrict {
		s += ", on delete " + strings.ToLower(string(l.OnDelete))
	}
	return s
}

// path is a way along points, with corners rounded.
func path(points []Point) string {
	const round = 5
	var w strings.Builder
	fmt.Fprintf(&w, "M%d %d", points[0].X, points[0].Y)
	for i := 1; i < len(points)-1; i++ {
		a, b, c := points[i-1], points[i], points[i+1]
		r := min(round, (abs(b.X-a.X)+abs(b.Y-a.Y))/2, (abs(c.X-b.X)+abs(c.Y-b.Y))/2)
		fmt.Fprintf(&w, " L%d %d Q%d %d %d %d", b.X+r*toward(b.X, a.X), b.Y+r*toward(b.Y, a.Y), b.X, b.Y,
			b.X+r*toward(b.X, c.X), b.Y+r*toward(b.Y, c.Y))
	}
	last := points[len(points)-1]
	fmt.Fprintf(&w, " L%d %d", last.X, last.Y)
	return w.String()
}

func abs(n int) int { return max(n, -n) }

func toward(from, to int) int {
	switch {
	case to > from:
		return 1
	case to < from:
		return -1
	}
	return 0
}
