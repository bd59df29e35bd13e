package overlay

import (
	"context"
	"testing"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/internal/sampletest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

func box(x, y, w, h float64) vector.Polygon {
	return vector.Polygon{{{x, y}, {x + w, y}, {x + w, y + h}, {x, y + h}}}
}

// coverLayer has rectangles on an equal-area CRS, whose areas are those of the plane.
func coverLayer(t *testing.T, features ...any) *vector.Layer {
	t.Helper()
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	l := &vector.Layer{Source: "cover.gpkg", CRS: crs, Fields: []vector.Field{{Name: "kind"}}}
	for i := 0; i < len(features); i += 2 {
		l.Features = append(l.Features, vector.Feature{Values: []any{features[i]}, Geometry: vector.Geometry{Type: "Polygon", Polygons: []vector.Polygon{features[i+1].(vector.Polygon)}}})
	}
	l.Settle()
	return l
}

func TestOverlayOfRectangles(t *testing.T) {
	const x, y = 4321000.0, 3210000.0
	withHole := append(box(x+2000, y, 1000, 1000), box(x+2250, y+250, 500, 500)[0])
	l := coverLayer(t, "Water", box(x, y, 1000, 1000), "Wood", box(x+1000, y, 1000, 1000), "Fields", withHole, "Moor", box(x+3000, y, 500, 1000), nil, box(x+2250, y+250, 100, 500))
	set := &zone.Set{Source: "zones", CRS: l.CRS, Zones: []zone.Zone{
		{ID: "a", Polygons: []vector.Polygon{box(x+500, y, 3500, 1000)}},
		{ID: "away", Polygons: []vector.Polygon{box(x+90000, y, 1000, 1000)}},
	}}
	ha, err := area.Find("ha")
	require.NoError(t, err)
	c, err := Lay(context.Background(), Input{Cover: l, Field: "kind", Legend: sampletest.Legend(t), Zones: set}, ha)
	require.NoError(t, err)
	assert.Empty(t, c.Warnings)
	areas := map[string]float64{}
	sum := 0.0
	for _, r := range c.Zones[0].Rows() {
		areas[r.Name] = r.Area
		sum += r.Area
	}
	want := map[string]float64{"Water": 50, "Wood": 100, "Fields": 75, "Nowhere": 0, "no data": 5, "not in the legend": 50, "outside the cover": 70}
	require.Len(t, areas, len(want))
	for name, a := range want {
		assert.InDelta(t, a, areas[name], 1e-7, name)
	}
	assert.InDelta(t, 350, c.Zones[0].Area, 1e-7)
	assert.InDelta(t, 350, sum, 1e-7)
	assert.InDelta(t, 50./225*100, c.Zones[0].Rows()[0].PctOfClassified, 1e-9)
	assert.InDelta(t, 100, c.Zones[1].Rows()[6].Area, 1e-7)

	// Overlapping polygons, and a legend made of the values.
	l = coverLayer(t, "b", box(x, y, 1000, 1000), "a", box(x+900, y, 1000, 1000))
	c, err = Lay(context.Background(), Input{Cover: l, Field: "kind"}, ha)
	require.NoError(t, err)
	assert.InDelta(t, 190, c.Zones[0].Area, 1e-7)
	assert.Equal(t, "a", c.Legend.Classes[0].Name)
	require.Len(t, c.Warnings, 1)
	assert.Contains(t, c.Warnings[0], "overlap in 1 zone,")
	assert.Contains(t, c.Warnings[0], "all (10 ha)")
	_, err = Lay(context.Background(), Input{Cover: l, Field: "knd"}, ha)
	assert.ErrorContains(t, err, `did you mean "kind"?`)
}

// A hole of one polygon over which another one lies is covered.
func TestOverlayOverAHole(t *testing.T) {
	const x, y = 4321000.0, 3210000.0
	ha, err := area.Find("ha")
	require.NoError(t, err)
	withHole := append(box(x, y, 1000, 1000), box(x+200, y+200, 600, 600)[0])
	l := coverLayer(t, "Wood", withHole, "Water", box(x+400, y+400, 500, 500)) // 16 of its 25 ha lie in the hole of 36 ha
	for _, set := range []*zone.Set{nil, {Source: "zones", CRS: l.CRS, Zones: []zone.Zone{{ID: "a", Polygons: []vector.Polygon{box(x, y, 1000, 1000)}}}}} {
		c, err := Lay(context.Background(), Input{Cover: l, Field: "kind", Legend: sampletest.Legend(t), Zones: set}, ha)
		require.NoError(t, err)
		require.Len(t, c.Warnings, 1)
		assert.Contains(t, c.Warnings[0], "(9 ha)")
		rows := c.Zones[0].Rows()
		assert.InDelta(t, 25, rows[0].Area, 1e-7)
		assert.InDelta(t, 64, rows[1].Area, 1e-7)
		if set != nil {
			assert.InDelta(t, 20, rows[len(rows)-1].Area, 1e-7, "outside the cover")
		} else {
			assert.InDelta(t, 80, c.Zones[0].Area, 1e-7)
		}
	}
}

// Zones and features of several pieces, which touch along edges and overlap, are laid over each other as the ground that they have.
func TestOverlayOfPieces(t *testing.T) {
	const x, y = 4321000.0, 3210000.0
	ha, err := area.Find("ha")
	require.NoError(t, err)
	l := coverLayer(t, "Wood", box(x+500, y, 1000, 1000), "Water", box(x+9000, y, 10, 10))
	l.Features[0].Geometry.Polygons = append(l.Features[0].Geometry.Polygons, box(x+1500, y, 500, 1000), box(x+1900, y, 600, 1000)) // 200 ha in all
	set := &zone.Set{Source: "zones", CRS: l.CRS, Zones: []zone.Zone{{ID: "a", Polygons: []vector.Polygon{box(x, y, 1000, 1000), box(x+1000, y, 500, 1000), box(x+1500, y, 500, 1000)}}}}
	c, err := Lay(context.Background(), Input{Cover: l, Field: "kind", Legend: sampletest.Legend(t), Zones: set}, ha)
	require.NoError(t, err)
	assert.Empty(t, c.Warnings)
	rows := c.Zones[0].Rows()
	assert.InDelta(t, 150, rows[1].Area, 1e-7)
	assert.InDelta(t, 50, rows[len(rows)-1].Area, 1e-7, "outside the cover")
	c, err = Lay(context.Background(), Input{Cover: l, Field: "kind", Legend: sampletest.Legend(t)}, ha)
	require.NoError(t, err)
	assert.InDelta(t, 200.01, c.Zones[0].Area, 1e-7)
	assert.InDelta(t, 200, c.Zones[0].Rows()[1].Area, 1e-7)
}

// Codes may stand as numbers or as texts, and count by their groups where these are wanted.
func TestCodesOfPolygons(t *testing.T) {
	const x, y = 4321000.0, 3210000.0
	l := coverLayer(t, int64(2), box(x, y, 1000, 1000), int64(9), box(x+1000, y, 1000, 1000))
	m, _, err := coverClasses(l, "kind", sampletest.Legend(t))
	require.NoError(t, err)
	assert.Equal(t, []cover.Meaning{{Kind: cover.Classified, Code: 2}, {Kind: cover.Unlisted, Value: 9}}, m)
	_, own, err := coverClasses(coverLayer(t, int64(10), box(x, y, 1, 1), int64(9), box(x, y, 1, 1)), "kind", nil)
	require.NoError(t, err)
	assert.Equal(t, 9, own.Classes[0].Code)
	assert.Equal(t, 10, own.Classes[1].Code)
	m, own, err = coverClasses(coverLayer(t, int64(1<<53+1), box(x, y, 1, 1), int64(1<<53), box(x, y, 1, 1)), "kind", nil)
	require.NoError(t, err)
	assert.Equal(t, []cover.Meaning{{Kind: cover.Classified, Code: 2}, {Kind: cover.Classified, Code: 1}}, m, "codes that a legend cannot hold are names")
	assert.Equal(t, "9007199254740992", own.Classes[0].Name)
}

func TestZonesWithinUnits(t *testing.T) {
	const x, y = 4321000.0, 3210000.0
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	set := func(boxes ...vector.Polygon) *zone.Set {
		s := &zone.Set{CRS: crs}
		for _, b := range boxes {
			s.Zones = append(s.Zones, zone.Zone{ID: string(rune('a' + len(s.Zones))), Polygons: []vector.Polygon{b}})
		}
		return s
	}
	unit, share, err := zone.Within(set(box(x, y, 10, 10), box(x+95, y, 20, 10), box(x+300, y, 10, 10)), set(box(x, y, 100, 100), box(x+100, y, 100, 100)))
	require.NoError(t, err)
	assert.Equal(t, []int{0, 1, -1}, unit)
	assert.InDeltaSlice(t, []float64{1, 0.75, 0}, share, 1e-9)
}
