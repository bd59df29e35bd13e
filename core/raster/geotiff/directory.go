// Package geotiff reads GeoTIFF and BigTIFF rasters by window and writes them.
//
// The way of the data: [Open] reads the directory (directory.go) and the georeferencing
// (geokeys.go, georeference.go); a Reader (reader.go) finds the blocks that a window touches,
// decodes them (codec.go, decode.go) and hands over cells. [Write] goes the other way (writer.go, overview.go, entries.go).
//
// Everything in a file is hostile until checked: offsets and counts against the size of the
// file, dimensions against the count of blocks, decoded sizes against what the compressed bytes
// could possibly hold. No buffer is made larger than maxBlock.
package geotiff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"
)

// TIFF tags, from TIFF 6.0, its supplements, GeoTIFF 1.1 and the de facto nodata tag.
const (
	tagSubfile         = 254
	tagWidth           = 256
	tagHeight          = 257
	tagBits            = 258
	tagCompression     = 259
	tagPhotometric     = 262
	tagFillOrder       = 266
	tagDescription     = 270
	tagStripOffsets    = 273
	tagSamples         = 277
	tagRowsPerStrip    = 278
	tagStripCounts     = 279
	tagPlanar          = 284
	tagPredictor       = 317
	tagColorMap        = 320
	tagTileWidth       = 322
	tagTileHeight      = 323
	tagTileOffsets     = 324
	tagTileCounts      = 325
	tagSampleFormat    = 339
	tagExtraSamples    = 338
	tagMetadata        = 42112
	tagPixelScale      = 33550
	tagTiepoint        = 33922
	tagTransformation  = 34264
	tagGeoKeys         = 34735
	tagGeoDoubles      = 34736
	tagGeoASCII        = 34737
	tagNoData          = 42113
	maxEntries         = 4096
	maxDirectories     = 256
	maxDimension       = math.MaxInt32
	maxBlock           = 256 << 20 // bytes of one decoded block
	maxMetadata        = 1 << 20   // bytes of a tag that is not a list of blocks
	maxSamplesPerPixel = 65535
)

// field is a directory entry whose values lie in data.
type field struct {
	kind  uint16
	count uint64
	data  []byte
}

type directory struct {
	order  binary.ByteOrder
	fields map[uint16]field
}

// Sizes of the TIFF field types, by number; 0 for unknown ones.
var typeSizes = [...]uint64{1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 6: 1, 7: 1, 8: 2, 9: 4, 10: 8, 11: 4, 12: 8, 13: 4, 16: 8, 17: 8, 18: 8}

// file is the container: where directories are and how they are laid out.
type file struct {
	r     io.ReaderAt
	size  uint64
	order binary.ByteOrder
	big   bool
}

func (f *file) read(offset, n uint64, what string) ([]byte, error) {
	if offset > f.size || n > f.size-offset {
		return nil, fmt.Errorf("the file ends inside its %s (it has %d bytes, %d are needed): it was cut short, copy it again", what, f.size, satAdd(offset, n))
	}
	b := make([]byte, n)
	if _, err := f.r.ReadAt(b, int64(offset)); err != nil {
		return nil, fmt.Errorf("reading its %s: %w", what, err)
	}
	return b, nil
}

func satAdd(a, b uint64) uint64 {
	if a > math.MaxUint64-b {
		return math.MaxUint64
	}
	return a + b
}

// openFile reads the header and returns the offset of the first directory.
func openFile(r io.ReaderAt, size int64) (*file, uint64, error) {
	f := &file{r: r, size: uint64(size)}
	if size < 8 {
		return nil, 0, fmt.Errorf("it has only %d bytes and is not a TIFF", size)
	}
	h, err := f.read(0, 8, "header")
	if err != nil {
		return nil, 0, err
	}
	switch string(h[:2]) {
	case "II":
		f.order = binary.LittleEndian
	case "MM":
		f.order = binary.BigEndian
	default:
		return nil, 0, errors.New("its first bytes are not those of a TIFF")
	}
	switch f.order.Uint16(h[2:]) {
	case 42:
		return f, uint64(f.order.Uint32(h[4:])), nil
	case 43:
		f.big = true
		if h, err = f.read(0, 16, "header"); err != nil {
			return nil, 0, err
		}
		if f.order.Uint16(h[4:]) != 8 {
			return nil, 0, fmt.Errorf("it is a BigTIFF with offsets of %d bytes, which nobody defined", f.order.Uint16(h[4:]))
		}
		return f, f.order.Uint64(h[8:]), nil
	}
	return nil, 0, fmt.Errorf("it begins like a TIFF, but its magic number is %d instead of 42 or 43", f.order.Uint16(h[2:]))
}

