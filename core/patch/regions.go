package patch

import (
	"cmp"
	"container/heap"
	"math"
	"slices"
)

// regions are the pieces of a raster while small ones are folded: the small ones, and the large ones beside them. Those that have become one have one root.
type regions struct {
	pieces []*smallPiece
	least  float64
	parent []int32
	first  []int32   // by root: the region with the first cell
	class  []float64 // by root
	area   []float64 // by root, in m²; infinite for large ones
	edges  [][]edgeTo
	queue  sizes
	beside map[int32]float64 // scratch: the lengths of borders by root
}

// edgeTo is the border of a region with another one, in metres.
type edgeTo struct {
	to     int32
	length float64
}

func newRegions(pieces []*smallPiece, large []float64, least float64) *regions {
	n := len(pieces) + len(large)
	r := &regions{pieces: pieces, least: least, parent: make([]int32, n), first: make([]int32, n), class: make([]float64, n), area: make([]float64, n), edges: make([][]edgeTo, len(pieces)), beside: map[int32]float64{}}
	for i := range n {
		r.parent[i], r.first[i] = int32(i), int32(i)
		if i >= len(pieces) {
			r.class[i], r.area[i] = large[i-len(pieces)], math.Inf(1)
			continue
		}
		p := pieces[i]
		r.class[i], r.area[i] = p.class, p.area
		r.edges[i] = make([]edgeTo, len(p.beside))
		for k, b := range p.beside {
			r.edges[i][k] = edgeTo{b.region, b.length}
		}
		p.beside = nil
		r.queue = append(r.queue, size{p.area, int32(i), int32(i)})
	}
	heap.Init(&r.queue)
	return r
}

func (r *regions) root(i int32) int32 {
	for r.parent[i] != i {
		r.parent[i] = r.parent[r.parent[i]]
		i = r.parent[i]
	}
	return i
}

// fold folds all that are too small and gives the pieces their classes; it returns how many have no neighbour.
func (r *regions) fold() (alone int) {
	for len(r.queue) > 0 {
		next := heap.Pop(&r.queue).(size)
		if i := next.region; r.root(i) != i || r.area[i] != next.area {
			continue // it has become part of another one, or larger
		}
		if !r.step(next.region) {
			alone++
		}
	}
	for i, p := range r.pieces {
		p.becomes = r.class[r.root(int32(i))]
	}
	return alone
}

// step folds a region into its neighbour with the longest border, and into all others of its class; it is false where there is none.
func (r *regions) step(i int32) bool {
	clear(r.beside)
	for _, e := range r.edges[i] {
		if to := r.root(e.to); to != i {
			r.beside[to] += e.length
		}
	}
	if len(r.beside) == 0 {
		return false
	}
	near := make([]edgeTo, 0, len(r.beside))
	for to, length := range r.beside {
		near = append(near, edgeTo{to, length})
	}
	slices.SortFunc(near, func(a, b edgeTo) int { // of equally long borders the first one wins
		return cmp.Or(cmp.Compare(r.class[a.to], r.class[b.to]), cmp.Compare(r.first[a.to], r.first[b.to]))
	})
	best := near[0]
	for _, e := range near[1:] {
		if e.length > best.length*(1+1e-9) {
			best = e
		}
	}
	class := r.class[best.to]
	r.edges[i] = near
	for _, e := range near {
		if r.class[e.to] == class {
			i = r.join(i, e.to)
		}
	}
	r.class[i] = class
	if r.area[i] < r.least {
		heap.Push(&r.queue, size{r.area[i], r.first[i], i})
	}
	return true
}

// join makes one of two regions and returns its root.
func (r *regions) join(a, b int32) int32 {
	area := r.area[a] + r.area[b]
	var edges []edgeTo
	if area < r.least { // both are small, and so have edges
		long, short := r.edges[a], r.edges[b]
		if len(long) < len(short) {
			long, short = short, long
		}
		edges = append(long, short...)
	}
	first := min(r.first[a], r.first[b])
	r.parent[a] = b
	r.area[b], r.first[b] = area, first
	for _, i := range []int32{a, b} {
		if int(i) < len(r.edges) {
			r.edges[i] = nil
		}
	}
	if edges != nil {
		r.edges[b] = edges
	}
	return b
}

// size is a region by its area, and its first cell among equally large ones.
type size struct {
	area          float64
	first, region int32
}

type sizes []size

func (s sizes) Len() int { return len(s) }
func (s sizes) Less(i, j int) bool {
	return s[i].area < s[j].area || s[i].area == s[j].area && s[i].first < s[j].first
}
func (s sizes) Swap(i, j int) { s[i], s[j] = s[j], s[i] }
func (s *sizes) Push(x any)   { *s = append(*s, x.(size)) }
func (s *sizes) Pop() any {
	old := *s
	x := old[len(old)-1]
	*s = old[:len(old)-1]
	return x
}
