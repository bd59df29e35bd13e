package geotiff

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

// Source is one band of a GeoTIFF.
type Source struct {
	file   *file
	layout *layout
	header raster.Header
	closer io.Closer
	levels []*layout // of the reduced copies
	mask   *Source   // a raster of 0 where cells are without data, nil for none
	// What stored numbers are to be multiplied with, and what is then added.
	scale, offset float64
	// What looks up where blocks lie for [Source.Weight].
	weighing sync.Once
	weigher  *reader
}

// Open opens band 1, 2, … of the file at path as it is stored; [Source.Applied] gives what it means. The caller closes it.
func Open(from files.System, path string, band int) (*Source, error) {
	f, err := from.Open(path)
	if err != nil {
		return nil, err
	}
	s, err := New(f, f.Size(), path, band)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	s.closer = f
	if s.header.Unplaced {
		if err := placeBeside(from, path, &s.header); err != nil {
			f.Close()
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return s, nil
}

// New reads a GeoTIFF of size bytes; name is for messages.
func New(r io.ReaderAt, size int64, name string, band int) (*Source, error) {
	f, offset, err := openFile(r, size)
	if err != nil {
		return nil, err
	}
	d, next, err := f.directory(offset)
	if err != nil {
		return nil, err
	}
	l, err := readLayout(f, d, band)
	if err != nil {
		return nil, err
	}
	s := &Source{file: f, layout: l}
	h := raster.Header{Name: name, Type: l.cell, Format: l.describe(f.big), Bands: l.samples, CellsProblem: l.problem, Lossy: codecs[l.compression].lossy}
	if err := georeference(d, l, &h); err != nil {
		return nil, err
	}
	if d.number(tagPhotometric, 1) == 3 {
		h.Palette = palette(d)
	}
	if text := strings.TrimSpace(d.text(tagNoData)); text != "" {
		v, err := decimal.Parse(text)
		switch {
		case err != nil:
			h.Notes = append(h.Notes, fmt.Sprintf("its nodata tag %q is not a number and is not used", text))
		case !l.cell.Holds(v) && l.cell != raster.Float32:
			h.Notes = append(h.Notes, fmt.Sprintf("its nodata value %s cannot occur in %s cells and is not used", text, l.cell))
		case l.cell == raster.Float32:
			v = float64(float32(v))
			h.NoData = &v
		default:
			h.NoData = &v
		}
	}
	if alpha := d.alpha(l.samples); alpha != band {
		h.Alpha = alpha
	}
	if s.levels, s.mask, err = f.others(next, offset, l, band); err != nil {
		return nil, err
	}
	h.Overviews = len(s.levels)
	switch {
	case s.mask != nil && h.Alpha > 0:
		h.Mask = fmt.Sprintf("an internal mask, and band %d (transparency)", h.Alpha)
	case s.mask != nil:
		h.Mask = "an internal mask"
	case h.Alpha > 0:
		h.Mask = fmt.Sprintf("band %d (transparency)", h.Alpha)
	}
	if s.scale, s.offset, err = d.scaling(band); err != nil {
		h.Notes = append(h.Notes, err.Error())
	}
	if s.scale != 1 || s.offset != 0 {
		h.Scaled = fmt.Sprintf("stored numbers × %g", s.scale)
		if s.offset != 0 {
			h.Scaled += fmt.Sprintf(" + %g", s.offset)
		}
	}
	problems, err := CheckCOG(r, size)
	h.COG = err == nil && len(problems) == 0
	s.header = h
	return s, nil
}

// others goes through the directories that follow the first: it finds the reduced copies of a band, nil for those that cannot be read, and the mask.
func (f *file) others(next, first uint64, l *layout, band int) (overviews []*layout, mask *Source, err error) {
	seen := map[uint64]bool{first: true}
	for next != 0 && !seen[next] && len(seen) < maxDirectories {
		seen[next] = true
		d, after, err := f.directory(next)
		if err != nil {
			break
		}
		switch d.number(tagSubfile, 0) & 7 {
		case 1:
			o, err := readLayout(f, d, band)
			if err != nil || o.problem != "" || o.cell != l.cell {
				o = nil
			}
			overviews = append(overviews, o)
		case 4: // a mask of the full image
			if int(d.number(tagWidth, 0)) != l.width || int(d.number(tagHeight, 0)) != l.height {
				break
			}
			m, err := readLayout(f, d, 1)
			if err == nil && m.problem != "" {
				err = errors.New(m.problem)
			}
			if err != nil {
				return overviews, nil, fmt.Errorf("its mask, which says where it has no data, cannot be read (%w)", err)
			}
			mask = &Source{file: f, layout: m, header: raster.Header{Name: "its mask", Type: m.cell, Grid: raster.Grid{Width: m.width, Height: m.height, DX: 1, DY: -1}}}
		}
		next = after
	}
	return overviews, mask, nil
}

// Overviews are the reduced copies of the raster, from the largest to the smallest. A raster with a mask, or whose stored numbers stand for others, has none
// that could be read in its place.
func (s *Source) Overviews() (out []raster.Source) {
	if s.mask != nil || s.header.Alpha > 0 || s.header.Scaled != "" {
		return nil
	}
	g := s.header.Grid
	for _, l := range s.levels {
		if l == nil || l.width >= g.Width || l.height >= g.Height || l.width < 1 || l.height < 1 {
			continue
		}
		h := s.header
		h.Grid.Width, h.Grid.Height = l.width, l.height
		h.Grid.DX, h.Grid.DY = g.DX*float64(g.Width)/float64(l.width), g.DY*float64(g.Height)/float64(l.height)
		out = append(out, &Source{file: s.file, layout: l, header: h, scale: 1})
	}
	return out
}

// Applied gives the raster as its file means it: without data where its mask or its band of transparency says so, and
// with stored numbers turned into the measurements that they stand for.
func (s *Source) Applied() (raster.Source, error) {
	out := raster.Source(s)
	if s.mask != nil {
		m := raster.Source(s.mask)
		if s.mask.layout.bits {
			m = &bitMask{s.mask, s.layout.width}
		}
		out = view.Masked(out, m)
	}
	if a := s.header.Alpha; a > 0 {
		l := *s.layout
		l.band = a - 1
		alpha := &Source{file: s.file, layout: &l, header: s.header}
		alpha.header.NoData = nil
		out = view.Masked(out, alpha)
	}
	if s.scale != 1 || s.offset != 0 {
		out = view.Scaled(out, s.scale, s.offset)
	}
	return out, nil
}

// bitMask gives the cells of a mask of one bit each, the most significant first.
type bitMask struct {
	*Source
	width int
}

// Header implements [raster.Source].
func (m *bitMask) Header() raster.Header {
	h := m.Source.Header()
	h.Grid.Width = m.width
	return h
}

// BlockSize implements [raster.Source].
func (m *bitMask) BlockSize() (width, height int) { w, h := m.Source.BlockSize(); return 8 * w, h }

// NewReader implements [raster.Source].
func (m *bitMask) NewReader() raster.Reader { return &bitReader{r: m.Source.NewReader()} }

type bitReader struct {
	r     raster.Reader
	cells raster.Cells
}

// Read implements [raster.Reader].
func (b *bitReader) Read(w raster.Window, dst *raster.Cells) error {
	first, last := w.Col/8, (w.Col+w.Width-1)/8
	if err := b.r.Read(raster.Window{Col: first, Row: w.Row, Width: last - first + 1, Height: w.Height}, &b.cells); err != nil {
		return err
	}
	dst.Resize(raster.Uint8, w.Width, w.Height, w.Width)
	for row := range w.Height {
		for col := range w.Width {
			at := w.Col + col
			dst.U8[row*dst.Stride+col] = b.cells.U8[row*b.cells.Stride+at/8-first] >> (7 - at%8) & 1
		}
	}
	return nil
}

func palette(d *directory) []raster.Color {
	f := d.fields[tagColorMap]
	n := f.count / 3
	if f.kind != 3 || n == 0 || n > 1<<16 {
		return nil
	}
	out := make([]raster.Color, n)
	for i := range n {
		r, _ := d.at(f, i)
		g, _ := d.at(f, n+i)
		b, _ := d.at(f, 2*n+i)
		out[i] = raster.Color{R: uint8(r >> 8), G: uint8(g >> 8), B: uint8(b >> 8)}
	}
	return out
}

// Close closes the file.
func (s *Source) Close() error {
	if s.closer == nil {
		return nil
	}
	return s.closer.Close()
}

// Header implements [raster.Source].
func (s *Source) Header() raster.Header { return s.header }

// BlockSize implements [raster.Source].
func (s *Source) BlockSize() (width, height int) { return s.layout.blockW, s.layout.blockH }

// NewReader implements [raster.Source].
func (s *Source) NewReader() raster.Reader { return &reader{s: s} }

type reader struct {
	s       *Source
	decoder decoder
	stored  []byte
	plain   []byte
	scratch raster.Cells
}

// Read implements [raster.Reader]. A window that is one block is decoded straight into dst.
func (r *reader) Read(w raster.Window, dst *raster.Cells) error {
	l := r.s.layout
	if l.problem != "" {
		return fmt.Errorf("%s: %s", r.s.header.Name, l.problem)
	}
	if err := w.Check(r.s.header.Name, l.width, l.height); err != nil {
		return err
	}
	bx0, by0 := w.Col/l.blockW, w.Row/l.blockH
	bx1, by1 := (w.Col+w.Width-1)/l.blockW, (w.Row+w.Height-1)/l.blockH
	if bx0 == bx1 && by0 == by1 && w.Col == bx0*l.blockW && w.Row == by0*l.blockH {
		if err := r.block(bx0, by0, dst); err != nil {
			return r.blame(bx0, by0, err)
		}
		dst.Width, dst.Height = w.Width, w.Height
		return nil
	}
	dst.Resize(l.cell, w.Width, w.Height, w.Width)
	r.s.Ahead([]raster.Window{w})
	for by := by0; by <= by1; by++ {
		for bx := bx0; bx <= bx1; bx++ {
			if err := r.block(bx, by, &r.scratch); err != nil {
				return r.blame(bx, by, err)
			}
			c0, r0 := max(w.Col, bx*l.blockW), max(w.Row, by*l.blockH)
			c1, r1 := min(w.Col+w.Width, (bx+1)*l.blockW), min(w.Row+w.Height, (by+1)*l.blockH)
			dst.Copy(c0-w.Col, r0-w.Row, &r.scratch, c0-bx*l.blockW, r0-by*l.blockH, c1-c0, r1-r0)
		}
	}
	return nil
}

func (r *reader) blame(bx, by int, err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = errors.New("its data end too early")
	}
	return fmt.Errorf("%s: the block at column %d, row %d cannot be read (%w): the file is damaged, get it again",
		r.s.header.Name, bx*r.s.layout.blockW, by*r.s.layout.blockH, err)
}

// block decodes the whole block bx, by into dst.
func (r *reader) block(bx, by int, dst *raster.Cells) error {
	l, f := r.s.layout, r.s.file
	size := l.cell.Bytes()
	samples, first := l.interleaved()
	rows := l.rows(by)
	need := l.blockW * rows * samples * size
	offset, count, rows2, err := r.locate(bx, by, need)
	if err != nil {
		return err
	}
	if rows2 > 0 { // a virtual block that spans two strips
		return r.rowwise(by, rows, dst)
	}
	if (count == 0) != (offset == 0) {
		return fmt.Errorf("it lies at %d and has %d stored bytes", offset, count)
	}
	if count == 0 { // a sparse block: never written, so all nodata
		r.blank(dst, rows)
		return nil
	}
	if count > f.size || offset > f.size-count {
		return fmt.Errorf("the file ends inside it: it was cut short")
	}
	if uint64(need) > count*codecs[l.compression].most+64 {
		return fmt.Errorf("%d stored bytes cannot hold %d", count, need)
	}
	if count > 2*uint64(need)+65536 {
		return fmt.Errorf("it claims %d stored bytes for %d", count, need)
	}
	decode := codecs[l.compression].decode
	padding := 0 // a block must end where it should, and its checksum is of all of it: also a tile at the lower border is decoded whole
	if !l.virtual {
		padding = need / rows * (l.blockH - rows)
	}
	r.stored = sized(r.stored, int(count))
	if _, err := f.r.ReadAt(r.stored, int64(offset)); err != nil {
		return err
	}
	dst.Resize(l.cell, min(l.blockW, l.width-bx*l.blockW), rows, l.blockW)
	dst.Height = min(rows, l.height-by*l.blockH)
	if size == 1 && samples == 1 { // bytes are cells
		if err := decode(&r.decoder, dst.U8[:need], r.stored, padding); err != nil {
			return err
		}
		if l.predictor != 1 {
			undoPredictor(dst.U8[:need], l.predictor, 1, l.blockW, 1, f.order)
		}
		return nil
	}
	r.plain = sized(r.plain, need)
	if err := decode(&r.decoder, r.plain, r.stored, padding); err != nil {
		return err
	}
	if l.predictor != 1 {
		undoPredictor(r.plain, l.predictor, size, l.blockW, samples, f.order)
	}
	unpackCells(dst, 0, l.blockW*rows, r.plain[first:], samples*size, f.order)
	return nil
}

func sized(b []byte, n int) []byte {
	if cap(b) < n {
		return make([]byte, n)
	}
	return b[:n]
}

// locate finds the stored bytes of a block. For a virtual block that crosses from one strip to
// the next it returns the number of rows that lie beyond.
func (r *reader) locate(bx, by, need int) (offset, count uint64, beyond int, err error) {
	l := r.s.layout
	d := directory{order: r.s.file.order}
	if l.virtual {
		row := by * l.blockH
		strip := row / l.stripRows
		rows := min(l.blockH, l.height-row)
		if over := row + rows - (strip+1)*l.stripRows; over > 0 {
			return 0, 0, over, nil
		}
		offset, _ := d.at(l.offsets, r.plane(uint64(strip)))
		if offset == 0 {
			return 0, 0, 0, nil
		}
		return offset + uint64(row-strip*l.stripRows)*uint64(need/rows), uint64(need), 0, nil
	}
	i := r.plane(uint64(by)*uint64(l.across) + uint64(bx))
	offset, ok := d.at(l.offsets, i)
	if !ok {
		return 0, 0, 0, errors.New("its place is not listed")
	}
	count, ok = d.at(l.counts, i)
	if !ok {
		count = uint64(need)
	}
	if !ok && offset == 0 {
		count = 0
	}
	return offset, count, 0, nil
}

// plane moves a block's number to the plane of the band.
func (r *reader) plane(i uint64) uint64 {
	l := r.s.layout
	if !l.planar {
		return i
	}
	perPlane := uint64(l.across) * ((uint64(l.height) + uint64(l.stripRows) - 1) / uint64(l.stripRows))
	return i + uint64(l.band)*perPlane
}

// rowwise reads a virtual block row by row.
func (r *reader) rowwise(by, rows int, dst *raster.Cells) error {
	l, f := r.s.layout, r.s.file
	samples, first := l.interleaved()
	size := l.cell.Bytes()
	line := l.blockW * samples * size
	dst.Resize(l.cell, l.width, rows, l.blockW)
	r.plain = sized(r.plain, line)
	d := directory{order: f.order}
	for k := range rows {
		row := by*l.blockH + k
		strip := row / l.stripRows
		offset, _ := d.at(l.offsets, r.plane(uint64(strip)))
		at := satAdd(offset, uint64(row-strip*l.stripRows)*uint64(line))
		if at > f.size || uint64(line) > f.size-at {
			return fmt.Errorf("the file ends inside it: it was cut short")
		}
		if _, err := f.r.ReadAt(r.plain, int64(at)); err != nil {
			return err
		}
		unpackCells(dst, k*l.blockW, l.blockW, r.plain[first:], samples*size, f.order)
	}
	return nil
}

// blank fills a block with nodata, or 0 where none is declared.
func (r *reader) blank(dst *raster.Cells, rows int) {
	l := r.s.layout
	dst.Resize(l.cell, l.blockW, rows, l.blockW)
	v := 0.0
	if n := r.s.header.NoData; n != nil {
		v = *n
	}
	for c := range l.blockW {
		dst.Set(c, 0, v)
	}
	for k := 1; k < rows; k++ {
		dst.Copy(0, k, dst, 0, 0, l.blockW, 1)
	}
}