// directory reads the directory at offset and the offset of the next one.
func (f *file) directory(offset uint64) (*directory, uint64, error) {
	countSize, entrySize, inline := uint64(2), uint64(12), uint64(4)
	if f.big {
		countSize, entrySize, inline = 8, 20, 8
	}
	b, err := f.read(offset, countSize, "directory")
	if err != nil {
		return nil, 0, err
	}
	var n uint64
	if f.big {
		n = f.order.Uint64(b)
	} else {
		n = uint64(f.order.Uint16(b))
	}
	if n == 0 || n > maxEntries {
		return nil, 0, fmt.Errorf("its directory claims %d entries: the file is damaged", n)
	}
	b, err = f.read(offset+countSize, n*entrySize+inline, "directory")
	if err != nil {
		return nil, 0, err
	}
	d := &directory{order: f.order, fields: map[uint16]field{}}
	for i := range n {
		e := b[i*entrySize:]
		tag, kind := f.order.Uint16(e), f.order.Uint16(e[2:])
		var count uint64
		var value []byte
		if f.big {
			count, value = f.order.Uint64(e[4:]), e[12:20]
		} else {
			count, value = uint64(f.order.Uint32(e[4:])), e[8:12]
		}
		if !wanted[tag] || int(kind) >= len(typeSizes) || typeSizes[kind] == 0 {
			continue
		}
		size := typeSizes[kind]
		if count > f.size/size+8 {
			return nil, 0, fmt.Errorf("its tag %d claims %d values, more than the file could hold: the file is damaged", tag, count)
		}
		if !blockTags[tag] && count*size > maxMetadata {
			return nil, 0, fmt.Errorf("its tag %d claims %d bytes: the file is damaged", tag, count*size)
		}
		if count*size > inline {
			at := uint64(0)
			if f.big {
				at = f.order.Uint64(value)
			} else {
				at = uint64(f.order.Uint32(value))
			}
			if value, err = f.read(at, count*size, fmt.Sprintf("tag %d", tag)); err != nil {
				return nil, 0, err
			}
		}
		d.fields[tag] = field{kind, count, value[:count*size]}
	}
	tail := b[n*entrySize:]
	if f.big {
		return d, f.order.Uint64(tail), nil
	}
	return d, uint64(f.order.Uint32(tail)), nil
}

var blockTags = map[uint16]bool{tagStripOffsets: true, tagStripCounts: true, tagTileOffsets: true, tagTileCounts: true}

var wanted = map[uint16]bool{
	tagSubfile: true, tagWidth: true, tagHeight: true, tagBits: true, tagCompression: true, tagPhotometric: true,
	tagFillOrder: true, tagStripOffsets: true, tagSamples: true, tagRowsPerStrip: true, tagStripCounts: true,
	tagPlanar: true, tagPredictor: true, tagColorMap: true, tagTileWidth: true, tagTileHeight: true,
	tagTileOffsets: true, tagTileCounts: true, tagSampleFormat: true, tagPixelScale: true, tagTiepoint: true,
	tagTransformation: true, tagGeoKeys: true, tagGeoDoubles: true, tagGeoASCII: true, tagNoData: true, tagExtraSamples: true, tagMetadata: true,
}

func (d *directory) has(tag uint16) bool { _, ok := d.fields[tag]; return ok }

// at is the i-th value of an unsigned integer field.
func (d *directory) at(f field, i uint64) (uint64, bool) {
	if i >= f.count {
		return 0, false
	}
	switch f.kind {
	case 1:
		return uint64(f.data[i]), true
	case 3:
		return uint64(d.order.Uint16(f.data[i*2:])), true
	case 4, 13:
		return uint64(d.order.Uint32(f.data[i*4:])), true
	case 16, 18:
		return d.order.Uint64(f.data[i*8:]), true
	}
	return 0, false
}

// number is the first value of an unsigned integer field, or def where it is missing.
func (d *directory) number(tag uint16, def uint64) uint64 {
	if v, ok := d.at(d.fields[tag], 0); ok {
		return v
	}
	return def
}

// doubles are the values of a field of type DOUBLE.
func (d *directory) doubles(tag uint16) []float64 {
	f := d.fields[tag]
	if f.kind != 12 {
		return nil
	}
	out := make([]float64, f.count)
	for i := range out {
		out[i] = math.Float64frombits(d.order.Uint64(f.data[i*8:]))
	}
	return out
}

// text is an ASCII field without its closing NULs.
func (d *directory) text(tag uint16) string {
	f := d.fields[tag]
	if f.kind != 2 {
		return ""
	}
	return strings.TrimRight(string(f.data), "\x00")
}
