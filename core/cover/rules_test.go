package cover

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

func layersOf(t *testing.T, rows map[string][]float64) *raster.Layers {
	t.Helper()
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	none := -1.0
	var list []raster.Layer
	for _, name := range []string{"cover", "slope"} {
		g := raster.Grid{Width: len(rows[name]), Height: 1, X0: 4e6, Y0: 3e6, DX: 10, DY: -10, CRS: crs}
		list = append(list, raster.Layer{Name: name, Source: raster.NewFunc(raster.Header{Name: name, Grid: g, Type: raster.Int16, NoData: &none},
			func(c, _ int) float64 { return rows[name][c] })})
	}
	l, err := raster.NewLayers(list)
	require.NoError(t, err)
	return l
}

const steep = `
rules:
  - class: 3
    when: cover = 1 AND slope > 10
  - class: 4
    when: cover IN (1, 2)
  - class: nodata
    when: slope IS NULL
else: 5
`

// The first rule that holds decides; null does not hold; a cell without data in all layers has no class.
func TestRulesInOrder(t *testing.T) {
	l := layersOf(t, map[string][]float64{
		"cover": {1, 1, 2, 2, 7, 7, -1, -1, 1},
		"slope": {20, 5, 20, -1, 3, -1, 50, -1, -1},
	})
	rules, err := ParseRules("r.yaml", []byte(steep), nil)
	require.NoError(t, err)
	v, err := NewRuleView(rules, l, nil, false)
	require.NoError(t, err)
	var c raster.Cells
	require.NoError(t, v.NewReader().Read(raster.Window{Width: 9, Height: 1}, &c))
	none := *v.Header().NoData
	for i, want := range []float64{3, 4, 4, 4, 5, none, 5, none, 4} {
		assert.Equal(t, want, c.At(i, 0), "cell %d", i)
	}
	assert.EqualValues(t, []int64{1, 4, 1, 2}, []int64{v.Took(0), v.Took(1), v.Took(2), v.Took(3)})
	assert.EqualValues(t, []int64{0, 1, 2}, []int64{v.Before(0), v.Before(1), v.Before(2)})
	rules.Else = nil
	v, err = NewRuleView(rules, l, nil, false)
	require.NoError(t, err)
	assert.ErrorIs(t, v.NewReader().Read(raster.Window{Width: 9, Height: 1}, &c), ErrNoRule)
}

func TestMistakesInRules(t *testing.T) {
	legend, err := NewLegend("legend.csv", []Class{{Code: 1, Name: "Water"}})
	require.NoError(t, err)
	for text, want := range map[string]string{
		"":                                     "no rules",
		"rules: 5":                             "r.yaml: [1:8]",
		"rules:\n  - class: 1\n    wen: a > 1": "unknown field",
		"rules:\n  - class: 1":                 "rule 1 has no condition",
		"rules:\n  - when: a > 1":              "rule 1: it names no class",
		"rules:\n  - class: Wood\n    when: a > 1":           `the class "Wood" is neither a code nor a name`,
		"rules:\n  - class: 2\n    when: a > 1":              "not in the legend",
		"rules:\n  - class: Water\n    when: a >":            "rule 1: the end stands where",
		"rules:\n  - class: Water\n    when: a + 1":          "but a condition is wanted",
		"rules:\n  - class: Water\n    when: a > 1\nelse: 9": "else: the target 9 is not in the legend",
	} {
		_, err := ParseRules("r.yaml", []byte(text), legend)
		require.ErrorContains(t, err, want, text)
		assert.ErrorContains(t, err, "r.yaml")
	}
}

func FuzzRules(f *testing.F) {
	f.Add([]byte(steep))
	f.Fuzz(func(t *testing.T, text []byte) { _, _ = ParseRules("r.yaml", text, nil) })
}

// For layers of bytes the table gives what the conditions give cell by cell.
func TestRulesOverBytesAreATable(t *testing.T) {
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	g := raster.Grid{Width: 256, Height: 256, X0: 4e6, Y0: 3e6, DX: 10, DY: -10, CRS: crs}
	none := 255.0
	make2 := func(typ raster.CellType) *raster.Layers {
		l, err := raster.NewLayers([]raster.Layer{
			{Name: "cover", Source: raster.NewFunc(raster.Header{Name: "cover", Grid: g, Type: typ, NoData: &none}, func(c, _ int) float64 { return float64(c) })},
			{Name: "slope", Source: raster.NewFunc(raster.Header{Name: "slope", Grid: g, Type: typ, NoData: &none}, func(_, r int) float64 { return float64(r) })},
		})
		require.NoError(t, err)
		return l
	}
	rules, err := ParseRules("r.yaml", []byte(steep), nil)
	require.NoError(t, err)
	fast, err := NewRuleView(rules, make2(raster.Uint8), nil, false)
	require.NoError(t, err)
	require.NotNil(t, fast.table)
	slow, err := NewRuleView(rules, make2(raster.Int16), nil, false)
	require.NoError(t, err)
	require.Nil(t, slow.table)
	var a, b raster.Cells
	w := raster.Window{Col: 3, Row: 5, Width: 250, Height: 251}
	require.NoError(t, fast.NewReader().Read(w, &a))
	require.NoError(t, slow.NewReader().Read(w, &b))
	for r := range w.Height {
		for c := range w.Width {
			require.Equal(t, b.At(c, r), a.At(c, r), "%d, %d", c, r)
		}
	}
	rules.Else = nil
	fast, err = NewRuleView(rules, make2(raster.Uint8), nil, false)
	require.NoError(t, err)
	assert.ErrorIs(t, fast.NewReader().Read(w, &a), ErrNoRule)
}
