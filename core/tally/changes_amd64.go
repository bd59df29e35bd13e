package tally

import "golang.org/x/sys/cpu"

//go:noescape
func changeWords(dst *uint64, row *uint8, n int)

//go:noescape
func changeWords3(dst *uint64, a, b, c *uint8, n int)

// changes8of3 sets bit i of dst where row[i] differs from row[i+1] in any of two or three rows; n is a multiple of 64 below
// their lengths. It is false, and nothing is done, on a processor that has no such way.
func changes8of3(dst []uint64, rows [3][]uint8, n int) bool {
	if !cpu.X86.HasAVX2 || n == 0 {
		return false
	}
	_, _, _, _ = dst[n/64-1], rows[0][n], rows[1][n], rows[2][n]
	changeWords3(&dst[0], &rows[0][0], &rows[1][0], &rows[2][0], n/64)
	return true
}

//go:noescape
func flattenWords(ends, rank *int32, mask *uint64, words int) int

// changes8 sets bit i of dst where row[i] differs from row[i+1]; n is a multiple of 64 below
// len(row).
func changes8(dst []uint64, row []uint8, n int) {
	if n == 0 {
		return
	}
	_, _ = dst[n/64-1], row[n]
	changeWords(&dst[0], &row[0], n/64)
}

// flatten is flattenPlain by other means.
func flatten(ends, rank []int32, mask []uint64) int {
	if !cpu.X86.HasPOPCNT || len(mask) == 0 {
		return flattenPlain(ends, rank, mask)
	}
	_, _ = ends[len(mask)*64+7], rank[len(mask)-1]
	return flattenWords(&ends[0], &rank[0], &mask[0], len(mask))
}
