//go:build !amd64

package tally

import "github.com/verdex-land/verdex/core/zone"

const (
	canCount  = false
	maxCounts = 1
)

func countBytes(wide *uint8, sums *uint64, groups int, cells *uint8, stretches *zone.Stretch, count int) {
	panic("counting by comparing is not for this processor")
}
