package zone_test

import (
	"fmt"

	"github.com/verdex-land/verdex/core/zone"
)

// A circle of 5 km on the ellipsoid has the area of one.
func ExampleCircle() {
	s, err := zone.Circle(12.52, 58.31, 5000)
	if err != nil {
		panic(err)
	}
	ring := s.Zones[0].Polygons[0][0]
	m2, _ := s.CRS.OutlineArea(ring)
	fmt.Printf("%s: %.2f ha\n", s.Zones[0].Name, m2/1e4)
	// Output:
	// 5000 m around 58.31, 12.52: 7853.98 ha
}

func ExampleFromText() {
	s, err := zone.FromText("bbox:12,58,13,59", nil)
	if err != nil {
		panic(err)
	}
	fmt.Println(len(s.Zones), s.CRS)
	// Output:
	// 1 EPSG:4326 WGS 84
}
