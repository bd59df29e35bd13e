package zone

import (
	"context"
	"fmt"
	"iter"
	"slices"

	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
)

// FromRaster makes a layer of a raster of zone ids: a feature for each value, in the order of the values, with the
// outlines of its cells and the fields zone_id and, where names has them, zone_name. Measured on the grid of the raster its
// zones consist of whole cells.
func FromRaster(ctx context.Context, src raster.Source, names map[int64]string) (*vector.Layer, error) {
	h := src.Header()
	if h.Type.Floating() {
		return nil, fmt.Errorf("%s: its cells are floating-point numbers, but ids of zones are whole numbers", h.Name)
	}
	outlines := map[int64][]vector.Polygon{}
	_, err := patch.Find(ctx, patch.Request{Source: src, Keep: func(float64) bool { return true }, Reversed: h.Grid.DY < 0, Found: func(p *patch.Patch) error {
		id := int64(p.Class)
		if _, known := outlines[id]; !known && len(outlines) == mostRasterZones {
			return fmt.Errorf("%s: it has more than %d different values, so it holds measurements and no ids of zones", h.Name, mostRasterZones)
		}
		return p.Rings(func(shell bool, n int64, points iter.Seq[[2]int32]) error {
			r := make(vector.Ring, 0, n)
			for q := range points {
				x, y := h.Grid.Point(float64(q[0]), float64(q[1]))
				r = append(r, vector.Point{x, y})
			}
			list := outlines[id]
			if shell {
				list = append(list, vector.Polygon{r})
			} else {
				list[len(list)-1] = append(list[len(list)-1], r)
			}
			outlines[id] = list
			return nil
		})
	}})
	if err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: h.Name, CRS: h.Grid.CRS, CRSProblem: h.CRSProblem, Fields: []vector.Field{{Name: "zone_id", Kind: vector.Integer}}}
	if names != nil {
		l.Fields = append(l.Fields, vector.Field{Name: "zone_name", Kind: vector.Text})
	}
	var ids []int64
	for id := range outlines {
		ids = append(ids, id)
	}
	slices.Sort(ids)
	l.Notes = append(l.Notes, fmt.Sprintf("%s: its %d different values are taken for ids of zones", h.Name, len(ids)))
	for _, id := range ids {
		f := vector.Feature{Values: []any{id}, Geometry: vector.Geometry{Type: "MultiPolygon", Polygons: outlines[id]}}
		if names != nil {
			var name any
			if n, ok := names[id]; ok {
				name = n
			}
			f.Values = append(f.Values, name)
		}
		l.Features = append(l.Features, f)
	}
	return l, nil
}

// mostRasterZones is how many values a raster may have and still be taken for one of zones.
const mostRasterZones = 1 << 20
