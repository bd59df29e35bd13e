// Package patch finds the connected pieces of classes in a raster and traces their outlines.
//
// The raster is read once, row by row. A row is cut into runs of one class; a run joins the patches that it
// touches in the row above, and adds its cells, its true area and the edges of its border. A patch that no run
// of a row touches any more is complete: its edges are linked to rings and it is handed over. So only the
// patches that reach the row at hand are in memory, whatever the raster's size.
package patch

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// Ring is a closed outline in cell coordinates (column, row), its last point joining the first. Shells run clockwise
// where rows count downwards, holes the other way. No ring touches itself.
type Ring [][2]int32

// Polygon is a shell followed by its holes.
type Polygon []Ring

// Patch is a connected piece of one class.
type Patch struct {
	ID       int64 // the number of its first cell, counted row by row from 1 on; the same whatever classes are wanted
	Class    float64
	Cells    int64
	Area     float64 // true area in m²
	First    [2]int  // column and row of the first cell
	Polygons []Polygon
}

// Request is a job.
type Request struct {
	Source   raster.Source
	Keep     func(v float64) bool // which values are wanted; nodata is never
	Eight    bool                 // cells that touch at a corner are neighbours too
	Progress func(done, total int)
	// Found is called for each patch when it is complete. Patches come in the order in which they end.
	Found func(*Patch) error
}

// growing is a patch that the row at hand may still join.
type growing struct {
	parent *growing // that it was joined to
	class  float64
	cells  int64
	area   float64
	first  [2]int
	order  int
	edges  []edge
	last   int // the last row that touches it
}

// edge is a stretch of the border, from one lattice point to another, with the patch on its right-hand side when
// rows count downwards.
type edge struct{ c0, r0, c1, r1 int32 }

func (g *growing) root() *growing {
	for g.parent != nil {
		if g.parent.parent != nil {
			g.parent = g.parent.parent
		}
		g = g.parent
	}
	return g
}

// run is a stretch of a row.
type run struct {
	from, to    int // columns, to is exclusive
	class       float64
	patch       *growing
	left, right int32 // the rows from which its sides run straight down
}

// Find does the job.
func Find(ctx context.Context, req Request) error {
	h := req.Source.Header()
	g := h.Grid
	areas, err := raster.NewAreas(g)
	if err != nil {
		return fmt.Errorf("%s: %w", h.Name, err)
	}
	f := &finder{req: req, nodata: h.NoData, areas: areas, grid: g}
	_, bh := req.Source.BlockSize()
	if bh < 64 {
		bh *= (63 + bh) / bh
	}
	reader := req.Source.NewReader()
	var cells raster.Cells
	rows := max(1, min(bh, (64<<20)/(g.Width*h.Type.Bytes())))
	for r0 := 0; r0 < g.Height; r0 += rows {
		if ctx.Err() != nil {
			return errors.New("stopped before the end; nothing was written")
		}
		n := min(rows, g.Height-r0)
		if err := reader.Read(raster.Window{Row: r0, Width: g.Width, Height: n}, &cells); err != nil {
			return err
		}
		for k := range n {
			if err := f.row(&cells, k, r0+k); err != nil {
				return err
			}
		}
		if req.Progress != nil {
			req.Progress(r0+n, g.Height)
		}
	}
	f.sides(nil, g.Height)
	f.below(nil, g.Height)
	return f.finish(g.Height + 1)
}

type finder struct {
	req    Request
	nodata *float64
	areas  *raster.Areas
	grid   raster.Grid
	above  []run
	open   []*growing
	count  int
	spare  []run
	seg    []raster.Segment
}

// row adds a row.
func (f *finder) row(c *raster.Cells, k, row int) error {
	runs := f.runs(c, k)
	if err := f.measure(runs, row); err != nil {
		return err
	}
	f.join(runs, row)
	f.sides(runs, row)
	f.below(runs, row)
	f.spare, f.above = f.above, runs
	return f.finish(row)
}

