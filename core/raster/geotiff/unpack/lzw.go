package unpack

import "encoding/binary"

// LZW decodes the LZW of TIFF 6.0, section 13: codes of 9 to 12 bits, the most significant bit first, which become longer one code earlier than they must. Old files, from
// before that was settled, have the least significant bit first, and codes that become longer when they must; they are known by their first code. Its
// zero value can be used, for one block after another.
type LZW struct {
	start  [1 << lzwBits]uint32 // of each string in what was decoded
	length [1 << lzwBits]uint32
}

const (
	lzwBits  = 12
	lzwClear = 256
	lzwEnd   = 257
	lzwFirst = 258
)

// Decode decodes a block. It returns the number of bytes that it has written, and whether the code that ends a block was met; some writers leave it out.
func (l *LZW) Decode(dst, src []byte) (n int, ended bool, err error) {
	old := len(src) > 1 && src[0] == 0 && src[1]&1 != 0
	early := uint32(1)
	if old {
		early = 0
	}
	var buffer uint64 // bits, the next ones at the top, or in old files at the bottom
	have, at := uint(0), 0
	next, width := uint32(lzwFirst), uint(9)
	before, was := uint32(0), uint32(0) // the string before: where it begins, and its length; 0 for none
	out := 0
	for {
		if have < width {
			if len(src)-at >= 8 && !old {
				buffer |= binary.BigEndian.Uint64(src[at:]) >> have
				at += int(63-have) >> 3
				have |= 56
			} else {
				for have <= 48 && at < len(src) {
					if old {
						buffer |= uint64(src[at]) << have
					} else {
						buffer |= uint64(src[at]) << (56 - have)
					}
					have += 8
					at++
				}
			}
			if have < width { // what is left over are bits that fill a byte
				return out, false, nil
			}
		}
		var code uint32
		if old {
			code = uint32(buffer) & (1<<width - 1)
			buffer >>= width
		} else {
			code = uint32(buffer >> (64 - width))
			buffer <<= width
		}
		have -= width
		size, from := uint32(1), uint32(0)
		switch {
		case code < lzwClear:
			if out == len(dst) {
				return out, false, ErrLong
			}
			dst[out] = byte(code)
		case code == lzwClear:
			next, width, was = lzwFirst, 9, 0
			continue
		case code == lzwEnd:
			return out, true, nil
		case code < next && was > 0:
			from, size = l.start[code], l.length[code]
		case code == next && was > 0: // the string that is being made: the one before and its first byte
			from, size = before, was+1
		default:
			return out, false, ErrCorrupt
		}
		if code > lzwEnd {
			if int(size) > len(dst)-out {
				return out, false, ErrLong
			}
			if int(size)+beyond <= len(dst)-out {
				repeat(dst, out, out-int(from), int(size))
			} else {
				for i := range size {
					dst[out+int(i)] = dst[from+i]
				}
			}
		}
		if was > 0 && next < 1<<lzwBits { // its last byte is the first one of this string
			l.start[next], l.length[next] = before, was+1
			if next++; next+early == 1<<width && width < lzwBits {
				width++
			}
		}
		before, was = uint32(out), size
		out += int(size)
	}
}
