package view

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/verdex-land/verdex/core/fault"
)

// cacheBytes is how much of the blocks of rasters that do not lie on a view's blocks is kept.
const cacheBytes = 96 << 20

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
	raster.Source
	header   raster.Header
	col, row int // of its first cell in the mosaic
	aligned  bool
}

// part is the part of a window of the mosaic that lies in a member, in the cells of that.
func (m *member) part(w raster.Window) (part raster.Window, ok bool) {
	w.Col -= m.col
	w.Row -= m.row
	part = w.Within(m.header.Grid.Width, m.header.Grid.Height)
	return part, part.Width > 0 && part.Height > 0
}

func (m *member) window() raster.Window {
	return raster.Window{Col: m.col, Row: m.row, Width: m.header.Grid.Width, Height: m.header.Grid.Height}
}

// mosaic is a view of rasters on one lattice of cells.
type mosaic struct {
	header         raster.Header
	members        []*member
	overlap        Overlap
	blockW, blockH int
}

// Joined is a mosaic with what is to be said of it.
type Joined struct {
	raster.Source
	Notes, Warnings []string
}

// Tiling is that of the mosaic.
func (j *Joined) Tiling() (cols, rows []int) { return raster.Tiling(j.Source) }

// Ahead implements [raster.Announced].
func (j *Joined) Ahead(windows []raster.Window) bool { return raster.Ahead(j.Source, windows) }

// Mosaic makes one raster of several that have one CRS and cells of one size, on the lattice of the
// first. It reconciles nodata values, types and palettes, or says by name why it cannot.
func Mosaic(sources []raster.Source, o MosaicOptions) (*Joined, error) {
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
		off, err := first.Offset(h)
		if err != nil {
			return nil, err
		}
		col, row := math.Round(off[0]), math.Round(off[1])
		if far := math.Max(math.Abs(off[0]-col), math.Abs(off[1]-row)); far > 1e-6 {
			switch {
			case far < raster.SnapLimit:
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

// prepare chooses the block size, and keeps decoded blocks of the members that do not lie on blocks.
func (m *mosaic) prepare() {
	m.blockW, m.blockH = 1, 1
	for _, s := range m.members {
		w, h := s.BlockSize()
		m.blockW, m.blockH = max(m.blockW, w), max(m.blockH, h)
	}
	shared := raster.NewPool(cacheBytes)
	for _, s := range m.members {
		w, h := s.BlockSize()
		s.aligned = s.col%w == 0 && s.row%h == 0 && m.blockW%w == 0 && m.blockH%h == 0
		if !s.aligned || w != m.blockW || h != m.blockH {
			s.Source = shared.Keep(s.Source)
		}
	}
}

// Tiling is where windows begin that lie in one block of one member each; nil when members overlap, or
// when they are so many and so uneven that such windows would be slivers.
func (m *mosaic) Tiling() (cols, rows []int) {
	sum := 0
	g := m.header.Grid
	for _, s := range m.members {
		if w := s.window(); w != w.Within(g.Width, g.Height) {
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
		bw, bh := raster.WorkSize(s)
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
func (m *mosaic) Header() raster.Header { return m.header }

// BlockSize implements [Source].
func (m *mosaic) BlockSize() (width, height int) { return m.blockW, m.blockH }

// NewReader implements [Source].
func (m *mosaic) NewReader() raster.Reader {
	return &mosaicReader{m: m, readers: make([]raster.Reader, len(m.members))}
}

type mosaicReader struct {
	m       *mosaic
	readers []raster.Reader
	scratch raster.Cells
	stack   []raster.Cells // of overlapping members
	at      []part
}

// part is the share of a member in a window.
type part struct {
	member        int
	raster.Window // in the mosaic
}

func (r *mosaicReader) reader(i int) raster.Reader {
	if r.readers[i] == nil {
		r.readers[i] = r.m.members[i].Source.NewReader()
	}
	return r.readers[i]
}

// read reads the part of a member that lies in w.
func (r *mosaicReader) read(p part, dst *raster.Cells) error {
	s := r.m.members[p.member]
	return r.reader(p.member).Read(raster.Window{Col: p.Col - s.col, Row: p.Row - s.row, Width: p.Width, Height: p.Height}, dst)
}

// Read implements [Reader].
func (r *mosaicReader) Read(w raster.Window, dst *raster.Cells) error {
	m := r.m
	r.at = r.at[:0]
	for i, s := range m.members {
		if in, ok := s.part(w); ok {
			r.at = append(r.at, part{i, raster.Window{Col: in.Col + s.col, Row: in.Row + s.row, Width: in.Width, Height: in.Height}})
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

// Ahead implements [raster.Announced].
func (m *mosaic) Ahead(windows []raster.Window) (useful bool) {
	for _, s := range m.members {
		var of []raster.Window
		for _, w := range windows {
			if in, ok := s.part(w); ok {
				of = append(of, in)
			}
		}
		if len(of) > 0 || len(windows) == 0 {
			useful = raster.Ahead(s.Source, of) || useful
		}
	}
	return useful
}
