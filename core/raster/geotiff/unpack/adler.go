package unpack

// adlerBase is the greatest prime below 2¹⁶.
const adlerBase = 65521

// adlerMost is how many bytes may be added up before the sums are reduced, so that they fit into 32 bits (RFC 1950, appendix).
const adlerMost = 5552

// Adler32 is the checksum of RFC 1950.
func Adler32(b []byte) uint32 {
	s1, s2 := uint32(1), uint32(0)
	for len(b) > 0 {
		part := b[:min(len(b), adlerMost)]
		b = b[len(part):]
		if n := len(part) &^ 31; n > 0 && vectors {
			// With k blocks of 32 bytes, s2 grows by s1 for each byte, by 32 times the sum of the bytes in the blocks before each, and by the bytes of each block times 32, 31, … 1.
			sum, before, weighted := addBlocks(&part[0], n/32)
			s2 += s1*uint32(n) + 32*before + weighted
			s1 += sum
			part = part[n:]
		}
		for len(part) >= 8 {
			for _, c := range part[:8] {
				s1 += uint32(c)
				s2 += s1
			}
			part = part[8:]
		}
		for _, c := range part {
			s1 += uint32(c)
			s2 += s1
		}
		s1 %= adlerBase
		s2 %= adlerBase
	}
	return s2<<16 | s1
}
