package pack_test

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"io"

	"github.com/verdex-land/verdex/core/raster/geotiff/pack"
)

// A tile of 64 × 64 cells of which the right half is another class.
func ExampleDeflater() {
	var tile []byte
	for range 64 {
		tile = append(tile, bytes.Repeat([]byte{3}, 32)...)
		tile = append(tile, bytes.Repeat([]byte{5}, 32)...)
	}
	var d pack.Deflater
	packed := d.Zlib(nil, tile, 1, 64)
	r, err := zlib.NewReader(bytes.NewReader(packed))
	if err != nil {
		fmt.Println(err)
		return
	}
	back, err := io.ReadAll(r)
	fmt.Println(len(tile), len(packed) < 64, bytes.Equal(back, tile), err)
	// Output: 4096 true true <nil>
}
