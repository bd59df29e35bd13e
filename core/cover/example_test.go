package cover_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
)

// A crosswalk puts the codes of a source into the classes of a legend.
func ExampleReadCrosswalk() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "crosswalk.csv")
	os.WriteFile(path, []byte("from,to\n41;42,1\n\"[100,200)\",2\nelse,nodata\n"), 0o644)

	legend, err := cover.NewLegend("legend", []cover.Class{{Code: 1, Name: "Wood"}, {Code: 2, Name: "Fields"}})
	if err != nil {
		panic(err)
	}
	crosswalk, err := cover.ReadCrosswalk(files.Disk, path, legend)
	if err != nil {
		panic(err)
	}
	coder := cover.Coder{Legend: legend, Crosswalk: crosswalk}
	for _, v := range []float64{42, 199.5, 200} {
		m, _ := coder.Code(v)
		class, _ := legend.Find(m.Code)
		fmt.Printf("%g %q %v\n", v, class.Name, m.Kind == cover.Classified)
	}
	// Output:
	// 42 "Wood" true
	// 199.5 "Fields" true
	// 200 "" false
}
