package diagram

import (
	"cmp"
	"math"
	"slices"
	"unicode/utf8"

	"github.com/mattn/go-runewidth"
)

// Measures of the picture, in pixels.
const (
	charWidth  = 7.25 // of the font's characters, which are all alike
	rowHeight  = 17.0
	headHeight = 24.0
	padding    = 8.0
	gapAcross  = 64.0 // between columns of boxes, where the lines run
	gapDown    = 18.0
	margin     = 24.0
	laneHeight = 10.0 // of a line that passes a column of boxes
)

// node is a box in the layout, or a place where a line passes a layer.
type node struct {
	box           int // -1 for a passing line
	layer         int
	rank          int     // place in the layer, from the top
	x, y          float64 // of the corner at the top left
	width, height float64
	left, right   []*node // neighbours in the layers beside it
}

func (n *node) middle() float64 { return n.y + n.height/2 }

// route is a line and the nodes that it passes, from its lower layer to its
// higher one.
type route struct {
	line  Line
	nodes []*node
	back  bool // it leads from the lower layer to the higher one
}

// layout is where everything goes. It follows the steps of Sugiyama, Tagawa
// and Toda (1981): break cycles, assign layers, order them, place the nodes.
type layout struct {
	diagram       *Diagram
	named         bool // boxes and lines say which they are, for the script of a page
	boxes         []*node
	layers        [][]*node
	routes        []route
	loops         []Line  // of boxes that refer to themselves
	alone         []*node // what nothing relates to
	width, height float64
}

func (d *Diagram) layout() *layout {
	l := &layout{diagram: d}
	for i, b := range d.Boxes {
		w, h := size(b)
		l.boxes = append(l.boxes, &node{box: i, layer: -1, width: w, height: h})
	}
	targets := l.acyclic()
	l.assignLayers(targets)
	l.addRoutes()
	l.orderLayers()
	l.place()
	return l
}

// size is that of a box with its texts.
func size(b Box) (width, height float64) {
	longest := runewidth.StringWidth(b.Name) + 2
	for _, r := range b.Rows {
		longest = max(longest, runewidth.StringWidth(r.mark()+r.Name)+2+min(utf8.RuneCountInString(r.Type), longestType))
	}
	height = headHeight + rowHeight*float64(len(b.Rows)) + 6
	if b.More > 0 {
		height += rowHeight
	}
	return float64(longest)*charWidth + 2*padding, height
}

// acyclic lists for each box those that it refers to, leaving out lines that
// would close a cycle. Boxes that many refer to are looked at first, so that
// they come to stand where they rest on as little as possible.
func (l *layout) acyclic() [][]int {
	all := make([][]int, len(l.boxes))
	referrers := make([]int, len(l.boxes))
	for _, line := range l.diagram.Lines {
		if line.From != line.To && !slices.Contains(all[line.From], line.To) {
			all[line.From] = append(all[line.From], line.To)
			referrers[line.To]++
		}
	}
	order := make([]int, len(l.boxes))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(referrers[b], referrers[a]) })
	kept := make([][]int, len(l.boxes))
	state := make([]int, len(l.boxes)) // 1: on the way, 2: done
	var visit func(i int)
	visit = func(i int) {
		state[i] = 1
		for _, to := range all[i] {
			if state[to] == 1 {
				continue
			}
			kept[i] = append(kept[i], to)
			if state[to] == 0 {
				visit(to)
			}
		}
		state[i] = 2
	}
	for _, i := range order {
		if state[i] == 0 {
			visit(i)
		}
	}
	return kept
}

