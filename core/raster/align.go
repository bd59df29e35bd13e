package raster

import (
	"fmt"
	"math"
	"sync"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
)

// Resample says how the cells of one grid become those of another.
type Resample uint8

// The ways to resample. Classes are never interpolated.
const (
	Nearest  Resample = iota // the cell that the centre lies in
	Heaviest                 // the value that covers most of the cell, by area
	Bilinear                 // between the four nearest centres, for measurements
)

// Align is a view of a raster on another grid, also across CRSs. Ground that the raster does not cover is
// nodata; a raster that declares none gets a type with room for it where that is needed.
//
// Where a centre falls is interpolated from exact positions at the corners, sides and middles of squares of
// 32 × 32 cells at fixed places of the grid, to within a millionth of a source cell, and is exact
// where that does not hold; so the result does not depend on windows.
func Align(s Source, g Grid, how Resample) (*Aligned, error) {
	h := s.Header()
	if h.Grid.CRS == nil || g.CRS == nil {
		return nil, fault.Errorf("%s: a raster without a CRS cannot be brought onto another grid", h.Name).By("give its CRS", "crs", "")
	}
	w, e := (h.Grid.X0 + h.Grid.DX*float64(h.Grid.Width)/2), (h.Grid.Y0 + h.Grid.DY*float64(h.Grid.Height)/2)
	lon, lat, _ := h.Grid.CRS.ToGeographic(w, e)
	shift, note, err := earth.NewShift(g.CRS, h.Grid.CRS, lon*180/math.Pi, lat*180/math.Pi)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.Name, err)
	}
	a := &Aligned{grid: g, how: how, header: h, from: h, seen: map[[2]int]bool{}}
	if note != "" {
		a.Notes = append(a.Notes, note)
	}
	own := g.CRS.On(h.Grid.CRS, shift)
	a.toSource = func(col, row float64) (float64, float64, bool) {
		x, y := g.Point(col, row)
		lon, lat, ok := own.ToGeographic(x, y)
		if !ok {
			return 0, 0, false
		}
		if own.Geographic() && h.Grid.CRS.Geographic() && own.Unit == h.Grid.CRS.Unit && own.Meridian == h.Grid.CRS.Meridian {
			c, r := h.Grid.Cell(x, y) // no rounding on the way
			return c, r, true
		}
		x, y, ok = h.Grid.CRS.FromGeographic(lon, lat)
		c, r := h.Grid.Cell(x, y)
		return c, r, ok
	}
	a.straight = shift == nil && g.CRS.Same(h.Grid.CRS)
	if a.straight {
		a.toSource = func(col, row float64) (float64, float64, bool) {
			c, r := h.Grid.Cell(g.Point(col, row))
			return c, r, true
		}
	}
	if own.Projection != nil && !g.CRS.Domain().Round {
		// Beyond the end of the grid's map there is no ground, though coordinates may go on.
		inner := a.toSource
		a.toSource = func(col, row float64) (float64, float64, bool) {
			if !g.CRS.OnEarth(g.Point(col, row)) {
				return 0, 0, false
			}
			return inner(col, row)
		}
	}
	if h.Grid.CRS.Geographic() {
		a.turn = 2 * math.Pi / h.Grid.CRS.Unit / h.Grid.DX
		if n, ok := h.Grid.turn(); ok && n == h.Grid.Width {
			// All around the Earth: the raster three times, so that what lies at its ends has neighbours.
			wide := h.Grid
			wide.X0, _ = wide.Point(-float64(n), 0)
			wide.Width = 3 * n
			if s, err = Extent(s, wide); err != nil {
				return nil, err
			}
			a.lead = float64(n)
		}
	}
	a.header.Grid = g
	a.header.Overviews = 0
	a.header.Format = "on another grid: " + h.Format
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		a.header.NoData = nil
	}
	if a.header.settle(); a.header.NoData == nil && !a.covered(h.Grid) {
		t, v := roomFor(h.Type)
		a.header.Type, a.header.NoData = t, &v
	}
	bw, bh := s.BlockSize()
	a.source = Cached(s, cacheBytes)
	a.bw, a.bh = min(max(bw, 64), 512), min(max(bh, 64), 512)
	return a, nil
}

