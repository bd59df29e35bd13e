// Package pack compresses tiles of classes.
//
// A general compressor looks for the bytes at hand anywhere in the 32 KiB before them. In a raster of classes nearly all that is found there is either the
// cell to the left or the cell above, so that these two are all that a [Deflater] compares with. It looks at less, and what it writes is smaller, too: there are two
// distances to tell apart instead of thousands. Tiles that repeat in other ways (textures, noise) are better left to a general compressor.
//
// What it writes is a zlib stream (RFC 1950) of one block of Deflate (RFC 1951) with codes of its own, which every program reads. The same bytes give the same
// stream.
package pack

import (
	"encoding/binary"
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff/unpack"
)

const (
	leastMatch   = 3
	mostMatch    = 258
	mostDistance = 1 << 15
	endOfBlock   = 256
	symbols      = 286 // bytes, the end of the block, and lengths of matches
)

// Deflater compresses. It keeps its room from one call to the next, and serves one goroutine.
type Deflater struct {
	left    []uint64 // by byte a bit: it differs from that before it by a cell
	above   []uint64 // or by a row
	tokens  []uint16 // a byte, or a match: its length and aboveBit or leftBit
	lengths [symbols]uint8
	codes   [symbols]uint16
	of      [mostMatch + 1]bitString // by length of a match
	huffman huffman
}

// A token that is a match has the length in its lower bits.
const (
	leftBit    = 1 << 15
	aboveBit   = 1 << 14
	lengthMask = 1<<9 - 1
)

// farther is by how many bytes a match with the row above has to be longer than one with the cell to the left, because its distance takes more bits.
const farther = 2

// bitString is some bits, the first of which is the lowest.
type bitString struct {
	bits uint64
	n    uint8
}

// Zlib appends plain, compressed, to dst. A cell takes so many bytes, and a row of cells so many.
func (d *Deflater) Zlib(dst, plain []byte, cell, row int) []byte {
	dst = append(dst, 0x78, 0x9c) // Deflate, a window of 32 KiB, the usual effort
	dst = d.block(dst, plain, cell, row)
	return binary.BigEndian.AppendUint32(dst, unpack.Adler32(plain))
}

// block appends the one block of a stream.
func (d *Deflater) block(dst, plain []byte, cell, row int) []byte {
	leftCode, leftExtra := distanceCode(cell)
	aboveCode, aboveExtra := distanceCode(row)
	if row <= cell || row > mostDistance || aboveCode == leftCode {
		row = len(plain) + 1                            // there is no row above
		aboveCode, aboveExtra = leftCode^1, bitString{} // a second code, so that the tree is whole
	}
	var often [symbols]int32
	d.match(plain, cell, row, &often)
	often[endOfBlock]++
	d.huffman.lengths(often[:], 15, d.lengths[:])
	canonical(d.lengths[:], d.codes[:])
	var distances [30]uint8
	distances[leftCode], distances[aboveCode] = 1, 1
	leftDistance, aboveDistance := bitString{leftExtra.bits << 1, leftExtra.n + 1}, bitString{aboveExtra.bits << 1, aboveExtra.n + 1}
	if leftCode > aboveCode {
		leftDistance.bits |= 1
	} else {
		aboveDistance.bits |= 1
	}
	for n := leastMatch; n <= mostMatch; n++ {
		code, extra := lengthCode(n)
		d.of[n] = bitString{uint64(d.codes[code]) | extra.bits<<d.lengths[code], d.lengths[code] + extra.n}
	}
	w := writer{out: dst}
	w.add(0b101, 3) // the last block, with codes of its own
	d.huffman.describe(&w, d.lengths[:], distances[:max(leftCode, aboveCode)+1])
	w.room(len(d.tokens)*7 + 16)
	for _, t := range d.tokens {
		if t < endOfBlock {
			w.put(uint64(d.codes[t]), d.lengths[t])
			continue
		}
		s, at := d.of[t&lengthMask], leftDistance
		if t&aboveBit != 0 {
			at = aboveDistance
		}
		w.put(s.bits|at.bits<<s.n, s.n+at.n)
	}
	w.put(uint64(d.codes[endOfBlock]), d.lengths[endOfBlock])
	return w.end()
}

