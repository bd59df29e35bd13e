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
	for r := 0; r < src.Height; r += 2 {
		if src.Type == raster.Uint8 && !t.o.Values && r+1 < src.Height {
			a, b := src.U8[r*src.Stride:][:src.Width], src.U8[(r+1)*src.Stride:][:src.Width]
			d := dst.U8[(row+r/2)*dst.Stride+col:]
			n := -1
			if !math.IsNaN(none) {
				n = int(none)
			}
			for c := 0; c+1 < src.Width; c += 2 {
				d[c/2] = majority(a[c], a[c+1], b[c], b[c+1], n)
			}
			if src.Width%2 == 1 {
				c := src.Width - 1
				d[c/2] = majority(a[c], a[c], b[c], b[c], n)
			}
			continue
		}
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

// majority is the value that most of four bytes hold, none (or -1) apart; in a tie the lowest, as [raster.Dominant] has it.
func majority(a, b, c, d uint8, none int) uint8 {
	if a == b && b == c && c == d {
		return d
	}
	best, most, all := d, 0, [4]uint8{a, b, c, d}
	for i, v := range all {
		n := 0
		if int(v) == none {
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
