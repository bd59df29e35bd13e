package unpack

import "encoding/binary"

// The horizontal predictor of TIFF 6.0, section 14, stores differences from the number before. These add them up again: each number of a row becomes the sum of all up to it.

// AddUp8 adds bytes up.
func AddUp8(b []byte) {
	n := 0
	if vectors {
		if n = len(b) &^ 15; n > 0 {
			addUp8(&b[0], n/16)
		}
	}
	last := byte(0)
	if n > 0 {
		last = b[n-1]
	}
	for i := n; i < len(b); i++ {
		last += b[i]
		b[i] = last
	}
}

// AddUp16 adds numbers of two bytes up, the least significant byte first.
func AddUp16(b []byte) {
	n := 0
	if vectors {
		if n = len(b) &^ 15; n > 0 {
			addUp16(&b[0], n/16)
		}
	}
	last := uint16(0)
	if n > 0 {
		last = binary.LittleEndian.Uint16(b[n-2:])
	}
	for i := n; i+2 <= len(b); i += 2 {
		last += binary.LittleEndian.Uint16(b[i:])
		binary.LittleEndian.PutUint16(b[i:], last)
	}
}

// AddUp32 adds numbers of four bytes up, the least significant byte first.
func AddUp32(b []byte) {
	n := 0
	if vectors {
		if n = len(b) &^ 15; n > 0 {
			addUp32(&b[0], n/16)
		}
	}
	last := uint32(0)
	if n > 0 {
		last = binary.LittleEndian.Uint32(b[n-4:])
	}
	for i := n; i+4 <= len(b); i += 4 {
		last += binary.LittleEndian.Uint32(b[i:])
		binary.LittleEndian.PutUint32(b[i:], last)
	}
}
