package patch

import (
	"context"
	"errors"
	"fmt"

	"github.com/verdex-land/verdex/core/raster"
)

// growing is a patch that the row at hand may still join.
type growing struct {
	parent   *growing // that it was joined to
	class    float64
	cells    int64
	area     float64
	first    [2]int
	bounds   [4]int // columns and rows: from, from, to, to
	order    int
	last     int  // the last row that touches it
	wanted   bool // it holds the cell that is looked for
	polygons int
	outline  rope
	edges    []edge // instead of it, of one part that is complete with its patch
}

func (g *growing) root() *growing {
	for g.parent != nil {
		if g.parent.parent != nil {
			g.parent = g.parent.parent
		}
		g = g.parent
	}
	return g
}

// seed is a cell whose patch is asked for.
type seed struct {
	col   int
	patch *growing // nil where the cell is in none that is wanted
}

// part is a piece of a patch whose cells share sides: all of it, or with eight neighbours one of those that touch at
// corners. Its border is one shell with its holes.
type part struct {
	parent *part
	patch  *growing
	edges  rope // two points each
	last   int  // the last row that touches it
}

func (p *part) root() *part {
	for p.parent != nil {
		if p.parent.parent != nil {
			p.parent = p.parent.parent
		}
		p = p.parent
	}
	return p
}

// run is a stretch of a row.
type run struct {
	from, to    int // columns, to is exclusive
	class       float64
	part        *part
	left, right int32 // the rows from which its sides run straight down
}

type finder struct {
	req     Request
	name    string
	header  raster.Header
	areas   *raster.Areas
	grid    raster.Grid
	above   []run
	patches []*growing
	parts   []*part
	count   int
	spare   []run
	ropes   *ropes
	tracer  tracer
	room    []edge // for edges of patches: many at a time, because there may be millions
	small   int
	bytes   [256]int8 // whether a byte is wanted: 0 not known yet, 1 yes, -1 no
}

// errAt ends the search when the patch at the place has been found.
var errAt = errors.New("found")

func newFinder(req Request) (*finder, error) {
	h := req.Source.Header()
	areas, err := raster.NewAreas(h.Grid)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.Name, err)
	}
	f := &finder{req: req, name: h.Name, header: h, areas: areas, grid: h.Grid, ropes: &ropes{}}
	f.ropes.store.Dir, f.ropes.store.Room = req.Dir, req.Room
	f.tracer = tracer{ropes: f.ropes, reversed: req.Reversed}
	return f, nil
}

// all goes through the rows.
func (f *finder) all(ctx context.Context) error {
	g, src := f.grid, f.req.Source
	_, bh := raster.WorkSize(src)
	reader := src.NewReader()
	var cells raster.Cells
	rows := max(1, min(bh, (64<<20)/(g.Width*src.Header().Type.Bytes())))
	for r0 := 0; r0 < g.Height; r0 += rows {
		n := min(rows, g.Height-r0)
		if err := reader.Read(raster.Window{Row: r0, Width: g.Width, Height: n}, &cells); err != nil {
			return err
		}
		for k := range n {
			if err := ctx.Err(); err != nil {
				return err
			}
			if err := f.row(&cells, k, r0+k); err != nil {
				return err
			}
		}
		if f.req.Progress != nil {
			f.req.Progress(r0+n, g.Height)
		}
	}
	if err := f.border(nil, g.Height); err != nil {
		return err
	}
	return f.finish(g.Height + 1)
}

// row adds a row.
func (f *finder) row(c *raster.Cells, k, row int) error {
	runs := f.runs(c, k)
	if err := f.join(runs, row); err != nil {
		return err
	}
	if err := f.border(runs, row); err != nil {
		return err
	}
	f.spare, f.above = f.above, runs
	return f.finish(row)
}

// runs cuts a row into runs of wanted classes.
func (f *finder) runs(c *raster.Cells, k int) []run {
	out := f.spare[:0]
	if c.Type == raster.Uint8 {
		row := c.U8[k*c.Stride:][:f.grid.Width]
		for col := 0; col < len(row); {
			v := row[col]
			end := col + 1
			for end < len(row) && row[end] == v {
				end++
			}
			if f.bytes[v] == 0 {
				f.bytes[v] = -1
				if f.wants(float64(v)) {
					f.bytes[v] = 1
				}
			}
			if f.bytes[v] > 0 {
				out = append(out, run{from: col, to: end, class: float64(v)})
			}
			col = end
		}
		return out
	}
	for col := 0; col < f.grid.Width; {
		v := c.At(col, k)
		end := col + 1
		for end < f.grid.Width && c.At(end, k) == v {
			end++
		}
		if f.wants(v) {
			out = append(out, run{from: col, to: end, class: v})
		}
		col = end
	}
	return out
}

