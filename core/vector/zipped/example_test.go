package zipped_test

import (
	"archive/zip"
	"bytes"
	"fmt"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector/zipped"
)

func ExampleOpen() {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, _ := z.Create("wards/wards.kml")
	w.Write([]byte("<kml></kml>"))
	z.Close()
	a, err := zipped.Open("wards.zip", files.Bytes(b.Bytes()))
	if err != nil {
		panic(err)
	}
	data, err := a.ReadFile(a.Names()[0])
	fmt.Println(a.Names(), string(data), err)
	// Output:
	// [wards/wards.kml] <kml></kml> <nil>
}
