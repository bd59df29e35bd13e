//go:build !amd64

package tally

// changes8 sets bit i of dst where row[i] differs from row[i+1]; n is a multiple of 64 below
// len(row).
func changes8(dst []uint64, row []uint8, n int) { changesPlain(dst, row, n) }

func flatten(ends, rank []int32, mask []uint64) int { return flattenPlain(ends, rank, mask) }

func changes8of3(dst []uint64, rows [3][]uint8, n int) bool { return false }
