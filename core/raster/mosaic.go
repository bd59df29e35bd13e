package raster

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/fault"
)

// Overlap says what holds where rasters of a mosaic overlap.
type Overlap uint8

// The rules for overlaps. Cells without data give way in all of them.
const (
	Last     Overlap = iota // the raster named later
	First                   // the raster named earlier
	Majority                // the value that most of them hold; of several, the one named latest
	Mean                    // for measurements
	Min
	Max
)

// cacheBytes is how much of the blocks of rasters that do not lie on a view's blocks is kept.
const cacheBytes = 96 << 20

// snapLimit is how far, in cells, a raster may lie off the grid of a mosaic and still be taken to lie on it.
const snapLimit = 0.01

// MosaicOptions say how rasters become one.
type MosaicOptions struct {
	Overlap Overlap
	// Resample brings rasters that lie off the grid of the first onto it, instead of refusing them: in the way
	// that How says.
	Resample bool
	How      Resample
}

// member is a raster of a mosaic.
type member struct {
	Source
	header   Header
	col, row int // of its first cell in the mosaic
	aligned  bool
}

func (m *member) window() Window {
	return Window{m.col, m.row, m.header.Grid.Width, m.header.Grid.Height}
}

// within is the part of a window that lies in a grid of width × height cells; it may be empty.
func (w Window) within(width, height int) Window {
	c0, r0 := max(0, w.Col), max(0, w.Row)
	c1, r1 := min(width, w.Col+w.Width), min(height, w.Row+w.Height)
	return Window{c0, r0, max(0, c1-c0), max(0, r1-r0)}
}

// mosaic is a view of rasters on one lattice of cells.
type mosaic struct {
	header         Header
	members        []*member
	overlap        Overlap
	blockW, blockH int
}

// Joined is a mosaic with what is to be said of it.
type Joined struct {
	Source
	Notes, Warnings []string
}

// Mosaic makes one raster of several that have one CRS and cells of one size, on the lattice of the
// first. It reconciles nodata values, types and palettes, or says by name why it cannot.
func Mosaic(sources []Source, o MosaicOptions) (*Joined, error) {
	if len(sources) == 0 {
		return nil, fmt.Errorf("a mosaic needs at least one raster")
	}
	j := &Joined{}
	m := &mosaic{overlap: o.Overlap}
	first := sources[0].Header()
	var moved float64
	movedName := ""
	for _, s := range sources {
		h := s.Header()
		off, err := first.offset(h)
		if err != nil {
			return nil, err
		}
		col, row := math.Round(off[0]), math.Round(off[1])
		if far := math.Max(math.Abs(off[0]-col), math.Abs(off[1]-row)); far > 1e-6 {
			switch {
			case far < snapLimit:
				if far > moved {
					moved, movedName = far, h.Name
				}
			case !o.Resample:
				return nil, fault.Errorf("%s: its cells lie %.3f columns and %.3f rows off those of %s, so one of them has to be resampled",
					h.Name, math.Abs(off[0]-col), math.Abs(off[1]-row), first.Name).By("allow it", "resample", "nearest").Do("align it first")
			default:
				g := first.Grid
				g.X0, g.Y0 = first.Grid.Point(col, row)
				g.Width, g.Height = h.Grid.Width, h.Grid.Height
				a, err := Align(s, g, o.How)
				if err != nil {
					return nil, err
				}
				what := "its cells are moved to the nearest ones, by up to"
				if o.How == Bilinear {
					what = "its cells are interpolated over"
				}
				j.Notes = append(j.Notes, fmt.Sprintf("%s lies off the grid of %s; %s %.2f of a cell", h.Name, first.Name, what, far))
				s, h = a, a.Header()
			}
		}
		if math.Abs(col) > math.MaxInt32 || math.Abs(row) > math.MaxInt32 {
			return nil, fmt.Errorf("%s and %s lie too far apart for one raster", first.Name, h.Name)
		}
		m.members = append(m.members, &member{Source: s, header: h, col: int(col), row: int(row)})
	}
	if moved > 0 {
		j.Notes = append(j.Notes, fmt.Sprintf("%s and perhaps others lie off the grid of %s by up to %.1g of a cell and are taken to lie on it", movedName, first.Name, moved))
	}
	if err := m.join(first, j); err != nil {
		return nil, err
	}
	m.prepare()
	j.Source = m
	return j, nil
}

