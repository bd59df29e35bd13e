package geotiff

import (
	"encoding/binary"
	"math"
	"slices"
	"strconv"

	"github.com/verdex-land/verdex/core/raster"
)

// entry is a directory entry to be written. Positions, kind 16, are written as kind 4 in a file that is no
// BigTIFF.
type entry struct {
	tag, kind uint16
	count     int
	data      []byte
}

// stored is the entry as a file of the kind holds it.
func (e entry) stored(big bool) entry {
	if e.kind != 16 || big {
		return e
	}
	short := entry{tag: e.tag, kind: 4, count: e.count, data: make([]byte, 0, len(e.data)/2)}
	for i := range e.count {
		short.data = append(short.data, e.data[i*8:i*8+4]...)
	}
	return short
}

// sizes are those of the count of entries, of an entry, and of what it holds itself.
func sizes(big bool) (count, each, inline int) {
	if big {
		return 8, 20, 8
	}
	return 2, 12, 4
}

// directorySize is the size of a directory with the data that follow it.
func directorySize(entries []entry, big bool) uint64 {
	count, each, inline := sizes(big)
	n := count + each*len(entries) + inline
	for _, e := range entries {
		size := len(e.data)
		if e.kind == 16 && !big {
			size /= 2
		}
		if size > inline {
			n += size + size%2
		}
	}
	return uint64(n + n%2)
}

// directoryBytes writes a directory that begins at start, with its data behind it.
func directoryBytes(entries []entry, start, next uint64, big bool) []byte {
	slices.SortFunc(entries, func(a, b entry) int { return int(a.tag) - int(b.tag) })
	le := binary.LittleEndian
	count, each, inline := sizes(big)
	var b, tail []byte
	number := func(b []byte, v uint64) []byte {
		if big {
			return le.AppendUint64(b, v)
		}
		return le.AppendUint32(b, uint32(v))
	}
	if big {
		b = le.AppendUint64(b, uint64(len(entries)))
	} else {
		b = le.AppendUint16(b, uint16(len(entries)))
	}
	behind := start + uint64(count+each*len(entries)+inline)
	for _, e := range entries {
		e = e.stored(big)
		b = le.AppendUint16(b, e.tag)
		b = le.AppendUint16(b, e.kind)
		b = number(b, uint64(e.count))
		if len(e.data) <= inline {
			b = append(b, e.data...)
			b = append(b, make([]byte, inline-len(e.data))...)
			continue
		}
		b = number(b, behind+uint64(len(tail)))
		tail = append(tail, e.data...)
		if len(tail)%2 == 1 {
			tail = append(tail, 0)
		}
	}
	b = append(number(b, next), tail...)
	if len(b)%2 == 1 {
		b = append(b, 0)
	}
	return b
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

// positions are offsets of tiles.
func positions(tag uint16, v []uint64) entry {
	e := entry{tag: tag, kind: 16, count: len(v)}
	for _, x := range v {
		e.data = binary.LittleEndian.AppendUint64(e.data, x)
	}
	return e
}

// entries are those of level n; the offsets of its tiles are still 0.
func (t *writer) entries(n int) ([]entry, error) {
	l, g, ts := t.levels[n], t.h.Grid, uint16(t.o.TileSize)
	format := uint16(1)
	switch t.h.Type {
	case raster.Int8, raster.Int16, raster.Int32:
		format = 2
	case raster.Float32, raster.Float64:
		format = 3
	}
	photometric := uint16(1)
	out := []entry{
		longs(tagWidth, uint32(l.width)), longs(tagHeight, uint32(l.height)),
		shorts(tagBits, uint16(t.h.Type.Bytes()*8)), shorts(tagCompression, uint16(t.o.Compression)),
		shorts(tagSamples, 1), shorts(tagPlanar, 1), shorts(tagTileWidth, ts), shorts(tagTileHeight, ts),
		shorts(tagSampleFormat, format), longs(tagTileCounts, l.counts...), positions(tagTileOffsets, make([]uint64, len(l.counts))),
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
	if n > 0 {
		return append(out, longs(tagSubfile, 1)), nil
	}
	if t.o.Describe != nil {
		if text := t.o.Describe(); text != "" {
			out = append(out, ascii(tagDescription, text))
		}
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
