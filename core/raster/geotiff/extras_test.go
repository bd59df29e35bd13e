package geotiff

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// plainTIFF makes an uncompressed TIFF by hand, so that nothing of the writer is trusted: directories of fields (short and text
// values) with one strip each.
type plainTIFF struct {
	bytes.Buffer
	next int // where the offset of the next directory stands
}

func newPlainTIFF() *plainTIFF {
	f := &plainTIFF{next: 4}
	f.Write([]byte{'I', 'I', 42, 0, 0, 0, 0, 0})
	return f
}

func (f *plainTIFF) add(fields map[uint16][]uint16, text map[uint16]string, strip []byte) {
	at := f.Len()
	f.Write(strip)
	later := map[uint16]int{}
	for _, m := range []uint16{tagBits, tagExtraSamples, tagMetadata} {
		if v := fields[m]; len(v) > 2 {
			later[m] = f.Len()
			for _, x := range v {
				binary.Write(f, binary.LittleEndian, x)
			}
		}
		if s := text[m]; s != "" {
			later[m] = f.Len()
			f.WriteString(s)
		}
	}
	if f.Len()%2 == 1 {
		f.WriteByte(0)
	}
	binary.LittleEndian.PutUint32(f.Bytes()[f.next:], uint32(f.Len()))
	fields[tagStripOffsets], fields[tagStripCounts] = []uint16{uint16(at)}, []uint16{uint16(len(strip))}
	binary.Write(f, binary.LittleEndian, uint16(len(fields)+len(text)))
	for tag := uint16(0); tag < 50000; tag++ {
		if v, ok := fields[tag]; ok {
			binary.Write(f, binary.LittleEndian, []uint16{tag, 3})
			binary.Write(f, binary.LittleEndian, uint32(len(v)))
			if o, ok := later[tag]; ok {
				binary.Write(f, binary.LittleEndian, uint32(o))
			} else {
				v = append(append([]uint16{}, v...), 0)[:2]
				binary.Write(f, binary.LittleEndian, v)
			}
		}
		if s, ok := text[tag]; ok {
			binary.Write(f, binary.LittleEndian, []uint16{tag, 2})
			binary.Write(f, binary.LittleEndian, []uint32{uint32(len(s)), uint32(later[tag])})
		}
	}
	f.next = f.Len()
	f.Write([]byte{0, 0, 0, 0})
}

func (f *plainTIFF) open(t *testing.T, band int) raster.Source {
	t.Helper()
	s, err := New(bytes.NewReader(f.Bytes()), int64(f.Len()), "hand-made", band)
	require.NoError(t, err)
	a, err := s.Applied()
	require.NoError(t, err)
	return a
}

func image(width, height uint16, bits ...uint16) map[uint16][]uint16 {
	return map[uint16][]uint16{tagWidth: {width}, tagHeight: {height}, tagBits: bits, tagCompression: {1}, tagPhotometric: {1},
		tagSamples: {uint16(len(bits))}, tagRowsPerStrip: {height}, tagPlanar: {1}}
}

// What an internal mask or a band of transparency leaves out is nodata, in whole rasters and in windows of any shape.
func TestMasksAreNodata(t *testing.T) {
	const w, h = 21, 5
	var cells []byte
	masked := func(c, r int) bool { return (c*3+r*5)%7 < 3 }
	bits, bytemask := make([]byte, (w+7)/8*h), []byte{}
	var with []byte // with a band of transparency
	for r := range h {
		for c := range w {
			cells = append(cells, byte(10+c+r))
			v := byte(0)
			if !masked(c, r) {
				bits[r*((w+7)/8)+c/8] |= 128 >> (c % 8)
				v = byte(1 + c*9)
			}
			bytemask, with = append(bytemask, v), append(with, byte(10+c+r), v)
		}
	}
	files := map[string]*plainTIFF{}
	f := newPlainTIFF()
	f.add(image(w, h, 8), nil, cells)
	m := image(w, h, 1)
	m[tagSubfile], m[tagPhotometric] = []uint16{4}, []uint16{4}
	f.add(m, nil, bits)
	files["a mask of bits"] = f
	f = newPlainTIFF()
	f.add(image(w, h, 8), nil, cells)
	m = image(w, h, 8)
	m[tagSubfile], m[tagPhotometric] = []uint16{4}, []uint16{4}
	f.add(m, nil, bytemask)
	files["a mask of bytes"] = f
	f = newPlainTIFF()
	a := image(w, h, 8, 8)
	a[tagExtraSamples] = []uint16{2}
	f.add(a, nil, with)
	files["a band of transparency"] = f
	for name, f := range files {
		s := f.open(t, 1)
		head := s.Header()
		require.NotEmpty(t, head.Mask, name)
		require.NotNil(t, head.NoData, name)
		require.Equal(t, raster.Uint16, head.Type, "%s: a type with room for nodata", name)
		reader := s.NewReader()
		var got raster.Cells
		for c0 := range w {
			for _, width := range []int{1, 3, w - c0} {
				if c0+width > w {
					continue
				}
				require.NoError(t, reader.Read(raster.Window{Col: c0, Row: 1, Width: width, Height: h - 1}, &got), name)
				for r := range h - 1 {
					for c := range width {
						want := float64(10 + c0 + c + r + 1)
						if masked(c0+c, r+1) {
							want = *head.NoData
						}
						require.Equal(t, want, got.At(c, r), "%s at %d, %d", name, c0+c, r+1)
					}
				}
			}
		}
	}
	// Who asks for the band of transparency itself gets it.
	assert.Empty(t, files["a band of transparency"].open(t, 2).Header().Mask)
}

// Stored numbers are turned into the measurements that the usual tag says they stand for.
func TestScaleAndOffset(t *testing.T) {
	f := newPlainTIFF()
	text := `<Metadata><Item name="SCALE" sample="0" role="scale">0.01</Item><Item name="OFFSET" sample="0" role="offset">-1</Item><Item name="X">y</Item></Metadata>` + "\x00"
	f.add(image(4, 1, 8), map[uint16]string{tagMetadata: text}, []byte{0, 100, 130, 255})
	s := f.open(t, 1)
	assert.Equal(t, "stored numbers × 0.01 + -1", s.Header().Scaled)
	var got raster.Cells
	require.NoError(t, s.NewReader().Read(raster.Window{Width: 4, Height: 1}, &got))
	for i, want := range []float64{-1, 0, 0.3, 1.55} {
		assert.InDelta(t, want, got.At(i, 0), 1e-7)
		assert.Equal(t, float32(want), got.F32[i])
	}
	for _, bad := range []string{"<Metadata><Item", fmt.Sprintf(`<Metadata><Item sample="0" role="scale">%v</Item></Metadata>`, math.NaN())} {
		f := newPlainTIFF()
		f.add(image(4, 1, 8), map[uint16]string{tagMetadata: bad + "\x00"}, []byte{0, 100, 130, 255})
		h := f.open(t, 1).Header()
		assert.Empty(t, h.Scaled)
		assert.NotEmpty(t, h.Notes)
	}
}