// offset is where the first cell of o lies in the cells of h; rasters of another CRS or cell size are refused.
func (h *Header) offset(o Header) (off [2]float64, err error) {
	g, k := h.Grid, o.Grid
	switch {
	case (g.CRS == nil) != (k.CRS == nil) || g.CRS != nil && !g.CRS.Same(k.CRS):
		return off, fmt.Errorf("%s is in %v and %s in %v: bring them onto one grid with verdex align first", h.Name, g.CRS, o.Name, k.CRS)
	case g.DY*k.DY < 0:
		return off, fmt.Errorf("%s has its first row in the north and %s in the south: bring them onto one grid with verdex align first", h.Name, o.Name)
	}
	// Sizes are the same when they agree to a hundredth of a cell over the whole of the raster.
	if math.Abs(g.DX-k.DX)/g.DX*float64(k.Width) > snapLimit || math.Abs((g.DY-k.DY)/g.DY)*float64(k.Height) > snapLimit {
		return off, fmt.Errorf("%s has cells of %.10g × %.10g and %s of %.10g × %.10g: bring them onto one grid with verdex align first",
			h.Name, g.DX, math.Abs(g.DY), o.Name, k.DX, math.Abs(k.DY))
	}
	// The middle, so that what sizes differ by is divided to both sides.
	x, y := k.Point(float64(k.Width)/2, float64(k.Height)/2)
	c, r := g.Cell(x, y)
	return [2]float64{c - float64(k.Width)/2, r - float64(k.Height)/2}, nil
}

// join settles the grid, the type, the nodata value and the palette.
func (m *mosaic) join(first Header, j *Joined) error {
	h := first
	r0, r1 := math.MaxInt, math.MinInt
	for _, s := range m.members {
		r0, r1 = min(r0, s.row), max(r1, s.row+s.header.Grid.Height)
	}
	count := len(m.members)
	members, c0, width, err := roundTheEarth(first, m.members)
	if err != nil {
		return err
	}
	m.members = members
	c1 := c0 + width
	if c1-c0 > math.MaxInt32 || r1-r0 > math.MaxInt32 {
		return fmt.Errorf("%s and the others span %d × %d cells, too many for one raster", first.Name, c1-c0, r1-r0)
	}
	h.Grid.X0, h.Grid.Y0 = first.Grid.Point(float64(c0), float64(r0))
	h.Grid.Width, h.Grid.Height = c1-c0, r1-r0
	for _, s := range m.members {
		s.col, s.row = s.col-c0, s.row-r0
	}
	h.Overviews, h.Notes = 0, nil
	h.Format = fmt.Sprintf("mosaic of %d rasters, the first: %s", count, first.Format)
	if count > 1 {
		h.Name = fmt.Sprintf("%s and %d more", first.Name, count-1)
	}
	if err := m.joinTypes(&h); err != nil {
		return err
	}
	m.joinPalettes(&h, j)
	m.joinNoData(&h, j)
	if h.NoData == nil && !m.covers(h.Grid) {
		t, v := roomFor(h.Type)
		j.Notes = append(j.Notes, fmt.Sprintf("the rasters leave ground between them uncovered and declare no nodata value; there, cells are nodata (%g, as %s)", v, t))
		h.Type, h.NoData = t, &v
	}
	m.header = h
	return nil
}

