package job_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/job"
)

// counted writes a raster in an equal-area CRS, whose cells have 10,000 m² exactly, and zones on it:
//
//	1 1 2 2      The zone "left" has the columns 0 and 1 and half of column 2, in all rows; "all" has everything.
//	1 5 2 2
//	5 5 . 2
func counted(t *testing.T) (at func(string) string) {
	dir := t.TempDir()
	at = func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{
		"a.asc":   "ncols 4\nnrows 3\nxllcorner 4321000\nyllcorner 3210000\ncellsize 100\nnodata_value -9\n1 1 2 2\n1 5 2 2\n5 5 -9 2\n",
		"b.asc":   "ncols 4\nnrows 3\nxllcorner 4321000\nyllcorner 3210000\ncellsize 100\nnodata_value -9\n1 2 2 2\n5 5 1 2\n5 1 2 2\n",
		"h.asc":   "ncols 4\nnrows 3\nxllcorner 4321000\nyllcorner 3210000\ncellsize 100\nnodata_value -9\n0.1 0.2 0.3 0.4\n0.5 0.6 0.7 0.8\n0.9 1.0 -9 1.2\n",
		"l.csv":   "code,name\n10,Low\n20,High\n",
		"w.csv":   "from,to,note\n1,10,ones\n2;5,20,others\n",
		"i.csv":   "from,to,note\n\"[0,0.5)\",10,\n\"[0.5,0.8)\",20,middle\n\"[0.8,2)\",20,top\n",
		"z.wkt":   "",
		"z.csv":   "id;wkt\nleft;POLYGON((4321000 3210000,4321250 3210000,4321250 3210300,4321000 3210300,4321000 3210000))\nall;POLYGON((4321000 3210000,4321400 3210000,4321400 3210300,4321000 3210300,4321000 3210000))\n",
		"gap.csv": "from,to,note\n1,10,\n",
	} {
		require.NoError(t, os.WriteFile(at(name), []byte(text), 0o644))
	}
	return at
}

func measureOf(at func(string) string, cover, walk string) job.MeasureOptions {
	o := job.MeasureOptions{Covers: []string{at(cover)}, Epoch: "2020", Crosswalk: walk}
	o.CRS, o.Zones, o.ZoneID, o.ZonesCRS, o.Legend = "EPSG:3035", at("z.csv"), "id", "EPSG:3035", at("l.csv")
	return o
}

func TestExplainExtent(t *testing.T) {
	at := counted(t)
	x, _, err := job.ExplainExtent(t.Context(), job.Env{}, measureOf(at, "a.asc", at("w.csv")), "left", "High")
	require.NoError(t, err)
	// Whole: the 5 of row 1, two of row 2; of column 2 half of two cells, of which the one in row 2 is nodata.
	assert.EqualValues(t, 3, x.WholeCells)
	assert.EqualValues(t, 2, x.CutCells)
	assert.InDelta(t, 1, x.CutShare, 1e-9)
	assert.InDelta(t, 4, x.Area, 1e-5)
	assert.InDelta(t, 7.5, x.ZoneArea, 1e-5)
	assert.InDelta(t, 100*4/7.0, x.PctOfClassified, 1e-5)
	assert.InDelta(t, 10000, x.LeastCell, 1e-2)
	assert.InDelta(t, 10000, x.GreatestCell, 1e-2)
	assert.InDelta(t, 4, x.Nominal, 1e-5)
	assert.Equal(t, []string{"split", "centre"}, []string{x.Edges, x.OtherEdges})
	assert.InDelta(t, 3, x.OtherEdgeArea, 1e-5, "the centres of column 2 lie on the outline, and belong to what lies on its other side")
	require.Len(t, x.Sources, 2)
	assert.Equal(t, []any{"5", 3, "2;5", "others"}, []any{x.Sources[0].Value, x.Sources[0].Line, x.Sources[0].LineFrom, x.Sources[0].Note})
	assert.InDelta(t, 3, x.Sources[0].Area, 1e-5)
	assert.InDelta(t, 75, x.Sources[0].Pct, 1e-9)
	assert.Equal(t, []int{1, 1}, []int{x.Blocks, x.Of})

	x, _, err = job.ExplainExtent(t.Context(), job.Env{}, measureOf(at, "h.asc", at("i.csv")), "all", "20")
	require.NoError(t, err)
	require.Len(t, x.Sources, 2, "of intervals the lines count")
	assert.Equal(t, []any{"", 4, "[0.8,2)", "top"}, []any{x.Sources[0].Value, x.Sources[0].Line, x.Sources[0].LineFrom, x.Sources[0].Note})
	assert.InDelta(t, 4, x.Sources[0].Cells, 1e-9)
	assert.InDelta(t, 3, x.Sources[1].Cells, 1e-9)

	o := measureOf(at, "a.asc", at("w.csv"))
	x, _, err = job.ExplainExtent(t.Context(), job.Env{}, o, "all", "nodata")
	require.NoError(t, err)
	assert.InDelta(t, 1, x.Area, 1e-5)
	assert.Equal(t, "nodata", x.Sources[0].Value)
	_, _, err = job.ExplainExtent(t.Context(), job.Env{}, o, "right", "Low")
	assert.ErrorContains(t, err, "is none of the zones")
	_, _, err = job.ExplainExtent(t.Context(), job.Env{}, o, "", "Low")
	assert.ErrorContains(t, err, "is none of the zones")
	_, _, err = job.ExplainExtent(t.Context(), job.Env{}, o, "all", "Middle")
	assert.ErrorContains(t, err, "is none of the classes (10 Low, 20 High)")
	_, _, err = job.ExplainExtent(t.Context(), job.Env{}, measureOf(at, "a.asc", at("gap.csv")), "all", "Low")
	assert.ErrorContains(t, err, "has no line for")
}

