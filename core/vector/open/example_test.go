package open_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector/open"
)

func ExampleRead() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "places.csv")
	os.WriteFile(path, []byte("code,wkt\nW1,\"POLYGON((12 58, 13 58, 13 59, 12 58))\"\n"), 0o644)
	l, err := open.Read(files.Disk, path, "")
	if err != nil {
		panic(err)
	}
	fmt.Println(len(l.Features), l.FieldNames(), l.CRS)
	// Output:
	// 1 [code] EPSG:4326 WGS 84
}
