// Package sampletest makes a small world for tests: two rasters, zones and a legend.
package sampletest

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// NoData is the nodata value of the rasters of World.
var NoData = 255.0

// World is two random rasters on a UTM grid with a zone that juts out of it.
func World(t *testing.T, seed uint64) (a, b *raster.Memory, set *zone.Set, place *zone.Placement) {
	t.Helper()
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	g := raster.Grid{Width: 120, Height: 90, X0: 350000, Y0: 6480000, DX: 30, DY: -30, CRS: crs}
	rng := rand.New(rand.NewPCG(seed, 2))
	a, b = raster.NewMemory("a.tif", g, raster.Uint8, 32, 32), raster.NewMemory("b.tif", g, raster.Uint8, 120, 4)
	for r := range 90 {
		for c := range 120 {
			v := []float64{1, 2, 3, 255, 77}[rng.IntN(5)]
			a.Set(c, r, v)
			if rng.IntN(3) == 0 {
				v = []float64{1, 2, 3, 255, 77}[rng.IntN(5)]
			}
			b.Set(c, r, v)
		}
	}
	set = &zone.Set{Source: "zones", CRS: crs, Zones: []zone.Zone{
		{ID: "in", Polygons: []zone.Polygon{{{{350311, 6478111}, {352777, 6478555}, {351500, 6479700}}}}},
		{ID: "out", Polygons: []zone.Polygon{{{{349111, 6478111}, {352777, 6478555}, {351500, 6481700}}}}},
	}}
	place, err = set.Place(g)
	require.NoError(t, err)
	return a, b, set, place
}

func Legend(t *testing.T) *cover.Legend {
	l, err := cover.NewLegend("legend.csv", []cover.Class{{Code: 1, Name: "Water"}, {Code: 2, Name: "Wood"}, {Code: 3, Name: "Fields"}, {Code: 4, Name: "Nowhere"}})
	require.NoError(t, err)
	return l
}

func MustCRS(t *testing.T, code int) *earth.CRS {
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	return crs
}
