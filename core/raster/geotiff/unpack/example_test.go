package unpack_test

import (
	"bytes"
	"compress/zlib"
	"fmt"

	"github.com/verdex-land/verdex/core/raster/geotiff/unpack"
)

func ExampleInflater() {
	var packed bytes.Buffer
	w := zlib.NewWriter(&packed)
	w.Write([]byte("woodland woodland woodland pasture"))
	w.Close()
	var d unpack.Inflater
	room := make([]byte, 34) // as large as what it holds
	n, err := d.Zlib(room, packed.Bytes())
	fmt.Println(n, string(room), err)
	// Output:
	// 34 woodland woodland woodland pasture <nil>
}
