package zone

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
)

// Box makes one zone of "W,S,E,N" in degrees. Its sides follow meridians and parallels.
func Box(text string) (*Set, error) {
	parts := strings.Split(text, ",")
	var v [4]float64
	var err error
	for i := 0; i < len(parts) && i < 4 && err == nil; i++ {
		v[i], err = strconv.ParseFloat(strings.TrimSpace(parts[i]), 64)
	}
	if len(parts) != 4 || err != nil {
		return nil, fmt.Errorf("bbox:%s: a box is four numbers in degrees, bbox:west,south,east,north", text)
	}
	if !(v[0] < v[2] && v[1] < v[3] && v[1] >= -90 && v[3] <= 90 && v[0] >= -360 && v[2] <= 360 && v[2]-v[0] <= 180) {
		return nil, fmt.Errorf("bbox:%s: west must lie west of east by at most 180°, and south of north within 90°", text)
	}
	crs, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	ring := Ring{{v[0], v[1]}, {v[2], v[1]}, {v[2], v[3]}, {v[0], v[3]}}
	return &Set{Source: "bbox:" + text, CRS: crs, Zones: []Zone{{ID: "box", Name: text, Features: 1, Polygons: []Polygon{{ring}}}}}, nil
}
