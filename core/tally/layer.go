package tally

import (
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// layer is one raster in the kernel: the window's cells and the slots of its values.
type layer struct {
	name   string
	reader raster.Reader
	cells  raster.Cells
	values []float64 // by slot
	slots  []Slot    // by slot: the slot in the tally, once all is measured
	small  []int32   // slot by 8- or 16-bit pattern, -1 for values not seen yet
	large  map[uint64]int32
	lastV  uint64
	lastS  int32
	most   int  // values
	bytes  bool // cells are bytes
}

func newLayer(s raster.Source, most int) *layer {
	l := &layer{most: most, name: s.Header().Name, reader: s.NewReader(), lastS: -1}
	switch s.Header().Type.Bytes() {
	case 1: // a byte is its own slot
		l.bytes = true
		l.small = make([]int32, 1<<8)
		for i := range l.small {
			l.small[i] = int32(i)
			v := float64(i)
			if s.Header().Type == raster.Int8 {
				v = float64(int8(i))
			}
			l.values = append(l.values, v)
		}
		return l
	case 2:
		l.small = make([]int32, 1<<16)
	default:
		l.large = map[uint64]int32{}
	}
	for i := range l.small {
		l.small[i] = -1
	}
	return l
}

// slot numbers the value at index i of the window.
func (l *layer) slot(i int) (int32, error) {
	var key uint64
	c := &l.cells
	switch c.Type {
	case raster.Uint8, raster.Int8:
		key = uint64(c.U8[i])
	case raster.Uint16:
		key = uint64(c.U16[i])
	case raster.Int16:
		key = uint64(uint16(c.I16[i]))
	default:
		v := c.At(i, 0)
		if v == 0 || math.IsNaN(v) { // one zero, one NaN
			v = math.Abs(v)
			if v != 0 {
				v = math.NaN()
			}
		}
		key = math.Float64bits(v)
		if l.lastS >= 0 && key == l.lastV {
			return l.lastS, nil
		}
		if s, ok := l.large[key]; ok {
			l.lastV, l.lastS = key, s
			return s, nil
		}
	}
	if l.small != nil {
		if s := l.small[key]; s >= 0 {
			return s, nil
		}
	}
	s := int32(len(l.values))
	if int(s) >= l.most {
		return 0, tooMany(l.name, l.most)
	}
	l.values = append(l.values, c.At(i, 0))
	if l.small != nil {
		l.small[key] = s
	} else {
		l.large[key] = s
		l.lastV, l.lastS = key, s
	}
	return s, nil
}
