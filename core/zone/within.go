package zone

import (
	"fmt"
	"math"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/peterstace/simplefeatures/rtree"

	"github.com/verdex-land/verdex/core/vector"
)

// Within finds, for each zone of a set, the unit of a larger set that holds most of it, by true area: its number, or -1 when none
// does, and what part of the zone's area lies in it.
func Within(s, larger *Set) (unit []int, share []float64, err error) {
	carried, _, err := vector.Carry(larger.Layer(), s.CRS)
	if err != nil {
		return nil, nil, err
	}
	units := make([]geom.Geometry, len(carried.Features))
	var items []rtree.BulkItem
	for i := range carried.Features {
		if units[i], err = vector.ShapeAround(s.CRS, &carried.Features[i].Geometry); err != nil {
			return nil, nil, fmt.Errorf("%s: the outline of %s is not sound (%w)", larger.Source, larger.Zones[i].ID, err)
		}
		if box, ok := units[i].Envelope().AsBox(); ok {
			items = append(items, rtree.BulkItem{Box: box, RecordID: i})
		}
	}
	tree := rtree.BulkLoad(items)
	unit, share = make([]int, len(s.Zones)), make([]float64, len(s.Zones))
	for i, z := range s.Zones {
		g, err := vector.ShapeAround(s.CRS, &vector.Geometry{Polygons: z.Polygons})
		if err != nil {
			return nil, nil, fmt.Errorf("%s: the outline of %s is not sound (%w)", s.Source, z.ID, err)
		}
		unit[i] = -1
		box, ok := g.Envelope().AsBox()
		if !ok {
			continue
		}
		whole, sound := vector.Area(s.CRS, &vector.Geometry{Polygons: z.Polygons})
		if !sound || whole == 0 {
			continue
		}
		err = tree.RangeSearch(box, func(k int) error {
			both, err := vector.Intersection(g, units[k])
			if err != nil {
				return fmt.Errorf("zone %s and %s cannot be laid over each other (%w)", z.ID, larger.Zones[k].ID, err)
			}
			common := vector.FromGeom(both)
			area, _ := vector.Area(s.CRS, &common)
			if part := math.Min(1, area/whole); part > share[i] {
				unit[i], share[i] = k, part
			}
			return nil
		})
		if err != nil {
			return nil, nil, err
		}
	}
	return unit, share, nil
}
