package tally

// sumColumns sums the columns of a block of vectors of 32 cells, the last of which has so many, for groups·4 values: wide holds each value 32 times, and sums has
// room for as many. It says which values there are, by bit, and how many cells have one of them; only the sums of these are set. 32 bytes are read of the last
// vector, too.
//
//go:noescape
func sumColumns(wide *uint8, groups int, cells *uint8, vectors, last int, sums *blockSums) (present uint32, found int32)
