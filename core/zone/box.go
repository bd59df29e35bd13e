package zone

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
)

// Box makes one zone of "W,S,E,N" in degrees. Its sides follow meridians and parallels.
func Box(text string) (*Set, error) {
	parts := strings.Split(text, ",")
	var v [4]float64
	var err error
	for i := 0; i < len(parts) && i < 4 && err == nil; i++ {
		v[i], err = decimal.Parse(strings.TrimSpace(parts[i]))
	}
	if len(parts) != 4 || err != nil {
		return nil, fmt.Errorf("bbox:%s: a box is four numbers in degrees, bbox:west,south,east,north", text)
	}
	if v[0] > v[2] && v[0] <= 180 && v[2] >= -180 { // across the antimeridian (RFC 7946, 5.2)
		v[2] += 360
	}
	if !(v[0] < v[2] && v[1] < v[3] && v[1] >= -90 && v[3] <= 90 && v[0] >= -360 && v[2] <= 540 && v[2]-v[0] <= 360) {
		return nil, fmt.Errorf("bbox:%s: a box is west,south,east,north in degrees: longitudes from -180 to 180, west greater than east where it crosses the antimeridian, and south below north within 90°", text)
	}
	crs, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	// Sides along parallels have corners at most 90° apart, so that none of them could go the other way around the Earth.
	var ring Ring
	for i, y := range [2]float64{v[1], v[3]} {
		n := int(math.Ceil((v[2] - v[0]) / 90))
		for k := range n + 1 {
			at := float64(k) / float64(n)
			if i == 1 {
				at = 1 - at
			}
			x := v[0] + (v[2]-v[0])*at
			if at == 1 {
				x = v[2]
			}
			ring = append(ring, Point{x, y})
		}
	}
	return &Set{Source: "bbox:" + text, CRS: crs, Zones: []Zone{{ID: "box", Name: text, Features: 1, Polygons: []Polygon{{ring}}}}}, nil
}
