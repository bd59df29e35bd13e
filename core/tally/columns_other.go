//go:build !amd64

package tally

func sumColumns(wide *uint8, groups int, cells *uint8, vectors, last int, sums *blockSums) (present uint32, found int32) {
	panic("counting by comparing is not for this processor")
}
