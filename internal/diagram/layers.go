package diagram

// This file puts the boxes of a part into layers, so that references point one way, and orders
// each layer so that few lines cross.

import (
	"math"
	"math/rand/v2"
	"slices"
)

// node is a box in a layer, or the place where lines pass a layer.
type node struct {
	box    *Box // nil: lines pass
	layer  int
	height int
	y      float64 // of its top
	want   float64 // where its neighbours would have it
	left   []link  // to the layer before
	right  []link  // to the layer after
	index  int     // in its layer
}

// link is one end of a piece of a line between two layers that follow each other.
type link struct {
	to       *node
	own, far int // where it meets the two nodes, from their tops
}

// net is all lines that meet one field, from one side: they share their way as far as it is the same.
type net struct {
	box   *Box // that is referred to
	field int
	lines []*Line
	back  bool          // they are on the left: the layering had to be reversed for them
	pass  map[int]*node // where they pass layers
}

// layout gives the boxes of a part their places, from zero on.
func (p *part) layout() {
	area := 0
	for _, b := range p.boxes {
		area += (b.Width + 60) * (b.Height + boxGap)
	}
	if len(p.boxes) > 120 { // as high as a screen shaped alike, and some
		p.limit = int(math.Sqrt(float64(area) * screenY / screenX * 1.35))
	}
	fewest := math.MaxInt
	var layers [][]*node
	var nets []*net
	at := map[*Box]int{}
	for kind := range layerings {
		p.layering(kind)
		p.build()
		if n := p.order(); n < fewest {
			fewest, layers, nets = n, p.layers, p.nets
			for _, b := range p.boxes {
				at[b] = b.layer
			}
		}
	}
	p.layers, p.nets = layers, nets
	for _, b := range p.boxes {
		b.layer = at[b]
	}
	if fewest > 0 {
		p.budget = 12_000_000
		p.polish()
	}
	p.place()
	p.route()
}

// layerings is how many ways there are to give boxes layers.
const layerings = 3

// layering gives each box a layer: what it refers to lies before it. Of the kinds 0 puts it near to where
// most of its lines lead, 1 next to what it refers to, and 2 next to what refers to it.
func (p *part) layering(kind int) {
	up, down := p.acyclic()
	order := p.topological(up, down)
	for _, b := range order {
		b.layer = 0
		for _, to := range up[b] {
			b.layer = max(b.layer, to.layer+1)
		}
	}
	for range 8 { // nearer to where most of its lines lead
		for i := range order {
			b := order[len(order)-1-i]
			low, high := 0, math.MaxInt
			for _, to := range up[b] {
				low = max(low, to.layer+1)
			}
			for _, from := range down[b] {
				high = min(high, from.layer-1)
			}
			switch {
			case high < math.MaxInt && (kind == 2 || kind == 0 && len(down[b]) > len(up[b])):
				b.layer = high
			case kind == 1, len(up[b]) > len(down[b]):
				b.layer = low
			}
		}
	}
	if kind == 0 {
		for shorten(order, up, down) || shorten(order, down, up) {
		}
	}
	p.limitLayers(order, up, down)
	first := math.MaxInt
	for _, b := range p.boxes {
		first = min(first, b.layer)
	}
	for _, b := range p.boxes {
		b.layer -= first
	}
}

// shorten moves boxes one layer away from what is on one side of them, with all on the other side that have to
// move too, as long as lines get shorter in all; it reports whether one moved.
func shorten(order []*Box, back, ahead map[*Box][]*Box) (moved bool) {
	step := 1
	if len(order) > 0 && len(back[order[0]]) > 0 { // the first refers to nothing
		step = -1
	}
	for _, b := range order {
		with := map[*Box]bool{b: true}
		todo := []*Box{b}
		gain := 0
		for len(todo) > 0 {
			x := todo[0]
			todo = todo[1:]
			for _, next := range ahead[x] {
				if !with[next] && next.layer == x.layer+step {
					with[next] = true
					todo = append(todo, next)
				}
			}
		}
		for x := range with {
			for _, o := range ahead[x] {
				if !with[o] {
					gain++
				}
			}
			for _, o := range back[x] {
				if !with[o] {
					gain--
				}
			}
		}
		if gain > 0 {
			for x := range with {
				x.layer += step
			}
			moved = true
		}
	}
	return moved
}

// limitLayers moves boxes to later layers where one would be higher than the screen has room for.
func (p *part) limitLayers(order []*Box, up, down map[*Box][]*Box) {
	if p.limit == 0 {
		return
	}
	for layer := 0; layer <= len(order); layer++ {
		var in []*Box
		high := 0
		for _, b := range order {
			if b.layer == layer {
				in, high = append(in, b), high+b.Height+boxGap
			}
		}
		if len(in) == 0 {
			return
		}
		// Those to which nothing refers can lie anywhere; of the others the fewest follow.
		slices.SortStableFunc(in, func(a, b *Box) int { return len(down[a]) - len(down[b]) })
		for _, b := range in {
			if high <= p.limit || len(in) < 2 {
				break
			}
			high -= b.Height + boxGap
			b.layer = layer + 1
		}
		for _, b := range order { // and what follows them
			for _, to := range up[b] {
				b.layer = max(b.layer, to.layer+1)
			}
		}
	}
}

