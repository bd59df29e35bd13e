package geotiff

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"github.com/klauspost/compress/zlib"
	"github.com/klauspost/compress/zstd"
	"golang.org/x/image/tiff/lzw"

	"github.com/verdex-land/verdex/core/raster"
)

// decoder turns the stored bytes of a block into plain ones. Each Reader has its own.
type decoder struct {
	in      bytes.Reader
	inflate io.ReadCloser
	zstd    *zstd.Decoder
}

// greatest is how many bytes one compressed byte can stand for, by scheme; a block that claims
// more is damaged, and is refused before memory is taken for it.
var greatest = map[uint64]uint64{
	compressNone: 1, compressLZW: 4096, compressDeflate: 1040, compressDeflate2: 1040, compressPackBits: 64, compressZstd: 65536,
}

// errLate is that of a block which holds more than its cells.
var errLate = errors.New("it holds more bytes than its cells need")

// decode fills dst, which has the size that the block must have, and verifies the checksum of the block if its scheme has one. A block
// that ends early or late is damaged; of the last strip of an image, which may be stored as long as the others, padding bytes are
// allowed too.
func (d *decoder) decode(dst, src []byte, scheme uint64, padding int) error {
	switch scheme {
	case compressNone:
		switch {
		case len(src) < len(dst):
			return io.ErrUnexpectedEOF
		case len(src) > len(dst)+3 && len(src) != len(dst)+padding: // some writers round lengths up to words
			return errLate
		}
		copy(dst, src)
		return nil
	case compressDeflate, compressDeflate2:
		d.in.Reset(src)
		var err error
		if d.inflate == nil {
			d.inflate, err = zlib.NewReader(&d.in)
		} else {
			err = d.inflate.(zlib.Resetter).Reset(&d.in, nil)
		}
		if err != nil {
			return err
		}
		return fill(dst, d.inflate, padding) // the reader verifies the Adler-32 when it comes to the end
	case compressLZW:
		d.in.Reset(src)
		r := lzw.NewReader(&d.in, lzw.MSB, 8)
		defer r.Close()
		err := fill(dst, r, padding)
		if errors.Is(err, errNoMark) && d.in.Len() == 0 {
			err = nil // some writers leave the mark of the end out
		}
		return err
	case compressPackBits:
		return unpackBits(dst, src, padding)
	case compressZstd:
		return d.unpackZstd(dst, src, padding)
	}
	return fmt.Errorf("compression %d", scheme)
}

// errNoMark is that of a stream which stops behind the last cell without saying that it ends there.
var errNoMark = errors.New("it does not end where its cells do")

// fill reads dst and then the end of the stream, before which padding bytes may stand.
func fill(dst []byte, r io.Reader, padding int) error {
	if _, err := io.ReadFull(r, dst); err != nil {
		return err
	}
	var rest [4096]byte
	more := 0
	for {
		n, err := r.Read(rest[:])
		if more += n; more > padding {
			return errLate
		}
		switch {
		case errors.Is(err, io.ErrUnexpectedEOF) && (more == 0 || more == padding):
			return errNoMark
		case errors.Is(err, io.EOF) && (more == 0 || more == padding):
			return nil
		case errors.Is(err, io.EOF):
			return errLate
		case err != nil:
			return err
		}
	}
}

// unpackZstd decodes a frame, and verifies its checksum if it has one.
func (d *decoder) unpackZstd(dst, src []byte, padding int) error {
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

// unpackBits undoes the PackBits scheme of TIFF 6.0, section 9. One byte may follow, which makes the length even.
func unpackBits(dst, src []byte, padding int) error {
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
			for i := range k {
				dst[i] = src[1]
			}
			dst, more, src = dst[k:], more+1-n-k, src[2:]
		}
	}
	if more != 0 && more != padding || len(src) > 1 {
		return errLate
	}
	return nil
}

// undoPredictor reverses horizontal differencing (TIFF 6.0, section 14) or the floating-point
// predictor (TIFF Technical Note 3) in rows of width × samples numbers.
func undoPredictor(b []byte, predictor uint64, size, width, samples int, order binary.ByteOrder) {
	row := width * samples * size
	var scratch []byte
	for ; len(b) >= row; b = b[row:] {
		r := b[:row]
		switch {
		case predictor == 3:
			for i := samples; i < row; i++ {
				r[i] += r[i-samples]
			}
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
			for i := samples; i < row; i++ {
				r[i] += r[i-samples]
			}
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

// unpack turns bytes of one band, which stand step bytes apart, into the cells of dst from
// index at on.
func unpack(dst *raster.Cells, at, n int, b []byte, step int, order binary.ByteOrder) {
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