// runs cuts a row into runs of wanted classes.
func (f *finder) runs(c *raster.Cells, k int) []run {
	out := f.spare[:0]
	for col := 0; col < f.grid.Width; {
		v := c.At(col, k)
		end := col + 1
		for end < f.grid.Width && c.At(end, k) == v {
			end++
		}
		if !math.IsNaN(v) && (f.nodata == nil || v != *f.nodata) && f.req.Keep(v) {
			out = append(out, run{from: col, to: end, class: v})
		}
		col = end
	}
	return out
}

// measure begins a patch for each run, with its cells and area.
func (f *finder) measure(runs []run, row int) error {
	for i := range runs {
		r := &runs[i]
		area, err := f.area(row, r.from, r.to)
		if err != nil {
			return fmt.Errorf("%s: %w", f.req.Source.Header().Name, err)
		}
		f.count++
		r.patch = &growing{class: r.class, cells: int64(r.to - r.from), area: area, first: [2]int{r.from, row}, order: f.count, last: row}
		f.open = append(f.open, r.patch)
	}
	return nil
}

// area is the true area of a stretch of a row.
func (f *finder) area(row, from, to int) (float64, error) {
	a := f.areas
	if a.Vary != raster.ByCell {
		s, err := a.Row(row)
		return float64(s.A) * float64(to-from) * a.Unit, err
	}
	var err error
	if f.seg, err = a.Segments(f.seg[:0], row, from, to); err != nil {
		return 0, err
	}
	first, sum := from/a.SegmentCells, 0.0
	for col := from; col < to; col++ {
		s := &f.seg[col/a.SegmentCells-first]
		d := int64(col % a.SegmentCells)
		sum += float64(s.A + s.B*d + s.C*d*d)
	}
	return sum * a.Unit, nil
}

// join joins runs to the patches above that they touch.
func (f *finder) join(runs []run, row int) {
	reach := 0
	if f.req.Eight {
		reach = 1
	}
	i := 0
	for k := range runs {
		r := &runs[k]
		for i < len(f.above) && f.above[i].to+reach <= r.from {
			i++
		}
		for j := i; j < len(f.above) && f.above[j].from < r.to+reach; j++ {
			if f.above[j].class == r.class {
				merge(f.above[j].patch.root(), r.patch.root(), row)
			}
		}
		// A run above may touch the next run too.
	}
}

// merge joins two patches to the one that began first.
func merge(a, b *growing, row int) {
	if a == b {
		a.last = row
		return
	}
	if b.order < a.order {
		a, b = b, a
	}
	a.cells += b.cells
	a.area += b.area
	if len(b.edges) > len(a.edges) {
		a.edges, b.edges = b.edges, a.edges
	}
	a.edges = append(a.edges, b.edges...)
	a.last = row
	b.parent, b.edges = a, nil
}

// below adds the edges between the row above and the row at hand: under the runs above where another class or
// none lies below, and over the runs at hand likewise.
func (f *finder) below(runs []run, row int) {
	r := int32(row)
	uncovered(f.above, runs, func(p *growing, from, to int) {
		p.edges = append(p.edges, edge{int32(to), r, int32(from), r}) // the patch lies above
	})
	uncovered(runs, f.above, func(p *growing, from, to int) {
		p.edges = append(p.edges, edge{int32(from), r, int32(to), r}) // the patch lies below
	})
}

// uncovered calls add for the stretches of a that no run of the same class in b covers.
func uncovered(a, b []run, add func(p *growing, from, to int)) {
	j := 0
	for i := range a {
		r := &a[i]
		from := r.from
		for j < len(b) && b[j].to <= r.from {
			j++
		}
		for k := j; k < len(b) && b[k].from < r.to; k++ {
			if b[k].class != r.class {
				continue
			}
			if b[k].from > from {
				add(r.patch.root(), from, b[k].from)
			}
			from = max(from, b[k].to)
		}
		if from < r.to {
			add(r.patch.root(), from, r.to)
		}
	}
}

