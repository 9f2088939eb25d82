package diagram

// This file gives nodes their heights in a layer, and lines their lanes between layers.

import (
	"cmp"
	"math"
	"slices"
)

// heights gives the nodes heights: where their lines would have them, without overlapping.
func (p *part) heights() {
	for _, layer := range p.layers {
		y := 0.0
		for _, n := range layer {
			n.y = y
			y += float64(n.height) + gapAfter(n)
		}
	}
	for k := range 16 {
		for i := range p.layers {
			layer := p.layers[i]
			if k%2 == 1 {
				layer = p.layers[len(p.layers)-1-i]
			}
			for _, n := range layer {
				n.want = n.wanted(k)
			}
			settle(layer)
		}
	}
}

// place rounds the heights, from zero on.
func (p *part) place() {
	top := math.Inf(1)
	for _, layer := range p.layers {
		for _, n := range layer {
			top = min(top, n.y)
		}
	}
	for _, layer := range p.layers {
		for _, n := range layer {
			n.y = math.Round(n.y - top)
			if n.box != nil {
				n.box.Y = int(n.y)
				p.height = max(p.height, n.box.Y+n.box.Height)
			}
			p.height = max(p.height, int(n.y)+n.height)
		}
	}
}

func gapAfter(n *node) float64 {
	if n.box == nil {
		return laneGap
	}
	return boxGap
}

// wanted is the top at which a node's lines would be straight, on one side in turn and in the end on both.
func (n *node) wanted(sweep int) float64 {
	list := n.left
	switch {
	case sweep >= 12:
		list = slices.Concat(n.left, n.right)
	case sweep%2 == 1:
		list = n.right
	}
	if len(list) == 0 {
		list = slices.Concat(n.left, n.right)
	}
	if len(list) == 0 {
		return n.y
	}
	sum := 0.0
	for _, x := range list {
		sum += x.to.y + float64(x.far-x.own)
	}
	return sum / float64(len(list))
}

// settle moves the nodes of a layer as near as can be to where they want to be: those that would
// overlap are put against each other, and move as one.
func settle(layer []*node) {
	type block struct {
		from, to    int
		sum, weight float64 // of where its first node would be
		size        float64
	}
	var blocks []block
	for i, n := range layer {
		w := 1.0
		if n.box == nil { // what passes is straight if it can be
			w = 3
		}
		b := block{from: i, to: i + 1, sum: n.want * w, weight: w, size: float64(n.height) + gapAfter(n)}
		for len(blocks) > 0 {
			last := blocks[len(blocks)-1]
			if last.sum/last.weight+last.size <= b.sum/b.weight {
				break
			}
			b = block{from: last.from, to: b.to, sum: last.sum + b.sum - last.size*b.weight,
				weight: last.weight + b.weight, size: last.size + b.size}
			blocks = blocks[:len(blocks)-1]
		}
		blocks = append(blocks, b)
	}
	for _, b := range blocks {
		y := b.sum / b.weight
		for _, n := range layer[b.from:b.to] {
			n.y = y
			y += float64(n.height) + gapAfter(n)
		}
	}
}

// trunk is the upright piece of a net between two layers, and where pieces leave it to both sides.
type trunk struct {
	net         *net
	gap         int // after which layer
	left, right []int
	lane        int
}

func (t *trunk) span() (low, high int) {
	all := slices.Concat(t.left, t.right)
	return slices.Min(all), slices.Max(all)
}

func (t *trunk) straight() bool { low, high := t.span(); return low == high }

