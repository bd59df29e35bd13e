package files_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
)

func ExampleSystem() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "tile.tif")
	os.WriteFile(path, []byte("II*\x00"), 0o644)
	f, err := files.Disk.Open(path)
	if err != nil {
		panic(err)
	}
	defer f.Close()
	b := make([]byte, 2)
	n, err := f.ReadAt(b, 0)
	fmt.Printf("%d %s %v %d\n", n, b, err, f.Size())
	// Output:
	// 2 II <nil> 4
}
