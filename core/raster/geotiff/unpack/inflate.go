// Package unpack decodes the blocks of rasters: what is packed is in memory as a whole, and the room for what it holds has its size. [Inflater] is for Deflate
// (RFC 1951) and zlib (RFC 1950), [LZW] for that of TIFF.
//
// What makes inflating fast is known from the literature of decoders: a buffer of 64 bits that is refilled without a branch; one look-up in a table of 2¹¹ entries that
// gives a length with the number of its extra bits, or one or two literals at once; the next entry is looked up before a match is copied, so that the processor does
// both at a time; matches are copied in words, also where they overlap with themselves. All of that happens while at least 32 bytes of input and 320 of room are left, so that
// no word reaches beyond either; the rest is decoded symbol by symbol. A string of LZW is a piece of what was decoded before, one byte longer than the string
// before it, so that nothing but where it begins and its length has to be remembered.
package unpack

import (
	"encoding/binary"
	"errors"
	"io"
	"math/bits"
	"sync"
)

// Errors of streams. One that is cut off gives [io.ErrUnexpectedEOF].
var (
	// ErrCorrupt is the error of a stream that no encoder makes.
	ErrCorrupt = errors.New("its compressed data are damaged")
	// ErrChecksum is the error of data whose checksum is another one.
	ErrChecksum = errors.New("its checksum is wrong: its data are damaged")
	// ErrLong is the error of a stream that holds more than there is room for.
	ErrLong = errors.New("it holds more bytes than there is room for")
)

// Numbers of symbols, and bits of the tables.
const (
	mostLiterals  = 288
	mostDistances = 32
	literalBits   = 11
	distanceBits  = 8
	precodeBits   = 7
	maxBits       = 15

	// Entries: the number of bits that are consumed in bits 0 to 5, the length of the code in bits 8 to 12, the kind in bits 14 and 15, a value in the others.
	kindLiteral = 0 << 14
	kindTwo     = 1 << 14 // two literals
	kindMatch   = 2 << 14 // a length or a distance
	kindOther   = 3 << 14 // the end of the block, a code that is longer than the table has bits, or none
	kindMask    = 3 << 14

	otherEnd   = 1 << 16
	otherTable = 2 << 16 // the place of a second table above bit 20, its bits in bits 8 to 12
	otherNone  = 3 << 16
	otherMask  = 3 << 16
)

// Inflater holds the tables of a block. Its zero value can be used, for one stream after another.
type Inflater struct {
	tables         // of dynamic codes
	now    *tables // those of the block at hand
	sorted [mostLiterals]uint16
	pre    [1 << precodeBits]uint32
}

// tables are those of a block, with the lengths of its codes.
type tables struct {
	literals  [1<<literalBits + 1024]uint32
	distances [1<<distanceBits + 512]uint32
	lengths   [mostLiterals + mostDistances]uint8
}

