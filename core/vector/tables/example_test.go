package tables_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"
	"github.com/verdex-land/verdex/core/vector/tables"
)

func ExampleEach() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "table.json")
	os.WriteFile(path, []byte(`[{"zone_id": "W1", "area": 12.5}]`), 0o600)
	_, err := tables.Each(files.Disk, path, []string{"zone_id", "area"}, nil, func(r rows.Row) error {
		fmt.Println(r.Cell["zone_id"], r.Cell["area"])
		return nil
	})
	fmt.Println(err)
	// Output:
	// W1 12.5
	// <nil>
}
