package tally

import "math/bits"

// changesPlain sets bit i of dst where row[i] differs from row[i+1], for i below n; the last
// cell of the row always ends a run.
func changesPlain[T comparable](dst []uint64, row []T, n int) {
	for w := 0; w*64 < n; w++ {
		var m uint64
		part := row[w*64 : min(len(row), w*64+65)]
		count := min(64, n-w*64)
		for i := range min(count, len(part)-1) {
			var bit uint64
			if part[i] != part[i+1] {
				bit = 1
			}
			m |= bit << i
		}
		if count == len(part) {
			m |= 1 << (count - 1)
		}
		dst[w] = m
	}
}

// flattenPlain lists c+1 for every bit c of mask in ends, and in rank how many of them lie
// before each word; it returns their number. ends has room for eight more.
func flattenPlain(ends, rank []int32, mask []uint64) int {
	n := 0
	for w, m := range mask {
		rank[w] = int32(n)
		for ; m != 0; m &= m - 1 {
			ends[n] = int32(w<<6+bits.TrailingZeros64(m)) + 1
			n++
		}
	}
	return n
}
