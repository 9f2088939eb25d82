package diagram

// This file gives the boxes their places. Tables that refer to each other, directly or through
// others, are laid out in layers, what is referred to on the left; the groups that come of it are
// put next to each other so that the whole fits a screen.

import (
	"cmp"
	"math"
	"slices"
)

// Sizes, in pixels.
const (
	nameSize   = 13 // of the font of a box's name
	fieldSize  = 11 // of the font of its fields
	headHeight = 24
	rowHeight  = 17
	padding    = 9
	boxGap     = 22 // between boxes above each other
	laneGap    = 9  // between lines next to each other
	marginGap  = 26 // between a box and the first lane
	screenX    = 1280
	screenY    = 800
	many       = 60 // boxes; from there on names are shown large from far away
	farSize    = 22 // of the font of such names
	readable   = 6.5
	barHeight  = 44 // of the page
)

// Layout gives the boxes their places, and the lines their ways.
func (g *Graph) Layout() {
	for _, b := range g.Boxes {
		b.measure(len(g.Boxes) >= many)
	}
	g.shift()
	parts := g.parts()
	for _, p := range parts {
		p.layout()
	}
	g.pack(parts)
}

// shift keeps references that may be missing apart from those that may not, where both meet a field:
// their ends differ.
func (g *Graph) shift() {
	type port struct {
		box   *Box
		field int
	}
	kinds := map[port]map[bool]bool{}
	for _, l := range g.Lines {
		at := port{l.To, l.ToField}
		if kinds[at] == nil {
			kinds[at] = map[bool]bool{}
		}
		kinds[at][l.Optional] = true
	}
	for _, l := range g.Lines {
		switch l.shift = 0; {
		case len(kinds[port{l.To, l.ToField}]) < 2:
		case l.Optional:
			l.shift = rowHeight / 4
		default:
			l.shift = -rowHeight / 4
		}
	}
}

// end is the height at which a reference meets what it refers to, from the top of its box.
func (l *Line) end() int { return l.To.port(l.ToField) + l.shift }

func (b *Box) measure(large bool) {
	width := textWidth(b.sign()+b.Name, nameSize, true)
	if large {
		width = max(width, textWidth(b.Name, farSize, true))
	}
	for _, f := range b.Fields {
		width = max(width, 12+textWidth(f.label(), fieldSize, f.Key)+18+textWidth(f.about(), fieldSize, false))
	}
	for _, n := range b.Notes {
		width = max(width, 12+min(textWidth(n, fieldSize, false), 220))
	}
	b.Width = width + 2*padding
	b.Height = headHeight + rowHeight*(len(b.Fields)+len(b.Notes)) + 5
}

func (b *Box) sign() string {
	if b.Sign == "" {
		return ""
	}
	return b.Sign + " "
}

// label and about are the left and the right text of a field.
func (f *Field) label() string {
	if f.Sign == "" {
		return f.Name
	}
	return f.Sign + " " + f.Name
}

func (f *Field) about() string {
	out := f.Type
	if f.Refers != "" {
		out = "→ " + f.Refers
	}
	if f.Was != "" {
		out = f.Was + " → " + f.Type
	}
	if f.Optional {
		out += "?"
	}
	if f.Unique {
		out += " unique"
	}
	if f.Change != "" {
		out += ", " + cut(f.Change, 200)
	}
	return out
}

// port is the height at which a line meets a field, from the top of its box.
func (b *Box) port(field int) int {
	if len(b.Fields) == 0 {
		return headHeight / 2
	}
	return headHeight + rowHeight*min(field, len(b.Fields)-1) + rowHeight/2 + 1
}

// part is what is connected by references, or a few boxes that nothing is connected with.
type part struct {
	boxes         []*Box
	lines         []*Line // between two of the boxes
	loops         []*Line // from a box to itself
	layers        [][]*node
	nets          []*net
	width, height int
	x, y          int // where it is in the whole
	budget        int // how many pairs of lines may still be looked at, while it is improved
	limit         int // how high a layer may be; 0: as high as it gets
}

