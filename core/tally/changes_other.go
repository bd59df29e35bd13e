//go:build !amd64

package tally

// changes8 sets bit i of dst where row[i] differs from row[i+1]; n is a multiple of 64 below
// len(row).
func changes8(dst []uint64, row []uint8, n int) { changesPlain(dst, row, n) }

func flatten(ends, rank []int32, mask []uint64) int { return flattenPlain(ends, rank, mask) }

func differ8(masks, ends []uint64, rows [][]uint8) (columns, all, differing int) {
	return 0, 0, 0
}

func combine(words []uint64, ends []int32, rows [][]uint8, first int) {
	combinePlain(words, ends, rows, first)
}
