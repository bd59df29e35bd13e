//go:build !amd64

package raster

const canLookUp = false

func lookUpBytes(dst, src *uint8, n int, parts *tablePart, known int, base uint8, add, keep bool) {
	panic("looking up many bytes at once is not for this processor")
}