// Aligned is a raster on another grid.
type Aligned struct {
	Notes    []string
	header   Header
	source   Source
	from     Header // of the raster that is aligned
	grid     Grid
	how      Resample
	straight bool    // both grids are in one CRS
	turn     float64 // columns of the source in a turn of the Earth, 0 where it is in no degrees
	lead     float64 // columns before the source's own ones
	bw, bh   int
	toSource func(col, row float64) (float64, float64, bool)

	mu    sync.Mutex
	seen  map[[2]int]bool // windows whose moves are counted
	moves Moves
}

// Moves say how far centres were moved to the cells that they took.
type Moves struct {
	Cells    int64   // that took a value
	Mean     float64 // distance in cells of the source
	Greatest float64
	Empty    int64 // that the source does not cover
}

// How is the way in which it is resampled.
func (a *Aligned) How() Resample { return a.how }

// Source is the header of the raster that is aligned.
func (a *Aligned) Source() Header { return a.from }

// Moves gives the moves of all windows that have been read. Windows that are read again count once.
func (a *Aligned) Moves() Moves {
	a.mu.Lock()
	defer a.mu.Unlock()
	m := a.moves
	if m.Cells > 0 {
		m.Mean /= float64(m.Cells)
	}
	return m
}

// covered reports whether the source surely covers the whole grid.
func (a *Aligned) covered(src Grid) bool {
	const steps = 64
	w, h := float64(a.grid.Width), float64(a.grid.Height)
	for i := 0; i <= steps; i++ {
		t := float64(i) / steps
		for _, p := range [4][2]float64{{t * w, 0}, {t * w, h}, {0, t * h}, {w, t * h}} {
			c, r, ok := a.toSource(p[0], p[1])
			if c = a.wrapped(c); a.lead > 0 {
				c = 1
			}
			if !ok || c < 1e-6 || r < 1e-6 || c > float64(src.Width)-1e-6 || r > float64(src.Height)-1e-6 {
				return false
			}
		}
	}
	return true
}

// wrapped brings a column of the source into its first turn of the Earth.
func (a *Aligned) wrapped(c float64) float64 {
	if a.turn == 0 || c >= 0 && c < a.turn {
		return c
	}
	return c - a.turn*math.Floor(c/a.turn)
}

// settle brings the places of a window together: each into the turn of the Earth that is nearest to the first, which lies in the
// source's own columns where that goes all around.
func (r *alignedReader) settle() {
	a := r.a
	if a.turn == 0 {
		return
	}
	if a.lead == 0 {
		for i, p := range r.places {
			r.places[i][0] = a.wrapped(p[0])
		}
		return
	}
	ref, found := 0.0, false
	for i, p := range r.places {
		if math.IsNaN(p[0]) {
			continue
		}
		if !found {
			ref, found = a.wrapped(p[0]), true
		}
		r.places[i][0] = ref + math.Remainder(p[0]-ref, a.turn) + a.lead
	}
}

// Header implements [Source].
func (a *Aligned) Header() Header { return a.header }

// BlockSize implements [Source].
func (a *Aligned) BlockSize() (width, height int) { return a.bw, a.bh }

// NewReader implements [Source].
func (a *Aligned) NewReader() Reader {
	return &alignedReader{a: a, r: a.source.NewReader()}
}

type alignedReader struct {
	a      *Aligned
	r      Reader
	cells  Cells
	at     Window       // what cells holds
	places [][2]float64 // of centres, in source cells; NaN where there is none
	weight map[float64]float64
}

// squareCells is the side of the squares over which positions are interpolated.
const squareCells = 32

