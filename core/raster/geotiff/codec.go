package geotiff

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"github.com/klauspost/compress/flate"
	"github.com/klauspost/compress/zstd"

	"github.com/verdex-land/verdex/core/raster/geotiff/unpack"
)

// codec is a compression scheme of TIFF. A new one is a line in codecs, with a function that decodes it.
type codec struct {
	name string
	// lossy schemes change values, always or mostly.
	lossy bool
	// most is how many bytes one compressed byte can stand for; a block that claims more is damaged, and is refused before memory
	// is taken for it.
	most uint64
	// decode fills dst, which has the size that the block must have, and verifies the checksum of the block if the scheme has one. A block
	// that ends early or late is damaged; of the last strip of an image, which may be stored as long as the others, padding bytes are
	// allowed too. It is nil for schemes that are known but not read.
	decode func(d *decoder, dst, src []byte, padding int) error
	// encode returns the stored bytes of a block, valid until the next call; nil for schemes that are not written.
	encode func(p *packer, plain []byte) ([]byte, error)
}

// The schemes that are written, by their TIFF numbers.
const (
	Deflate      Compression = 8
	Zstandard    Compression = 50000
	Uncompressed Compression = 1
)

// codecs are the schemes by their TIFF numbers.
var codecs = map[Compression]codec{
	Uncompressed: {name: "uncompressed", most: 1, decode: (*decoder).copied, encode: (*packer).plainly},
	5:            {name: "LZW", most: 4096, decode: (*decoder).lzw},
	Deflate:      {name: "Deflate", most: 1040, decode: (*decoder).deflated, encode: (*packer).deflate},
	32946:        {name: "Deflate", most: 1040, decode: (*decoder).deflated},
	32773:        {name: "PackBits", most: 64, decode: (*decoder).packBits},
	Zstandard:    {name: "Zstandard", most: 65536, decode: (*decoder).zstandard, encode: (*packer).zstandard},
	2:            {name: "CCITT RLE"},
	3:            {name: "CCITT Group 3"},
	4:            {name: "CCITT Group 4"},
	6:            {name: "old JPEG", lossy: true},
	7:            {name: "JPEG", lossy: true},
	34712:        {name: "JPEG 2000", lossy: true},
	34887:        {name: "LERC", lossy: true},
	34925:        {name: "LZMA"},
	50001:        {name: "WebP", lossy: true},
	50002:        {name: "JPEG XL", lossy: true},
}

// String names the scheme.
func (c Compression) String() string {
	if known, ok := codecs[c]; ok {
		return known.name
	}
	return fmt.Sprintf("scheme %d", int(c))
}

// problem is why blocks of the scheme cannot be read, "" where they can.
func (c Compression) problem() string {
	switch known := codecs[c]; {
	case known.decode != nil:
		return ""
	case known.lossy:
		return fmt.Sprintf("its compression, %v, changes values, so that classes are no longer sure, and is not read: get the raster as it was before, in Deflate, LZW or Zstandard", c)
	}
	return fmt.Sprintf("its compression, %v, is not read: re-write it with Deflate, LZW or Zstandard", c)
}

// decoder holds what decoding keeps from block to block. Each Reader has its own.
type decoder struct {
	inflate unpack.Inflater
	strings unpack.LZW
	room    []byte // for a block that is stored with padding
	zstd    *zstd.Decoder
}

// errLate is that of a block which holds more than its cells.
var errLate = errors.New("it holds more bytes than its cells need")

func (*decoder) copied(dst, src []byte, padding int) error {
	switch {
	case len(src) < len(dst):
		return io.ErrUnexpectedEOF
	case len(src) > len(dst)+3 && len(src) != len(dst)+padding: // some writers round lengths up to words
		return errLate
	}
	copy(dst, src)
	return nil
}

// deflated decodes a zlib stream, whose checksum is of the padding, too.
func (d *decoder) deflated(dst, src []byte, padding int) error {
	return d.into(dst, padding, func(room []byte) (int, error) { return d.inflate.Zlib(room, src) })
}

func (d *decoder) lzw(dst, src []byte, padding int) error {
	return d.into(dst, padding, func(room []byte) (int, error) {
		n, _, err := d.strings.Decode(room, src) // some writers leave the mark of the end out
		return n, err
	})
}

