package tally

import "golang.org/x/sys/cpu"

//go:noescape
func flattenWords(ends, rank *int32, mask *uint64, words int) int

// flatten is flattenPlain by other means.
func flatten(ends, rank []int32, mask []uint64) int {
	if !cpu.X86.HasPOPCNT || len(mask) == 0 {
		return flattenPlain(ends, rank, mask)
	}
	_, _ = ends[len(mask)*64+7], rank[len(mask)-1]
	return flattenWords(&ends[0], &rank[0], &mask[0], len(mask))
}

//go:noescape
func differWords(masks, ends *uint64, rows **uint8, layers, n int) (all, differing int)

//go:noescape
func differQuarters(masks, ends *uint64, rows **uint8, layers, n int) (all, differing int)

// differ8 is differPlain for as many columns as it can, by other means; it returns how many these are.
func differ8(masks, ends []uint64, rows [][]uint8) (columns, all, differing int) {
	n := (len(rows[0]) - 1) / 64 // the byte behind the last of a word is read
	if !cpu.X86.HasPOPCNT || n < 1 {
		return 0, 0, 0
	}
	_, _ = masks[n-1], ends[n-1]
	var begins [mostWord]*uint8
	for i, r := range rows {
		_ = r[n*64]
		begins[i] = &r[0]
	}
	if cpu.X86.HasAVX2 {
		all, differing = differWords(&masks[0], &ends[0], &begins[0], len(rows), n)
	} else {
		all, differing = differQuarters(&masks[0], &ends[0], &begins[0], len(rows), n)
	}
	return n * 64, all, differing
}

//go:noescape
func combineFour(words *uint64, ends *int32, n int, rows **uint8, mask uint64)

//go:noescape
func combineEight(words *uint64, ends *int32, n int, rows **uint8, mask uint64)

// combine is combinePlain by other means, for lists of ends that rise.
func combine(words []uint64, ends []int32, rows [][]uint8, first int) {
	n := len(ends)
	_, _ = words[n-1], ends[0]
	last := first + int(ends[n-1]) - 1
	var begins [mostWord]*uint8
	for i, r := range rows {
		_ = r[last]
		begins[i] = &r[first]
	}
	for i := len(rows); i < mostWord; i++ {
		begins[i] = begins[0]
	}
	mask := ^uint64(0) >> (64 - 8*len(rows))
	if len(rows) <= 4 {
		combineFour(&words[0], &ends[0], n, &begins[0], mask)
		return
	}
	combineEight(&words[0], &ends[0], n, &begins[0], mask)
}