// parts cuts a graph into what is connected.
func (g *Graph) parts() []*part {
	of := map[*Box]*part{}
	for _, b := range g.Boxes {
		of[b] = &part{boxes: []*Box{b}}
	}
	for _, l := range g.Lines {
		if a, b := of[l.From], of[l.To]; a != b {
			if len(a.boxes) < len(b.boxes) {
				a, b = b, a
			}
			a.boxes = append(a.boxes, b.boxes...)
			for _, x := range b.boxes {
				of[x] = a
			}
		}
	}
	var out []*part
	seen := map[*part]bool{}
	for _, b := range g.Boxes {
		p := of[b]
		if !seen[p] {
			seen[p] = true
			slices.SortFunc(p.boxes, func(a, b *Box) int {
				return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Table, b.Table))
			})
			out = append(out, p)
		}
	}
	for _, l := range g.Lines {
		if p := of[l.From]; l.From == l.To {
			p.loops = append(p.loops, l)
		} else {
			p.lines = append(p.lines, l)
		}
	}
	return out
}

// pack puts the parts next to each other: in rows, of a width with which the whole is largest on a
// screen.
func (g *Graph) pack(parts []*part) {
	slices.SortStableFunc(parts, func(a, b *part) int {
		return cmp.Or(cmp.Compare(b.height, a.height), cmp.Compare(b.width, a.width))
	})
	area, widest := 0, 0
	for _, p := range parts {
		area += (p.width + 2*marginGap) * (p.height + 2*boxGap)
		widest = max(widest, p.width)
	}
	best, bestScale := 0, -1.0
	for k := range 24 {
		width := max(widest, int(math.Sqrt(float64(area)*screenX/screenY)*(0.7+float64(k)*0.06)))
		w, h := shelves(parts, width)
		if scale := min(float64(screenX)/float64(w+1), float64(screenY)/float64(h+1)); scale > bestScale+1e-9 {
			best, bestScale = width, scale
		}
	}
	g.Width, g.Height = shelves(parts, best)
	g.Width, g.Height = g.Width+2*marginGap, g.Height+2*boxGap
	for _, p := range parts {
		p.move(p.x+marginGap, p.y+boxGap)
	}
	scale := min(float64(screenX)/float64(g.Width), float64(screenY-barHeight)/float64(g.Height))
	for _, b := range g.Boxes {
		b.far = int(readable/scale) + 1
	}
}

// shelves gives the parts places in rows that are no wider than width: a part that is less high than
// its row shares the place with others above each other. It returns the size of it all.
func shelves(parts []*part, width int) (w, h int) {
	const apart = 2 * marginGap
	x, top, high := 0, 0, 0 // of the row
	column, filled := 0, 0  // the width of the column at hand, and how far it is full
	for _, p := range parts {
		switch {
		case high > 0 && filled > 0 && filled+boxGap*2+p.height <= high && x+p.width <= width &&
			p.width <= max(column, 1)*5/4: // under the one before
			p.x, p.y = x, top+filled+boxGap*2
			filled = p.y + p.height - top
			column = max(column, p.width)
		case high > 0 && x+column+apart+p.width <= width: // next to it
			x += column + apart
			p.x, p.y, column, filled = x, top, p.width, p.height
		default: // in a row of its own
			if high > 0 {
				top += high + boxGap*2
			}
			x, high = 0, p.height
			p.x, p.y, column, filled = 0, top, p.width, p.height
		}
		w, h = max(w, x+column), max(h, top+high)
	}
	return w, h
}

// move puts a part, whose places begin at zero, where it belongs.
func (p *part) move(x, y int) {
	for _, b := range p.boxes {
		b.X, b.Y = b.X+x, b.Y+y
	}
	for _, list := range [][]*Line{p.lines, p.loops} {
		for _, l := range list {
			for i := range l.Points {
				l.Points[i].X, l.Points[i].Y = l.Points[i].X+x, l.Points[i].Y+y
			}
		}
	}
}