// Read implements [Reader].
func (r *alignedReader) Read(w Window, dst *Cells) error {
	a := r.a
	if a.straight && a.how == Nearest {
		// rows and columns map apart: exact, and cheap
		r.placeStraight(w)
	} else {
		r.place(w)
	}
	r.settle()
	src := a.source.Header().Grid
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	margin := 1.0
	if a.how == Heaviest {
		margin = r.reach(w) + 2
	}
	for _, p := range r.places {
		if !math.IsNaN(p[0]) {
			c0, c1 = math.Min(c0, p[0]-margin), math.Max(c1, p[0]+margin)
			r0, r1 = math.Min(r0, p[1]-margin), math.Max(r1, p[1]+margin)
		}
	}
	dst.Resize(a.header.Type, w.Width, w.Height, w.Width)
	nodata := 0.0
	if a.header.NoData != nil {
		nodata = *a.header.NoData
	}
	dst.Fill(nodata)
	c0, r0 = math.Max(0, math.Floor(c0)), math.Max(0, math.Floor(r0))
	c1, r1 = math.Min(float64(src.Width), math.Ceil(c1)), math.Min(float64(src.Height), math.Ceil(r1))
	if c0 >= c1 || r0 >= r1 {
		if a.header.NoData == nil {
			return a.uncovered()
		}
		a.note(w, Moves{Empty: int64(w.Width) * int64(w.Height)})
		return nil
	}
	r.at = Window{int(c0), int(r0), int(c1 - c0), int(r1 - r0)}
	if r.at.Width*r.at.Height > 1<<27 {
		return fmt.Errorf("%s: %d × %d of its cells fall into a window of %d × %d cells of the grid: it is much finer than the grid, choose a finer one",
			a.header.Name, r.at.Width, r.at.Height, w.Width, w.Height)
	}
	if err := r.r.Read(r.at, &r.cells); err != nil {
		return err
	}
	var m Moves
	for row := range w.Height {
		for col := range w.Width {
			p := r.places[row*w.Width+col]
			c, k := math.Floor(p[0]), math.Floor(p[1])
			if math.IsNaN(p[0]) || c < 0 || k < 0 || c >= float64(src.Width) || k >= float64(src.Height) {
				if m.Empty++; a.header.NoData == nil {
					return a.uncovered()
				}
				continue
			}
			d := math.Hypot(p[0]-c-0.5, p[1]-k-0.5)
			m.Cells++
			m.Mean += d
			m.Greatest = math.Max(m.Greatest, d)
			v, ok := 0.0, false
			switch a.how {
			case Nearest:
				v, ok = r.value(int(c), int(k))
			case Bilinear:
				v, ok = r.bilinear(p)
			case Heaviest:
				v, ok = r.heaviest(w.Col+col, w.Row+row, int(c), int(k))
			}
			if ok {
				if a.header.Type == Float32 {
					v = float64(float32(v))
				} else if a.how == Bilinear && !a.header.Type.Floating() {
					v = math.Round(v)
				}
				dst.Set(col, row, v)
			}
		}
	}
	a.note(w, m)
	return nil
}

// uncovered is the error of a grid that reaches beyond a raster without a nodata value.
func (a *Aligned) uncovered() error {
	return fmt.Errorf("%s: a part of the grid lies beyond it, and it declares no nodata value that cells there could have: give it one", a.header.Name)
}

func (a *Aligned) note(w Window, m Moves) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if key := [2]int{w.Col, w.Row}; !a.seen[key] {
		a.seen[key] = true
		a.moves.Cells += m.Cells
		a.moves.Mean += m.Mean
		a.moves.Empty += m.Empty
		a.moves.Greatest = math.Max(a.moves.Greatest, m.Greatest)
	}
}

// value is a cell of the source that has been read, and whether it is data.
func (r *alignedReader) value(col, row int) (float64, bool) {
	c, k := col-r.at.Col, row-r.at.Row
	if c < 0 || k < 0 || c >= r.at.Width || k >= r.at.Height {
		return 0, false
	}
	v := r.cells.At(c, k)
	return v, !r.a.from.Missing(v)
}

// bilinear interpolates between the four centres around a place. Where some of them are nodata the others
// share their weight; where the nearest is, so is the result.
func (r *alignedReader) bilinear(p [2]float64) (float64, bool) {
	if _, ok := r.value(int(math.Floor(p[0])), int(math.Floor(p[1]))); !ok {
		return 0, false
	}
	x, y := p[0]-0.5, p[1]-0.5
	fx, fy := math.Floor(x), math.Floor(y)
	tx, ty := x-fx, y-fy
	var sum, weight float64
	for j := range 2 {
		for i := range 2 {
			wt := (1 - math.Abs(float64(i)-tx)) * (1 - math.Abs(float64(j)-ty))
			if v, ok := r.value(int(fx)+i, int(fy)+j); ok && wt > 0 {
				sum += wt * v
				weight += wt
			}
		}
	}
	return sum / weight, weight > 0
}

