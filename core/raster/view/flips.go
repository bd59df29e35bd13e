package view

import (
	"github.com/verdex-land/verdex/core/raster"
)

// What a cell of [Flips] is.
const (
	NoFlip   = 0
	Flip     = 1 // beside another one
	LoneFlip = 2 // a single cell
)

// Flips is a view of three epochs on the same cells that marks ground which the second has in another class than the first and
// the third in the same again: single cells, and cells of which one of the four beside them flips too. class gives the class of a value of
// an epoch, negative where there is none; it is called once for each value by each reader.
func Flips(epochs [3]raster.Source, class func(epoch int, v float64) int) raster.Source {
	f := &flips{class: class, header: raster.Header{Name: "flips", Grid: epochs[0].Header().Grid, Type: raster.Uint8, Format: "flips", Bands: 1}}
	for i, s := range epochs {
		if !raster.KeepsAll(s) {
			s = raster.Cached(s, cacheBytes/3)
		}
		f.epochs[i] = s
	}
	return f
}

type flips struct {
	epochs [3]raster.Source
	header raster.Header
	class  func(epoch int, v float64) int
}

// Ahead implements [raster.Announced].
func (f *flips) Ahead(windows []raster.Window) bool { return raster.AheadOf(windows, f.epochs[:]...) }

// Header implements [Source].
func (f *flips) Header() raster.Header { return f.header }

// BlockSize implements [Source].
func (f *flips) BlockSize() (width, height int) { return f.epochs[0].BlockSize() }

// NewReader implements [Source].
func (f *flips) NewReader() raster.Reader {
	r := &flipsReader{f: f}
	for i, s := range f.epochs {
		r.readers[i], r.known[i] = s.NewReader(), map[float64]int{}
	}
	return r
}

type flipsReader struct {
	f       *flips
	readers [3]raster.Reader
	cells   [3]raster.Cells
	known   [3]map[float64]int
	marks   []bool // of the window and a cell around it
}

func (r *flipsReader) class(epoch int, v float64) int {
	k, ok := r.known[epoch][v]
	if !ok {
		k = r.f.class(epoch, v)
		r.known[epoch][v] = k
	}
	return k
}

// Read implements [Reader].
func (r *flipsReader) Read(w raster.Window, dst *raster.Cells) error {
	g := r.f.header.Grid
	c0, r0 := max(0, w.Col-1), max(0, w.Row-1)
	c1, r1 := min(g.Width, w.Col+w.Width+1), min(g.Height, w.Row+w.Height+1)
	around := raster.Window{Col: c0, Row: r0, Width: c1 - c0, Height: r1 - r0}
	for i := range r.readers {
		if err := r.readers[i].Read(around, &r.cells[i]); err != nil {
			return err
		}
	}
	stride := w.Width + 2
	r.marks = raster.Grown(r.marks, stride*(w.Height+2))
	clear(r.marks)
	for row := range around.Height {
		at := (row+r0-w.Row+1)*stride + c0 - w.Col + 1
		for col := range around.Width {
			a, b, c := r.cells[0].At(col, row), r.cells[1].At(col, row), r.cells[2].At(col, row)
			if a == b && b == c { // mostly; with other crosswalks the same value may be another class
				x := r.class(0, a)
				r.marks[at+col] = x >= 0 && x == r.class(2, c) && x != r.class(1, b) && r.class(1, b) >= 0
				continue
			}
			x, y, z := r.class(0, a), r.class(1, b), r.class(2, c)
			r.marks[at+col] = x >= 0 && y >= 0 && x == z && x != y
		}
	}
	dst.Resize(raster.Uint8, w.Width, w.Height, w.Width)
	for row := range w.Height {
		for col := range w.Width {
			at := (row+1)*stride + col + 1
			v := uint8(NoFlip)
			if r.marks[at] {
				v = LoneFlip
				if r.marks[at-1] || r.marks[at+1] || r.marks[at-stride] || r.marks[at+stride] {
					v = Flip
				}
			}
			dst.U8[row*dst.Stride+col] = v
		}
	}
	return nil
}
