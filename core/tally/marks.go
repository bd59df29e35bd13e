package tally

import "math/bits"

// manySlots is the logarithm of how many slots a group of [kernel.seen] has at most for all of them to be gone through. Beyond, a bit for each slot tells which.
const manySlots = 6

// marks are which slots may hold something, of what the kernel adds up by slot.
type marks struct{ acc, shares, wholes bitmap }

// grow makes room for slots. Where marks are not used yet they may be wrong: when they begin to be, all are set.
func (m *marks) grow(slots int, begin bool) {
	for _, b := range []*bitmap{&m.acc, &m.shares, &m.wholes} {
		*b = append(*b, make(bitmap, slots/64-len(*b))...)
		if begin {
			for i := range *b {
				(*b)[i] = ^uint64(0)
			}
		}
	}
}

// bitmap has a bit for each slot.
type bitmap []uint64

func (b bitmap) set(s int) { b[s>>6] |= 1 << (s & 63) }

// take calls do for the slots that are set in the groups of seen, and clears them. A group has 1<<group slots, 64 or more.
func (b bitmap) take(seen uint64, group uint, do func(s int)) {
	for ; seen != 0; seen &= seen - 1 {
		first := bits.TrailingZeros64(seen) << (group - 6)
		for i, m := range b[first : first+1<<(group-6)] {
			if m == 0 {
				continue
			}
			b[first+i] = 0
			for ; m != 0; m &= m - 1 {
				do((first+i)<<6 + bits.TrailingZeros64(m))
			}
		}
	}
}