// reach is how far, in source cells, a cell of the grid extends from its centre, at most.
func (r *alignedReader) reach(w Window) float64 {
	far := 0.0
	for _, p := range [][2]int{{w.Col, w.Row}, {w.Col + w.Width - 1, w.Row}, {w.Col, w.Row + w.Height - 1},
		{w.Col + w.Width - 1, w.Row + w.Height - 1}, {w.Col + w.Width/2, w.Row + w.Height/2}} {
		c, k, ok := r.a.toSource(float64(p[0])+0.5, float64(p[1])+0.5)
		for _, d := range [4][2]float64{{0, 0}, {1, 0}, {0, 1}, {1, 1}} {
			if x, y, ok2 := r.a.toSource(float64(p[0])+d[0], float64(p[1])+d[1]); ok && ok2 {
				if r.a.turn > 0 {
					x = c + math.Remainder(x-c, r.a.turn)
				}
				far = math.Max(far, math.Max(math.Abs(x-c), math.Abs(y-k)))
			}
		}
	}
	return far * 1.5
}

// heaviest is the value that covers most of a cell of the grid: the cell's outline, straight between its
// corners, is cut with each source cell that it meets. What is without data takes part: where it covers more than any value does,
// so is the cell. Ties go to the value at the centre, then to the lowest.
func (r *alignedReader) heaviest(col, row, c, k int) (float64, bool) {
	var quad [4][2]float64
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for i, d := range [4][2]float64{{0, 0}, {1, 0}, {1, 1}, {0, 1}} {
		x, y, ok := r.a.toSource(float64(col)+d[0], float64(row)+d[1])
		if !ok {
			return r.value(c, k)
		}
		// Corners that miss a border of source cells by rounding lie on it.
		if n := math.Round(x); math.Abs(x-n) < 1e-9 {
			x = n
		}
		if n := math.Round(y); math.Abs(y-n) < 1e-9 {
			y = n
		}
		if r.a.turn > 0 {
			x = float64(c) + 0.5 + math.Remainder(x+r.a.lead-float64(c)-0.5, r.a.turn)
		}
		quad[i] = [2]float64{x, y}
		c0, c1, r0, r1 = math.Min(c0, x), math.Max(c1, x), math.Min(r0, y), math.Max(r1, y)
	}
	src := r.a.source.Header().Grid
	x0, x1 := max(0, int(math.Floor(c0))), min(src.Width, int(math.Ceil(c1)))
	y0, y1 := max(0, int(math.Floor(r0))), min(src.Height, int(math.Ceil(r1)))
	if x0 < r.at.Col || x1 > r.at.Col+r.at.Width || y0 < r.at.Row || y1 > r.at.Row+r.at.Height {
		return r.value(c, k) // a cell at a pole, which spans all longitudes
	}
	if r.weight == nil {
		r.weight = map[float64]float64{}
	}
	clear(r.weight)
	all := math.Abs(earth.PlanarArea(quad[:]))
	none := all // what of the cell is without data or beyond the raster
	for y := y0; y < y1; y++ {
		for x := x0; x < x1; x++ {
			if v, ok := r.value(x, y); ok {
				share := shareOfCell(quad[:], float64(x), float64(y))
				r.weight[v] += share
				none -= share
			}
		}
	}
	most := 0.0
	for _, wt := range r.weight {
		most = math.Max(most, wt)
	}
	if none > most*(1+1e-9) || all == 0 {
		return 0, false
	}
	best, found := 0.0, false
	centre, atCentre := r.value(c, k)
	for v, wt := range r.weight {
		if wt > 0 && wt >= most*(1-1e-9) && (!found || atCentre && v == centre || !(atCentre && best == centre) && v < best) {
			best, found = v, true
		}
	}
	return best, found
}

// shareOfCell is the area of a convex polygon within the cell at x, y (Sutherland and Hodgman 1974).
func shareOfCell(poly [][2]float64, x, y float64) float64 {
	var a, b [12][2]float64
	in := append(a[:0], poly...)
	out := b[:0]
	for side := range 4 {
		axis, at, less := side/2, [4]float64{x, x + 1, y, y + 1}[side], side%2 == 1
		out = out[:0]
		for i, p := range in {
			q := in[(i+1)%len(in)]
			pin, qin := p[axis] == at || (p[axis] < at) == less, q[axis] == at || (q[axis] < at) == less
			if pin {
				out = append(out, p)
			}
			if pin != qin {
				t := (at - p[axis]) / (q[axis] - p[axis])
				m := [2]float64{p[0] + t*(q[0]-p[0]), p[1] + t*(q[1]-p[1])}
				m[axis] = at
				out = append(out, m)
			}
		}
		if len(out) < 3 {
			return 0
		}
		in, out = out, in
	}
	area := 0.0
	for i, p := range in {
		q := in[(i+1)%len(in)]
		area += (p[0]-x)*(q[1]-y) - (q[0]-x)*(p[1]-y)
	}
	return math.Abs(area) / 2
}

