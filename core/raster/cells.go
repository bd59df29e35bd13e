package raster

import (
	"math"
	"slices"
)

// CellType is the storage type of a raster's cells.
type CellType uint8

// The cell types that Verdex reads and writes.
const (
	Uint8 CellType = iota
	Int8
	Uint16
	Int16
	Uint32
	Int32
	Float32
	Float64
)

var cellTypes = [...]struct {
	name     string
	bytes    int
	floating bool
	min, max float64
}{
	Uint8: {"uint8", 1, false, 0, math.MaxUint8}, Int8: {"int8", 1, false, math.MinInt8, math.MaxInt8},
	Uint16: {"uint16", 2, false, 0, math.MaxUint16}, Int16: {"int16", 2, false, math.MinInt16, math.MaxInt16},
	Uint32: {"uint32", 4, false, 0, math.MaxUint32}, Int32: {"int32", 4, false, math.MinInt32, math.MaxInt32},
	Float32: {"float32", 4, true, -math.MaxFloat32, math.MaxFloat32},
	Float64: {"float64", 8, true, -math.MaxFloat64, math.MaxFloat64},
}

// String names the type as options and messages do, such as uint8.
func (t CellType) String() string { return cellTypes[t].name }

// Bytes is the size of one cell.
func (t CellType) Bytes() int { return cellTypes[t].bytes }

// Floating reports whether the type is a floating-point one.
func (t CellType) Floating() bool { return cellTypes[t].floating }

// Range is the least and the greatest value of the type.
func (t CellType) Range() (least, greatest float64) { return cellTypes[t].min, cellTypes[t].max }

// ParseCellType finds a type by its name, such as uint8.
func ParseCellType(name string) (CellType, bool) {
	for i, t := range cellTypes {
		if t.name == name {
			return CellType(i), true
		}
	}
	return 0, false
}

// JointType is the narrowest type that holds every value of all of some types, and false where there is none.
func JointType(types ...CellType) (CellType, bool) {
	for _, c := range append(slices.Clone(types[:1]), Uint8, Int8, Uint16, Int16, Uint32, Int32, Float32, Float64) {
		if !slices.ContainsFunc(types, func(t CellType) bool { return !c.Contains(t) }) {
			return c, true
		}
	}
	return 0, false
}

// Settle makes NaN the nodata value of cells that can be NaN where none is declared: NaN is never data, so that a view
// has to have something to give for it.
func (h *Header) Settle() {
	if h.NoData == nil && h.Type.Floating() {
		none := math.NaN()
		h.NoData = &none
	}
}

// Common finds a nodata value for a view of several rasters: that of all of them where they declare the same one; else one
// that no value of theirs is, in a wider type if need be. It is nil where no cell of them can be without data.
func Common(t CellType, headers []Header) (CellType, *float64) {
	var first *float64
	same, some := true, false
	for i := range headers {
		h := headers[i]
		h.Settle()
		n := h.NoData
		if n != nil && !h.Type.Holds(*n) {
			n = nil // no cell can have it
		}
		if n != nil {
			some = true
		}
		switch {
		case i == 0:
			first = n
		case (first == nil) != (n == nil) || n != nil && !SameValue(*first, *n):
			same = false
		}
	}
	if !some {
		return t, nil
	}
	if same && t.Holds(*first) {
		return t, first
	}
	t, v := RoomFor(t)
	return t, &v
}

// Holds reports whether v can be stored in the type without loss.
func (t CellType) Holds(v float64) bool {
	if t == Float64 {
		return true
	}
	if t == Float32 {
		return math.IsNaN(v) || float64(float32(v)) == v
	}
	return v == math.Trunc(v) && v >= cellTypes[t].min && v <= cellTypes[t].max
}

// Cells holds a window of values, row by row, in the slice that belongs to Type; the value of
// column c and row r stands at r·Stride+c. Buffers are reused: a Reader grows them as needed.
type Cells struct {
	Type          CellType
	Width, Height int
	Stride        int
	U8            []uint8 // also Int8, as two's complement
	U16           []uint16
	I16           []int16
	U32           []uint32
	I32           []int32
	F32           []float32
	F64           []float64
}

// Grown returns a slice of length n, with room for a few cells beyond it.
func Grown[T any](s []T, n int) []T {
	if cap(s) < n+64 {
		s = make([]T, n+64)
	}
	return s[:n]
}

// Resize makes room for a window of the given type, with rows of stride cells.
func (c *Cells) Resize(t CellType, width, height, stride int) {
	c.Type, c.Width, c.Height, c.Stride = t, width, height, stride
	n := stride * height
	switch t {
	case Uint8, Int8:
		c.U8 = Grown(c.U8, n)
	case Uint16:
		c.U16 = Grown(c.U16, n)
	case Int16:
		c.I16 = Grown(c.I16, n)
	case Uint32:
		c.U32 = Grown(c.U32, n)
	case Int32:
		c.I32 = Grown(c.I32, n)
	case Float32:
		c.F32 = Grown(c.F32, n)
	case Float64:
		c.F64 = Grown(c.F64, n)
	}
}

// At is the value of column c and row r of the window.
func (c *Cells) At(col, row int) float64 {
	i := row*c.Stride + col
	switch c.Type {
	case Uint8:
		return float64(c.U8[i])
	case Int8:
		return float64(int8(c.U8[i]))
	case Uint16:
		return float64(c.U16[i])
	case Int16:
		return float64(c.I16[i])
	case Uint32:
		return float64(c.U32[i])
	case Int32:
		return float64(c.I32[i])
	case Float32:
		return float64(c.F32[i])
	}
	return c.F64[i]
}

// Set stores v at column c and row r; v must be one that the type Holds.
func (c *Cells) Set(col, row int, v float64) {
	i := row*c.Stride + col
	switch c.Type {
	case Uint8:
		c.U8[i] = uint8(v)
	case Int8:
		c.U8[i] = uint8(int8(v))
	case Uint16:
		c.U16[i] = uint16(v)
	case Int16:
		c.I16[i] = int16(v)
	case Uint32:
		c.U32[i] = uint32(v)
	case Int32:
		c.I32[i] = int32(v)
	case Float32:
		c.F32[i] = float32(v)
	default:
		c.F64[i] = v
	}
}

// Copy puts the rectangle of src that begins at (srcCol, srcRow) at (col, row) of c.
// Both have the same type.
func (c *Cells) Copy(col, row int, src *Cells, srcCol, srcRow, width, height int) {
	for r := range height {
		d, s := (row+r)*c.Stride+col, (srcRow+r)*src.Stride+srcCol
		switch c.Type {
		case Uint8, Int8:
			copy(c.U8[d:d+width], src.U8[s:])
		case Uint16:
			copy(c.U16[d:d+width], src.U16[s:])
		case Int16:
			copy(c.I16[d:d+width], src.I16[s:])
		case Uint32:
			copy(c.U32[d:d+width], src.U32[s:])
		case Int32:
			copy(c.I32[d:d+width], src.I32[s:])
		case Float32:
			copy(c.F32[d:d+width], src.F32[s:])
		case Float64:
			copy(c.F64[d:d+width], src.F64[s:])
		}
	}
}

// Fill sets all cells of the window to v, which the type must hold.
func (c *Cells) Fill(v float64) {
	if c.Width == 0 || c.Height == 0 {
		return
	}
	for col := range c.Width {
		c.Set(col, 0, v)
	}
	for row := 1; row < c.Height; row++ {
		c.Copy(0, row, c, 0, 0, c.Width, 1)
	}
}

// RoomFor is a type that holds all values of t and one more, for nodata.
func RoomFor(t CellType) (CellType, float64) {
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