var lengthBase = [29]uint16{3, 4, 5, 6, 7, 8, 9, 10, 11, 13, 15, 17, 19, 23, 27, 31, 35, 43, 51, 59, 67, 83, 99, 115, 131, 163, 195, 227, 258}
var lengthExtra = [29]uint8{0, 0, 0, 0, 0, 0, 0, 0, 1, 1, 1, 1, 2, 2, 2, 2, 3, 3, 3, 3, 4, 4, 4, 4, 5, 5, 5, 5, 0}
var distanceBase = [30]uint16{1, 2, 3, 4, 5, 7, 9, 13, 17, 25, 33, 49, 65, 97, 129, 193, 257, 385, 513, 769, 1025, 1537, 2049, 3073, 4097, 6145, 8193, 12289, 16385, 24577}
var distanceExtra = [30]uint8{0, 0, 0, 0, 1, 1, 2, 2, 3, 3, 4, 4, 5, 5, 6, 6, 7, 7, 8, 8, 9, 9, 10, 10, 11, 11, 12, 12, 13, 13}
var precodeOrder = [19]uint8{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// literalEntry, distanceEntry and precodeEntry are what symbols stand for, without the length of their codes.
var literalEntry, distanceEntry, precodeEntry = entries()

func entries() (literal [mostLiterals]uint32, distance [mostDistances]uint32, pre [19]uint32) {
	for i := range literal {
		switch {
		case i < 256:
			literal[i] = kindLiteral | uint32(i)<<16
		case i == 256:
			literal[i] = kindOther | otherEnd
		case i < 286:
			literal[i] = kindMatch | uint32(lengthBase[i-257])<<16 | uint32(lengthExtra[i-257])
		default:
			literal[i] = kindOther | otherNone
		}
	}
	for i := range distance {
		if distance[i] = kindOther | otherNone; i < 30 {
			distance[i] = kindMatch | uint32(distanceBase[i])<<16 | uint32(distanceExtra[i])
		}
	}
	for i := range pre {
		pre[i] = uint32(i) << 16
	}
	return literal, distance, pre
}

// Zlib decodes a zlib stream, and verifies its checksum. It returns the number of bytes that it has written.
func (d *Inflater) Zlib(dst, src []byte) (n int, err error) {
	if len(src) < 2 {
		return 0, io.ErrUnexpectedEOF
	}
	if src[0]&15 != 8 || src[0]>>4 > 7 || (uint(src[0])<<8|uint(src[1]))%31 != 0 || src[1]&32 != 0 {
		return 0, ErrCorrupt
	}
	n, used, err := d.Raw(dst, src[2:])
	if err != nil {
		return n, err
	}
	sum := src[2+used:]
	if len(sum) < 4 {
		return n, io.ErrUnexpectedEOF
	}
	if binary.BigEndian.Uint32(sum) != Adler32(dst[:n]) {
		return n, ErrChecksum
	}
	return n, nil
}

// stream is the state of decoding.
type stream struct {
	src  []byte
	at   int    // the next byte of src
	bits uint64 // the next bits
	have uint   // how many of them count
	dst  []byte
	out  int // bytes written
}

// fill takes bytes into the buffer until it holds 56 bits or more, or there are none left.
func (s *stream) fill() {
	for s.have < 56 && s.at < len(s.src) {
		s.bits |= uint64(s.src[s.at]) << s.have
		s.at++
		s.have += 8
	}
}

// take takes n bits, of which there are enough.
func (s *stream) take(n uint) uint32 {
	v := uint32(s.bits) & (1<<n - 1)
	s.bits >>= n
	s.have -= n
	return v
}

// Raw decodes a stream of Deflate. It returns the number of bytes that it has written, and how many of src belong to the stream.
func (d *Inflater) Raw(dst, src []byte) (n, used int, err error) {
	s := stream{src: src, dst: dst}
	for last := false; !last; {
		if s.fill(); s.have < 3 {
			return s.out, s.at, io.ErrUnexpectedEOF
		}
		last = s.take(1) == 1
		switch s.take(2) {
		case 0:
			err = s.stored()
		case 1:
			d.now = fixedTables()
			err = d.block(&s)
		case 2:
			if err = d.dynamicTables(&s); err == nil {
				err = d.block(&s)
			}
		default:
			err = ErrCorrupt
		}
		if err != nil {
			return s.out, s.at, err
		}
	}
	return s.out, s.at - int(s.have/8), nil
}

// stored copies a block that is not compressed.
func (s *stream) stored() error {
	s.take(s.have & 7)
	s.at -= int(s.have / 8)
	s.bits, s.have = 0, 0
	if len(s.src)-s.at < 4 {
		return io.ErrUnexpectedEOF
	}
	n := int(binary.LittleEndian.Uint16(s.src[s.at:]))
	if n^0xffff != int(binary.LittleEndian.Uint16(s.src[s.at+2:])) {
		return ErrCorrupt
	}
	s.at += 4
	switch {
	case n > len(s.src)-s.at:
		return io.ErrUnexpectedEOF
	case n > len(s.dst)-s.out:
		return ErrLong
	}
	copy(s.dst[s.out:], s.src[s.at:s.at+n])
	s.out, s.at = s.out+n, s.at+n
	return nil
}

// fixedTables are the tables of fixed codes, which many streams end with.
var fixedTables = sync.OnceValue(func() *tables {
	d := new(Inflater)
	for i := range mostLiterals {
		switch {
		case i < 144, i >= 280:
			d.lengths[i] = 8
		case i < 256:
			d.lengths[i] = 9
		default:
			d.lengths[i] = 7
		}
	}
	for i := range mostDistances {
		d.lengths[mostLiterals+i] = 5
	}
	d.build(d.literals[:], d.lengths[:mostLiterals], literalEntry[:], literalBits)
	d.pairs()
	d.build(d.distances[:], d.lengths[mostLiterals:], distanceEntry[:], distanceBits)
	return &d.tables
})

// dynamicTables reads the tables of a block.
func (d *Inflater) dynamicTables(s *stream) error {
	d.now = &d.tables
	if s.fill(); s.have < 14 {
		return io.ErrUnexpectedEOF
	}
	literals, distances, codes := int(s.take(5))+257, int(s.take(5))+1, int(s.take(4))+4
	if literals > 286 || distances > 30 {
		return ErrCorrupt
	}
	var lengths [19]uint8
	for i := range codes {
		if s.have < 3 {
			if s.fill(); s.have < 3 {
				return io.ErrUnexpectedEOF
			}
		}
		lengths[precodeOrder[i]] = uint8(s.take(3))
	}
	if err := d.build(d.pre[:], lengths[:], precodeEntry[:], precodeBits); err != nil {
		return err
	}
	all := d.lengths[:literals+distances]
	for i := 0; i < len(all); {
		s.fill()
		e := d.pre[s.bits&(1<<precodeBits-1)]
		n := uint(e & 63)
		symbol := e >> 16
		if e&kindMask != 0 {
			return ErrCorrupt
		}
		repeat, extra, value := 1, uint(0), uint8(symbol)
		switch symbol {
		case 16:
			if i == 0 {
				return ErrCorrupt
			}
			repeat, extra, value = 3, 2, all[i-1]
		case 17:
			repeat, extra, value = 3, 3, 0
		case 18:
			repeat, extra, value = 11, 7, 0
		}
		if s.have < n+extra {
			return io.ErrUnexpectedEOF
		}
		s.take(n)
		if repeat += int(s.take(extra)); i+repeat > len(all) {
			return ErrCorrupt
		}
		for range repeat {
			all[i] = value
			i++
		}
	}
	if all[256] == 0 { // nothing would end the block
		return ErrCorrupt
	}
	// The lengths of distances lie behind those of literals.
	if err := d.build(d.literals[:], all[:literals], literalEntry[:], literalBits); err != nil {
		return err
	}
	d.pairs()
	return d.build(d.distances[:], all[literals:], distanceEntry[:], distanceBits)
}

// build makes the table of codes of the given lengths, by the canonical rule of RFC 1951, section 3.2.2. Codes that do not use all of their room are an error, but for one code of
// one bit and for none at all, which encoders write where a block has one distance or none. Codes longer than the table has bits are in tables behind it.
func (d *Inflater) build(table []uint32, lengths []uint8, entries []uint32, tableBits uint) error {
	var count [maxBits + 1]int
	for _, l := range lengths {
		count[l]++
	}
	room := 1
	used := 0
	for l := 1; l <= maxBits; l++ {
		if room = room<<1 - count[l]; room < 0 {
			return ErrCorrupt
		}
		used += count[l]
	}
	if room > 0 && (used > 1 || used == 1 && count[1] != 1 || &table[0] == &d.literals[0]) {
		return ErrCorrupt
	}
	main := table[:1<<tableBits]
	main[0], main[1] = kindOther|otherNone, kindOther|otherNone // stays so where there is one code or none
	var offset [maxBits + 2]int
	for l := 1; l <= maxBits; l++ {
		offset[l+1] = offset[l] + count[l]
	}
	for i, l := range lengths {
		if l > 0 {
			d.sorted[offset[l]] = uint16(i)
			offset[l]++
		}
	}
	// Codes in their order, with the first bit of a code as the lowest one. While codes have l bits the first 2^l entries are filled, then they are doubled.
	code, l := uint(0), uint(1)
	next := 1 << tableBits // where the next second table begins
	prefix, second, secondBits := -1, 0, uint(0)
	left := count
	for k := range used {
		for left[l] == 0 {
			if l < tableBits {
				copy(main[1<<l:], main[:1<<l])
			}
			code <<= 1
			l++
		}
		left[l]--
		e := entries[d.sorted[k]]
		turned := uint(bits.Reverse16(uint16(code)) >> (16 - l))
		code++
		if l <= tableBits {
			main[turned] = withCode(e, l)
			continue
		}
		if at := int(turned & (1<<tableBits - 1)); at != prefix { // a second table, as large as the codes with this beginning need
			prefix = at
			secondBits = l - tableBits
			for room := 1<<secondBits - left[l] - 1; room > 0 && secondBits+tableBits < maxBits; {
				secondBits++
				room = room<<1 - left[secondBits+tableBits]
			}
			second = next
			next += 1 << secondBits
			if next > len(table) {
				return ErrCorrupt
			}
			main[at] = kindOther | otherTable | uint32(second)<<20 | uint32(secondBits)<<8 | uint32(tableBits)
		}
		e = withCode(e, l-tableBits)
		for i := turned >> tableBits; i < 1<<secondBits; i += 1 << (l - tableBits) {
			table[second+int(i)] = e
		}
	}
	for ; l < tableBits; l++ {
		copy(main[1<<l:], main[:1<<l])
	}
	return nil
}

// withCode gives an entry, which has its extra bits in the lowest ones, the length of a code.
func withCode(e uint32, l uint) uint32 {
	if e&kindMask == kindMatch {
		return e + uint32(l) | uint32(l)<<8
	}
	return e | uint32(l)
}

// pairs puts two literals into the entries that have room for the codes of both.
func (d *Inflater) pairs() {
	main := d.literals[:1<<literalBits]
	for i := len(main) - 1; i >= 0; i-- { // the second one is at a lower place, which still has one
		e := main[i]
		if e&kindMask != kindLiteral {
			continue
		}
		n := e & 63
		if f := main[i>>n]; f&kindMask == kindLiteral && n+f&63 <= literalBits && i>>n != i {
			main[i] = kindTwo | e&0x00ff0000 | f&0x00ff0000<<8 | (n + f&63)
		}
	}
}
