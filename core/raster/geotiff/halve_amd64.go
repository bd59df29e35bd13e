package geotiff

// halveBytes sets n bytes of d, a positive multiple of 16, to the majorities of two bytes of a and two of b each, as majorityOf has them if some says that there is
// a nodata value, and else as majority. key says that some is set and nodata is not 255. It has the vectors of every amd64.
//
//go:noescape
func halveBytes(d, a, b *uint8, n int, nodata uint8, some, key bool)

// halved sets bytes of d from its beginning to the majorities of a and b, and says how many.
func halved(d, a, b []uint8, nodata uint8, some bool) int {
	n := min(len(a)/2, len(d)) &^ 15
	if n > 0 {
		halveBytes(&d[0], &a[0], &b[0], n, nodata, some, some && nodata != 255)
	}
	return n
}