// sides adds the edges at the ends of the runs above that do not go on straight down along the runs at hand.
func (f *finder) sides(runs []run, row int) {
	r := int32(row)
	for i := range runs {
		runs[i].left, runs[i].right = r, r
	}
	k := 0
	for i := range f.above {
		a := &f.above[i]
		for k > 0 && (k == len(runs) || runs[k].from > a.from) {
			k--
		}
		leftEnds, rightEnds := true, true
		for k < len(runs) && runs[k].to <= a.from {
			k++
		}
		for j := k; j < len(runs) && runs[j].from < a.to; j++ {
			if runs[j].class != a.class {
				continue
			}
			if runs[j].from == a.from {
				runs[j].left, leftEnds = a.left, false
			}
			if runs[j].to == a.to {
				runs[j].right, rightEnds = a.right, false
			}
		}
		p := a.patch.root()
		if leftEnds {
			p.edges = append(p.edges, edge{int32(a.from), r, int32(a.from), a.left})
		}
		if rightEnds {
			p.edges = append(p.edges, edge{int32(a.to), a.right, int32(a.to), r})
		}
	}
}

// finish hands over the patches that the row at hand does not touch. Their lower edges are there: those under the
// row before were added with this row.
func (f *finder) finish(row int) error {
	kept := f.open[:0]
	for _, p := range f.open {
		switch {
		case p.parent != nil: // it lives on in another
		case p.last < row:
			polygons, err := link(p.edges)
			if err != nil {
				return err
			}
			if err := f.req.Found(&Patch{ID: int64(p.first[1])*int64(f.grid.Width) + int64(p.first[0]) + 1, Class: p.class, Cells: p.cells, Area: p.area, First: p.first, Polygons: polygons}); err != nil {
				return err
			}
		default:
			kept = append(kept, p)
		}
	}
	clear(f.open[len(kept):])
	f.open = kept
	return nil
}

// link makes polygons of the edges of a border.
func link(edges []edge) ([]Polygon, error) {
	slices.SortFunc(edges, func(a, b edge) int {
		if c := int(a.r0) - int(b.r0); c != 0 {
			return c
		}
		return int(a.c0) - int(b.c0)
	})
	// The first edge that begins at a point; where two pieces touch at a corner, a second one follows it.
	at := func(c, r int32) (int, bool) {
		return slices.BinarySearchFunc(edges, [2]int32{r, c}, func(e edge, p [2]int32) int {
			if d := int(e.r0) - int(p[0]); d != 0 {
				return d
			}
			return int(e.c0) - int(p[1])
		})
	}
	twice := func(i int) bool { // whether another edge begins where edge i does
		return i > 0 && edges[i-1].c0 == edges[i].c0 && edges[i-1].r0 == edges[i].r0 ||
			i+1 < len(edges) && edges[i+1].c0 == edges[i].c0 && edges[i+1].r0 == edges[i].r0
	}
	used := make([]bool, len(edges))
	var shells, holes []Ring
	for i := range edges {
		if used[i] {
			continue
		}
		var ring Ring
		var corners []int // places in the ring where pieces touch
		e := i
		for !used[e] {
			used[e] = true
			if twice(e) {
				corners = append(corners, len(ring))
			}
			ring = append(ring, [2]int32{edges[e].c0, edges[e].r0})
			next, ok := at(edges[e].c1, edges[e].r1)
			if !ok {
				return nil, errors.New("an unforeseen fault: the border of a patch does not close")
			}
			// Where two edges begin, the one that turns to the right keeps the pieces apart.
			if twice(next) && !turnsRight(edges[e], edges[next]) {
				next++
			}
			e = next
		}
		for _, r := range split(ring, corners) {
			if r = straighten(r); twiceArea(r) > 0 {
				shells = append(shells, r)
			} else {
				holes = append(holes, r)
			}
		}
	}
	return nest(shells, holes), nil
}

// split cuts a ring at points that it passes twice, as that around two holes that touch at a corner does. They are
// among the given places.
func split(r Ring, places []int) (out []Ring) {
	if len(places) < 2 {
		return []Ring{r}
	}
	at := map[[2]int32]int{} // of such points, by their place in path
	var path Ring
	from := 0
	for _, k := range append(places, len(r)) {
		path = append(path, r[from:k]...)
		from = k
		if k == len(r) {
			break
		}
		p := r[k]
		if j, again := at[p]; again {
			out = append(out, slices.Clone(path[j:]))
			for q, place := range at {
				if place > j {
					delete(at, q)
				}
			}
			path = path[:j]
		}
		at[p] = len(path)
	}
	return append(out, path)
}

