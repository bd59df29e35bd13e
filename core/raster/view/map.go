package view

import (
	"bytes"
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Map is a view whose cells are f of those of a source: the header states the type, nodata value and palette
// of the outcome, whose grid is that of the source. f is called once for each value of 8- and 16-bit
// sources, and must give values that the type holds. Its error stops the reading when a cell has such a value.
func Map(s raster.Source, h raster.Header, f func(v float64) (float64, error)) raster.Source {
	h.Grid = s.Header().Grid
	m := &mapped{Source: s, header: h, f: f}
	switch t := s.Header().Type; t.Bytes() {
	case 1:
		m.tabulate(1<<8, func(i int) float64 {
			if t == raster.Int8 {
				return float64(int8(i))
			}
			return float64(i)
		})
	case 2:
		m.tabulate(1<<16, func(i int) float64 {
			if t == raster.Int16 {
				return float64(int16(i))
			}
			return float64(i)
		})
	}
	return m
}

type mapped struct {
	raster.Source
	header raster.Header
	f      func(float64) (float64, error)
	table  []float64 // by bit pattern of 8- and 16-bit cells
	bytes  []uint8   // the same, when the outcome is bytes
	fast   *raster.ByteTable
	errs   map[int]error
	marker int // a byte that stands for all errors, -1 when each cell is to be looked at
}

func (m *mapped) tabulate(n int, value func(i int) float64) {
	m.table, m.errs = make([]float64, n), map[int]error{}
	for i := range m.table {
		v, err := m.f(value(i))
		if err != nil {
			m.errs[i] = err
			continue
		}
		m.table[i] = v
	}
	switch m.header.Type {
	case raster.Uint8:
		m.bytes = make([]uint8, n)
		for i, v := range m.table {
			m.bytes[i] = uint8(v)
		}
	case raster.Int8:
		m.bytes = make([]uint8, n)
		for i, v := range m.table {
			m.bytes[i] = uint8(int8(v))
		}
	}
	m.marker = -1
	if m.bytes == nil {
		return
	}
	if v, ok := unused(m.bytes, func(i int) bool { return m.errs[i] == nil }); ok {
		m.marker = int(v)
		for i := range m.errs {
			m.bytes[i] = v
		}
	}
	if n == 256 {
		m.fast = raster.NewByteTable([256]uint8(m.bytes))
	}
}

// unused is a byte that none of the entries that count has.
func unused(entries []uint8, counts func(i int) bool) (uint8, bool) {
	var used [256]bool
	for i, v := range entries {
		used[v] = used[v] || counts(i)
	}
	for v := 255; v >= 0; v-- {
		if !used[v] {
			return uint8(v), true
		}
	}
	return 0, false
}

// ByteMap takes apart a view made by [Map] that gives bytes for bytes: its source, what each byte becomes, and the
// errors of those that become nothing. Of any other raster it is the raster itself.
func ByteMap(s raster.Source) (src raster.Source, table [256]uint8, errs map[int]error) {
	if m, ok := s.(*mapped); ok && m.header.Type == raster.Uint8 && m.Source.Header().Type == raster.Uint8 {
		return m.Source, [256]uint8(m.bytes), m.errs
	}
	for i := range table {
		table[i] = uint8(i)
	}
	return s, table, nil
}

// Tiling is that of the source.
func (m *mapped) Tiling() (cols, rows []int) { return raster.Tiling(m.Source) }

// Ahead implements [raster.Announced].
func (m *mapped) Ahead(windows []raster.Window) bool { return raster.Ahead(m.Source, windows) }

// Header implements [Source].
func (m *mapped) Header() raster.Header { return m.header }

// NewReader implements [Source].
func (m *mapped) NewReader() raster.Reader { return &mappedReader{m: m, r: m.Source.NewReader()} }

type mappedReader struct {
	m   *mapped
	r   raster.Reader
	src raster.Cells
}

// Read implements [Reader].
func (r *mappedReader) Read(w raster.Window, dst *raster.Cells) error {
	if err := r.r.Read(w, &r.src); err != nil {
		return err
	}
	dst.Resize(r.m.header.Type, w.Width, w.Height, w.Width)
	for row := range w.Height {
		var err error
		switch at := row * r.src.Stride; r.src.Type {
		case raster.Uint8, raster.Int8:
			err = lookUp(r.m, r.src.U8[at:at+w.Width], dst, row)
		case raster.Uint16:
			err = lookUp(r.m, r.src.U16[at:at+w.Width], dst, row)
		case raster.Int16:
			err = lookUp(r.m, r.src.I16[at:at+w.Width], dst, row)
		default:
			err = r.compute(row, w.Width, dst)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// lookUp maps a row by the table.
func lookUp[T uint8 | uint16 | int16](m *mapped, src []T, dst *raster.Cells, row int) error {
	if len(m.errs) > 0 && m.marker < 0 {
		last, ok := T(0), false
		for _, v := range src {
			if ok && v == last {
				continue
			}
			if err := m.errs[int(uint16(v))]; err != nil {
				return err
			}
			last, ok = v, true
		}
	}
	if m.bytes != nil {
		out := dst.U8[row*dst.Stride:][:len(src)]
		if b, ok := any(src).([]uint8); ok && m.fast != nil {
			m.fast.Apply(out, b)
		} else {
			for i, v := range src {
				out[i] = m.bytes[uint16(v)]
			}
		}
		if len(m.errs) > 0 && m.marker >= 0 {
			if i := bytes.IndexByte(out, uint8(m.marker)); i >= 0 {
				return m.errs[int(uint16(src[i]))]
			}
		}
		return nil
	}
	for i, v := range src {
		dst.Set(i, row, m.table[uint16(v)])
	}
	return nil
}

// compute maps a row value by value; a value that repeats is mapped once.
func (r *mappedReader) compute(row, width int, dst *raster.Cells) error {
	last, out := math.NaN(), 0.0
	known := false
	for col := range width {
		v := r.src.At(col, row)
		if !known || v != last {
			var err error
			if out, err = r.m.f(v); err != nil {
				return err
			}
			last, known = v, true
		}
		dst.Set(col, row, out)
	}
	return nil
}