// into has a block decoded that may have padding behind its cells.
func (d *decoder) into(dst []byte, padding int, decode func(room []byte) (int, error)) error {
	room := dst
	if padding > 0 {
		d.room = sized(d.room, len(dst)+padding)
		room = d.room
	}
	n, err := decode(room)
	switch {
	case errors.Is(err, unpack.ErrLong):
		return errLate
	case err != nil:
		return err
	case n < len(dst):
		return io.ErrUnexpectedEOF
	case n != len(dst) && n != len(room):
		return errLate
	}
	if padding > 0 {
		copy(dst, room)
	}
	return nil
}

// zstandard decodes a frame, and verifies its checksum if it has one.
func (d *decoder) zstandard(dst, src []byte, padding int) error {
	if d.zstd == nil {
		var err error
		d.zstd, err = zstd.NewReader(nil, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(maxBlock), zstd.WithDecoderLowmem(true))
		if err != nil {
			return err
		}
	}
	var h zstd.Header
	if err := h.Decode(src); err != nil {
		return err
	}
	whole := len(dst)
	if h.HasFCS && h.FrameContentSize == uint64(len(dst)+padding) {
		whole += padding
	} else if h.HasFCS && h.FrameContentSize != uint64(len(dst)) {
		return fmt.Errorf("its frame holds %d bytes instead of %d", h.FrameContentSize, len(dst))
	}
	room := dst
	if whole > len(dst) {
		room = make([]byte, whole)
	}
	out, err := d.zstd.DecodeAll(src, room[:0:len(room)])
	switch {
	case err != nil:
		return err
	case len(out) < len(dst):
		return io.ErrUnexpectedEOF
	case len(out) != len(dst) && len(out) != len(dst)+padding:
		return errLate
	case &out[0] != &dst[0]:
		copy(dst, out)
	}
	return nil
}

// packBits undoes the PackBits scheme of TIFF 6.0, section 9. One byte may follow, which makes the length even.
func (*decoder) packBits(dst, src []byte, padding int) error {
	more := 0 // bytes behind those of dst
	for len(dst) > 0 || len(src) > 1 && more < padding {
		if len(src) < 2 {
			return io.ErrUnexpectedEOF
		}
		n := int(int8(src[0]))
		switch {
		case n >= 0:
			n++
			if len(src) < n+1 {
				return io.ErrUnexpectedEOF
			}
			k := copy(dst, src[1:n+1])
			dst, more, src = dst[k:], more+n-k, src[n+1:]
		case n == -128:
			src = src[1:]
		default:
			k := min(1-n, len(dst))
			run := dst[:k]
			for have := copy(run, src[1:2]); have < k; have *= 2 {
				copy(run[have:], run[:have])
			}
			dst, more, src = dst[k:], more+1-n-k, src[2:]
		}
	}
	if more != 0 && more != padding || len(src) > 1 {
		return errLate
	}
	return nil
}

func (p *packer) plainly(plain []byte) ([]byte, error) { return plain, nil }

func (p *packer) zstandard(plain []byte) ([]byte, error) {
	if p.zstd == nil {
		var err error
		if p.zstd, err = zstd.NewWriter(nil, zstd.WithEncoderConcurrency(1)); err != nil {
			return nil, err
		}
	}
	return p.zstd.EncodeAll(plain, nil), nil
}

// deflate compresses classes by what stands to their left and above them. Where that leaves more than a sixth, as of noise, and for measurements, a general compressor
// has a go, too.
func (p *packer) deflate(plain []byte) ([]byte, error) {
	if p.cell > 0 {
		p.classes = p.deflater.Zlib(p.classes[:0], plain, p.cell, p.cell*p.o.TileSize)
		if len(p.classes) <= len(plain)/6 {
			return p.classes, nil
		}
	}
	all, err := p.deflateAny(plain)
	if err == nil && p.cell > 0 && len(p.classes) <= len(all) {
		return p.classes, nil
	}
	return all, err
}

func (p *packer) deflateAny(plain []byte) ([]byte, error) {
	p.packed.Reset()
	p.packed.WriteString("\x78\x9c") // RFC 1950: Deflate, a window of 32 KiB, the usual effort
	if p.flate == nil {
		var err error
		if p.flate, err = flate.NewWriter(&p.packed, flate.DefaultCompression); err != nil {
			return nil, err
		}
	} else {
		p.flate.Reset(&p.packed)
	}
	if _, err := p.flate.Write(plain); err != nil {
		return nil, err
	}
	if err := p.flate.Close(); err != nil {
		return nil, err
	}
	p.packed.Write(binary.BigEndian.AppendUint32(nil, unpack.Adler32(plain)))
	return p.packed.Bytes(), nil
}
