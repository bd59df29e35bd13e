package cover

import (
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "f.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

func TestCategories(t *testing.T) {
	l, err := ReadLegend(files.Disk, file(t, "code,name,category\n1,Water,Wetlands\n2,Wood, forest  land \n3,Rock,Other\n4,Cloud,\n"))
	require.NoError(t, err)
	var got []string
	for _, c := range l.Classes {
		got = append(got, c.Category)
	}
	assert.Equal(t, []string{"wetlands", "forest land", "other land", ""}, got)
	_, err = ReadLegend(files.Disk, file(t, "code,name,category\n1,Water,sea\n"))
	assert.ErrorContains(t, err, `line 2: the category "sea" is not one of forest land, cropland`)
}

func TestLegend(t *testing.T) {
	l, err := ReadLegend(files.Disk, file(t, "\ufeffcode,name,color,group\n1,Open water,#4a7fb0,Water\n# a comment\n\n3,\"Wood, old\",,\n"))
	require.NoError(t, err)
	require.Len(t, l.Classes, 2)
	assert.Equal(t, Class{1, "Open water", raster.Color{R: 0x4a, G: 0x7f, B: 0xb0}, "Water", "", false}, l.Classes[0])
	c, ok := l.Find(3)
	assert.True(t, ok)
	assert.Equal(t, "Wood, old", c.Name)
	assert.NotEqual(t, raster.Color{}, c.Color)
	_, ok = l.Find(2)
	assert.False(t, ok)
}

func TestMistakesInLegends(t *testing.T) {
	for text, want := range map[string]string{
		"":                                    "needs a line of names",
		"code,name\n":                         "no classes",
		"value,label\n1,x\n":                  `no column "code"`,
		"code,name\none,x\n":                  "not a whole number",
		"code,name\n1,\n":                     "has no name",
		"code,name,color\n1,x,red\n":          "#rrggbb",
		"code,name\n1,Water\n1,Wood\n":        "stands for both",
		"code,name\n9007199254740993,Water\n": "so large",
		"code,name\n1,Water\n2,Water\n":       "both called",
		"code,name\n1,Water,x,y,z\n":          "line 2 has 5 cells",
		"code,name\n1,\"Water\n2,Wood\n3\n":   "line",
	} {
		_, err := ReadLegend(files.Disk, file(t, text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
	_, err := ReadLegend(files.Disk, "nowhere.csv")
	assert.ErrorContains(t, err, "check the path")
}

func TestCrosswalk(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "Water"}, {Code: 2, Name: "Wood"}, {Code: 9, Name: "Rest"}})
	require.NoError(t, err)
	x, err := ReadCrosswalk(files.Disk, file(t, "# why\nfrom,to,note\n10;11,1,both\n20.0,2,\n30,nodata,\n40,keep,\n41,keep,\nelse,9,\n"), l)
	require.NoError(t, err)
	nodata := 255.0
	c := Coder{Legend: l, Crosswalk: x, NoData: &nodata}
	for v, want := range map[float64]Meaning{
		10: {Kind: Classified, Code: 1}, 11: {Kind: Classified, Code: 1}, 20: {Kind: Classified, Code: 2}, 30: {Kind: NoData},
		40: {Kind: Unlisted, Code: 40, Value: 40}, 77: {Kind: Classified, Code: 9}, 255: {Kind: NoData}, 0.5: {Kind: Classified, Code: 9},
	} {
		got, ok := c.Code(v)
		assert.True(t, ok)
		assert.Equal(t, want, got, "%g", v)
	}
	got, _ := c.Code(math.NaN())
	assert.Equal(t, NoData, got.Kind)
	x.otherwise = -1
	_, ok := c.Code(77)
	assert.False(t, ok)
	x.Lines = append(x.Lines, Line{To: Target{Code: 2}})
	x.nodata = len(x.Lines) - 1
	got, _ = c.Code(255)
	assert.Equal(t, Meaning{Kind: Classified, Code: 2}, got)
}

func TestWithoutCrosswalk(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "Water"}})
	require.NoError(t, err)
	c := Coder{Legend: l}
	got, _ := c.Code(1)
	assert.Equal(t, Meaning{Kind: Classified, Code: 1}, got)
	got, _ = c.Code(2)
	assert.Equal(t, Meaning{Kind: Unlisted, Code: 2, Value: 2}, got)
	got, _ = (&Coder{}).Code(2)
	assert.Equal(t, Meaning{Kind: Classified, Code: 2}, got)
	got, _ = (&Coder{}).Code(2.5)
	assert.Equal(t, Unlisted, got.Kind)
}

