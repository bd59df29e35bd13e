package geotiff

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"runtime"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spill"
)

// Compression is how blocks are stored.
type Compression int

// What can be written.
const (
	Deflate Compression = iota
	Zstandard
	Uncompressed
)

// Options say how a raster is written. The zero value is Deflate in tiles of 512 × 512 cells with overviews,
// as a BigTIFF only when the file needs it.
type Options struct {
	Compression Compression
	TileSize    int  // a multiple of 16; 0 is 512
	BigTIFF     bool // even when the file is small
	NoOverviews bool
	Values      bool   // cells are measurements: overviews are means instead of majorities
	SpillDir    string // where what does not fit into memory waits; "" is the system's folder for such files
	Threads     int    // 0 takes all processors
	// Progress, when not nil, is told from time to time how many of the tiles are done.
	Progress func(done, total int)
}

// Write writes a raster as a cloud-optimised GeoTIFF: directories first, the largest image first; then the
// tiles, those of the smallest overview first. It reads each window of the source once; the
// compressed tiles wait, beyond 32 MiB in a temporary file, until the directories, which tell where each lies,
// can be written. Each overview halves the one before, until one tile holds it: a cell of it is the
// majority of four cells (of several the one that comes first, from the north-west on), or with Values
// their mean; nodata takes no part. The same cells give the same bytes.
func Write(ctx context.Context, out io.Writer, src raster.Source, o Options) error {
	t, err := newWriter(src, o)
	if err != nil {
		return err
	}
	defer t.spill.Close()
	if err := t.encode(ctx); err != nil {
		return err
	}
	return t.assemble(out)
}

// level is the image or an overview of it.
type level struct {
	width, height int
	across, down  int
	offsets       []int64 // in the spill, by tile
	counts        []uint32
	band          raster.Cells // of an overview: the row of tiles that is being made
}

type writer struct {
	src     raster.Source
	h       raster.Header
	o       Options
	levels  []*level
	workers []*packer
	spill   spill.Store // compressed tiles
	done    atomic.Int64
	total   int
}

func newWriter(src raster.Source, o Options) (*writer, error) {
	h := src.Header()
	if o.TileSize == 0 {
		o.TileSize = 512
	}
	if o.TileSize < 16 || o.TileSize%16 != 0 || o.TileSize > 1<<14 {
		return nil, fmt.Errorf("a tile size of %d is no multiple of 16 up to 16384", o.TileSize)
	}
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		return nil, fmt.Errorf("the nodata value %g does not fit in %s cells", *h.NoData, h.Type)
	}
	if len(h.Palette) > 0 && h.Type != raster.Uint8 && h.Type != raster.Uint16 {
		h.Palette = nil // a palette goes with these types only
	}
	if o.Threads <= 0 {
		o.Threads = runtime.GOMAXPROCS(0)
	}
	t := &writer{src: src, h: h, o: o, spill: spill.Store{Dir: o.SpillDir}}
	for range o.Threads {
		t.workers = append(t.workers, &packer{o: o, reader: src.NewReader()})
	}
	w, ht := h.Grid.Width, h.Grid.Height
	for {
		l := &level{width: w, height: ht, across: (w + o.TileSize - 1) / o.TileSize, down: (ht + o.TileSize - 1) / o.TileSize}
		if n := int64(l.across) * int64(l.down); n > 1<<31 {
			return nil, fmt.Errorf("%d tiles are more than a GeoTIFF of this kind can have", n)
		}
		l.offsets, l.counts = make([]int64, l.across*l.down), make([]uint32, l.across*l.down)
		t.levels = append(t.levels, l)
		t.total += l.across * l.down
		if o.NoOverviews || l.across == 1 && l.down == 1 {
			break
		}
		w, ht = (w+1)/2, (ht+1)/2
	}
	for _, l := range t.levels[1:] {
		l.band.Resize(h.Type, l.width, min(o.TileSize, l.height), l.width)
	}
	return t, nil
}

// encode compresses the tiles of all levels, row by row of tiles.
func (t *writer) encode(ctx context.Context) error {
	l := t.levels[0]
	ts := t.o.TileSize
	for ty := range l.down {
		read := func(r raster.Reader, tx int, dst *raster.Cells) error {
			w := raster.Window{Col: tx * ts, Row: ty * ts, Width: min(ts, l.width-tx*ts), Height: min(ts, l.height-ty*ts)}
			return r.Read(w, dst)
		}
		if err := t.row(ctx, 0, ty, read); err != nil {
			return err
		}
	}
	return nil
}

// row compresses a row of tiles of a level and lays it, halved, into the next level, whose row follows when
// it is full.
func (t *writer) row(ctx context.Context, n, ty int, read func(r raster.Reader, tx int, dst *raster.Cells) error) error {
	l, ts := t.levels[n], t.o.TileSize
	var next atomic.Int64
	var wg sync.WaitGroup
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	for _, w := range t.workers[:min(len(t.workers), l.across)] {
		wg.Go(func() {
			for {
				tx := int(next.Add(1)) - 1
				if tx >= l.across || ctx.Err() != nil {
					return
				}
				err := read(w.reader, tx, &w.cells)
				if err == nil {
					var b []byte
					if b, err = w.pack(&w.cells); err == nil {
						i := ty*l.across + tx
						l.counts[i] = uint32(len(b))
						l.offsets[i], err = t.spill.Add(b)
					}
				}
				if err != nil {
					cancel(err)
					return
				}
				if n+1 < len(t.levels) {
					t.halve(&w.cells, &t.levels[n+1].band, tx*ts/2, ty%2*ts/2)
				}
				if done := t.done.Add(1); t.o.Progress != nil {
					t.o.Progress(int(done), t.total)
				}
			}
		})
	}
	wg.Wait()
	if err := context.Cause(ctx); err != nil {
		return err
	}
	if n+1 == len(t.levels) || ty%2 == 0 && ty != l.down-1 {
		return nil
	}
	up := t.levels[n+1]
	uy := ty / 2
	up.band.Height = min(ts, up.height-uy*ts)
	return t.row(ctx, n+1, uy, func(_ raster.Reader, tx int, dst *raster.Cells) error {
		width := min(ts, up.width-tx*ts)
		dst.Resize(t.h.Type, width, up.band.Height, width)
		dst.Copy(0, 0, &up.band, tx*ts, 0, width, up.band.Height)
		return nil
	})
}

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
				v = view.Combine(view.Mean, values[:n])
				if !t.h.Type.Floating() {
					v = math.Round(v)
				}
			case n > 0:
				v = view.Combine(view.Majority, values[:n])
			}
			dst.Set(col+c/2, row+r/2, v)
		}
	}
}