// roomFor is a type that holds all values of t and one more, for nodata.
func roomFor(t CellType) (CellType, float64) {
	switch t {
	case Uint8:
		return Uint16, math.MaxUint16
	case Int8:
		return Int16, math.MinInt16
	case Uint16:
		return Uint32, math.MaxUint32
	case Int16:
		return Int32, math.MinInt32
	case Float32:
		return Float32, math.NaN()
	}
	return Float64, math.NaN()
}

// joinTypes finds the narrowest type that holds all.
func (m *mosaic) joinTypes(h *Header) error {
	var types []CellType
	for _, s := range m.members {
		t := s.header.Type
		if t.Floating() != h.Type.Floating() {
			return fmt.Errorf("%s holds %s and %s %s cells: whole numbers and measurements do not make one raster", h.Name, h.Type, s.header.Name, t)
		}
		types = append(types, t)
	}
	joint, ok := JointType(types...)
	if !ok {
		return fmt.Errorf("%s and the others hold cells that no type takes together", h.Name)
	}
	h.Type = joint
	return nil
}

// Contains reports whether t holds every value of o.
func (t CellType) Contains(o CellType) bool {
	if t == o || t == Float64 {
		return true
	}
	return !t.Floating() && !o.Floating() && cellTypes[t].min <= cellTypes[o].min && cellTypes[t].max >= cellTypes[o].max ||
		t == Float32 && !o.Floating() && o.Bytes() < 4
}

// joinPalettes takes the first palette and points out values that another colours differently.
func (m *mosaic) joinPalettes(h *Header, j *Joined) {
	named := ""
	h.Palette = nil
	for _, s := range m.members {
		p := s.header.Palette
		if len(p) == 0 {
			continue
		}
		if h.Palette == nil {
			h.Palette, named = p, s.header.Name
			continue
		}
		for v := range min(len(p), len(h.Palette)) {
			if p[v] != h.Palette[v] && p[v] != (Color{}) && h.Palette[v] != (Color{}) {
				j.Warnings = append(j.Warnings, fmt.Sprintf("the value %d is %v in %s and %v in %s: check that both have the same legend", v, h.Palette[v], named, p[v], s.header.Name))
				return
			}
		}
	}
}

// joinNoData takes the nodata value that is declared; rasters that declare none are taken to mean it too. Where rasters declare
// different ones, none of them will do, because one may be a class of another: the mosaic has a value that no cell can have.
func (m *mosaic) joinNoData(h *Header, j *Joined) {
	h.NoData = nil
	named := ""
	differ := ""
	var silent []string
	for _, s := range m.members {
		if n := s.header.NoData; n != nil && !s.header.Type.Holds(*n) {
			s.header.NoData = nil // no cell can hold it
		}
		switch n := s.header.NoData; {
		case n == nil:
			silent = append(silent, s.header.Name)
		case h.NoData == nil:
			h.NoData, named = n, s.header.Name
		case !sameValue(*n, *h.NoData) && differ == "":
			differ = fmt.Sprintf("nodata is %g in %s and %g in %s", *h.NoData, named, *n, s.header.Name)
		}
	}
	silent = slices.Compact(silent)
	if h.NoData != nil && len(silent) > 0 {
		for _, s := range m.members {
			if s.header.NoData == nil {
				s.header.NoData = h.NoData
			}
		}
		more := ""
		if len(silent) > 1 {
			more = fmt.Sprintf(" and %d more", len(silent)-1)
		}
		j.Notes = append(j.Notes, fmt.Sprintf("%s%s declares no nodata value; %g is taken as nodata there too, as in %s", silent[0], more, *h.NoData, named))
	}
	if differ != "" {
		t, v := roomFor(h.Type)
		j.Notes = append(j.Notes, fmt.Sprintf("%s; both become %g, which no cell can have, as %s", differ, v, t))
		h.Type, h.NoData = t, &v
	}
	h.settle()
}

