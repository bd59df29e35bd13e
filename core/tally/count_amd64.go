package tally

import "golang.org/x/sys/cpu"

var canCount = cpu.X86.HasAVX2

// maxCountRow is how many bytes countBytes takes at most: its counters are bytes too, and each
// sees one in 32.
const maxCountRow = 254 * 32

// countBytes counts how often each of groups·6 values occurs in n bytes of row. wide holds each value
// 32 times, sums four words for each value that are added to. The 32 bytes before the end of
// row must be readable, even where n is less.
//
//go:noescape
func countBytes(wide *uint8, sums *uint64, groups int, row *uint8, n int)