// placeStraight finds the places of centres between grids of one CRS.
func (r *alignedReader) placeStraight(w Window) {
	r.places = grown(r.places, w.Width*w.Height)
	for row := range w.Height {
		_, y, _ := r.a.toSource(0, float64(w.Row+row)+0.5)
		y = settle(y)
		for col := range w.Width {
			if row == 0 {
				x, _, _ := r.a.toSource(float64(w.Col+col)+0.5, 0)
				r.places[col][0] = settle(x)
			} else {
				r.places[row*w.Width+col][0] = r.places[col][0]
			}
			r.places[row*w.Width+col][1] = y
		}
	}
}

// settle puts a place that misses a border of cells by rounding alone onto it; a border belongs to the cell
// behind it.
func settle(v float64) float64 {
	if n := math.Round(v); math.Abs(v-n) < 1e-7 {
		return n
	}
	return v
}

// place finds the places of centres square by square.
func (r *alignedReader) place(w Window) {
	r.places = grown(r.places, w.Width*w.Height)
	for y := w.Row / squareCells * squareCells; y < w.Row+w.Height; y += squareCells {
		for x := w.Col / squareCells * squareCells; x < w.Col+w.Width; x += squareCells {
			r.square(w, x, y)
		}
	}
}

// square fills the part of a square that lies in the window, by a biquadratic polynomial through nine exact
// places if two others lie within a millionth of a cell of it.
func (r *alignedReader) square(w Window, x, y int) {
	const half = squareCells / 2
	var f [3][3][2]float64
	good := true
	exact := func(dx, dy float64) ([2]float64, bool) {
		c, k, ok := r.a.toSource(float64(x)+dx, float64(y)+dy)
		return [2]float64{c, k}, ok && !math.IsNaN(c) && !math.IsNaN(k) && !math.IsInf(c, 0) && !math.IsInf(k, 0)
	}
	for j := range 3 {
		for i := range 3 {
			p, ok := exact(float64(i*half), float64(j*half))
			if t := r.a.turn; t > 0 && i+j > 0 { // beyond a seam longitudes go on
				p[0] = f[0][0][0] + math.Remainder(p[0]-f[0][0][0], t)
			}
			f[j][i] = p
			good = good && ok
		}
	}
	// Lagrange weights of the nodes 0, 16 and 32.
	weights := func(d float64) [3]float64 {
		t := d/half - 1
		return [3]float64{t * (t - 1) / 2, 1 - t*t, t * (t + 1) / 2}
	}
	at := func(dx, dy float64) (p [2]float64) {
		wx, wy := weights(dx), weights(dy)
		for k := range 2 {
			for j := range 3 {
				p[k] += wy[j] * (wx[0]*f[j][0][k] + wx[1]*f[j][1][k] + wx[2]*f[j][2][k])
			}
		}
		return p
	}
	if good {
		for _, d := range [3][2]float64{{half / 2, half / 2}, {1.5 * half, 0.5 * half}, {0.5 * half, 1.7 * half}} {
			p, ok := exact(d[0], d[1])
			q := at(d[0], d[1])
			if t := r.a.turn; t > 0 {
				p[0] = q[0] + math.Remainder(p[0]-q[0], t)
			}
			good = good && ok && math.Abs(p[0]-q[0]) < 1e-6 && math.Abs(p[1]-q[1]) < 1e-6
		}
	}
	for row := max(y, w.Row); row < min(y+squareCells, w.Row+w.Height); row++ {
		for col := max(x, w.Col); col < min(x+squareCells, w.Col+w.Width); col++ {
			p, ok := [2]float64{}, true
			if good {
				p = at(float64(col-x)+0.5, float64(row-y)+0.5)
			} else {
				p, ok = exact(float64(col-x)+0.5, float64(row-y)+0.5)
			}
			if !ok {
				p = [2]float64{math.NaN(), math.NaN()}
			}
			r.places[(row-w.Row)*w.Width+col-w.Col] = p
		}
	}
}
