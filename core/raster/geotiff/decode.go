package geotiff

import (
	"encoding/binary"
	"math"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff/unpack"
)

// undoPredictor reverses horizontal differencing (TIFF 6.0, section 14) or the floating-point
// predictor (TIFF Technical Note 3) in rows of width × samples numbers.
func undoPredictor(b []byte, predictor uint64, size, width, samples int, order binary.ByteOrder) {
	row := width * samples * size
	var scratch []byte
	for ; len(b) >= row; b = b[row:] {
		r := b[:row]
		switch {
		case predictor == 3:
			addUpBytes(r, samples)
			// Bytes stand by significance, the highest first, whatever the file's order.
			scratch = append(scratch[:0], r...)
			n := width * samples
			for i := range n {
				for k := range size {
					v := scratch[k*n+i]
					if order == binary.LittleEndian {
						r[i*size+size-1-k] = v
					} else {
						r[i*size+k] = v
					}
				}
			}
		case size == 1:
			addUpBytes(r, samples)
		case size == 2 && samples == 1 && order == binary.LittleEndian:
			unpack.AddUp16(r)
		case size == 4 && samples == 1 && order == binary.LittleEndian:
			unpack.AddUp32(r)
		case size == 2:
			for i := samples * 2; i < row; i += 2 {
				order.PutUint16(r[i:], order.Uint16(r[i:])+order.Uint16(r[i-samples*2:]))
			}
		case size == 4:
			for i := samples * 4; i < row; i += 4 {
				order.PutUint32(r[i:], order.Uint32(r[i:])+order.Uint32(r[i-samples*4:]))
			}
		}
	}
}

// addUpBytes adds bytes up, those of each of some samples by themselves.
func addUpBytes(r []byte, samples int) {
	if samples == 1 {
		unpack.AddUp8(r)
		return
	}
	for i := samples; i < len(r); i++ {
		r[i] += r[i-samples]
	}
}

// unpackCells turns bytes of one band, which stand step bytes apart, into the cells of dst from
// index at on.
func unpackCells(dst *raster.Cells, at, n int, b []byte, step int, order binary.ByteOrder) {
	little := order == binary.LittleEndian
	switch dst.Type {
	case raster.Uint8, raster.Int8:
		out := dst.U8[at : at+n]
		if step == 1 {
			copy(out, b)
			return
		}
		for i := range out {
			out[i] = b[i*step]
		}
	case raster.Uint16:
		fill16(dst.U16[at:at+n], b, step, little)
	case raster.Int16:
		fill16(dst.I16[at:at+n], b, step, little)
	case raster.Uint32:
		fill32(dst.U32[at:at+n], b, step, little)
	case raster.Int32:
		fill32(dst.I32[at:at+n], b, step, little)
	case raster.Float32:
		for i, out := 0, dst.F32[at:at+n]; i < len(out); i++ {
			out[i] = math.Float32frombits(order.Uint32(b[i*step:]))
		}
	case raster.Float64:
		for i, out := 0, dst.F64[at:at+n]; i < len(out); i++ {
			out[i] = math.Float64frombits(order.Uint64(b[i*step:]))
		}
	}
}

func fill16[T uint16 | int16](out []T, b []byte, step int, little bool) {
	if little {
		for i := range out {
			out[i] = T(binary.LittleEndian.Uint16(b[i*step:]))
		}
		return
	}
	for i := range out {
		out[i] = T(binary.BigEndian.Uint16(b[i*step:]))
	}
}

func fill32[T uint32 | int32](out []T, b []byte, step int, little bool) {
	if little {
		for i := range out {
			out[i] = T(binary.LittleEndian.Uint32(b[i*step:]))
		}
		return
	}
	for i := range out {
		out[i] = T(binary.BigEndian.Uint32(b[i*step:]))
	}
}
