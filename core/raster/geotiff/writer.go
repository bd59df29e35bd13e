package geotiff

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"

	"github.com/verdex-land/verdex/core/raster"
)

// Compression is how a Writer stores blocks.
type Compression int

// What a Writer can do.
const (
	Deflate Compression = iota
	Zstandard
	Uncompressed
)

// Options say how a raster is written. The zero value is Deflate in tiles of 512 × 512 cells,
// as a BigTIFF only when the cells could need it.
type Options struct {
	Compression Compression
	TileSize    int  // a multiple of 16; 0 is 512
	BigTIFF     bool // even when the file is small
}

// Writer writes a tiled GeoTIFF of one band: tiles first, then the directory.
type Writer struct {
	w               io.WriteSeeker
	h               raster.Header
	o               Options
	big             bool
	at              uint64
	across, down    int
	next            int
	offsets, counts []uint64
	plain           []byte
	packed          bytes.Buffer
	zlib            *zlib.Writer
	zstd            *zstd.Encoder
}

// NewWriter begins a file with the grid, CRS, type, nodata value and palette of the header.
func NewWriter(w io.WriteSeeker, h raster.Header, o Options) (*Writer, error) {
	if o.TileSize == 0 {
		o.TileSize = 512
	}
	if o.TileSize < 16 || o.TileSize%16 != 0 {
		return nil, fmt.Errorf("a tile size of %d is no multiple of 16", o.TileSize)
	}
	if len(h.Palette) > 0 && h.Type != raster.Uint8 && h.Type != raster.Uint16 {
		return nil, fmt.Errorf("a palette goes with uint8 and uint16 cells only, not %s", h.Type)
	}
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		return nil, fmt.Errorf("the nodata value %g does not fit in %s cells", *h.NoData, h.Type)
	}
	t := &Writer{w: w, h: h, o: o}
	g := h.Grid
	t.across, t.down = (g.Width+o.TileSize-1)/o.TileSize, (g.Height+o.TileSize-1)/o.TileSize
	tiles := uint64(t.across) * uint64(t.down)
	cells := tiles * uint64(o.TileSize*o.TileSize*h.Type.Bytes())
	// Deflate and Zstandard add less than a thousandth to what they cannot compress.
	t.big = o.BigTIFF || cells+cells/1000+tiles*64+1<<20 > math.MaxUint32
	header := []byte{'I', 'I', 42, 0, 0, 0, 0, 0}
	if t.big {
		header = []byte{'I', 'I', 43, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0}
	}
	t.plain = make([]byte, o.TileSize*o.TileSize*h.Type.Bytes())
	return t, t.put(header)
}

func (t *Writer) put(b []byte) error {
	n, err := t.w.Write(b)
	t.at += uint64(n)
	return err
}

// WriteTile stores the next tile; tiles come row by row. Cells beyond the raster's edge are
// not looked at.
func (t *Writer) WriteTile(c *raster.Cells) error {
	if t.next >= t.across*t.down {
		return fmt.Errorf("all %d tiles are written", t.next)
	}
	if c.Type != t.h.Type {
		return fmt.Errorf("%s cells in a raster of %s", c.Type, t.h.Type)
	}
	size, ts := t.h.Type.Bytes(), t.o.TileSize
	col, row := t.next%t.across*ts, t.next/t.across*ts
	width, height := min(ts, t.h.Grid.Width-col), min(ts, t.h.Grid.Height-row)
	clear(t.plain)
	for r := range height {
		pack(t.plain[r*ts*size:], c, r*c.Stride, width)
	}
	b, err := t.compress()
	if err != nil {
		return err
	}
	t.offsets, t.counts = append(t.offsets, t.at), append(t.counts, uint64(len(b)))
	t.next++
	return t.put(b)
}