// assignLayers puts each box at least one layer behind those it refers to. A
// layer that is as tall as the picture should be takes no more. Boxes that
// nothing relates to are in no layer.
func (l *layout) assignLayers(targets [][]int) {
	area, tallest := 0.0, 0.0
	related := make([]bool, len(l.boxes))
	for i, n := range l.boxes {
		area += (n.width + gapAcross) * (n.height + gapDown)
		tallest = max(tallest, n.height)
		for _, to := range targets[i] {
			related[i], related[to] = true, true
		}
	}
	most := max(math.Sqrt(area/1.6), tallest+gapDown)
	var filled []float64
	put := func(n *node, least int) {
		for layer := least; ; layer++ {
			if layer == len(filled) {
				filled = append(filled, 0)
			}
			if filled[layer] == 0 || filled[layer]+n.height+gapDown <= most {
				n.layer = layer
				filled[layer] += n.height + gapDown
				return
			}
		}
	}
	var visit func(i int)
	visit = func(i int) {
		if l.boxes[i].layer >= 0 {
			return
		}
		least := 0
		for _, to := range targets[i] {
			visit(to)
			least = max(least, l.boxes[to].layer+1)
		}
		put(l.boxes[i], least)
	}
	for i := range l.boxes {
		if related[i] {
			visit(i)
		}
	}
	// A box that refers to nothing comes beside the first one that refers to it.
	for i, n := range l.boxes {
		if !related[i] || len(targets[i]) > 0 {
			continue
		}
		near := len(filled)
		for from := range targets {
			if slices.Contains(targets[from], i) {
				near = min(near, l.boxes[from].layer-1)
			}
		}
		if near > n.layer && near < len(filled) && filled[near]+n.height+gapDown <= most*1.3 {
			filled[n.layer] -= n.height + gapDown
			n.layer = near
			filled[near] += n.height + gapDown
		}
	}
	l.layers = make([][]*node, len(filled))
	for i, n := range l.boxes {
		if !related[i] {
			l.alone = append(l.alone, n)
			continue
		}
		l.layers[n.layer] = append(l.layers[n.layer], n)
	}
}

// addRoutes lets lines pass the layers between their ends. Lines between boxes
// of one layer go around beside it.
func (l *layout) addRoutes() {
	for _, line := range l.diagram.Lines {
		if line.From == line.To {
			l.loops = append(l.loops, line)
			continue
		}
		low, high := l.boxes[line.To], l.boxes[line.From]
		back := low.layer > high.layer
		if back {
			low, high = high, low
		}
		r := route{line: line, nodes: []*node{low}, back: back}
		for layer := low.layer + 1; layer < high.layer; layer++ {
			n := &node{box: -1, layer: layer, height: laneHeight}
			l.layers[layer] = append(l.layers[layer], n)
			r.nodes = append(r.nodes, n)
		}
		r.nodes = append(r.nodes, high)
		for i := range len(r.nodes) - 1 {
			a, b := r.nodes[i], r.nodes[i+1]
			if a.layer != b.layer {
				a.right = append(a.right, b)
				b.left = append(b.left, a)
			}
		}
		l.routes = append(l.routes, r)
	}
}

// sweeps is how often the layers are ordered by their neighbours.
const sweeps = 24

// orderLayers orders each layer by the middle of its nodes' neighbours, from
// the left and from the right in turn, and keeps the order with the fewest
// crossings.
func (l *layout) orderLayers() {
	for _, layer := range l.layers {
		number(layer)
	}
	best, fewest := l.snapshot(), l.crossings()
	for sweep := range sweeps {
		for i := range l.layers {
			layer, neighbours := l.layers[i], func(n *node) []*node { return n.left }
			if sweep%2 == 1 {
				layer, neighbours = l.layers[len(l.layers)-1-i], func(n *node) []*node { return n.right }
			}
			l.sortBy(layer, neighbours)
		}
		if n := l.crossings(); n < fewest {
			best, fewest = l.snapshot(), n
		}
	}
	l.layers = best
}

func (l *layout) snapshot() [][]*node {
	layers := make([][]*node, len(l.layers))
	for i := range l.layers {
		layers[i] = slices.Clone(l.layers[i])
	}
	return layers
}

// number gives the nodes of a layer their ranks.
func number(layer []*node) {
	for i, n := range layer {
		n.rank = i
	}
}

func (l *layout) sortBy(layer []*node, neighbours func(n *node) []*node) {
	key := map[*node]float64{}
	for i, n := range layer {
		key[n] = float64(i)
		if list := neighbours(n); len(list) > 0 {
			sum := 0.0
			for _, other := range list {
				sum += float64(other.rank) * float64(len(layer)) / float64(len(l.layers[other.layer]))
			}
			key[n] = sum / float64(len(list))
		}
	}
	slices.SortStableFunc(layer, func(a, b *node) int { return cmp.Compare(key[a], key[b]) })
	number(layer)
}