func TestMistakesInCrosswalks(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "Water"}})
	require.NoError(t, err)
	for text, want := range map[string]string{
		"from,to\n":                           "no lines",
		"from,to\n10,5\n":                     "not in the legend",
		"from,to\n10,water\n":                 "neither a legend code",
		"from,to\nten,1\n":                    "neither a number",
		"from,to\n10,1\n10,1\n":               "lines 2 and 3 both",
		"from,to\n10;10.0,1\n":                "both say what becomes of",
		"from,to\n\"[2,1)\",1\n":              "holds no number",
		"from,to\n\"[1,2\",1\n":               "is not written like",
		"from,to\n\"[1,x)\",1\n":              "is not written like",
		"from,to\n\"(1,1]\",1\n":              "holds no number",
		"from,to\n\"[1,2]\",1\n\"[2,3)\",1\n": "lines 2 and 3 overlap: [1,2] and [2,3) share numbers",
		"from,to\n\"[0,5)\",1\n\"[1,2)\",1\n": "overlap",
		"from,to\n4,1\n\"[0,5)\",1\n":         "lines 2 and 3 overlap: [0,5) holds 4 too",
		"from,to\n10;,1\n":                    "empty source value",
		"from,to\nelse,1\nelse,1":             "both say",
	} {
		_, err := ReadCrosswalk(files.Disk, file(t, text), l)
		assert.ErrorContains(t, err, want, "%q", text)
	}
}

func FuzzTables(f *testing.F) {
	f.Add("code,name,color,group\n1,Water,#4a7fb0,W\n")
	f.Add("from,to,note\n10;11,1,x\nelse,keep,\nnodata,2,\n")
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, text string) {
		path := filepath.Join(dir, "t.csv")
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		l, err := ReadLegend(files.Disk, path)
		if err != nil {
			l = nil
		}
		_, _ = ReadCrosswalk(files.Disk, path, l)
	})
}

func TestIntervals(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "low"}, {Code: 2, Name: "middle"}, {Code: 3, Name: "high"}})
	require.NoError(t, err)
	_, err = ReadCrosswalk(files.Disk, file(t, "from,to,note\n\"(-inf,0.1)\",1,below\n\"[0.1,0.3)\",2,\n\"(0.3,0.5]\",2,\n\"(0.7,inf)\",3,\n-9999,nodata,\n"), l)
	require.ErrorContains(t, err, "overlap") // -9999 lies below 0.1
	x, err := ReadCrosswalk(files.Disk, file(t, "from,to,note\n\"[-1,0.1)\",1,below\n\"(0.3,0.5]\",2,\n\"[0.1,0.3)\",2,\n\"(0.7,inf)\",3,\n-9999,nodata,\n"), l)
	require.NoError(t, err)
	require.True(t, x.HasIntervals())
	var gaps []string
	for _, g := range x.Gaps {
		gaps = append(gaps, g.String())
	}
	assert.Equal(t, []string{"[0.3,0.3]", "(0.5,0.7]"}, gaps)
	c := Coder{Legend: l, Crosswalk: x}
	for v, want := range map[float64]int{-1: 1, 0.0999: 1, 0.1: 2, 0.2999: 2, 0.31: 2, 0.5: 2, 0.7001: 3, 1e300: 3} {
		m, ok := c.Code(v)
		assert.True(t, ok, "%g", v)
		assert.Equal(t, Meaning{Kind: Classified, Code: want}, m, "%g", v)
	}
	for _, v := range []float64{-1.01, 0.3, 0.6, 0.7, math.Inf(-1)} {
		_, ok := c.Code(v)
		assert.False(t, ok, "%g", v)
	}
	m, ok := c.Code(-9999)
	assert.True(t, ok && m.Kind == NoData)
}

