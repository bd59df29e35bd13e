package unpack

import (
	"encoding/binary"
	"io"
	"unsafe"
)

// What must be left for words to be read and written without a check of the ends: of input for two fills of the buffer, of room for the longest match, two literals
// and a word.
const (
	inputSlack  = 32
	outputSlack = 320
)

// block decodes the symbols of a block.
func (d *Inflater) block(s *stream) error {
	for {
		ended, err := d.quick(s)
		if ended || err != nil {
			return err
		}
		// Near the ends, one symbol at a time.
		for len(s.src)-s.at < inputSlack || len(s.dst)-s.out < outputSlack {
			if ended, err := d.symbol(s); ended || err != nil {
				return err
			}
		}
	}
}

// quick decodes symbols while there is enough of input and room. It reports whether the block has ended.
func (d *Inflater) quick(s *stream) (ended bool, err error) {
	src, at, buffer, have := s.src, s.at, s.bits, s.have
	dst, out := s.dst, s.out
	literals, distances := &d.now.literals, &d.now.distances
	lastIn, lastOut := len(src)-inputSlack, len(dst)-outputSlack
	if at > lastIn || out > lastOut {
		return false, nil
	}
	in, to := unsafe.Pointer(unsafe.SliceData(src)), unsafe.Pointer(unsafe.SliceData(dst))
	// fill: bytes that do not fit whole are read again by the next one.
	buffer |= word(in, at) << (have & 63)
	at += int(63-have) >> 3
	have |= 56
	e := literals[buffer&(1<<literalBits-1)]
	for at <= lastIn && out <= lastOut {
		// Up to three entries of literals, of 11 bits at most each; a match behind them takes 20 and 28 bits at most.
		if e&kindMask < kindMatch {
			*(*[2]byte)(unsafe.Add(to, out)) = [2]byte{byte(e >> 16), byte(e >> 24)}
			out += 1 + int(e>>14&1)
			buffer >>= e & 63
			have -= uint(e & 63)
			e = literals[buffer&(1<<literalBits-1)]
			if e&kindMask < kindMatch {
				*(*[2]byte)(unsafe.Add(to, out)) = [2]byte{byte(e >> 16), byte(e >> 24)}
				out += 1 + int(e>>14&1)
				buffer >>= e & 63
				have -= uint(e & 63)
				e = literals[buffer&(1<<literalBits-1)]
				if e&kindMask < kindMatch {
					*(*[2]byte)(unsafe.Add(to, out)) = [2]byte{byte(e >> 16), byte(e >> 24)}
					out += 1 + int(e>>14&1)
					buffer >>= e & 63
					have -= uint(e & 63)
					buffer |= word(in, at) << (have & 63)
					at += int(63-have) >> 3
					have |= 56
					e = literals[buffer&(1<<literalBits-1)]
					continue
				}
			}
			buffer |= word(in, at) << (have & 63)
			at += int(63-have) >> 3
			have |= 56
		}
		if e&kindMask == kindOther {
			switch e & otherMask {
			case otherEnd:
				buffer >>= e & 63
				have -= uint(e & 63)
				s.at, s.bits, s.have, s.out = at, buffer&(1<<have-1), have, out
				return true, nil
			case otherNone:
				return false, ErrCorrupt
			}
			buffer >>= literalBits
			have -= literalBits
			e = literals[(int(e>>20)+int(buffer&(1<<(e>>8&15)-1)))%len(literals)]
			switch {
			case e&kindMask == kindLiteral:
				*(*byte)(unsafe.Add(to, out)) = byte(e >> 16)
				out++
				buffer >>= e & 63
				have -= uint(e & 63)
				buffer |= word(in, at) << (have & 63)
				at += int(63-have) >> 3
				have |= 56
				e = literals[buffer&(1<<literalBits-1)]
				continue
			case e&kindMask == kindOther && e&otherMask == otherEnd:
				buffer >>= e & 63
				have -= uint(e & 63)
				s.at, s.bits, s.have, s.out = at, buffer&(1<<have-1), have, out
				return true, nil
			case e&kindMask != kindMatch:
				return false, ErrCorrupt
			}
		}
		length := int(e>>16) + int(buffer&(1<<(e&63)-1)>>(e>>8&31))
		buffer >>= e & 63
		have -= uint(e & 63)
		f := distances[buffer&(1<<distanceBits-1)]
		if f&kindMask != kindMatch {
			if f&otherMask != otherTable {
				return false, ErrCorrupt
			}
			buffer >>= distanceBits
			have -= distanceBits
			if f = distances[(int(f>>20)+int(buffer&(1<<(f>>8&15)-1)))%len(distances)]; f&kindMask != kindMatch {
				return false, ErrCorrupt
			}
		}
		distance := int(f>>16) + int(buffer&(1<<(f&63)-1)>>(f>>8&31))
		buffer >>= f & 63
		have -= uint(f & 63)
		// The next entry is looked up before the match is copied.
		buffer |= word(in, at) << (have & 63)
		at += int(63-have) >> 3
		have |= 56
		e = literals[buffer&(1<<literalBits-1)]
		if distance > out {
			return false, ErrCorrupt
		}
		here := unsafe.Add(to, out)
		out += length
		switch from := unsafe.Add(here, -distance); {
		case distance >= 16:
			*(*[16]byte)(here) = *(*[16]byte)(from)
			*(*[16]byte)(unsafe.Add(here, 16)) = *(*[16]byte)(unsafe.Add(from, 16))
			for i := 32; i < length; i += 16 {
				*(*[16]byte)(unsafe.Add(here, i)) = *(*[16]byte)(unsafe.Add(from, i))
			}
		case distance == 1:
			v := uint64(*(*byte)(from)) * 0x0101010101010101
			for i := 0; i < length; i += 32 {
				*(*[4]uint64)(unsafe.Add(here, i)) = [4]uint64{v, v, v, v}
			}
		default:
			repeatNear(here, distance, length)
		}
	}
	s.at, s.bits, s.have, s.out = at, buffer&(1<<have-1), have, out
	return false, nil
}

