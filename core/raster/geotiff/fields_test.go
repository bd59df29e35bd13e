package geotiff

import (
	"encoding/binary"
	"math"
)

var binaryLE = binary.LittleEndian

const (
	pixelArea  = 1
	pixelPoint = 2
)

// fields makes the georeferencing tags of a directory.
func fields(pixel uint16, scale, tie, matrix []float64) map[uint16]field {
	out := map[uint16]field{}
	put := func(tag uint16, v []float64) {
		if v == nil {
			return
		}
		f := field{kind: 12, count: uint64(len(v))}
		for _, x := range v {
			f.data = binaryLE.AppendUint64(f.data, math.Float64bits(x))
		}
		out[tag] = f
	}
	put(tagPixelScale, scale)
	put(tagTiepoint, tie)
	put(tagTransformation, matrix)
	keys := []uint16{1, 1, 0, 3, keyModelType, 0, 1, 1, keyRasterType, 0, 1, pixel, keyProjectedCRS, 0, 1, 32633}
	f := field{kind: 3, count: uint64(len(keys))}
	for _, k := range keys {
		f.data = binaryLE.AppendUint16(f.data, k)
	}
	out[tagGeoKeys] = f
	return out
}
