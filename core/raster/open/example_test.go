package open_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/open"
)

func ExampleRaster() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "cover.asc")
	os.WriteFile(name, []byte("ncols 1\nnrows 1\nxllcorner 0\nyllcorner 0\ncellsize 1\n7\n"), 0o644)
	path, band := open.Split(name + "#1")
	r, err := open.Raster(files.Disk, path, band)
	if err != nil {
		panic(err)
	}
	defer r.Close()
	fmt.Println(r.Header().Grid.Width, r.Header().Format)
	// Output:
	// 1 ASCII grid
}