func pack(dst []byte, c *raster.Cells, at, n int) {
	le := binary.LittleEndian
	for i := range n {
		switch c.Type {
		case raster.Uint8, raster.Int8:
			dst[i] = c.U8[at+i]
		case raster.Uint16:
			le.PutUint16(dst[i*2:], c.U16[at+i])
		case raster.Int16:
			le.PutUint16(dst[i*2:], uint16(c.I16[at+i]))
		case raster.Uint32:
			le.PutUint32(dst[i*4:], c.U32[at+i])
		case raster.Int32:
			le.PutUint32(dst[i*4:], uint32(c.I32[at+i]))
		case raster.Float32:
			le.PutUint32(dst[i*4:], math.Float32bits(c.F32[at+i]))
		case raster.Float64:
			le.PutUint64(dst[i*8:], math.Float64bits(c.F64[at+i]))
		}
	}
}

func (t *Writer) compress() ([]byte, error) {
	switch t.o.Compression {
	case Uncompressed:
		return t.plain, nil
	case Zstandard:
		if t.zstd == nil {
			var err error
			if t.zstd, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)); err != nil {
				return nil, err
			}
		}
		return t.zstd.EncodeAll(t.plain, nil), nil
	}
	t.packed.Reset()
	if t.zlib == nil {
		t.zlib = zlib.NewWriter(&t.packed)
	} else {
		t.zlib.Reset(&t.packed)
	}
	if _, err := t.zlib.Write(t.plain); err != nil {
		return nil, err
	}
	if err := t.zlib.Close(); err != nil {
		return nil, err
	}
	return t.packed.Bytes(), nil
}

// entry is a directory entry to be written.
type entry struct {
	tag, kind uint16
	count     int
	data      []byte
}

// Close writes the directory. The file is complete only after it.
func (t *Writer) Close() error {
	if t.next != t.across*t.down {
		return fmt.Errorf("%d of %d tiles were written", t.next, t.across*t.down)
	}
	entries, err := t.entries()
	if err != nil {
		return err
	}
	slices.SortFunc(entries, func(a, b entry) int { return int(a.tag) - int(b.tag) })
	le := binary.LittleEndian
	inline := 4
	if t.big {
		inline = 8
	}
	offsets := make([]uint64, len(entries))
	for i, e := range entries {
		if len(e.data) > inline {
			if t.at%2 == 1 {
				if err := t.put([]byte{0}); err != nil {
					return err
				}
			}
			offsets[i] = t.at
			if err := t.put(e.data); err != nil {
				return err
			}
		}
	}
	if t.at%2 == 1 {
		if err := t.put([]byte{0}); err != nil {
			return err
		}
	}
	start := t.at
	var b []byte
	if t.big {
		b = le.AppendUint64(b, uint64(len(entries)))
	} else {
		b = le.AppendUint16(b, uint16(len(entries)))
	}
	for i, e := range entries {
		b = le.AppendUint16(b, e.tag)
		b = le.AppendUint16(b, e.kind)
		value := make([]byte, inline)
		if t.big {
			b = le.AppendUint64(b, uint64(e.count))
			le.PutUint64(value, offsets[i])
		} else {
			b = le.AppendUint32(b, uint32(e.count))
			le.PutUint32(value, uint32(offsets[i]))
		}
		if len(e.data) <= inline {
			clear(value)
			copy(value, e.data)
		}
		b = append(b, value...)
	}
	b = append(b, make([]byte, inline)...) // no next directory
	if err := t.put(b); err != nil {
		return err
	}
	at, pointer := int64(4), le.AppendUint32(nil, uint32(start))
	if t.big {
		at, pointer = 8, le.AppendUint64(nil, start)
	}
	if _, err := t.w.Seek(at, io.SeekStart); err != nil {
		return err
	}
	_, err = t.w.Write(pointer)
	return err
}

func shorts(tag uint16, v ...uint16) entry {
	e := entry{tag: tag, kind: 3, count: len(v)}
	for _, x := range v {
		e.data = binary.LittleEndian.AppendUint16(e.data, x)
	}
	return e
}

func longs(tag uint16, v ...uint32) entry {
	e := entry{tag: tag, kind: 4, count: len(v)}
	for _, x := range v {
		e.data = binary.LittleEndian.AppendUint32(e.data, x)
	}
	return e
}

func float64s(tag uint16, v ...float64) entry {
	e := entry{tag: tag, kind: 12, count: len(v)}
	for _, x := range v {
		e.data = binary.LittleEndian.AppendUint64(e.data, math.Float64bits(x))
	}
	return e
}

