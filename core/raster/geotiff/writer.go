package geotiff

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"runtime"
	"sync"
	"sync/atomic"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff/pack"
	"github.com/verdex-land/verdex/core/spill"
)

// Compression is a compression scheme of blocks by its TIFF number.
type Compression int

// TileSize is the size of the tiles that are written, unless options say otherwise. They are read of the source one by one.
const TileSize = 512

// Options say how a raster is written. The zero value is Deflate in tiles of 512 × 512 cells with overviews,
// as a BigTIFF only when the file needs it.
type Options struct {
	Compression Compression // Deflate, Zstandard or Uncompressed; 0 is Deflate
	TileSize    int         // a multiple of 16; 0 is the usual one
	BigTIFF     bool        // even when the file is small
	NoOverviews bool
	Values      bool   // cells are measurements: overviews are means instead of majorities
	SpillDir    string // where what does not fit into memory waits; "" is the system's folder for such files
	Threads     int    // 0 takes all processors
	// Describe, when not nil, is asked for the description of the image when all its cells are written, "" for none.
	Describe func() string
	// Progress, when not nil, is called from time to time with how many of the tiles are done.
	Progress func(done, total int)
}

// Write writes a raster as a cloud-optimised GeoTIFF: directories first, the largest image first; then the
// tiles, those of the smallest overview first. It reads each window of the source once; the
// compressed tiles wait, beyond 32 MiB in a temporary file, until the directories, which state where each lies,
// can be written. Each overview halves the one before, until one tile holds it: a cell of it is the
// majority of four cells, in a tie the lowest value, or with Values their mean; nodata takes no part. The same cells give the same bytes.
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
	if o.Compression == 0 {
		o.Compression = Deflate
	}
	if codecs[o.Compression].encode == nil {
		return nil, fmt.Errorf("blocks in %v are not written: choose Deflate, Zstandard or none", o.Compression)
	}
	if o.TileSize == 0 {
		o.TileSize = TileSize
	}
	if o.TileSize < 16 || o.TileSize%16 != 0 || o.TileSize > 1<<14 {
		return nil, fmt.Errorf("a tile size of %d is not a multiple of 16 up to 16384", o.TileSize)
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
		w := &packer{o: o, reader: src.NewReader()}
		if t := src.Header().Type; !o.Values && !t.Floating() {
			w.cell = t.Bytes()
		}
		t.workers = append(t.workers, w)
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

// announcedRows is how many rows of tiles ahead of the one that is read a source knows what will be read.
const announcedRows = 6

// encode compresses the tiles of all levels, row by row of tiles.
func (t *writer) encode(ctx context.Context) error {
	l := t.levels[0]
	ts := t.o.TileSize
	window := func(tx, ty int) raster.Window {
		return raster.Window{Col: tx * ts, Row: ty * ts, Width: min(ts, l.width-tx*ts), Height: min(ts, l.height-ty*ts)}
	}
	announced, useful := 0, raster.Ahead(t.src, nil)
	for ty := range l.down {
		for ; useful && announced < min(l.down, ty+announcedRows); announced++ {
			var row []raster.Window
			for tx := range l.across {
				row = append(row, window(tx, announced))
			}
			raster.Ahead(t.src, row)
		}
		read := func(r raster.Reader, tx int, dst *raster.Cells) error { return r.Read(window(tx, ty), dst) }
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

// packer reads and compresses tiles; each goroutine has its own.
type packer struct {
	o      Options
	reader raster.Reader
	cells  raster.Cells
	plain  []byte
	packed bytes.Buffer
	flate  *flate.Writer
	zstd   *zstd.Encoder
	// Of classes: the bytes of a cell, 0 for measurements; and what compresses them.
	cell     int
	deflater pack.Deflater
	classes  []byte
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
		lay(p.plain[r*ts*size:], c, r*c.Stride, c.Width)
	}
	return codecs[p.o.Compression].encode(p, p.plain)
}

// lay lays n cells from index at on into bytes.
func lay(dst []byte, c *raster.Cells, at, n int) {
	le := binary.LittleEndian
	switch c.Type {
	case raster.Uint8, raster.Int8:
		copy(dst[:n], c.U8[at:])
	case raster.Uint16:
		for i, v := range c.U16[at : at+n] {
			le.PutUint16(dst[i*2:], v)
		}
	case raster.Int16:
		for i, v := range c.I16[at : at+n] {
			le.PutUint16(dst[i*2:], uint16(v))
		}
	case raster.Uint32:
		for i, v := range c.U32[at : at+n] {
			le.PutUint32(dst[i*4:], v)
		}
	case raster.Int32:
		for i, v := range c.I32[at : at+n] {
			le.PutUint32(dst[i*4:], uint32(v))
		}
	case raster.Float32:
		for i, v := range c.F32[at : at+n] {
			le.PutUint32(dst[i*4:], math.Float32bits(v))
		}
	case raster.Float64:
		for i, v := range c.F64[at : at+n] {
			le.PutUint64(dst[i*8:], math.Float64bits(v))
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
