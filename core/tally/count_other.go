//go:build !amd64

package tally

const (
	canCount  = false
	maxCounts = 1
)

func countBytes(wide *uint8, sums *uint64, groups int, cells *uint8, stretches *stretch, count int) {
	panic("counting by comparing is not for this processor")
}
