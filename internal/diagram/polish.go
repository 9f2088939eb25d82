package diagram

// This file improves a layout by what the eye follows: straight lines from box to box. Boxes of a
// layer change places, as long as fewer of these lines cross.

import "slices"

// segment is a line as it would run straight, from port to port.
type segment struct{ ax, ay, bx, by float64 }

func (s segment) side(x, y float64) float64 { return (s.bx-s.ax)*(y-s.ay) - (s.by-s.ay)*(x-s.ax) }

func (s segment) crosses(o segment) bool {
	if min(s.ax, s.bx) > max(o.ax, o.bx) || min(o.ax, o.bx) > max(s.ax, s.bx) ||
		min(s.ay, s.by) > max(o.ay, o.by) || min(o.ay, o.by) > max(s.ay, s.by) {
		return false
	}
	return s.side(o.ax, o.ay)*s.side(o.bx, o.by) < -1e-6 && o.side(s.ax, s.ay)*o.side(s.bx, s.by) < -1e-6
}

// crossed counts straight lines that cross.
type crossed struct {
	p        *part
	nodes    map[*Box]*node
	segments []segment
	of       map[*Box][]int // the lines of each box
	x        []float64      // where each layer is
}

func (p *part) crossed() *crossed {
	c := &crossed{p: p, nodes: map[*Box]*node{}, of: map[*Box][]int{}, segments: make([]segment, len(p.lines))}
	at := 0.0
	for _, layer := range p.layers {
		widest := 0
		for _, n := range layer {
			if n.box != nil {
				c.nodes[n.box] = n
				widest = max(widest, n.box.Width)
			}
		}
		c.x = append(c.x, at)
		at += float64(widest + 2*marginGap + 5*laneGap)
	}
	for i, l := range p.lines {
		c.of[l.From], c.of[l.To] = append(c.of[l.From], i), append(c.of[l.To], i)
		c.measure(i)
	}
	return c
}

// measure gives one line its place.
func (c *crossed) measure(i int) {
	l := c.p.lines[i]
	from, to := c.nodes[l.From], c.nodes[l.To]
	s := segment{
		c.x[from.layer], from.y + float64(l.From.port(l.Field)), c.x[to.layer], to.y + float64(l.To.port(l.ToField)),
	}
	if from.layer < to.layer {
		s.ax += float64(l.From.Width)
	} else {
		s.bx += float64(l.To.Width)
	}
	c.segments[i] = s
}

// among counts the crossings of some lines with each other and with all others.
func (c *crossed) among(lines []int) int {
	n := 0
	c.p.budget -= len(lines) * len(c.segments)
	for k, i := range lines {
		a := c.segments[i]
		for j, b := range c.segments {
			if a.crosses(b) {
				if at, in := slices.BinarySearch(lines, j); !in || at > k {
					n++
				}
			}
		}
	}
	return n
}

func (c *crossed) total() int {
	n := 0
	for i, a := range c.segments {
		for _, b := range c.segments[:i] {
			if a.crosses(b) {
				n++
			}
		}
	}
	return n
}

// linesOf are the lines of some nodes, in order.
func (c *crossed) linesOf(nodes []*node) []int {
	var out []int
	for _, n := range nodes {
		if n.box != nil {
			out = append(out, c.of[n.box]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// polish exchanges boxes of the same layer as long as fewer straight lines cross, and returns how many do.
func (p *part) polish() int {
	c := p.crossed()
	best, kept := c.total(), p.copied()
	for range 20 {
		if !c.exchange() {
			break
		}
		p.number()
		p.heights()
		for i := range c.segments {
			c.measure(i)
		}
		if now := c.total(); now < best {
			best, kept = now, p.copied()
		}
	}
	p.layers = kept
	p.number()
	p.heights()
	return best
}

// exchange makes each exchange within a layer that lessens the crossings.
func (c *crossed) exchange() (changed bool) {
	for _, layer := range c.p.layers {
		for reach := 1; reach <= min(6, len(layer)-1); reach++ {
			for i := 0; i+reach < len(layer); i++ {
				j := i + reach
				if layer[i].box == nil && layer[j].box == nil || c.p.budget < 0 {
					continue
				}
				moved := layer[i : j+1]
				lines := c.linesOf(moved)
				before := c.among(lines)
				if before == 0 {
					continue
				}
				c.swap(layer, i, j, lines)
				if c.among(lines) < before {
					changed = true
					continue
				}
				c.swap(layer, i, j, lines)
			}
		}
	}
	return changed
}

// swap exchanges two nodes of a layer, with what lies between them moved as needed.
func (c *crossed) swap(layer []*node, i, j int, lines []int) {
	y := layer[i].y
	layer[i], layer[j] = layer[j], layer[i]
	for k := i; k <= j; k++ {
		layer[k].y = y
		y += float64(layer[k].height) + gapAfter(layer[k])
	}
	for _, l := range lines {
		c.measure(l)
	}
}