// acyclic are the references between boxes, both ways, with those reversed that close a circle.
func (p *part) acyclic() (up, down map[*Box][]*Box) {
	refs := map[*Box][]*Box{}
	for _, l := range p.lines {
		if !slices.Contains(refs[l.From], l.To) {
			refs[l.From] = append(refs[l.From], l.To)
		}
	}
	up, down = map[*Box][]*Box{}, map[*Box][]*Box{}
	link := func(from, to *Box) {
		if !slices.Contains(up[from], to) {
			up[from], down[to] = append(up[from], to), append(down[to], from)
		}
	}
	state := map[*Box]int{} // 1: on the way, 2: done
	var visit func(b *Box)
	visit = func(b *Box) {
		state[b] = 1
		for _, to := range refs[b] {
			if state[to] == 1 {
				link(to, b)
				continue
			}
			if state[to] == 0 {
				visit(to)
			}
			link(b, to)
		}
		state[b] = 2
	}
	start := slices.Clone(p.boxes)
	referred := map[*Box]int{}
	for _, list := range refs {
		for _, to := range list {
			referred[to]++
		}
	}
	slices.SortStableFunc(start, func(a, b *Box) int { return referred[a] - referred[b] })
	for _, b := range start {
		if state[b] == 0 {
			visit(b)
		}
	}
	return up, down
}

// topological are the boxes in an order in which each follows those it refers to.
func (p *part) topological(up, down map[*Box][]*Box) (order []*Box) {
	open := map[*Box]int{}
	for _, b := range p.boxes {
		open[b] = len(up[b])
	}
	ready := slices.DeleteFunc(slices.Clone(p.boxes), func(b *Box) bool { return open[b] > 0 })
	for len(ready) > 0 {
		b := ready[0]
		ready, order = ready[1:], append(order, b)
		for _, from := range down[b] {
			if open[from]--; open[from] == 0 {
				ready = append(ready, from)
			}
		}
	}
	return order
}

// build makes the nodes of the layers: of boxes, and of nets where they pass.
func (p *part) build() {
	p.nets, p.layers = nil, nil
	nodes := map[*Box]*node{}
	last := 0
	for _, b := range p.boxes {
		nodes[b] = &node{box: b, layer: b.layer, height: b.Height}
		last = max(last, b.layer)
	}
	p.layers = make([][]*node, last+1)
	for _, b := range p.boxes {
		p.layers[b.layer] = append(p.layers[b.layer], nodes[b])
	}
	for _, l := range p.lines {
		back := l.From.layer < l.To.layer
		i := slices.IndexFunc(p.nets,
			func(n *net) bool { return n.box == l.To && n.field == l.ToField && n.back == back })
		if i < 0 {
			i = len(p.nets)
			p.nets = append(p.nets, &net{box: l.To, field: l.ToField, back: back, pass: map[int]*node{}})
		}
		p.nets[i].lines = append(p.nets[i].lines, l)
	}
	join := func(a *node, ay int, b *node, by int) { // a lies in the layer before b
		for _, x := range a.right {
			if x.to == b && x.own == ay && x.far == by {
				return
			}
		}
		a.right = append(a.right, link{b, ay, by})
		b.left = append(b.left, link{a, by, ay})
	}
	for _, n := range p.nets {
		step := 1
		if n.back {
			step = -1
		}
		meet := func(a *node, ay int, b *node, by int) {
			if n.back {
				a, ay, b, by = b, by, a, ay
			}
			join(a, ay, b, by)
		}
		for _, l := range n.lines {
			at, y := nodes[n.box], n.box.port(n.field)
			for layer := n.box.layer + step; layer != l.From.layer; layer += step {
				next := n.pass[layer]
				if next == nil {
					next = &node{layer: layer, height: laneGap}
					n.pass[layer] = next
					p.layers[layer] = append(p.layers[layer], next)
				}
				meet(at, y, next, laneGap/2)
				at, y = next, laneGap/2
			}
			meet(at, y, nodes[l.From], l.From.port(l.Field))
		}
	}
}

// order puts the nodes of each layer in an order with few crossings: sweeps in both directions, and
// exchanges of neighbours, from several beginnings.
func (p *part) order() (crossed int) {
	var best [][]*node
	fewest := math.MaxInt
	for start := range max(4, min(12, 360/len(p.boxes))) {
		p.budget = 1_500_000
		p.begin(start)
		p.sweeps()
		p.heights()
		if n := p.polish(); n < fewest {
			fewest, best = n, p.copied()
		}
		if fewest == 0 {
			break
		}
	}
	p.layers = best
	p.number()
	p.heights()
	return fewest
}

