package cover

import (
	"fmt"
	"testing"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

func layersOf(t *testing.T, rows map[string][]float64) *view.Layers {
	t.Helper()
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	none := -1.0
	var list []view.Layer
	for _, name := range []string{"cover", "slope"} {
		g := raster.Grid{Width: len(rows[name]), Height: 1, X0: 4e6, Y0: 3e6, DX: 10, DY: -10, CRS: crs}
		list = append(list, view.Layer{Name: name, Source: raster.NewFunc(raster.Header{Name: name, Grid: g, Type: raster.Int16, NoData: &none},
			func(c, _ int) float64 { return rows[name][c] })})
	}
	l, err := view.NewLayers(list)
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

// The first rule that holds decides. A cell has no class if no layer has data there, or if no rule holds and at least one is unknown.
func TestRulesInOrder(t *testing.T) {
	l := layersOf(t, map[string][]float64{
		"cover": {1, 1, 2, 2, 7, 7, -1, -1, 1},
		"slope": {20, 5, 20, -1, 3, -1, 50, -1, -1},
	})
	rules, err := ParseRules("r.yaml", []byte(steep), nil)
	require.NoError(t, err)
	v, err := NewRuleView(rules, l, nil, RuleClasses)
	require.NoError(t, err)
	var c raster.Cells
	require.NoError(t, v.NewReader().Read(raster.Window{Width: 9, Height: 1}, &c))
	none := *v.Header().NoData
	for i, want := range []float64{3, 4, 4, 4, 5, none, none, none, 4} {
		assert.Equal(t, want, c.At(i, 0), "cell %d", i)
	}
	assert.EqualValues(t, []int64{1, 4, 1, 1}, []int64{v.Took(0), v.Took(1), v.Took(2), v.Took(3)})
	assert.EqualValues(t, []int64{0, 1, 2}, []int64{v.Before(0), v.Before(1), v.Before(2)})
	apart, err := NewRuleView(rules, l, nil, RuleApart)
	require.NoError(t, err)
	require.NoError(t, apart.NewReader().Read(raster.Window{Width: 9, Height: 1}, &c))
	open, cells, ok := apart.Undecided()
	require.True(t, ok)
	assert.EqualValues(t, 1, cells)
	for i, want := range []float64{3, 4, 4, 4, 5, none, open, none, 4} {
		assert.Equal(t, want, c.At(i, 0), "cell %d", i)
	}
	m, ok := (&Coder{NoData: &none, Undecided: &open}).Code(open)
	assert.True(t, ok && m.Kind == NoData)
	rules.Else = nil
	v, err = NewRuleView(rules, l, nil, RuleClasses)
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
		"rules:\n  - class: Water\n    when: a + 1":          "but a condition is needed",
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

// For layers of bytes the table gives what the conditions give cell by cell: with few kinds of values and with
// more than can be numbered, with one layer and two, and through a crosswalk that is a view under a layer.
func TestRulesOverBytesAreATable(t *testing.T) {
	crs, err := earth.Lookup(3035)
	require.NoError(t, err)
	g := raster.Grid{Width: 256, Height: 256, X0: 4e6, Y0: 3e6, DX: 10, DY: -10, CRS: crs}
	none := 255.0
	walk, err := ReadCrosswalk(files.Disk, file(t, "from,to\n1;2,1\n3,2\n4;5;200,3\nelse,keep\n"), nil)
	require.NoError(t, err)
	layers := func(typ raster.CellType, crosswalk *Crosswalk, n int) *view.Layers {
		var cover, slope raster.Source = raster.NewFunc(raster.Header{Name: "cover", Grid: g, Type: typ, NoData: &none}, func(c, _ int) float64 { return float64(c) }),
			raster.NewFunc(raster.Header{Name: "slope", Grid: g, Type: typ, NoData: &none}, func(_, r int) float64 { return float64(r) })
		if crosswalk != nil {
			cover, err = View(cover, &Coder{Crosswalk: crosswalk, NoData: &none}, &typ)
			require.NoError(t, err)
		}
		l, err := view.NewLayers([]view.Layer{{Name: "cover", Source: cover}, {Name: "slope", Source: slope}}[:n])
		require.NoError(t, err)
		return l
	}
	many := "rules:\n"
	for i := range 40 {
		many += fmt.Sprintf("  - class: %d\n    when: cover * 3 + slope BETWEEN %d AND %d\n", i+1, i*20, i*20+19)
	}
	one := "rules:\n  - class: 7\n    when: cover IN (1, 3, 17)\nelse: 9\n"
	for _, c := range []struct {
		name, rules string
		crosswalk   *Crosswalk
		layers      int
		numbered    bool
	}{
		{"few kinds", steep, nil, 2, true},
		{"a view", steep, walk, 2, true},
		{"many kinds", many + "else: 99\n", nil, 2, false},
		{"one layer", one, nil, 1, true},
		{"one layer with a view", one, walk, 1, true},
	} {
		rules, err := ParseRules("r.yaml", []byte(c.rules), nil)
		require.NoError(t, err)
		fast, err := NewRuleView(rules, layers(raster.Uint8, c.crosswalk, c.layers), nil, RuleClasses)
		require.NoError(t, err)
		require.NotNil(t, fast.table, c.name)
		require.Equal(t, c.numbered, fast.table.final != nil, c.name)
		slow, err := NewRuleView(rules, layers(raster.Int16, c.crosswalk, c.layers), nil, RuleClasses)
		require.NoError(t, err)
		require.Nil(t, slow.table)
		var a, b raster.Cells
		w := raster.Window{Col: 3, Row: 5, Width: 253, Height: 251}
		require.NoError(t, fast.NewReader().Read(w, &a))
		require.NoError(t, slow.NewReader().Read(w, &b))
		for r := range w.Height {
			for k := range w.Width {
				require.Equal(t, b.At(k, r), a.At(k, r), "%s: %d, %d", c.name, k, r)
			}
		}
	}
	var cells raster.Cells
	w := raster.Window{Width: 256, Height: 256}
	for _, text := range []string{steep, many} {
		rules, err := ParseRules("r.yaml", []byte(text), nil)
		require.NoError(t, err)
		rules.Else = nil
		fast, err := NewRuleView(rules, layers(raster.Uint8, nil, 2), nil, RuleClasses)
		require.NoError(t, err)
		assert.ErrorIs(t, fast.NewReader().Read(w, &cells), ErrNoRule)
	}
	// A value without a line is the crosswalk's error, not the rules'.
	gaps, err := ReadCrosswalk(files.Disk, file(t, "from,to\n1;2,1\n3,2\n4;5,3\n"), nil)
	require.NoError(t, err)
	rules, err := ParseRules("r.yaml", []byte(steep), nil)
	require.NoError(t, err)
	fast, err := NewRuleView(rules, layers(raster.Uint8, gaps, 2), nil, RuleClasses)
	require.NoError(t, err)
	require.NoError(t, fast.NewReader().Read(raster.Window{Col: 1, Width: 5, Height: 9}, &cells))
	err = fast.NewReader().Read(raster.Window{Col: 1, Width: 6, Height: 9}, &cells)
	assert.ErrorIs(t, err, ErrNoLine)
	assert.ErrorContains(t, err, ": 6")
}
