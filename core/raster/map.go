package raster

import "math"

// Map is a view whose cells are f of those of a source: the header tells the type, nodata value and palette
// of the outcome, whose grid is that of the source. f is called once for each value of 8- and 16-bit
// sources, and must give values that the type holds. Its error stops the reading when a cell has such a value.
func Map(s Source, h Header, f func(v float64) (float64, error)) Source {
	h.Grid = s.Header().Grid
	m := &mapped{Source: s, header: h, f: f}
	switch t := s.Header().Type; t.Bytes() {
	case 1:
		m.tabulate(1<<8, func(i int) float64 {
			if t == Int8 {
				return float64(int8(i))
			}
			return float64(i)
		})
	case 2:
		m.tabulate(1<<16, func(i int) float64 {
			if t == Int16 {
				return float64(int16(i))
			}
			return float64(i)
		})
	}
	return m
}

type mapped struct {
	Source
	header Header
	f      func(float64) (float64, error)
	table  []float64 // by bit pattern of 8- and 16-bit cells
	bytes  []uint8   // the same, when the outcome is bytes
	errs   map[int]error
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
	case Uint8:
		m.bytes = make([]uint8, n)
		for i, v := range m.table {
			m.bytes[i] = uint8(v)
		}
	case Int8:
		m.bytes = make([]uint8, n)
		for i, v := range m.table {
			m.bytes[i] = uint8(int8(v))
		}
	}
}

// Tiling is that of the source.
func (m *mapped) Tiling() (cols, rows []int) { return Tiling(m.Source) }

// Header implements [Source].
func (m *mapped) Header() Header { return m.header }

// NewReader implements [Source].
func (m *mapped) NewReader() Reader { return &mappedReader{m: m, r: m.Source.NewReader()} }

type mappedReader struct {
	m   *mapped
	r   Reader
	src Cells
}

// Read implements [Reader].
func (r *mappedReader) Read(w Window, dst *Cells) error {
	if err := r.r.Read(w, &r.src); err != nil {
		return err
	}
	dst.Resize(r.m.header.Type, w.Width, w.Height, w.Width)
	for row := range w.Height {
		var err error
		switch at := row * r.src.Stride; r.src.Type {
		case Uint8, Int8:
			err = lookUp(r.m, r.src.U8[at:at+w.Width], dst, row)
		case Uint16:
			err = lookUp(r.m, r.src.U16[at:at+w.Width], dst, row)
		case Int16:
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
func lookUp[T uint8 | uint16 | int16](m *mapped, src []T, dst *Cells, row int) error {
	if len(m.errs) > 0 {
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
		if len(m.bytes) == 256 {
			table := (*[256]uint8)(m.bytes)
			for i, v := range src {
				out[i] = table[uint8(v)]
			}
			return nil
		}
		for i, v := range src {
			out[i] = m.bytes[uint16(v)]
		}
		return nil
	}
	for i, v := range src {
		dst.Set(i, row, m.table[uint16(v)])
	}
	return nil
}

// compute maps a row value by value; a value that repeats is mapped once.
func (r *mappedReader) compute(row, width int, dst *Cells) error {
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
