package cover

import (
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

func file(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "f.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	return path
}

func TestLegend(t *testing.T) {
	l, err := ReadLegend(file(t, "\ufeffcode,name,color,group\n1,Open water,#4a7fb0,Water\n# a comment\n\n3,\"Wood, old\",,\n"))
	require.NoError(t, err)
	require.Len(t, l.Classes, 2)
	assert.Equal(t, Class{1, "Open water", raster.Color{R: 0x4a, G: 0x7f, B: 0xb0}, "Water"}, l.Classes[0])
	c, ok := l.Find(3)
	assert.True(t, ok)
	assert.Equal(t, "Wood, old", c.Name)
	assert.NotEqual(t, raster.Color{}, c.Color)
	_, ok = l.Find(2)
	assert.False(t, ok)
}

func TestMistakesInLegends(t *testing.T) {
	for text, want := range map[string]string{
		"":                                  "no header line",
		"code,name\n":                       "no classes",
		"value,label\n1,x\n":                `no column "code"`,
		"code,name\none,x\n":                "not a whole number",
		"code,name\n1,\n":                   "has no name",
		"code,name,color\n1,x,red\n":        "#rrggbb",
		"code,name\n1,Water\n1,Wood\n":      "stands for both",
		"code,name\n1,Water\n2,Water\n":     "both called",
		"code,name\n1,Water,x,y,z\n":        "more cells than the header",
		"code,name\n1,\"Water\n2,Wood\n3\n": "line",
	} {
		_, err := ReadLegend(file(t, text))
		assert.ErrorContains(t, err, want, "%q", text)
	}
	_, err := ReadLegend("nowhere.csv")
	assert.ErrorContains(t, err, "check the path")
}

func TestCrosswalk(t *testing.T) {
	l, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "Water"}, {Code: 2, Name: "Wood"}, {Code: 9, Name: "Rest"}})
	require.NoError(t, err)
	x, err := ReadCrosswalk(file(t, "# why\nfrom,to,note\n10;11,1,both\n20.0,2,\n30,nodata,\n40,keep,\n41,keep,\nelse,9,\n"), l)
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
	x.Else = nil
	_, ok := c.Code(77)
	assert.False(t, ok)
	x.NoData = &Target{Code: 2}
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
		"from,to\n":               "no lines",
		"from,to\n10,5\n":         "not in the legend",
		"from,to\n10,water\n":     "neither a legend code",
		"from,to\nten,1\n":        "neither a number",
		"from,to\n10,1\n10,1\n":   "lines 2 and 3 both",
		"from,to\n10;10.0,1\n":    "both say what becomes of",
		"from,to\n\"[1,2)\",1\n":  "interval",
		"from,to\n10;,1\n":        "empty source value",
		"from,to\nelse,1\nelse,1": "both say",
	} {
		_, err := ReadCrosswalk(file(t, text), l)
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
		l, err := ReadLegend(path)
		if err != nil {
			l = nil
		}
		_, _ = ReadCrosswalk(path, l)
	})
}
