package view

import (
	"fmt"
	"math"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/raster"

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
func Align(s raster.Source, g raster.Grid, how Resample) (*Aligned, error) {
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
		// Rows and columns map apart; a cell beyond the end of the map, where there is no ground, takes what the raster has there.
		a.toRow = func(row float64) float64 { _, r := h.Grid.Cell(g.Point(0, row)); return r }
		a.toColumn = func(col float64) float64 { c, _ := h.Grid.Cell(g.Point(col, 0)); return c }
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
		if n, ok := h.Grid.Turn(); ok && n == h.Grid.Width {
			// All around the Earth: the raster three times, so that what lies at its ends has neighbours.
			wide := h.Grid
			wide.X0, _ = wide.Point(-float64(n), 0)
			wide.Width = 3 * n
			if s, err = Crop(s, wide); err != nil {
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
	if a.header.Settle(); a.header.NoData == nil && !a.covered(h.Grid) {
		t, v := raster.RoomFor(h.Type)
		a.header.Type, a.header.NoData = t, &v
	}
	bw, bh := s.BlockSize()
	a.source = raster.Cached(s, cacheBytes)
	a.bw, a.bh = min(max(bw, 64), 512), min(max(bh, 64), 512)
	return a, nil
}

// Aligned is a raster on another grid.
type Aligned struct {
	Notes    []string
	header   raster.Header
	source   raster.Source
	from     raster.Header // of the raster that is aligned
	grid     raster.Grid
	how      Resample
	straight bool    // both grids are in one CRS
	turn     float64 // columns of the source in a turn of the Earth, 0 where it is in no degrees
	lead     float64 // columns before the source's own ones
	bw, bh   int
	toSource func(col, row float64) (float64, float64, bool)
	toRow    func(row float64) float64 // where both grids are in one CRS
	toColumn func(col float64) float64

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
func (a *Aligned) Source() raster.Header { return a.from }

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
func (a *Aligned) covered(src raster.Grid) bool {
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
func (a *Aligned) Header() raster.Header { return a.header }

// BlockSize implements [Source].
func (a *Aligned) BlockSize() (width, height int) { return a.bw, a.bh }

// NewReader implements [Source].
func (a *Aligned) NewReader() raster.Reader {
	return &alignedReader{a: a, r: a.source.NewReader()}
}

type alignedReader struct {
	a      *Aligned
	r      raster.Reader
	cells  raster.Cells
	at     raster.Window // what cells holds
	places [][2]float64  // of centres, in source cells; NaN where there is none. Where rows and columns map apart, those of columns, and
	rows   []float64     // those of rows
	taken  []int32       // by cell of the window: the index in cells of the one that it takes, -1 for none
	weight map[float64]float64
}

// squareCells is the side of the squares over which positions are interpolated.
const squareCells = 32

// Read implements [Reader].
func (r *alignedReader) Read(w raster.Window, dst *raster.Cells) error {
	a := r.a
	at, some := r.reached(w)
	src := a.source.Header().Grid
	dst.Resize(a.header.Type, w.Width, w.Height, w.Width)
	nodata := 0.0
	if a.header.NoData != nil {
		nodata = *a.header.NoData
	}
	dst.Fill(nodata)
	if !some {
		if a.header.NoData == nil {
			return a.uncovered()
		}
		a.note(w, Moves{Empty: int64(w.Width) * int64(w.Height)})
		return nil
	}
	r.at = at
	if r.at.Width*r.at.Height > 1<<27 {
		return fmt.Errorf("%s: %d × %d of its cells fall into a window of %d × %d cells of the grid: it is much finer than the grid, choose a finer one",
			a.header.Name, r.at.Width, r.at.Height, w.Width, w.Height)
	}
	if err := r.r.Read(r.at, &r.cells); err != nil {
		return err
	}
	var m Moves
	if a.how == Nearest {
		copied := false
		if a.straight {
			m, copied = r.copied(dst, src)
		}
		if !copied {
			r.taken = raster.Grown(r.taken, w.Width*w.Height)
			if a.straight {
				m = r.takeStraight(src)
			} else {
				m = r.take(src)
			}
			r.nearest(dst)
		}
		if m.Empty > 0 && a.header.NoData == nil {
			return a.uncovered()
		}
		a.note(w, m)
		return nil
	}
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
			case Bilinear:
				v, ok = r.bilinear(p)
			case Heaviest:
				v, ok = r.heaviest(w.Col+col, w.Row+row, int(c), int(k))
			}
			if ok {
				if a.header.Type == raster.Float32 {
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

// reached finds where the cells of a window lie in the source, and the window around them there, with what resampling needs beyond it.
func (r *alignedReader) reached(w raster.Window) (at raster.Window, ok bool) {
	a := r.a
	apart := a.straight && a.how == Nearest
	if apart { // rows and columns map apart: exact, and cheap
		r.placeStraight(w)
	} else {
		r.place(w)
	}
	r.settle()
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	margin := 1.0
	if a.how == Heaviest {
		margin = r.reach(w) + 2
	}
	for _, p := range r.places {
		if x, y := p[0], p[1]; x == x { // no use of min and max, which take three times as long to heed NaN and signed zeros
			if x < c0 {
				c0 = x
			}
			if x > c1 {
				c1 = x
			}
			if y < r0 {
				r0 = y
			}
			if y > r1 {
				r1 = y
			}
		}
	}
	if apart {
		r0, r1 = slices.Min(r.rows), slices.Max(r.rows)
	}
	c0, c1, r0, r1 = c0-margin, c1+margin, r0-margin, r1+margin
	g := a.source.Header().Grid
	c0, r0 = math.Max(0, math.Floor(c0)), math.Max(0, math.Floor(r0))
	c1, r1 = math.Min(float64(g.Width), math.Ceil(c1)), math.Min(float64(g.Height), math.Ceil(r1))
	if c0 >= c1 || r0 >= r1 {
		return at, false
	}
	return raster.Window{Col: int(c0), Row: int(r0), Width: int(c1 - c0), Height: int(r1 - r0)}, true
}

// Ahead implements [raster.Announced].
func (a *Aligned) Ahead(windows []raster.Window) bool {
	if !raster.Ahead(a.source, nil) {
		return false
	}
	r := a.NewReader().(*alignedReader)
	var of []raster.Window
	for _, w := range windows {
		if at, ok := r.reached(w); ok {
			of = append(of, at)
		}
	}
	return raster.Ahead(a.source, of)
}

// uncovered is the error of a grid that reaches beyond a raster without a nodata value.
func (a *Aligned) uncovered() error {
	return fmt.Errorf("%s: a part of the grid lies beyond it, and it declares no nodata value that cells there could have: give it one", a.header.Name)
}

func (a *Aligned) note(w raster.Window, m Moves) {
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
