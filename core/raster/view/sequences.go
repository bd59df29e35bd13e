package view

import (
	"encoding/binary"
	"errors"
	"math"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/raster"
)

// Sequences is a view of layers on the same cells, such as epochs, whose cells number the sequences of what their values mean: the first sequence that was met is 0. Numbers are given as
// sequences are met, by whoever meets them, so that they mean nothing without [Sequences.List].
type Sequences struct {
	layers  []raster.Source
	meaning func(layer int, v float64) int32
	most    int
	header  raster.Header

	mu      sync.Mutex
	numbers map[string]uint32
	list    [][]int32
}

// ErrTooManySequences is the error of layers with more different sequences than are counted.
var ErrTooManySequences = errors.New("the epochs have more different histories than are counted")

// NewSequences makes the view. meaning gives what a value of a layer means; it is called once for each value by each reader. More sequences than most are an error.
func NewSequences(layers []raster.Source, meaning func(layer int, v float64) int32, most int) *Sequences {
	return &Sequences{layers: layers, meaning: meaning, most: most, numbers: map[string]uint32{},
		header: raster.Header{Name: "histories", Grid: layers[0].Header().Grid, Type: raster.Uint32, Format: "histories", Bands: 1}}
}

// List are the sequences that were met, by number: what each layer means. It must not be called while cells are read.
func (s *Sequences) List() [][]int32 { return s.list }

// Ahead implements [raster.Announced].
func (s *Sequences) Ahead(windows []raster.Window) bool {
	return raster.AheadOf(windows, s.layers...)
}

// Header implements [Source].
func (s *Sequences) Header() raster.Header { return s.header }

// BlockSize implements [Source].
func (s *Sequences) BlockSize() (width, height int) { return s.layers[0].BlockSize() }

// NewReader implements [Source].
func (s *Sequences) NewReader() raster.Reader {
	n := len(s.layers)
	r := &sequencesReader{of: s, cells: make([]raster.Cells, n), known: make([]map[float64]int32, n), values: make([]float64, n), key: make([]byte, 8*n), numbers: map[string]uint32{}}
	for i, l := range s.layers {
		r.readers, r.known[i] = append(r.readers, l.NewReader()), map[float64]int32{}
	}
	return r
}

type sequencesReader struct {
	of      *Sequences
	readers []raster.Reader
	cells   []raster.Cells
	known   []map[float64]int32
	values  []float64
	key     []byte            // of the values
	numbers map[string]uint32 // by key
	recent  []recentSequence  // of bytes of up to eight layers, by a hash of their values
	rows    [8][]uint8
}

// recentSequence is the number of the bytes of a cell, one of each layer; number is one more, for 0 is none.
type recentSequence struct {
	bytes  uint64
	number uint32
}

// recentBits is how many places recent has, as a power of two; they stay near the processor.
const recentBits = 11

// Read implements [Reader].
func (r *sequencesReader) Read(w raster.Window, dst *raster.Cells) error {
	for i, layer := range r.readers {
		if err := layer.Read(w, &r.cells[i]); err != nil {
			return err
		}
	}
	dst.Resize(raster.Uint32, w.Width, w.Height, w.Width)
	bytes := len(r.cells) <= len(r.rows)
	for i := range r.cells {
		bytes = bytes && (r.cells[i].Type == raster.Uint8 || r.cells[i].Type == raster.Int8)
	}
	for row := range w.Height {
		out := dst.U32[row*w.Width:][:w.Width]
		if bytes {
			if err := r.byteRow(row, out); err != nil {
				return err
			}
			continue
		}
		for from := 0; from < w.Width; {
			n, err := r.number(from, row)
			if err != nil {
				return err
			}
			to := w.Width
			for i := range r.cells {
				to = endOfRun(&r.cells[i], row, from, to)
			}
			for k := range out[from:to] {
				out[from+k] = n
			}
			from = to
		}
	}
	return nil
}

