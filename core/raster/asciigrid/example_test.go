package asciigrid_test

import (
	"fmt"
	"strings"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/asciigrid"
)

func ExampleNew() {
	text := "ncols 3\nnrows 2\nxllcorner 500000\nyllcorner 6480000\ncellsize 30\nnodata_value -1\n1 2 3\n4 -1 6\n"
	s, err := asciigrid.New(strings.NewReader(text), int64(len(text)), "cover.asc")
	if err != nil {
		panic(err)
	}
	var cells raster.Cells
	if err := s.NewReader().Read(raster.Window{Width: 3, Height: 2}, &cells); err != nil {
		panic(err)
	}
	h := s.Header()
	fmt.Println(h.Type, *h.NoData, cells.At(2, 1), h.Missing(cells.At(1, 1)))
	// Output:
	// int16 -1 6 true
}
