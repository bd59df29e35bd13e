package unpack

import "golang.org/x/sys/cpu"

var vectors = cpu.X86.HasAVX2

// addBlocks adds up n blocks of 32 bytes: all bytes; for each block the bytes before it; and the bytes of each times 32, 31, … 1. n is at most 173.
//
//go:noescape
func addBlocks(p *byte, n int) (sum, before, weighted uint32)
