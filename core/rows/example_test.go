package rows_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
)

func ExampleRead() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "table.csv")
	os.WriteFile(path, []byte("zone_id;area\nW1;12,5\nW2;7\n"), 0o644)
	list, _, err := rows.Read(files.Disk, path, []string{"zone_id", "area"}, []string{"unit"})
	for _, r := range list {
		fmt.Println(r.Line, r.Cell["zone_id"], r.Cell["area"])
	}
	fmt.Println(err)
	// Output:
	// 2 W1 12.5
	// 3 W2 7
	// <nil>
}