// covers reports whether the members leave no cell of the grid uncovered.
func (m *mosaic) covers(g Grid) bool {
	if len(m.members) > 4000 {
		return false
	}
	cols, rows := []int{0, g.Width}, []int{0, g.Height}
	for _, s := range m.members {
		w := s.window().within(g.Width, g.Height)
		cols, rows = append(cols, w.Col, w.Col+w.Width), append(rows, w.Row, w.Row+w.Height)
	}
	slices.Sort(cols)
	slices.Sort(rows)
	cols, rows = slices.Compact(cols), slices.Compact(rows)
	if len(cols)*len(rows) > 1<<26 {
		return false
	}
	taken := make([]bool, len(cols)*len(rows))
	for _, s := range m.members {
		w := s.window().within(g.Width, g.Height)
		i0, _ := slices.BinarySearch(cols, w.Col)
		i1, _ := slices.BinarySearch(cols, w.Col+w.Width)
		j0, _ := slices.BinarySearch(rows, w.Row)
		j1, _ := slices.BinarySearch(rows, w.Row+w.Height)
		for j := j0; j < j1; j++ {
			for i := i0; i < i1; i++ {
				taken[j*len(cols)+i] = true
			}
		}
	}
	for j := range len(rows) - 1 {
		for i := range len(cols) - 1 {
			if !taken[j*len(cols)+i] {
				return false
			}
		}
	}
	return true
}

// Extent is a view of a raster on another extent of its own lattice: cut, or widened with nodata. The
// grid must have cells of the same size and place.
func Extent(s Source, g Grid) (Source, error) {
	h := s.Header()
	off, err := (&Header{Name: "the extent", Grid: g}).offset(h)
	if err != nil {
		return nil, err
	}
	col, row := math.Round(off[0]), math.Round(off[1])
	if math.Max(math.Abs(off[0]-col), math.Abs(off[1]-row)) >= snapLimit {
		return nil, fmt.Errorf("%s: its cells are not those of the extent", h.Name)
	}
	m := &mosaic{members: onTurn(h.Grid, &member{Source: s, header: h, col: int(col), row: int(row)}, g.Width)}
	m.header = h
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		m.header.NoData = nil // no cell can have it
	}
	m.header.Grid.X0, m.header.Grid.Y0 = h.Grid.Point(-col, -row)
	m.header.Grid.Width, m.header.Grid.Height = g.Width, g.Height
	if m.header.settle(); m.header.NoData == nil && !m.covers(m.header.Grid) {
		t, v := roomFor(h.Type)
		m.header.Type, m.header.NoData = t, &v
	}
	m.prepare()
	return m, nil
}

// prepare chooses the block size, and keeps decoded blocks of the members that do not lie on blocks.
func (m *mosaic) prepare() {
	m.blockW, m.blockH = 1, 1
	for _, s := range m.members {
		w, h := s.BlockSize()
		m.blockW, m.blockH = max(m.blockW, w), max(m.blockH, h)
	}
	shared := newPool(cacheBytes)
	for _, s := range m.members {
		w, h := s.BlockSize()
		s.aligned = s.col%w == 0 && s.row%h == 0 && m.blockW%w == 0 && m.blockH%h == 0
		if !s.aligned || w != m.blockW || h != m.blockH {
			s.Source = &cached{Source: s.Source, pool: shared, blockW: w, blockH: h}
		}
	}
}

// Tiling is where windows begin that lie in one block of one member each; nil when members overlap, or
// when they are so many and so uneven that such windows would be slivers.
func (m *mosaic) Tiling() (cols, rows []int) {
	sum := 0
	g := m.header.Grid
	for _, s := range m.members {
		if w := s.window(); w != w.within(g.Width, g.Height) {
			return nil, nil
		}
		sum += s.header.Grid.Width * s.header.Grid.Height
	}
	if len(m.members) < 2 || sum > g.Width*g.Height || !m.covers(g) {
		return nil, nil
	}
	blocks := 0
	for _, s := range m.members {
		w := s.window()
		bw, bh := s.BlockSize()
		if bh < 64 { // strips of few rows are read several at a time
			bh *= (64 + bh - 1) / bh
		}
		for c := w.Col; c < w.Col+w.Width; c += bw {
			cols = append(cols, c)
		}
		for r := w.Row; r < w.Row+w.Height; r += bh {
			rows = append(rows, r)
		}
		blocks += ((w.Width + bw - 1) / bw) * ((w.Height + bh - 1) / bh)
		if len(cols) > 1<<16 {
			slices.Sort(cols)
			cols = slices.Compact(cols)
		}
		if len(rows) > 1<<16 {
			slices.Sort(rows)
			rows = slices.Compact(rows)
		}
	}
	slices.Sort(cols)
	slices.Sort(rows)
	cols, rows = slices.Compact(cols), slices.Compact(rows)
	if len(cols)*len(rows) > blocks+blocks/4 {
		return nil, nil
	}
	return cols, rows
}