// majority is the value that most of four bytes hold, none (or -1) apart; of several, the last, as everywhere ([raster.Majority]).
func majority(a, b, c, d uint8, none int) uint8 {
	if c == d && int(d) != none {
		return d
	}
	best, most, all := d, 0, [4]uint8{a, b, c, d}
	for i := 3; i >= 0; i-- {
		v, n := all[i], 0
		if int(v) == none {
			continue
		}
		for _, u := range all[:i+1] {
			if u == v {
				n++
			}
		}
		if n > most {
			best, most = v, n
		}
	}
	return best
}

// packer reads and compresses tiles; each goroutine has its own.
type packer struct {
	o      Options
	reader raster.Reader
	cells  raster.Cells
	plain  []byte
	packed bytes.Buffer
	zlib   *zlib.Writer
	zstd   *zstd.Encoder
}

// pack compresses a tile. What it returns is valid until the next call.
func (p *packer) pack(c *raster.Cells) ([]byte, error) {
	size, ts := c.Type.Bytes(), p.o.TileSize
	if p.plain == nil {
		p.plain = make([]byte, ts*ts*size)
	}
	if c.Width < ts || c.Height < ts {
		clear(p.plain)
	}
	for r := range c.Height {
		pack(p.plain[r*ts*size:], c, r*c.Stride, c.Width)
	}
	switch p.o.Compression {
	case Uncompressed:
		return p.plain, nil
	case Zstandard:
		if p.zstd == nil {
			var err error
			if p.zstd, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)); err != nil {
				return nil, err
			}
		}
		return p.zstd.EncodeAll(p.plain, nil), nil
	}
	p.packed.Reset()
	if p.zlib == nil {
		p.zlib = zlib.NewWriter(&p.packed)
	} else {
		p.zlib.Reset(&p.packed)
	}
	if _, err := p.zlib.Write(p.plain); err != nil {
		return nil, err
	}
	if err := p.zlib.Close(); err != nil {
		return nil, err
	}
	return p.packed.Bytes(), nil
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

// assemble writes the file from the directories and the compressed tiles.
func (t *writer) assemble(out io.Writer) error {
	directories := make([][]entry, len(t.levels))
	var data uint64
	for i, l := range t.levels {
		var err error
		if directories[i], err = t.entries(i); err != nil {
			return err
		}
		for _, n := range l.counts {
			data += uint64(n)
		}
	}
	place := func(big bool) (starts []uint64, end uint64) {
		end = 8
		if big {
			end = 16
		}
		for _, d := range directories {
			starts = append(starts, end)
			end += directorySize(d, big)
		}
		return starts, end
	}
	big := t.o.BigTIFF
	starts, end := place(big)
	if !big && end+data > math.MaxUint32 {
		big = true
		starts, end = place(big)
	}
	// Tiles: the smallest overview first.
	at := end
	for i := len(t.levels) - 1; i >= 0; i-- {
		offsets := make([]uint64, len(t.levels[i].counts))
		for k, n := range t.levels[i].counts {
			offsets[k] = at
			at += uint64(n)
		}
		for k := range directories[i] {
			if directories[i][k].tag == tagTileOffsets {
				directories[i][k] = positions(tagTileOffsets, offsets)
			}
		}
	}
	le := binary.LittleEndian
	header := le.AppendUint32([]byte{'I', 'I', 42, 0}, uint32(starts[0]))
	if big {
		header = le.AppendUint64([]byte{'I', 'I', 43, 0, 8, 0, 0, 0}, starts[0])
	}
	if _, err := out.Write(header); err != nil {
		return err
	}
	for i, d := range directories {
		next := uint64(0)
		if i+1 < len(starts) {
			next = starts[i+1]
		}
		if _, err := out.Write(directoryBytes(d, starts[i], next, big)); err != nil {
			return err
		}
	}
	var b []byte
	for i := len(t.levels) - 1; i >= 0; i-- {
		for k, n := range t.levels[i].counts {
			b = sized(b, int(n))
			if err := t.spill.Get(t.levels[i].offsets[k], b); err != nil {
				return err
			}
			if _, err := out.Write(b); err != nil {
				return err
			}
		}
	}
	return nil
}

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
	photometric, compression := uint16(1), map[Compression]uint16{Deflate: compressDeflate, Zstandard: compressZstd, Uncompressed: compressNone}[t.o.Compression]
	out := []entry{
		longs(tagWidth, uint32(l.width)), longs(tagHeight, uint32(l.height)),
		shorts(tagBits, uint16(t.h.Type.Bytes()*8)), shorts(tagCompression, compression),
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