// match turns plain into tokens, and counts the symbols that they take.
func (d *Deflater) match(plain []byte, cell, row int, often *[symbols]int32) {
	d.left, d.above = differences(d.left, plain, cell), differences(d.above, plain, row)
	tokens := d.tokens[:0]
	n, above := d.longest(0)
	for i := 0; i < len(plain); {
		next, nextAbove := 0, false
		if n < lazy {
			next, nextAbove = d.longest(i + 1)
		}
		if n < leastMatch || next > n+1 {
			often[plain[i]]++
			tokens = append(tokens, uint16(plain[i]))
			i++
			n, above = next, nextAbove
			continue
		}
		often[codeOf[n]]++
		token := leftBit | uint16(n)
		if above {
			token = aboveBit | uint16(n)
		}
		tokens = append(tokens, token)
		i += n
		n, above = d.longest(i)
	}
	d.tokens = tokens
}

// lazy is the length below which a longer match from the next byte on is looked for.
const lazy = 32

// codeOf are the symbols of lengths.
var codeOf = func() (out [mostMatch + 1]uint16) {
	for n := leastMatch; n <= mostMatch; n++ {
		code, _ := lengthCode(n)
		out[n] = uint16(code)
	}
	return out
}()

// longest is how many bytes from i on are those before them by a cell, or by a row, and which.
func (d *Deflater) longest(i int) (n int, above bool) {
	n = zeros(d.left, i)
	if m := zeros(d.above, i); m > n+farther || n < leastMatch && m > leastMatch {
		return m, true
	}
	return n, false
}

// differences has bit i set where byte i is another one than that before it by a distance, or there is none: and all bits behind the last byte.
func differences(room []uint64, b []byte, distance int) []uint64 {
	words := len(b)/64 + 1
	if cap(room) < words {
		room = make([]uint64, words)
	}
	out := room[:words]
	from, to := min((distance+63)/64, words), len(b)/64 // words of bytes that all have one before them
	for w := range out {
		if w >= from && w < to {
			continue
		}
		var m uint64
		for i := 64 * w; i < 64*w+64; i++ {
			if i < distance || i >= len(b) || b[i] != b[i-distance] {
				m |= 1 << (i - 64*w)
			}
		}
		out[w] = m
	}
	if from < to {
		raster.Unequal(out[from:to], b[64*from:], b[64*from-distance:])
	}
	return out
}

// zeros is how many bits from i on are not set, mostMatch at most.
func zeros(set []uint64, i int) int {
	w := i >> 6
	n := 64 - i&63
	if m := set[w] >> (i & 63); m != 0 {
		return bits.TrailingZeros64(m)
	}
	for w++; n < mostMatch; w++ { // there is a bit behind the last byte
		m := set[w]
		n += bits.TrailingZeros64(m)
		if m != 0 {
			break
		}
	}
	return min(n, mostMatch)
}

// lengthCode is the symbol of a length, and the bits behind it (RFC 1951, 3.2.5).
func lengthCode(n int) (code int, extra bitString) {
	n -= leastMatch
	switch {
	case n == mostMatch-leastMatch:
		return 285, bitString{}
	case n < 8:
		return 257 + n, bitString{}
	}
	e := bits.Len(uint(n)) - 3
	return 257 + 4*e + n>>e, bitString{uint64(n & (1<<e - 1)), uint8(e)}
}

// distanceCode is the symbol of a distance, and the bits behind it.
func distanceCode(n int) (code int, extra bitString) {
	n--
	if n < 4 {
		return n, bitString{}
	}
	e := bits.Len(uint(n)) - 2
	return 2*e + n>>e, bitString{uint64(n & (1<<e - 1)), uint8(e)}
}

// writer appends bits to bytes.
type writer struct {
	out  []byte
	bits uint64
	n    uint8 // bits that wait, seven at most after put
}

// room makes room for so many bytes, which put then takes as there.
func (w *writer) room(n int) {
	at := len(w.out)
	w.out = append(w.out, make([]byte, n+8)...)[:at]
}

// put appends up to 56 bits, for which there is room.
func (w *writer) put(b uint64, n uint8) {
	w.bits |= b << w.n
	w.n += n
	at := len(w.out)
	binary.LittleEndian.PutUint64(w.out[at:at+8], w.bits)
	w.out = w.out[:at+int(w.n>>3)]
	w.bits >>= w.n &^ 7
	w.n &= 7
}

// add is put where there may be no room.
func (w *writer) add(b uint64, n uint8) {
	w.room(8)
	w.put(b, n)
}

// end appends what is left, and gives all bytes.
func (w *writer) end() []byte {
	if w.n > 0 {
		w.out = append(w.out, byte(w.bits))
	}
	return w.out
}
