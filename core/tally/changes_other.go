//go:build !amd64

package tally

func flatten(ends, rank []int32, mask []uint64) int { return flattenPlain(ends, rank, mask) }

func differ8(masks, ends []uint64, rows [][]uint8) (columns, all, differing int) {
	return 0, 0, 0
}

func combine(words []uint64, ends []int32, rows [][]uint8, first int) {
	combinePlain(words, ends, rows, first)
}
