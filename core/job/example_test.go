package job_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
)

// Measuring the classes of a cover in zones.
func ExampleMeasure() {
	dir, _ := os.MkdirTemp("", "example")
	defer os.RemoveAll(dir)
	at := func(name string) string { return filepath.Join(dir, name) }
	os.WriteFile(at("cover.asc"), []byte("ncols 2\nnrows 1\nxllcorner 4321000\nyllcorner 3210000\ncellsize 100\n1 2\n"), 0o644)
	os.WriteFile(at("legend.csv"), []byte("code,name\n1,Wood\n2,Fields\n"), 0o644)

	o := job.MeasureOptions{Covers: []string{at("cover.asc")}}
	o.CRS = "EPSG:3035"
	o.Legend = at("legend.csv")
	o.ZonesCRS = "EPSG:3035"
	o.Zones = "POLYGON((4321000 3210000, 4321150 3210000, 4321150 3210100, 4321000 3210100, 4321000 3210000))"
	m, err := job.Measure(context.Background(), job.Env{}, o)
	if err != nil {
		panic(err)
	}
	for _, row := range m.Zones[0].Rows() {
		if row.Kind == cover.Classified {
			fmt.Printf("%s %g %s, %.1f %%\n", row.Name, row.Area, m.Unit.Name, row.PctOfZone)
		}
	}
	// Output:
	// Wood 1 ha, 66.7 %
	// Fields 0.5 ha, 33.3 %
}
