package geotiff

import (
	"cmp"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// halve lays cells, halved, into dst from col, row on.
func (t *writer) halve(src, dst *raster.Cells, col, row int) {
	none := math.NaN()
	if t.h.NoData != nil {
		none = *t.h.NoData
	}
	if t.o.Values {
		switch src.Type {
		case raster.Float32:
			halveValues(src, dst, src.F32, dst.F32, col, row, none)
			return
		case raster.Float64:
			halveValues(src, dst, src.F64, dst.F64, col, row, none)
			return
		}
	} else {
		switch src.Type { // the cells of int8 are kept as bytes, whose order is another one
		case raster.Uint8:
			halveClasses(src, dst, src.U8, dst.U8, col, row, none)
			return
		case raster.Uint16:
			halveClasses(src, dst, src.U16, dst.U16, col, row, none)
			return
		case raster.Int16:
			halveClasses(src, dst, src.I16, dst.I16, col, row, none)
			return
		case raster.Uint32:
			halveClasses(src, dst, src.U32, dst.U32, col, row, none)
			return
		case raster.Int32:
			halveClasses(src, dst, src.I32, dst.I32, col, row, none)
			return
		}
	}
	for r := 0; r < src.Height; r += 2 {
		for c := 0; c < src.Width; c += 2 {
			var values [4]float64
			n := 0
			for k := range 4 {
				x, y := c+k%2, r+k/2
				if x >= src.Width || y >= src.Height {
					continue
				}
				if v := src.At(x, y); v != none && !math.IsNaN(v) {
					values[n] = v
					n++
				}
			}
			v := none
			switch {
			case n == 0 && math.IsNaN(none) && !t.h.Type.Floating():
				v = 0
			case n > 0 && t.o.Values:
				v = 0
				for _, u := range values[:n] {
					v += u
				}
				v /= float64(n)
				if !t.h.Type.Floating() {
					v = math.Round(v)
				}
			case n > 0:
				slices.SortFunc(values[:n], func(a, b float64) int { return cmp.Compare(b, a) }) // so that the lowest wins a tie
				v, _ = raster.Majority(values[:n], nil)
			}
			dst.Set(col+c/2, row+r/2, v)
		}
	}
}

// halveValues is halve for floating-point numbers, of which the mean has to be found; NaN takes no part, nor does none.
func halveValues[T float32 | float64](src, dst *raster.Cells, from, to []T, col, row int, none float64) {
	for r := 0; r < src.Height; r += 2 {
		d := to[(row+r/2)*dst.Stride+col:][:(src.Width+1)/2]
		for i := range d {
			sum, n := 0.0, 0
			for y := r; y < min(r+2, src.Height); y++ {
				line := from[y*src.Stride:][:src.Width]
				for _, v := range line[2*i : min(2*i+2, src.Width)] {
					if u := float64(v); u != none && u == u {
						sum += u
						n++
					}
				}
			}
			if n == 0 {
				d[i] = T(none)
			} else {
				d[i] = T(sum / float64(n))
			}
		}
	}
}

// halveClasses is halve for integers of which most have to be found; none is NaN where all are data.
func halveClasses[T uint8 | uint16 | int16 | uint32 | int32](src, dst *raster.Cells, from, to []T, col, row int, none float64) {
	nodata := T(none)
	some := !math.IsNaN(none)
	for r := 0; r < src.Height; r += 2 {
		a := from[r*src.Stride:][:src.Width]
		b := a
		if r+1 < src.Height {
			b = from[(r+1)*src.Stride:][:src.Width]
		}
		d := to[(row+r/2)*dst.Stride+col:][:(src.Width+1)/2]
		done := 0
		if d, ok := any(d).([]uint8); ok {
			done = halved(d, any(a).([]uint8), any(b).([]uint8), uint8(nodata), some)
		}
		for i := done; i < len(d); i++ {
			c := 2 * i
			e := min(c+1, src.Width-1)
			switch {
			case some && (a[c] == nodata || a[e] == nodata || b[c] == nodata || b[e] == nodata):
				d[i] = majorityOf([4]T{a[c], a[e], b[c], b[e]}, nodata)
			default:
				d[i] = majority(a[c], a[e], b[c], b[e])
			}
		}
	}
}

// majority is the value that most of four hold, in a tie the lowest, as [raster.Dominant] has it.
func majority[T uint8 | uint16 | int16 | uint32 | int32](a, b, c, d T) T {
	switch {
	case a == b:
		if c == d && c < a {
			return c
		}
		return a
	case c == d: // a and b differ
		return c
	case a == c || a == d:
		if (b == c || b == d) && b < a {
			return b
		}
		return a
	case b == c || b == d:
		return b
	}
	return min(a, b, c, d)
}

// majorityOf is majority where none takes no part.
func majorityOf[T uint8 | uint16 | int16 | uint32 | int32](all [4]T, none T) T {
	best, most := none, 0
	for i, v := range all {
		n := 0
		if v == none {
			continue
		}
		for _, u := range all[i:] {
			if u == v {
				n++
			}
		}
		if n > most || n == most && v < best {
			best, most = v, n
		}
	}
	return best
}
