package survey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/survey"
)

// What a crosswalk would do to a raster.
func ExampleTake() {
	crs, _ := earth.Lookup(3035) // equal-area, so that a cell of 100 m is a hectare
	g := raster.Grid{Width: 4, Height: 2, X0: 4321000, Y0: 3210200, DX: 100, DY: -100, CRS: crs}
	codes := raster.NewMemory("cover.tif", g, raster.Uint8, 4, 2)
	for i, code := range []float64{1, 1, 2, 2, 1, 3, 3, 2} {
		codes.Set(i%4, i/4, code)
	}
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "crosswalk.csv")
	os.WriteFile(path, []byte("from,to\n1,10\n2,20\n"), 0o644)
	crosswalk, err := cover.ReadCrosswalk(files.Disk, path, nil)
	if err != nil {
		panic(err)
	}
	s, err := survey.Take(context.Background(), codes, &cover.Coder{Crosswalk: crosswalk}, nil, 1, nil)
	if err != nil {
		panic(err)
	}
	for _, line := range s.Lines {
		fmt.Println(line.Cells, line.Area)
	}
	fmt.Println("without a line:", s.Gap.Cells)
	// Output:
	// 3 30000
	// 3 30000
	// without a line: 2
}
