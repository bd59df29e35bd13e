package unpack

import "golang.org/x/sys/cpu"

var vectors = cpu.X86.HasAVX2

// addBlocks adds up n blocks of 32 bytes: all bytes; for each block the bytes before it; and the bytes of each times 32, 31, … 1. n is at most 173.
//
//go:noescape
func addBlocks(p *byte, n int) (sum, before, weighted uint32)

// addUp8, addUp16 and addUp32 add numbers up in n blocks of 16 bytes: within a block in steps of twice the distance, and with the last number of the block before.
//
//go:noescape
func addUp8(p *byte, n int)

//go:noescape
func addUp16(p *byte, n int)

//go:noescape
func addUp32(p *byte, n int)
