package job_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/job"
)

// The areas in the legend of a map are those that measuring gives.
func TestMapHasTheExtentsOfMeasuring(t *testing.T) {
	at := files(t)
	zones := job.ZoneOptions{Zones: at("wards.csv")}
	zones.ZoneID, zones.ZonesCRS = "code", "EPSG:32633"
	classes := job.ClassOptions{LegendOption: job.LegendOption{Legend: at("legend.csv")}}
	m, err := job.ReadMap(t.Context(), job.Env{}, job.MapOptions{Covers: []string{at("a.asc")}, ZoneOptions: zones, ClassOptions: classes})
	require.NoError(t, err)
	defer m.Close()
	measured, err := job.Measure(t.Context(), job.Env{}, job.MeasureOptions{Covers: []string{at("a.asc")}, ZoneOptions: zones, ClassOptions: classes})
	require.NoError(t, err)
	assert.Equal(t, digest(measured.Composition), digest(m.Extents))
	assert.False(t, m.Whole)
	assert.Len(t, m.Placement.Outlines, 2)

	none, err := job.ReadMap(t.Context(), job.Env{}, job.MapOptions{Covers: []string{at("a.asc")}})
	require.NoError(t, err)
	defer none.Close()
	assert.True(t, none.Whole)
	_, err = job.ReadMap(t.Context(), job.Env{}, job.MapOptions{Covers: []string{at("nowhere.asc")}})
	require.ErrorContains(t, err, "nowhere.asc")
}

// Zones are drawn without a raster on a plane of their own CRS, the longer side of which has a thousand cells.
func TestPlaceZones(t *testing.T) {
	at := files(t)
	zones := job.ZoneOptions{Zones: at("wards.csv")}
	zones.ZoneID, zones.ZonesCRS = "code", "EPSG:32633"
	set, place, err := job.PlaceZones(t.Context(), job.Env{}, zones, false)
	require.NoError(t, err)
	require.Len(t, set.Zones, 2)
	assert.InDelta(t, 2283.0/1000, place.Grid.DX, 1e-9) // from 500050 to 502333
	assert.Equal(t, 1001, place.Grid.Width)
	least, most := 1e9, 0.0
	for _, o := range place.Outlines {
		for _, r := range o.Rings {
			for _, q := range r {
				least, most = min(least, q[0]), max(most, q[0])
			}
		}
	}
	assert.InDelta(t, 0, least, 1e-6)
	assert.InDelta(t, 1000, most, 1e-6)
	_, _, err = job.PlaceZones(t.Context(), job.Env{}, job.ZoneOptions{Zones: at("points.csv")}, false)
	require.Error(t, err)
}
