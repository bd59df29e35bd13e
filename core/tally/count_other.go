//go:build !amd64

package tally

const (
	canCount    = false
	maxCountRow = 1
)

func countBytes(wide *uint8, sums *uint64, groups int, row *uint8, n int) {
	panic("counting by comparing is not for this processor")
}
