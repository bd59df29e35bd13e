// Package patch finds the connected pieces of classes in a raster and traces their outlines.
//
// The way of the data: the raster is read once, row by row (find.go). A row is cut into runs of one class; a run joins
// the patches that it touches in the row above, and adds its cells, its true area and the edges of its border. A patch
// that no run of a row touches any more is complete: it is handed over, and its edges are linked to rings (loop.go, or border.go where they do not fit into memory).
// What is not complete waits in ropes (rope.go), most of it in a temporary file, so that memory does not grow with
// the raster nor with the border of a patch that runs through all of it.
package patch

import (
	"context"
	"errors"
	"iter"
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Patch is a connected piece of one class.
type Patch struct {
	ID       int64 // the number of its first cell, counted row by row from 1 on; the same whatever classes are wanted
	Class    float64
	Cells    int64
	Area     float64 // true area in m²
	First    [2]int  // column and row of the first cell
	Bounds   raster.Window
	Polygons int // how many its outline has: one, or with eight neighbours those that touch at corners

	ropes    *ropes
	outline  *rope
	edges    []edge // instead of an outline, nil where it is too long
	reversed bool
}

// Edges is how many edges the outline has where the patch holds it in memory, so that it may be kept after [Request.Found] has returned, and used in
// another goroutine; 0 where it does not.
func (p *Patch) Edges() int { return len(p.edges) }

// Request is a job.
type Request struct {
	Source   raster.Source
	Keep     func(v float64) bool // which values are wanted; nodata is never
	Eight    bool                 // cells that touch at a corner are neighbours too
	Least    float64              // patches with a smaller area, in m², are left out
	At       *[2]int              // when not nil, only the patch that holds this cell (column, row) is wanted
	Bare     bool                 // outlines are not wanted
	Reversed bool                 // shells run counter-clockwise where rows count downwards, holes clockwise
	Dir      string               // for what waits; "" is the system's folder for temporary files
	Room     int                  // bytes of it that stay in memory; 0 is 32 MiB
	Progress func(done, total int)
	seeds    map[int][]*seed // by row: cells whose patch is asked for
	// Found is called for each patch when it is complete. Patches come in the order in which they end. The outlines of those that do not
	// hold them ([Patch.Edges]) are gone when Found returns.
	Found func(*Patch) error
}

// Rings calls each for every ring of the outline: a shell, its holes, the next shell, and so on. The n points of a
// ring are corners in cell coordinates (column, row); its last point joins its first. Shells run clockwise where rows
// count downwards, holes the other way. No ring touches itself, and two rings touch at single points only.
func (p *Patch) Rings(each func(shell bool, n int64, points iter.Seq[[2]int32]) error) error {
	if p.edges != nil {
		l := linkers.Get().(*linker)
		defer linkers.Put(l)
		if err := l.link(p.edges, p.reversed); err != nil {
			return err
		}
		for _, r := range l.rings {
			if err := each(r.shell, r.n, l.points(r, p.reversed)); err != nil {
				return err
			}
		}
		return nil
	}
	r := p.ropes.read(p.outline)
	for {
		var h header
		var ok bool
		var err error
		for i := range h {
			if h[i], ok, err = r.get(); err != nil {
				return err
			}
		}
		if !ok {
			return nil
		}
		left := h.points()
		var fault error
		next := func() (q point, ok bool) {
			if left == 0 || fault != nil {
				return q, false
			}
			left--
			if q, ok, fault = r.get(); fault == nil && !ok {
				fault = errors.New("an unforeseen fault: the outline of a patch ends too early")
			}
			return q, fault == nil
		}
		err = each(h.shell(), left, func(yield func([2]int32) bool) {
			for q, ok := next(); ok && yield(q); q, ok = next() {
			}
		})
		for _, more := next(); more; _, more = next() { // what each has left
		}
		if err = errors.Join(fault, err); err != nil {
			return err
		}
	}
}

// Smooth cuts the corners of a ring: it goes through the middles of its edges, or for long ones through the
// points half a cell from their ends. The area of the patch is still that of its cells.
func Smooth(points iter.Seq[[2]int32]) iter.Seq[[2]float64] {
	return func(yield func([2]float64) bool) {
		var first, last [2]int32
		begun := false
		along := func(a, b [2]int32) bool {
			dx, dy := float64(b[0]-a[0]), float64(b[1]-a[1])
			t := math.Min(0.5, 0.5/(math.Abs(dx)+math.Abs(dy)))
			return yield([2]float64{float64(a[0]) + t*dx, float64(a[1]) + t*dy}) &&
				(t == 0.5 || yield([2]float64{float64(b[0]) - t*dx, float64(b[1]) - t*dy}))
		}
		for q := range points {
			if !begun {
				first, begun = q, true
			} else if !along(last, q) {
				return
			}
			last = q
		}
		if begun {
			along(last, first)
		}
	}
}

// Corners are the points of a ring as they are.
func Corners(points iter.Seq[[2]int32]) iter.Seq[[2]float64] {
	return func(yield func([2]float64) bool) {
		for q := range points {
			if !yield([2]float64{float64(q[0]), float64(q[1])}) {
				return
			}
		}
	}
}

// Find does the job. It is also how many patches were left out for their area.
func Find(ctx context.Context, req Request) (small int, err error) {
	f, err := newFinder(req)
	if err != nil {
		return 0, err
	}
	defer f.ropes.store.Close()
	err = f.all(ctx)
	if errors.Is(err, errAt) {
		err = nil
	}
	return f.small, err
}