func (f *finder) wants(v float64) bool {
	return !f.header.Missing(v) && f.req.Keep(v)
}

// join gives each run to the patch above that it touches, and joins the patches when it touches several.
func (f *finder) join(runs []run, row int) error {
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
		var g *growing
		for j := i; j < len(f.above) && f.above[j].from < r.to+reach; j++ {
			a := &f.above[j]
			if a.class != r.class {
				continue
			}
			p := a.part.root()
			if g == nil {
				g = p.patch.root()
			} else if err := f.merge(&g, p.patch.root()); err != nil {
				return err
			}
			if a.to <= r.from || a.from >= r.to { // they touch at a corner
				continue
			}
			if r.part == nil {
				r.part = p
			} else if err := f.mergeParts(r.part.root(), p); err != nil {
				return err
			}
		}
		if err := f.add(r, g, row); err != nil {
			return err
		}
		// A run above may touch the next run too.
	}
	return nil
}

// add adds the cells and area of a run to its patch, or begins one when g is nil.
func (f *finder) add(r *run, g *growing, row int) error {
	if g == nil {
		f.count++
		g = &growing{class: r.class, first: [2]int{r.from, row}, bounds: [4]int{r.from, row, r.to, row + 1}, order: f.count}
		f.patches = append(f.patches, g)
	}
	if r.part == nil {
		r.part = &part{patch: g}
		f.parts = append(f.parts, r.part)
	}
	r.part.root().last, g.last = row, row
	area, err := f.areas.Stretch(row, r.from, r.to)
	if err != nil {
		return fmt.Errorf("%s: %w", f.name, err)
	}
	g.area += area
	g.cells += int64(r.to - r.from)
	g.bounds = [4]int{min(g.bounds[0], r.from), g.bounds[1], max(g.bounds[2], r.to), row + 1}
	for _, s := range f.req.seeds[row] {
		if s.col >= r.from && s.col < r.to {
			s.patch = g
		}
	}
	if at := f.req.At; at != nil && at[1] == row && at[0] >= r.from && at[0] < r.to {
		g.wanted = true
	}
	return nil
}

// merge joins patch b to a, or a to b, whichever began later to the other, which a then is.
func (f *finder) merge(to **growing, b *growing) error {
	a := *to
	if a == b {
		return nil
	}
	if b.order < a.order {
		a, b = b, a
		*to = a
	}
	a.cells += b.cells
	a.area += b.area
	a.wanted = a.wanted || b.wanted
	a.polygons += b.polygons
	a.bounds = [4]int{min(a.bounds[0], b.bounds[0]), min(a.bounds[1], b.bounds[1]), max(a.bounds[2], b.bounds[2]), max(a.bounds[3], b.bounds[3])}
	b.parent = a
	return f.ropes.join(&a.outline, &b.outline)
}

// mergeParts joins two parts of one patch.
func (f *finder) mergeParts(a, b *part) error {
	if a == b {
		return nil
	}
	b.parent = a
	return f.ropes.join(&a.edges, &b.edges)
}

// border adds the edges between the row above and the row at hand, and those along the sides of the runs above that
// end there.
func (f *finder) border(runs []run, row int) error {
	if f.req.Bare {
		return nil
	}
	if err := f.sides(runs, row); err != nil {
		return err
	}
	r := int32(row)
	err := uncovered(f.above, runs, func(p *part, from, to int) error { // the patch lies above
		return f.edge(p, point{int32(to), r}, point{int32(from), r})
	})
	if err != nil {
		return err
	}
	return uncovered(runs, f.above, func(p *part, from, to int) error { // the patch lies below
		return f.edge(p, point{int32(from), r}, point{int32(to), r})
	})
}

func (f *finder) edge(p *part, from, to point) error {
	if err := f.ropes.push(&p.edges, from); err != nil {
		return err
	}
	return f.ropes.push(&p.edges, to)
}

// uncovered calls add for the stretches of a that no run of the same class in b covers.
func uncovered(a, b []run, add func(p *part, from, to int) error) error {
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
				if err := add(r.part.root(), from, b[k].from); err != nil {
					return err
				}
			}
			from = max(from, b[k].to)
		}
		if from < r.to {
			if err := add(r.part.root(), from, r.to); err != nil {
				return err
			}
		}
	}
	return nil
}