// Header implements [Source].
func (m *mosaic) Header() Header { return m.header }

// BlockSize implements [Source].
func (m *mosaic) BlockSize() (width, height int) { return m.blockW, m.blockH }

// NewReader implements [Source].
func (m *mosaic) NewReader() Reader {
	return &mosaicReader{m: m, readers: make([]Reader, len(m.members))}
}

type mosaicReader struct {
	m       *mosaic
	readers []Reader
	scratch Cells
	stack   []Cells // of overlapping members
	at      []part
}

// part is the share of a member in a window.
type part struct {
	member int
	Window // in the mosaic
}

func (r *mosaicReader) reader(i int) Reader {
	if r.readers[i] == nil {
		r.readers[i] = r.m.members[i].Source.NewReader()
	}
	return r.readers[i]
}

// read reads the part of a member that lies in w.
func (r *mosaicReader) read(p part, dst *Cells) error {
	s := r.m.members[p.member]
	return r.reader(p.member).Read(Window{p.Col - s.col, p.Row - s.row, p.Width, p.Height}, dst)
}

// Read implements [Reader].
func (r *mosaicReader) Read(w Window, dst *Cells) error {
	m := r.m
	r.at = r.at[:0]
	for i, s := range m.members {
		b := s.window()
		c0, r0 := max(w.Col, b.Col), max(w.Row, b.Row)
		c1, r1 := min(w.Col+w.Width, b.Col+b.Width), min(w.Row+w.Height, b.Row+b.Height)
		if c0 < c1 && r0 < r1 {
			r.at = append(r.at, part{i, Window{c0, r0, c1 - c0, r1 - r0}})
		}
	}
	if len(r.at) == 1 && r.at[0].Window == w && m.plain(r.at[0].member) {
		return r.read(r.at[0], dst)
	}
	dst.Resize(m.header.Type, w.Width, w.Height, w.Width)
	nodata := 0.0
	if m.header.NoData != nil {
		nodata = *m.header.NoData
	}
	dst.Fill(nodata)
	if m.overlap > First && len(r.at) > 1 {
		return r.combine(w, dst)
	}
	if m.overlap == First {
		slices.Reverse(r.at)
	}
	for _, p := range r.at {
		if err := r.read(p, &r.scratch); err != nil {
			return err
		}
		m.lay(p, &r.scratch, dst, w)
	}
	return nil
}

// plain reports whether the cells of a member are those of the mosaic as they are. Where cells can be NaN beside another nodata value they
// are not: the mosaic has one value for what is missing.
func (m *mosaic) plain(i int) bool {
	h := m.members[i].header
	switch {
	case h.Type != m.header.Type:
		return false
	case h.Type.Floating():
		return h.NoData != nil && math.IsNaN(*h.NoData) && m.header.NoData != nil && math.IsNaN(*m.header.NoData)
	}
	return h.NoData == nil || m.header.NoData != nil && *h.NoData == *m.header.NoData
}

func sameValue(a, b float64) bool { return a == b || math.IsNaN(a) && math.IsNaN(b) }

