package view

import (
	"encoding/binary"
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Courses is a view whose cells are f of those of layers on the same cells, such as epochs: the header states the type, nodata value
// and palette of the outcome, whose grid is that of the first. f is called at least once for each combination of values that
// occurs, by several goroutines, with a list that it must not keep, and must give values that the type holds.
func Courses(layers []raster.Source, h raster.Header, f func(values []float64) float64) raster.Source {
	h.Grid = layers[0].Header().Grid
	return &courses{layers, h, f}
}

type courses struct {
	layers []raster.Source
	header raster.Header
	f      func(values []float64) float64
}

// Ahead implements [raster.Announced].
func (s *courses) Ahead(windows []raster.Window) bool { return raster.AheadOf(windows, s.layers...) }

// Header implements [Source].
func (s *courses) Header() raster.Header { return s.header }

// BlockSize implements [Source].
func (s *courses) BlockSize() (width, height int) { return s.layers[0].BlockSize() }

// NewReader implements [Source].
func (s *courses) NewReader() raster.Reader {
	n := len(s.layers)
	r := &coursesReader{of: s, cells: make([]raster.Cells, n), values: make([]float64, n), key: make([]byte, 8*n), known: map[string]float64{}}
	for _, l := range s.layers {
		r.readers = append(r.readers, l.NewReader())
	}
	return r
}

type coursesReader struct {
	of      *courses
	readers []raster.Reader
	cells   []raster.Cells
	values  []float64
	key     []byte             // of the values
	known   map[string]float64 // by key
	recent  []recentCourse     // of bytes of up to eight layers, by a hash of their values
}

// recentCourse is what came of the bytes of a cell, one of each layer.
type recentCourse struct {
	bytes uint64
	value float64
	known bool
}

// recentBits is how many places recent has, as a power of two; they stay near the processor.
const recentBits = 10

// Read implements [Reader].
func (r *coursesReader) Read(w raster.Window, dst *raster.Cells) error {
	bytes := len(r.cells) <= 8
	for i, layer := range r.readers {
		if err := layer.Read(w, &r.cells[i]); err != nil {
			return err
		}
		bytes = bytes && r.cells[i].Type.Bytes() == 1
	}
	dst.Resize(r.of.header.Type, w.Width, w.Height, w.Width)
	for row := range w.Height {
		if bytes {
			r.byteRow(row, dst)
			continue
		}
		value, any := 0.0, false
		for col := range w.Width {
			if !any || r.differs(col, row) {
				value, any = r.at(col, row), true
			}
			dst.Set(col, row, value)
		}
	}
	return nil
}

// byteRow computes a row of layers of bytes: the bytes of a cell are one word, which is mostly that of the cell before, or of one not long ago.
func (r *coursesReader) byteRow(row int, dst *raster.Cells) {
	if r.recent == nil {
		r.recent = make([]recentCourse, 1<<recentBits)
	}
	var last uint64
	value := 0.0
	for col := range dst.Width {
		word := uint64(0)
		for i := range r.cells {
			c := &r.cells[i]
			word |= uint64(c.U8[row*c.Stride+col]) << (8 * i)
		}
		if word != last || col == 0 {
			last = word
			place := &r.recent[word*0x9e3779b97f4a7c15>>(64-recentBits)]
			if !place.known || place.bytes != word {
				*place = recentCourse{word, r.at(col, row), true}
			}
			value = place.value
		}
		dst.Set(col, row, value)
	}
}

// differs reports whether a cell holds something else than the one before it in the row, or NaN.
func (r *coursesReader) differs(col, row int) bool {
	for i := range r.cells {
		if r.cells[i].At(col, row) != r.cells[i].At(col-1, row) {
			return true
		}
	}
	return false
}

// at is what comes of a cell.
func (r *coursesReader) at(col, row int) float64 {
	for i := range r.cells {
		v := r.cells[i].At(col, row)
		r.values[i] = v
		binary.LittleEndian.PutUint64(r.key[8*i:], math.Float64bits(v))
	}
	v, ok := r.known[string(r.key)]
	if !ok {
		v = r.of.f(r.values)
		r.known[string(r.key)] = v
	}
	return v
}
