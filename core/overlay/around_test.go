package overlay

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// A cover and a zone on both sides of 180° share all of their ground, however each of them counts its longitudes, and also where the zone is in the plane
// of a projection.
func TestEitherSideOfTheAntimeridian(t *testing.T) {
	wgs84, err := earth.Lookup(4326)
	require.NoError(t, err)
	square := func(west, east float64) string {
		return fmt.Sprintf("((%g 10,%g 10,%g 11,%g 11,%g 10))", west, east, east, west, west)
	}
	spellings := []string{"POLYGON" + square(179, 181), "POLYGON" + square(-181, -179), "MULTIPOLYGON(" + square(179, 180) + "," + square(-180, -179) + ")",
		"MULTIPOLYGON(" + square(179, 180) + "," + square(180, 181) + ")"}
	want := wgs84.Ellipsoid.ZoneArea(10*degree, 11*degree, 2*degree)
	ha, err := area.Find("ha")
	require.NoError(t, err)
	check := func(cover string, zones *zone.Set, tolerance float64) {
		g, err := vector.FromWKT(cover)
		require.NoError(t, err)
		l := &vector.Layer{Source: "cover", CRS: wgs84, Fields: []vector.Field{{Name: "class"}}, Features: []vector.Feature{{Values: []any{"wood"}, Geometry: g}}}
		c, err := Lay(context.Background(), Input{Cover: l, Field: "class", Zones: zones}, ha)
		require.NoError(t, err)
		rows := c.Zones[0].Rows()
		assert.InEpsilon(t, want/1e4, rows[0].Area, tolerance, cover)
		assert.InDelta(t, 0, rows[len(rows)-1].Area, tolerance*want/1e4, cover)
	}
	for _, cover := range spellings {
		for _, text := range spellings {
			zones, err := zone.FromText(text, wgs84)
			require.NoError(t, err)
			check(cover, zones, 1e-9)
		}
	}
	pacific, err := earth.Lookup(3832)
	require.NoError(t, err)
	var corners string
	for _, p := range [][2]float64{{179, 10}, {-179, 10}, {-179, 11}, {179, 11}, {179, 10}} {
		x, y, ok := pacific.FromGeographic(p[0]*degree, p[1]*degree)
		require.True(t, ok)
		corners += fmt.Sprintf(",%.9f %.9f", x, y)
	}
	zones, err := zone.FromText("POLYGON(("+corners[1:]+"))", pacific)
	require.NoError(t, err)
	for _, cover := range spellings {
		check(cover, zones, 1e-7)
	}
}

const degree = 3.14159265358979323846 / 180
