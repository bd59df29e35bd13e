package tally

//go:noescape
func changeWords(dst *uint64, row *uint8, n int)

// changes8 sets bit i of dst where row[i] differs from row[i+1]; n is a multiple of 64 below
// len(row).
func changes8(dst []uint64, row []uint8, n int) {
	if n == 0 {
		return
	}
	_, _ = dst[n/64-1], row[n]
	changeWords(&dst[0], &row[0], n/64)
}
