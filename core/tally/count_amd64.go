package tally

import (
	"golang.org/x/sys/cpu"

	"github.com/verdex-land/verdex/core/zone"
)

var canCount = cpu.X86.HasAVX2

// maxCounts is how many vectors countBytes takes at most, the last of each stretch being one however short: its counters
// are bytes, and each sees one cell of a vector.
const maxCounts = 254

// countBytes counts how often each of groups·6 values occurs in count stretches of cells. wide holds each value
// 32 times, sums four words for each value that are added to. The 32 bytes before the end of
// each stretch must be readable, even where it is shorter.
//
//go:noescape
func countBytes(wide *uint8, sums *uint64, groups int, cells *uint8, stretches *zone.Stretch, count int)