// turnsRight reports whether b turns clockwise from a on the screen, where rows count downwards.
func turnsRight(a, b edge) bool {
	ax, ay := sign(a.c1-a.c0), sign(a.r1-a.r0)
	bx, by := sign(b.c1-b.c0), sign(b.r1-b.r0)
	return ax*by-ay*bx > 0
}

func sign(v int32) int32 {
	switch {
	case v < 0:
		return -1
	case v > 0:
		return 1
	}
	return 0
}

// straighten drops points between two edges of one direction.
func straighten(r Ring) Ring {
	out := make(Ring, 0, len(r))
	n := len(r)
	for i, p := range r {
		a, b := r[(i+n-1)%n], r[(i+1)%n]
		if (p[0] == a[0] && p[0] == b[0]) || (p[1] == a[1] && p[1] == b[1]) {
			continue
		}
		out = append(out, p)
	}
	return out
}

// twiceArea is twice the area of a ring, positive when it runs clockwise on the screen, as shells do.
func twiceArea(r Ring) (sum int64) {
	for i, p := range r {
		q := r[(i+1)%len(r)]
		sum += int64(p[0])*int64(q[1]) - int64(q[0])*int64(p[1])
	}
	return sum
}

// nest puts each hole into the smallest shell that holds it.
func nest(shells, holes []Ring) []Polygon {
	slices.SortFunc(shells, func(a, b Ring) int {
		x, y := twiceArea(a), twiceArea(b)
		switch {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	out := make([]Polygon, len(shells))
	for i, s := range shells {
		out[i] = Polygon{s}
	}
	for _, h := range holes {
		k := 0
		if len(shells) > 1 {
			for i := len(shells) - 1; i >= 0; i-- { // the smallest first
				if holds(shells[i], h) {
					k = i
					break
				}
			}
		}
		out[k] = append(out[k], h)
	}
	return out
}

// holds reports whether a hole lies in a shell: whether the middle of the cell inside the hole at its first corner
// does.
func holds(shell, hole Ring) bool {
	// The topmost of the leftmost corners of a hole: the cell to its lower right lies in the hole.
	p := hole[0]
	for _, q := range hole {
		if q[0] < p[0] || q[0] == p[0] && q[1] < p[1] {
			p = q
		}
	}
	return crosses(shell, float64(p[0])+0.5, float64(p[1])+0.5)
}

// crosses reports whether a line from a point to the right crosses a ring an odd number of times.
func crosses(r Ring, x, y float64) bool {
	inside := false
	for i, a := range r {
		b := r[(i+1)%len(r)]
		if a[0] == b[0] && (float64(min(a[1], b[1])) < y && y < float64(max(a[1], b[1]))) && float64(a[0]) > x {
			inside = !inside
		}
	}
	return inside
}

// Holds reports whether a cell lies in the patch.
func (p *Patch) Holds(col, row int) bool {
	inside := false
	for _, polygon := range p.Polygons {
		for _, r := range polygon {
			if crosses(r, float64(col)+0.5, float64(row)+0.5) {
				inside = !inside
			}
		}
	}
	return inside
}

// Smooth cuts the corners of the outlines: each ring goes through the middles of its edges, or for long ones
// through the points half a cell from their ends. The area of the patch is still that of its cells.
func (p *Patch) Smooth() (out [][][][2]float64) {
	for _, polygon := range p.Polygons {
		var rings [][][2]float64
		for _, r := range polygon {
			var ring [][2]float64
			for i, a := range r {
				b := r[(i+1)%len(r)]
				dx, dy := float64(b[0]-a[0]), float64(b[1]-a[1])
				length := math.Abs(dx) + math.Abs(dy)
				t := math.Min(0.5, 0.5/length)
				ring = append(ring, [2]float64{float64(a[0]) + t*dx, float64(a[1]) + t*dy})
				if t < 0.5 {
					ring = append(ring, [2]float64{float64(b[0]) - t*dx, float64(b[1]) - t*dy})
				}
			}
			rings = append(rings, ring)
		}
		out = append(out, rings)
	}
	return out
}