// lay puts the cells of a member that hold data over those that are there. The nodata value of the mosaic is none that
// cells with data can have.
func (m *mosaic) lay(p part, src, dst *Cells, w Window) {
	h := m.members[p.member].header
	own := math.NaN()
	if h.NoData != nil {
		own = *h.NoData
	}
	if h.Type != m.header.Type {
		for row := range p.Height {
			for col := range p.Width {
				if v := src.At(col, row); !h.Missing(v) {
					dst.Set(p.Col-w.Col+col, p.Row-w.Row+row, v)
				}
			}
		}
		return
	}
	for row := range p.Height {
		s, d := row*src.Stride, (p.Row-w.Row+row)*dst.Stride+p.Col-w.Col
		switch h.Type {
		case Uint8:
			layRow(dst.U8[d:d+p.Width], src.U8[s:], own)
		case Int8:
			layRow(dst.U8[d:d+p.Width], src.U8[s:], asByte(own))
		case Uint16:
			layRow(dst.U16[d:d+p.Width], src.U16[s:], own)
		case Int16:
			layRow(dst.I16[d:d+p.Width], src.I16[s:], own)
		case Uint32:
			layRow(dst.U32[d:d+p.Width], src.U32[s:], own)
		case Int32:
			layRow(dst.I32[d:d+p.Width], src.I32[s:], own)
		case Float32:
			layRow(dst.F32[d:d+p.Width], src.F32[s:], own)
		case Float64:
			layRow(dst.F64[d:d+p.Width], src.F64[s:], own)
		}
	}
}

// asByte is the two's complement of a number that int8 holds.
func asByte(v float64) float64 {
	if math.IsNaN(v) {
		return v
	}
	return float64(uint8(int8(v)))
}

// number is any type that cells are stored in.
type number interface {
	uint8 | int8 | uint16 | int16 | uint32 | int32 | float32 | float64
}

// layRow copies the cells of src that are not own, nor NaN.
func layRow[T number](dst, src []T, own float64) {
	src = src[:len(dst)]
	none := T(own)
	has := !math.IsNaN(own)
	if !has && T(1)/T(2) == 0 { // whole numbers, all of them data
		copy(dst, src)
		return
	}
	for i, v := range src {
		if has && v == none || v != v {
			continue
		}
		dst[i] = v
	}
}

// combine settles cells that several members may hold, by majority, mean, least or greatest value.
func (r *mosaicReader) combine(w Window, dst *Cells) error {
	m := r.m
	for len(r.stack) < len(r.at) {
		r.stack = append(r.stack, Cells{})
	}
	for i, p := range r.at {
		if err := r.read(p, &r.stack[i]); err != nil {
			return err
		}
	}
	values := make([]float64, 0, len(r.at))
	for row := range w.Height {
		for col := range w.Width {
			values = values[:0]
			for i, p := range r.at {
				c, k := w.Col+col-p.Col, w.Row+row-p.Row
				if c < 0 || k < 0 || c >= p.Width || k >= p.Height {
					continue
				}
				if v := r.stack[i].At(c, k); !m.members[p.member].header.Missing(v) {
					values = append(values, v)
				}
			}
			if len(values) > 0 {
				v := Combine(m.overlap, values)
				if !m.header.Type.Floating() {
					v = math.Round(v) // a mean
				}
				dst.Set(col, row, v)
			}
		}
	}
	return nil
}

// Combine gives what holds of several values of a cell, of which there is at least one.
func Combine(o Overlap, values []float64) float64 {
	switch o {
	case First:
		return values[0]
	case Majority:
		best, most := values[0], 0
		for i := len(values) - 1; i >= 0; i-- { // the latest stays in a tie
			v, n := values[i], 0
			for _, u := range values[:i+1] {
				if u == v {
					n++
				}
			}
			if n > most {
				best, most = v, n
			}
		}
		return best
	case Mean:
		sum := 0.0
		for _, v := range values {
			sum += v
		}
		return sum / float64(len(values))
	case Min:
		return slices.Min(values)
	case Max:
		return slices.Max(values)
	}
	return values[len(values)-1]
}