func TestExplainTransition(t *testing.T) {
	at := counted(t)
	o := job.ChangeOptions{Epochs: []string{"2000=" + at("a.asc"), "2020=" + at("b.asc")}}
	o.CRS, o.Zones, o.ZoneID, o.ZonesCRS = "EPSG:3035", at("z.csv"), "id", "EPSG:3035"
	x, _, err := job.ExplainTransition(t.Context(), job.Env{}, o, job.ZoneTransition{Zone: "all", From: "1", To: "5", FromEpoch: "", ToEpoch: ""})
	require.NoError(t, err)
	assert.InDelta(t, 1, x.Area, 1e-5)
	assert.InDelta(t, 100/3.0, x.PctOfOpening, 1e-6, "three cells were 1, one of which became 5")
	require.Len(t, x.Sources, 1)
	assert.Equal(t, []string{"1", "5"}, []string{x.Sources[0].FromValue, x.Sources[0].Value})
	x, _, err = job.ExplainTransition(t.Context(), job.Env{}, o, job.ZoneTransition{Zone: "left", From: "2", To: "1", FromEpoch: "2000", ToEpoch: "2020"})
	require.NoError(t, err)
	assert.InDelta(t, 0.5, x.Area, 1e-5, "half of a cell")
	_, _, err = job.ExplainTransition(t.Context(), job.Env{}, o, job.ZoneTransition{Zone: "left", From: "2", To: "1", FromEpoch: "2020", ToEpoch: "2000"})
	assert.ErrorContains(t, err, "is not later than")
	_, _, err = job.ExplainTransition(t.Context(), job.Env{}, o, job.ZoneTransition{Zone: "left", From: "2", To: "7", FromEpoch: "", ToEpoch: ""})
	assert.ErrorContains(t, err, "is none of the classes")
}

func TestProbe(t *testing.T) {
	at := counted(t)
	o := job.ProbeOptions{Covers: []string{at("a.asc")}, Crosswalk: at("gap.csv")}
	o.CRS, o.Legend = "EPSG:3035", at("l.csv")
	p, err := job.ProbeCover(t.Context(), job.Env{}, o)
	require.NoError(t, err)
	assert.True(t, p.All)
	assert.Equal(t, []float64{2, 5}, p.NoLine)
	o.Crosswalk = ""
	p, err = job.ProbeCover(t.Context(), job.Env{}, o)
	require.NoError(t, err)
	assert.Equal(t, []float64{1, 2, 5}, p.Unlisted)
	ids, err := job.ProbeZones(t.Context(), job.Env{}, measureOf(at, "a.asc", "").ZoneOptions)
	require.NoError(t, err)
	assert.Equal(t, []string{"left", "all"}, ids)
	_, err = job.ProbeZones(t.Context(), job.Env{}, job.ZoneOptions{Zones: at("none.csv")})
	assert.Error(t, err)
}