func (l *layout) crossings() int {
	total := 0
	for _, layer := range l.layers {
		var ends []int // ranks at the right, in the order of those at the left
		for _, n := range layer {
			own := make([]int, 0, len(n.right))
			for _, other := range n.right {
				own = append(own, other.rank)
			}
			slices.Sort(own)
			ends = append(ends, own...)
		}
		total += inversions(ends)
	}
	return total
}

// inversions counts the pairs of a list that are out of order, by merging.
func inversions(list []int) int {
	if len(list) < 2 {
		return 0
	}
	middle := len(list) / 2
	a, b := slices.Clone(list[:middle]), slices.Clone(list[middle:])
	count := inversions(a) + inversions(b)
	slices.Sort(a)
	slices.Sort(b)
	i := 0
	for _, v := range b {
		for i < len(a) && a[i] <= v {
			i++
		}
		count += len(a) - i
	}
	return count
}

// place gives the nodes their places: layers from the left, and in each layer
// as near to the neighbours as order and size allow.
func (l *layout) place() {
	x := margin
	for _, layer := range l.layers {
		widest := 0.0
		for _, n := range layer {
			widest = max(widest, n.width)
		}
		y := margin + 30
		for _, n := range layer {
			n.x, n.y = x, y
			if n.box < 0 {
				n.width = widest
			}
			y += n.height + gapDown
		}
		x += widest + gapAcross
	}
	for pass := range sweeps {
		for i := range l.layers {
			at := i
			if pass%2 == 1 {
				at = len(l.layers) - 1 - i
			}
			settle(l.layers[at])
		}
	}
	l.shift()
	l.width = max(x-gapAcross+margin, 2*margin)
	l.placeAlone()
}

// settle moves the nodes of a layer as near to the middle of their neighbours
// as their order and sizes allow: the places with the least squared distances
// are found by pooling adjacent violators.
func settle(layer []*node) {
	type pool struct {
		sum   float64
		nodes int
	}
	var pools []pool
	mean := func(p pool) float64 { return p.sum / float64(p.nodes) }
	offset := 0.0
	offsets := make([]float64, len(layer))
	for i, n := range layer {
		if i > 0 {
			offset += layer[i-1].height + gap(layer[i-1], n)
		}
		offsets[i] = offset
		pools = append(pools, pool{n.wish() - offset, 1})
		for len(pools) > 1 && mean(pools[len(pools)-2]) > mean(pools[len(pools)-1]) {
			top := pools[len(pools)-1]
			pools = pools[:len(pools)-1]
			pools[len(pools)-1].sum += top.sum
			pools[len(pools)-1].nodes += top.nodes
		}
	}
	i := 0
	for _, p := range pools {
		for range p.nodes {
			layer[i].y = mean(p) + offsets[i]
			i++
		}
	}
}

// wish is where a node would be level with the middle of its neighbours.
func (n *node) wish() float64 {
	near := slices.Concat(n.left, n.right)
	if len(near) == 0 {
		return n.y
	}
	sum := 0.0
	for _, other := range near {
		sum += other.middle()
	}
	return sum/float64(len(near)) - n.height/2
}

// placeAlone sets the boxes that nothing relates to below the others, in rows.
func (l *layout) placeAlone() {
	if len(l.alone) == 0 {
		return
	}
	across := max(l.width, 1000)
	x, y, lowest := margin, max(l.height, margin+30), 0.0
	for _, n := range l.alone {
		if x > margin && x+n.width+margin > across {
			x, y, lowest = margin, y+lowest+gapDown, 0
		}
		n.x, n.y = x, y
		x += n.width + gapDown
		lowest = max(lowest, n.height)
		l.width = max(l.width, x-gapDown+margin)
	}
	l.height = y + lowest + margin
}

// gap is what is left free between two nodes of a layer.
func gap(a, b *node) float64 {
	if a.box < 0 && b.box < 0 {
		return 0
	}
	return gapDown
}

// shift moves everything so that the picture begins at its margin.
func (l *layout) shift() {
	top := math.Inf(1)
	for _, layer := range l.layers {
		for _, n := range layer {
			top = min(top, n.y)
		}
	}
	for _, layer := range l.layers {
		for _, n := range layer {
			n.y += margin + 30 - top
			l.height = max(l.height, n.y+n.height+margin)
		}
	}
}