func ascii(tag uint16, s string) entry {
	return entry{tag: tag, kind: 2, count: len(s) + 1, data: append([]byte(s), 0)}
}

// positions are the offsets or counts of tiles, in 4 or 8 bytes each.
func (t *Writer) positions(tag uint16, v []uint64) entry {
	if !t.big {
		small := make([]uint32, len(v))
		for i, x := range v {
			small[i] = uint32(x)
		}
		return longs(tag, small...)
	}
	e := entry{tag: tag, kind: 16, count: len(v)}
	for _, x := range v {
		e.data = binary.LittleEndian.AppendUint64(e.data, x)
	}
	return e
}

func (t *Writer) entries() ([]entry, error) {
	g, ts := t.h.Grid, uint16(t.o.TileSize)
	format := uint16(1)
	switch t.h.Type {
	case raster.Int8, raster.Int16, raster.Int32:
		format = 2
	case raster.Float32, raster.Float64:
		format = 3
	}
	photometric, compression := uint16(1), map[Compression]uint16{Deflate: compressDeflate, Zstandard: compressZstd, Uncompressed: compressNone}[t.o.Compression]
	out := []entry{
		longs(tagWidth, uint32(g.Width)), longs(tagHeight, uint32(g.Height)),
		shorts(tagBits, uint16(t.h.Type.Bytes()*8)), shorts(tagCompression, compression),
		shorts(tagSamples, 1), shorts(tagPlanar, 1), shorts(tagTileWidth, ts), shorts(tagTileHeight, ts),
		shorts(tagSampleFormat, format),
		t.positions(tagTileOffsets, t.offsets), t.positions(tagTileCounts, t.counts),
	}
	if len(t.h.Palette) > 0 {
		photometric = 3
		n := 1 << (t.h.Type.Bytes() * 8)
		colors := make([]uint16, 3*n)
		for i, c := range t.h.Palette[:min(n, len(t.h.Palette))] {
			colors[i], colors[n+i], colors[2*n+i] = uint16(c.R)*257, uint16(c.G)*257, uint16(c.B)*257
		}
		out = append(out, shorts(tagColorMap, colors...))
	}
	out = append(out, shorts(tagPhotometric, photometric))
	if t.h.NoData != nil {
		out = append(out, ascii(tagNoData, strconv.FormatFloat(*t.h.NoData, 'g', -1, 64)))
	}
	if g.DY < 0 {
		out = append(out, float64s(tagPixelScale, g.DX, -g.DY, 0), float64s(tagTiepoint, 0, 0, 0, g.X0, g.Y0, 0))
	} else { // row 0 is the southern one: only the matrix can say so
		out = append(out, float64s(tagTransformation, g.DX, 0, 0, g.X0, 0, g.DY, 0, g.Y0, 0, 0, 0, 0, 0, 0, 0, 1))
	}
	if g.CRS == nil {
		return out, nil
	}
	keys, err := keysOf(g.CRS)
	if err != nil {
		return nil, err
	}
	return append(out, keys.entries()...), nil
}

// entries are the three tags that hold the keys.
func (k geoKeys) entries() []entry {
	var ids []uint16
	for id := range k.short {
		ids = append(ids, id)
	}
	for id := range k.double {
		ids = append(ids, id)
	}
	for id := range k.ascii {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	list := []uint16{1, 1, 1, uint16(len(ids))}
	var doubles []float64
	var text string
	for _, id := range ids {
		if v, ok := k.short[id]; ok {
			list = append(list, id, 0, 1, uint16(v))
		} else if v, ok := k.double[id]; ok {
			list = append(list, id, tagGeoDoubles, 1, uint16(len(doubles)))
			doubles = append(doubles, v)
		} else {
			s := k.ascii[id] + "|"
			list = append(list, id, tagGeoASCII, uint16(len(s)), uint16(len(text)))
			text += s
		}
	}
	out := []entry{shorts(tagGeoKeys, list...)}
	if len(doubles) > 0 {
		out = append(out, float64s(tagGeoDoubles, doubles...))
	}
	if text != "" {
		out = append(out, ascii(tagGeoASCII, text))
	}
	return out
}
