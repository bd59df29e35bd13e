package workbook_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector/workbook"
)

func ExampleRead() {
	path := filepath.Join(os.TempDir(), "no-workbook.xlsx")
	_ = os.WriteFile(path, []byte("zone_id,area\n"), 0o600)
	defer os.Remove(path)
	_, err := workbook.Read(files.Disk, path, "", []string{"zone_id"})
	fmt.Println(err != nil)
	// Output:
	// true
}