// An interval that reaches over several others overlaps each of them, leaves no gap between them, and its numbers
// keep a line.
func TestIntervalsWithinAnother(t *testing.T) {
	x, problems, err := InspectCrosswalk(files.Disk, file(t, "from,to\n\"[50,60)\",1\n\"[0,100)\",2\n\"[10,20)\",3\n\"[100,110]\",4\n\"[120,130]\",5\n"), nil)
	require.NoError(t, err)
	require.Len(t, problems, 2)
	assert.Contains(t, problems[0].What, "lines 3 and 4 overlap: [0,100) and [10,20)")
	assert.Contains(t, problems[1].What, "lines 3 and 2 overlap: [0,100) and [50,60)")
	assert.True(t, problems[1].Concerns(55))
	assert.False(t, problems[1].Concerns(70))
	require.Len(t, x.Gaps, 1)
	assert.Equal(t, "(110,120)", x.Gaps[0].String())
	for v, line := range map[float64]int{55: 0, 70: 1, 15: 1, 100: 3, 115: -1, 125: 4} {
		assert.Equal(t, line, x.lineOf(v, false), v)
	}
}

func TestGroups(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 7, Name: "Lake", Group: "Water"}, {Code: 3, Name: "Wood"}, {Code: 9, Name: "River", Group: "Water"}})
	require.NoError(t, err)
	g, err := l.Group()
	require.NoError(t, err)
	c := Coder{Legend: l, Groups: g}
	for v, want := range map[float64]int{7: 1, 9: 1, 3: 2} {
		m, _ := c.Code(v)
		assert.Equal(t, Meaning{Kind: Classified, Code: want}, m)
	}
	m, _ := c.Code(4)
	assert.Equal(t, Unlisted, m.Kind)
	assert.Equal(t, "Water", c.Shown().Classes[0].Name)
	l.Classes[0].Group, l.Classes[2].Group = "", ""
	_, err = l.Group()
	assert.ErrorContains(t, err, "none of its classes has a group")
}

// Limits are those of the cells' own precision: a float32 cell of 0.7 is 0.7, and not a little less.
func TestLimitsInTheCellsPrecision(t *testing.T) {
	x, err := ReadCrosswalk(files.Disk, file(t, "from,to\n\"[0,0.7)\",1\n\"[0.7,1]\",2\n1.1,3\n"), nil)
	require.NoError(t, err)
	c := (&Coder{Crosswalk: x}).In(raster.Float32)
	for v, want := range map[float32]int{0.7: 2, 0.69999: 1, 1: 2, 1.1: 3} {
		m, ok := c.Code(float64(v))
		require.True(t, ok, "%v", v)
		assert.Equal(t, want, m.Code, "%v", v)
	}
	_, ok := (&Coder{Crosswalk: x}).Code(float64(float32(1.1)))
	assert.False(t, ok, "as double precision it is another number")
}

func TestColours(t *testing.T) {
	for text, want := range map[string]string{"#4a7fb0": "#4a7fb0", "4A7FB0": "#4a7fb0", "#48b": "#4488bb", "48b": "#4488bb"} {
		c, err := ParseColor(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, c.String(), text)
	}
	for _, text := range []string{"", "#", "#12", "#1234", "blue", "#4a7fbg", "##4a7fb", "+12"} {
		_, err := ParseColor(text)
		assert.ErrorContains(t, err, "is not of the form #rrggbb or #rgb", text)
	}
}
