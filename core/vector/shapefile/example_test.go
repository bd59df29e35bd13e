package shapefile_test

import (
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/shapefile"
)

func Example() {
	crs, _ := earth.Lookup(3035)
	g, _ := vector.FromWKT("POLYGON((0 0, 0 1, 1 1, 0 0))")
	l := &vector.Layer{Name: "wards", CRS: crs, Fields: []vector.Field{{Name: "code"}}, Features: []vector.Feature{{Values: []any{"W1"}, Geometry: g}}}
	parts, _, err := shapefile.Encode(l)
	if err != nil {
		panic(err)
	}
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	for ending, data := range parts {
		os.WriteFile(filepath.Join(dir, "wards"+ending), data, 0o644)
	}
	back, err := shapefile.Read(files.Disk, filepath.Join(dir, "wards.shp"))
	fmt.Println(back.FieldNames(), back.Features[0].Values, back.CRS, err)
	// Output:
	// [code] [W1] EPSG:3035 ETRS89-extended / LAEA Europe <nil>
}