// byteRow numbers a row of layers of bytes: the bytes of a cell are one word, which is mostly that of the cell before, or of one not long ago.
func (r *sequencesReader) byteRow(row int, out []uint32) error {
	if r.recent == nil {
		r.recent = make([]recentSequence, 1<<recentBits)
	}
	n := len(r.cells)
	for i := range r.cells {
		c := &r.cells[i]
		r.rows[i] = c.U8[row*c.Stride:][:len(out)]
	}
	for i := n; i < len(r.rows); i++ {
		r.rows[i] = r.rows[0]
	}
	a, b, c, d := r.rows[0], r.rows[1][:len(out)], r.rows[2][:len(out)], r.rows[3][:len(out)]
	mask := ^uint64(0) >> (64 - 8*n)
	var last uint64
	number := uint32(0)
	for col := range out {
		word := uint64(a[col]) | uint64(b[col])<<8 | uint64(c[col])<<16 | uint64(d[col])<<24
		if n > 4 {
			word |= uint64(r.rows[4][col])<<32 | uint64(r.rows[5][col])<<40 | uint64(r.rows[6][col])<<48 | uint64(r.rows[7][col])<<56
		}
		word &= mask
		if word != last || col == 0 {
			last = word
			place := &r.recent[word*0x9e3779b97f4a7c15>>(64-recentBits)]
			if place.number == 0 || place.bytes != word {
				k, err := r.number(col, row)
				if err != nil {
					return err
				}
				*place = recentSequence{word, k + 1}
			}
			number = place.number - 1
		}
		out[col] = number
	}
	return nil
}

// endOfRun is where a row of cells no longer holds what it holds at a column, at most limit.
func endOfRun(c *raster.Cells, row, from, limit int) int {
	at := row * c.Stride
	switch c.Type {
	case raster.Uint8, raster.Int8:
		return from + same(c.U8[at+from:at+limit])
	case raster.Uint16:
		return from + same(c.U16[at+from:at+limit])
	case raster.Int16:
		return from + same(c.I16[at+from:at+limit])
	case raster.Uint32:
		return from + same(c.U32[at+from:at+limit])
	case raster.Int32:
		return from + same(c.I32[at+from:at+limit])
	}
	first := math.Float64bits(c.At(from, row))
	to := from + 1
	for to < limit && math.Float64bits(c.At(to, row)) == first {
		to++
	}
	return to
}

// same is how many cells at the beginning of a list are the same.
func same[T uint8 | uint16 | int16 | uint32 | int32](list []T) int {
	first := list[0]
	for i, v := range list {
		if v != first {
			return i
		}
	}
	return len(list)
}

// number is the number of the sequence of a cell.
func (r *sequencesReader) number(col, row int) (uint32, error) {
	for i := range r.cells {
		v := r.cells[i].At(col, row)
		r.values[i] = v
		binary.LittleEndian.PutUint64(r.key[8*i:], math.Float64bits(v))
	}
	if n, ok := r.numbers[string(r.key)]; ok {
		return n, nil
	}
	sequence := make([]int32, len(r.values))
	var text []byte
	for i, v := range r.values {
		m, ok := r.known[i][v]
		if !ok {
			m = r.of.meaning(i, v)
			if v == v { // not NaN, which no look-up finds
				r.known[i][v] = m
			}
		}
		sequence[i] = m
		text = binary.LittleEndian.AppendUint32(text, uint32(m))
	}
	s := r.of
	s.mu.Lock()
	defer s.mu.Unlock()
	n, ok := s.numbers[string(text)]
	if !ok {
		if len(s.list) >= s.most {
			return 0, ErrTooManySequences
		}
		n = uint32(len(s.list))
		s.numbers[string(text)] = n
		s.list = append(s.list, slices.Clip(sequence))
	}
	r.numbers[string(r.key)] = n
	return n, nil
}