// beyond is how many bytes [repeat] may write behind a match.
const beyond = 32

// word is the eight bytes behind in[at].
func word(in unsafe.Pointer, at int) uint64 {
	return binary.LittleEndian.Uint64((*[8]byte)(unsafe.Add(in, at))[:])
}

// repeat copies a match to dst[out:], of which length+beyond bytes exist, in words that reach beyond it. The caller has checked that distance is at most out.
func repeat(dst []byte, out, distance, length int) {
	to := unsafe.Pointer(&dst[out : out+length+beyond][0]) // all that is written lies in here
	switch from := unsafe.Pointer(&dst[out-distance]); {   // and all that is read ends before it does
	case distance >= 16:
		for i := 0; i < length; i += 16 {
			*(*[16]byte)(unsafe.Add(to, i)) = *(*[16]byte)(unsafe.Add(from, i))
		}
	default:
		repeatNear(to, distance, length)
	}
}

// repeatNear is repeat for distances of less than 16 bytes.
func repeatNear(to unsafe.Pointer, distance, length int) {
	from, step := unsafe.Add(to, -distance), 8
	if distance < 8 { // of a word as many bytes are right as the distance is long
		step = distance
	}
	for i := 0; i < length; i += step {
		*(*uint64)(unsafe.Add(to, i)) = *(*uint64)(unsafe.Add(from, i))
	}
}

// symbol decodes one symbol, and reports whether it ends the block.
func (d *Inflater) symbol(s *stream) (ended bool, err error) {
	s.fill()
	e := d.now.literals[s.bits&(1<<literalBits-1)]
	if e&kindMask == kindTwo { // the first of both: the second may not fit, or be the last bits of the input
		e = kindLiteral | e&0x00ff0000 | uint32(d.now.lengths[e>>16&255])
	}
	if e&kindMask == kindOther && e&otherMask == otherTable {
		if s.have < literalBits {
			return false, io.ErrUnexpectedEOF
		}
		s.take(literalBits)
		e = d.now.literals[int(e>>20)+int(s.bits&(1<<(e>>8&15)-1))]
	}
	if uint(e&63) > s.have {
		return false, io.ErrUnexpectedEOF
	}
	switch e & kindMask {
	case kindLiteral:
		if s.out == len(s.dst) {
			return false, ErrLong
		}
		s.take(uint(e & 63))
		s.dst[s.out] = byte(e >> 16)
		s.out++
		return false, nil
	case kindOther:
		if e&otherMask != otherEnd {
			return false, ErrCorrupt
		}
		s.take(uint(e & 63))
		return true, nil
	}
	s.take(uint(e >> 8 & 31))
	length := int(e>>16) + int(s.take(uint(e&63-e>>8&31)))
	s.fill()
	f := d.now.distances[s.bits&(1<<distanceBits-1)]
	if f&kindMask == kindOther && f&otherMask == otherTable {
		if s.have < distanceBits {
			return false, io.ErrUnexpectedEOF
		}
		s.take(distanceBits)
		f = d.now.distances[int(f>>20)+int(s.bits&(1<<(f>>8&15)-1))]
	}
	if f&kindMask != kindMatch {
		if s.have == 0 {
			return false, io.ErrUnexpectedEOF
		}
		return false, ErrCorrupt
	}
	if uint(f&63) > s.have {
		return false, io.ErrUnexpectedEOF
	}
	s.take(uint(f >> 8 & 31))
	distance := int(f>>16) + int(s.take(uint(f&63-f>>8&31)))
	switch {
	case distance > s.out:
		return false, ErrCorrupt
	case length > len(s.dst)-s.out:
		return false, ErrLong
	}
	if len(s.dst)-s.out >= length+beyond {
		repeat(s.dst, s.out, distance, length)
		s.out += length
		return false, nil
	}
	for range length {
		s.dst[s.out] = s.dst[s.out-distance]
		s.out++
	}
	return false, nil
}