// route gives the layers their distances, and the lines their ways.
func (p *part) route() {
	trunks := make([]map[*net]*trunk, len(p.layers))
	for i := range trunks {
		trunks[i] = map[*net]*trunk{}
	}
	for _, n := range p.nets {
		for _, l := range n.lines {
			p.walk(n, l, func(gap, left, right int) {
				t := trunks[gap][n]
				if t == nil {
					t = &trunk{net: n, gap: gap}
					trunks[gap][n] = t
				}
				t.left, t.right = append(t.left, left), append(t.right, right)
			})
		}
	}
	x := 0
	lanes := make([]int, len(p.layers)) // where the first lane after each layer is
	for i, layer := range p.layers {
		widest := 0
		for _, n := range layer {
			if n.box != nil {
				n.box.X = x
				widest = max(widest, n.box.Width)
			}
		}
		loops := 0
		for _, l := range p.loops {
			if l.From.layer == i {
				loops = 1
			}
		}
		if x += widest; i < len(p.layers)-1 || loops > 0 {
			lanes[i] = x + marginGap + loops*laneGap*2
			x = lanes[i] + p.lanes(trunks[i])*laneGap + marginGap
		}
	}
	p.width = x
	for _, n := range p.nets {
		for _, l := range n.lines {
			p.trace(n, l, trunks, lanes)
		}
	}
	for _, l := range p.loops {
		b := l.From
		right := b.X + b.Width
		from, to := b.Y+b.port(l.Field), b.Y+l.end()
		if from == to {
			to = b.Y + headHeight/2
		}
		l.Points = []Point{{right, from}, {right + marginGap, from}, {right + marginGap, to}, {right, to}}
		p.width = max(p.width, right+marginGap)
	}
}

// walk calls visit for each gap that a line crosses, with the heights at both sides of it.
func (p *part) walk(n *net, l *Line, visit func(gap, left, right int)) {
	step := 1
	if n.back {
		step = -1
	}
	y := n.box.Y + l.end()
	for layer := n.box.layer; layer != l.From.layer; layer += step {
		next := l.From.Y + l.From.port(l.Field)
		if pass := n.pass[layer+step]; layer+step != l.From.layer && pass != nil {
			next = int(pass.y) + laneGap/2
		}
		if n.back {
			visit(layer-1, next, y)
		} else {
			visit(layer, y, next)
		}
		y = next
	}
}

// lanes gives the upright pieces after one layer lanes, so that none lies on another, and returns how many
// there are.
func (p *part) lanes(of map[*net]*trunk) int {
	var list []*trunk
	for _, n := range p.nets {
		if t := of[n]; t != nil && !t.straight() {
			list = append(list, t)
		}
	}
	// What leads down begins further right the higher it begins, what leads up the lower: so they cross least.
	key := func(t *trunk) (down bool, at int) {
		left, right := mean(t.left), mean(t.right)
		if down = right >= left; down {
			return down, -left
		}
		return down, left
	}
	slices.SortStableFunc(list, func(a, b *trunk) int {
		_, x := key(a)
		_, y := key(b)
		return cmp.Compare(x, y)
	})
	most := 0
	for i, t := range list {
		low, high := t.span()
		for _, o := range list[:i] {
			if l, h := o.span(); low <= h+2 && l <= high+2 {
				t.lane = max(t.lane, o.lane+1)
			}
		}
		most = max(most, t.lane+1)
	}
	return most
}

func mean(list []int) int {
	sum := 0
	for _, v := range list {
		sum += v
	}
	return sum / len(list)
}

// trace gives a line its points, from the box that refers to the one referred to.
func (p *part) trace(n *net, l *Line, trunks []map[*net]*trunk, lanes []int) {
	var out []Point
	add := func(x, y int) {
		if k := len(out); k > 0 && out[k-1] == (Point{x, y}) {
			return
		} else if k > 1 && (out[k-2].X == x && out[k-1].X == x || out[k-2].Y == y && out[k-1].Y == y) {
			out = out[:k-1]
		}
		out = append(out, Point{x, y})
	}
	start := n.box.X + n.box.Width
	if n.back {
		start = n.box.X
	}
	add(start, n.box.Y+l.end())
	p.walk(n, l, func(gap, left, right int) {
		x := lanes[gap] + trunks[gap][n].lane*laneGap
		if n.back {
			left, right = right, left
		}
		if left != right {
			add(x, left)
			add(x, right)
		}
	})
	end := l.From.X
	if n.back {
		end += l.From.Width
	}
	add(end, l.From.Y+l.From.port(l.Field))
	slices.Reverse(out)
	l.Points = out
}