// sides adds the edges at the ends of the runs above that do not go on straight down along the runs at hand.
func (f *finder) sides(runs []run, row int) error {
	r := int32(row)
	for i := range runs {
		runs[i].left, runs[i].right = r, r
	}
	k := 0
	for i := range f.above {
		a := &f.above[i]
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
		p := a.part.root()
		if leftEnds {
			if err := f.edge(p, point{int32(a.from), r}, point{int32(a.from), a.left}); err != nil {
				return err
			}
		}
		if rightEnds {
			if err := f.edge(p, point{int32(a.to), a.right}, point{int32(a.to), r}); err != nil {
				return err
			}
		}
	}
	return nil
}

// finish hands over the patches that the row at hand does not touch, and links the edges of the parts that it does not
// touch. Their lower edges are there: those under the row before were added with this row.
func (f *finder) finish(row int) error {
	parts := f.parts[:0]
	for _, p := range f.parts {
		switch {
		case p.parent != nil: // it lives on in another
		case p.last < row:
			if g := p.patch.root(); !f.req.Bare && (g.last >= row || f.chosen(g)) {
				if err := f.ended(p, g, g.last < row); err != nil {
					return err
				}
			}
		default:
			parts = append(parts, p)
		}
	}
	clear(f.parts[len(parts):])
	f.parts = parts
	patches := f.patches[:0]
	for _, g := range f.patches {
		switch {
		case g.parent != nil:
		case g.last < row:
			if err := f.found(g); err != nil {
				return err
			}
		default:
			patches = append(patches, g)
		}
	}
	clear(f.patches[len(patches):])
	f.patches = patches
	return nil
}

// linkedAtOnce is how many edges are linked in memory, with 64 MiB at most.
var linkedAtOnce int64 = 1 << 20

// ended links the edges of a part that is complete, of a patch that may be complete too. Those of a patch of one part, if they are not too many, are
// linked when its outline is asked for: many patches can then be seen to at once.
func (f *finder) ended(p *part, g *growing, last bool) error {
	if g.polygons++; last && g.polygons == 1 && p.edges.n <= 2*linkedAtOnce {
		var err error
		g.edges, err = f.edges(&p.edges)
		return err
	}
	if g.edges != nil { // there is a second part
		l := linkers.Get().(*linker)
		defer linkers.Put(l)
		if err := l.link(g.edges, f.req.Reversed); err != nil {
			return err
		}
		for _, r := range l.rings {
			for _, q := range newHeader(r.shell, r.n) {
				if err := f.ropes.push(&g.outline, q); err != nil {
					return err
				}
			}
			for q := range l.points(r, f.req.Reversed) {
				if err := f.ropes.push(&g.outline, q); err != nil {
					return err
				}
			}
		}
		g.edges = nil
	}
	return f.tracer.trace(&p.edges, &g.outline)
}

// edges takes the edges of a rope of their ends into memory.
func (f *finder) edges(r *rope) ([]edge, error) {
	n := int(r.n / 2)
	if n > len(f.room) {
		f.room = make([]edge, max(n, 4096))
	}
	out := f.room[:0:n]
	f.room = f.room[n:]
	for in := f.ropes.read(r); ; {
		e, ok, err := in.edge()
		if err != nil || !ok {
			return out, err
		}
		out = append(out, e)
	}
}

// chosen reports whether a complete patch is to be handed over.
func (f *finder) chosen(g *growing) bool {
	return g.area >= f.req.Least && (f.req.At == nil || g.wanted)
}

func (f *finder) found(g *growing) error {
	if !f.chosen(g) {
		if f.req.At == nil || g.wanted {
			f.small++
		}
	} else {
		b := g.bounds
		err := f.req.Found(&Patch{ID: int64(g.first[1])*int64(f.grid.Width) + int64(g.first[0]) + 1, Class: g.class, Cells: g.cells, Area: g.area, First: g.first,
			Bounds: raster.Window{Col: b[0], Row: b[1], Width: b[2] - b[0], Height: b[3] - b[1]}, Polygons: g.polygons,
			ropes: f.ropes, outline: &g.outline, edges: g.edges, reversed: f.req.Reversed})
		if err != nil {
			return err
		}
	}
	if g.wanted {
		return errAt
	}
	return nil
}
