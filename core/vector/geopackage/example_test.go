package geopackage_test

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
)

func Example() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "wards.gpkg")
	crs, _ := earth.Lookup(3035)
	g, _ := vector.FromWKT("POLYGON((0 0, 1 0, 1 1, 0 0))")
	wards := &vector.Layer{Name: "wards", CRS: crs, Fields: []vector.Field{{Name: "code"}}, Features: []vector.Feature{{Values: []any{"W1"}, Geometry: g}}}
	if err := geopackage.Write(path, wards, time.Now()); err != nil {
		panic(err)
	}
	layers, err := geopackage.Layers(files.Disk, path)
	if err != nil {
		panic(err)
	}
	back, err := geopackage.Read(files.Disk, path, layers[0].Name)
	fmt.Println(layers[0].Name, back.FieldNames(), back.Features[0].Values, err)
	// Output:
	// wards [fid code] [1 W1] <nil>
}
