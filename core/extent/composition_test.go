package extent

import (
	"context"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/survey"
	"github.com/verdex-land/verdex/internal/sampletest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
)

func TestCompositionBalances(t *testing.T) {
	a, _, set, place := sampletest.World(t, 1)
	tl, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{a}, Zones: set, Placement: place})
	require.NoError(t, err)
	ha, err := area.Find("ha")
	require.NoError(t, err)
	c, err := Compose(Input{Epoch: "2020", Tally: tl, Zones: set, Placement: place, Coder: &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}}, ha)
	require.NoError(t, err)
	for _, z := range c.Zones {
		sum, pct, classified := 0.0, 0.0, 0.0
		kinds := map[cover.Kind]int{}
		for _, r := range z.Rows() {
			sum += r.Area
			pct += r.PctOfZone
			classified += r.PctOfClassified
			kinds[r.Kind]++
		}
		assert.InEpsilon(t, z.Area, sum, 1e-9, z.ID)
		assert.InDelta(t, 100, pct, 1e-7)
		assert.InDelta(t, 100, classified, 1e-9)
		assert.True(t, z.Balances)
		assert.Equal(t, map[cover.Kind]int{cover.Classified: 4, cover.NoData: 1, cover.Unlisted: 1, cover.Outside: 1}, kinds)
	}
	assert.Zero(t, c.Zones[0].Rows()[6].Area)
	assert.Greater(t, c.Zones[1].Rows()[6].Area, 100.0)
	assert.Empty(t, c.Warnings)
	assert.Equal(t, "1 pair of zones shares ground, which counts in both: in and out; do not add them up", c.Notes[0])
	assert.Contains(t, c.Notes[1], "would have been off by -0.0")

	// An outline whose area is told wrongly shows as a zone that does not balance.
	place.Outlines[0].Area *= 1 + 1e-7
	c, err = Compose(Input{Tally: tl, Zones: set, Placement: place, Coder: &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}}, ha)
	require.NoError(t, err)
	assert.False(t, c.Zones[0].Balances)
	var short []string
	for _, k := range c.Check(check.Defaults) {
		if k.Outcome == check.FallsShort {
			short = append(short, k.Name)
		}
		if k.Name == "outline" {
			assert.Equal(t, "what was measured differs from the area of the outline: in 1e-05 %", k.Text)
		}
	}
	assert.Equal(t, []string{"outline", "inside", "unlisted", "ground"}, short)
}

func TestValuesWithoutALineAreListed(t *testing.T) {
	a, _, set, place := sampletest.World(t, 1)
	tl, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{a}, Zones: set, Placement: place})
	require.NoError(t, err)
	path := filepath.Join(t.TempDir(), "codes.csv")
	require.NoError(t, os.WriteFile(path, []byte("from,to\n1;2,1\n"), 0o644))
	x, err := cover.ReadCrosswalk(files.Disk, path, nil)
	require.NoError(t, err)
	_, err = Compose(Input{Raster: "a.tif", Tally: tl, Zones: set, Placement: place, Coder: &cover.Coder{Crosswalk: x, NoData: &sampletest.NoData}}, area.Units[0])
	assert.ErrorContains(t, err, "codes.csv has no line for 2 values that occur: 3 (")
	assert.ErrorContains(t, err, "77 (")
}

// Measurements with too many values to tell: lines, gaps, nodata and overlaps have their cells all the same.
func TestSurveyOfMeasurements(t *testing.T) {
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	g := raster.Grid{Width: 400, Height: 300, X0: 4321000, Y0: 3210000, DX: 10, DY: -10, CRS: crs}
	slope := raster.NewFunc(raster.Header{Name: "slope.tif", Grid: g, Type: raster.Float32}, func(c, r int) float64 {
		if c == 0 {
			return math.NaN()
		}
		return float64(c) + float64(r)/1000 // 0 to 400 by column
	})
	path := filepath.Join(t.TempDir(), "x.csv")
	require.NoError(t, os.WriteFile(path, []byte("from,to\n\"[0,100)\",1\n\"[90,200)\",2\n\"[210,1000)\",1\n\"[150,160)\",9\n"), 0o644))
	walk, problems, err := cover.InspectCrosswalk(files.Disk, path, sampletest.Legend(t))
	require.NoError(t, err)
	require.Len(t, problems, 3)
	s, err := survey.Take(context.Background(), slope, &cover.Coder{Legend: sampletest.Legend(t), Crosswalk: walk}, problems, 2, nil)
	require.NoError(t, err)
	assert.Empty(t, s.Values)
	cells := []int64{}
	for _, m := range s.Lines {
		cells = append(cells, m.Cells)
	}
	assert.Equal(t, []int64{99 * 300, 100 * 300, 190 * 300, 0}, cells)
	assert.EqualValues(t, 10*300, s.Gap.Cells)
	assert.EqualValues(t, 300, s.Missing.Cells)
	for _, p := range s.Problems {
		want := int64(0) // the class 9 that the legend lacks: an earlier line has its values
		if strings.Contains(p.What, "overlap") {
			want = 10 * 300
		}
		assert.Equal(t, want, p.Cells, p.What)
		assert.InDelta(t, float64(want)*100, p.Area, 1e-6)
	}
}
