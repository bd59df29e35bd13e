package raster

import "golang.org/x/sys/cpu"

var canLookUp = cpu.X86.HasAVX2

// lookUpBytes maps n bytes, a multiple of 32, by known parts of a table. Bytes without a part become base, which is 0 with keep: then they stay what they are. add adds to what dst holds.
//
//go:noescape
func lookUpBytes(dst, src *uint8, n int, parts *tablePart, known int, base uint8, add, keep bool)