// sweeps orders the layers by sweeps in both directions, and keeps the order with the fewest crossings.
func (p *part) sweeps() {
	var best [][]*node
	fewest := math.MaxInt
	for sweep := range 14 {
		p.sweep(sweep%2 == 0)
		if n := p.exchange(); n < fewest {
			fewest, best = n, p.copied()
		}
	}
	p.layers = best
	p.number()
}

// copied are the layers, in their order.
func (p *part) copied() (out [][]*node) {
	for _, layer := range p.layers {
		out = append(out, slices.Clone(layer))
	}
	return out
}

func (p *part) number() {
	for _, layer := range p.layers {
		for i, n := range layer {
			n.index = i
		}
	}
}

// begin is an order to start from: as it came, by a walk from one end, or at random.
func (p *part) begin(start int) {
	p.number()
	switch {
	case start == 0:
		return
	case start > 3: // as it falls, the same each time
		dice := rand.New(rand.NewPCG(uint64(start), 1))
		for _, layer := range p.layers {
			dice.Shuffle(len(layer), func(i, j int) { layer[i], layer[j] = layer[j], layer[i] })
		}
		p.number()
		return
	}
	seen := map[*node]bool{}
	layers := make([][]*node, len(p.layers))
	var walk func(n *node)
	walk = func(n *node) {
		if seen[n] {
			return
		}
		seen[n] = true
		layers[n.layer] = append(layers[n.layer], n)
		lists := [][]link{n.right, n.left}
		if start%2 == 0 {
			lists[0], lists[1] = lists[1], lists[0]
		}
		for _, list := range lists {
			for i := range list {
				walk(list[i].to)
			}
		}
	}
	from := slices.Concat(p.layers...)
	if start%3 == 2 {
		slices.Reverse(from)
	}
	for _, n := range from {
		walk(n)
	}
	p.layers = layers
	p.number()
}

// sweep orders each layer by the middle of the places to which its lines lead in the one before.
func (p *part) sweep(right bool) {
	for k := range p.layers {
		layer := p.layers[k]
		if !right {
			layer = p.layers[len(p.layers)-1-k]
		}
		for _, n := range layer {
			list := n.left
			if !right {
				list = n.right
			}
			n.want = float64(n.index)
			if len(list) > 0 {
				n.want = middle(list)
			}
		}
		slices.SortStableFunc(layer, func(a, b *node) int {
			switch {
			case a.want < b.want:
				return -1
			case a.want > b.want:
				return 1
			}
			return 0
		})
		for i, n := range layer {
			n.index = i
		}
	}
}

// middle is the median of where links lead, in places of their layer.
func middle(list []link) float64 {
	at := make([]float64, len(list))
	for i, x := range list {
		at[i] = x.place()
	}
	slices.Sort(at)
	return (at[(len(at)-1)/2] + at[len(at)/2]) / 2
}

// place is where a link leads, as a place in the layer: within a node by the height of the port.
func (x link) place() float64 {
	return float64(x.to.index) + float64(x.far)/float64(x.to.height+1)
}

// exchange swaps neighbours as long as lines cross less for it, and counts the crossings.
func (p *part) exchange() int {
	for range 8 {
		better := false
		for _, layer := range p.layers {
			for i := range len(layer) - 1 {
				a, b := layer[i], layer[i+1]
				now := crossings(a.left, b.left) + crossings(a.right, b.right)
				if now == 0 {
					continue
				}
				if then := crossings(b.left, a.left) + crossings(b.right, a.right); then < now {
					layer[i], layer[i+1] = b, a
					a.index, b.index = i+1, i
					better = true
				}
			}
		}
		if !better {
			break
		}
	}
	sum := 0
	for _, layer := range p.layers {
		sum += layerCrossings(layer)
	}
	return sum
}

// crossings counts those of the links of two nodes, the first above the other.
func crossings(above, below []link) int {
	n := 0
	for _, a := range above {
		for _, b := range below {
			if a.place() > b.place()+1e-9 {
				n++
			}
		}
	}
	return n
}

// layerCrossings counts those between a layer and the next.
func layerCrossings(layer []*node) int {
	type end struct{ own, far float64 }
	var ends []end
	for _, n := range layer {
		for _, x := range n.right {
			ends = append(ends, end{float64(n.index) + float64(x.own)/float64(n.height+1), x.place()})
		}
	}
	sum := 0
	for i, a := range ends {
		for _, b := range ends[:i] {
			if (a.own-b.own)*(a.far-b.far) < -1e-12 {
				sum++
			}
		}
	}
	return sum
}
