package check

import (
	"math"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
)

func controls(t *testing.T, text string) ([]Control, error) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "totals.csv")
	require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	list, _, err := ReadControls(files.Disk, path)
	return list, err
}

// Totals that are known from elsewhere hold for a zone, a class, an epoch, or all of them, within their tolerance.
func TestControlsByHand(t *testing.T) {
	extents := []Mapped{{Zone: "W1", Class: "1", Epoch: "2010", M2: 30e4}, {Zone: "W1", Class: "2", Epoch: "2010", M2: 20e4}, {Zone: "W2", Class: "1", Epoch: "2010", M2: 10e4},
		{Zone: "W1", Class: "1", Epoch: "2020", M2: 28e4}, {Zone: "W1", Class: "2", Epoch: "2020", M2: 22e4}, {Zone: "W2", Class: "1", Epoch: "2020", M2: 10e4}}
	ha, err := area.Find("ha")
	require.NoError(t, err)
	const head = "zone_id,class_code,epoch,area,unit,tolerance\n"
	for text, want := range map[string][]string{
		"W1,1,2010,30,ha,":          nil,
		"W1,1,2010,0.3,km2,0":       nil,
		"W1,,,50,ha,":               nil, // each epoch by itself
		",1,2010,40,ha,":            nil,
		",,,60,ha,":                 nil,
		"W1,1,2010,29,ha,5":         nil,
		"W1,1,2010,29,ha,5 %":       nil,
		"W1,1,2010,29,ha,1":         {"zone W1 class 1 in 2010 is 30 ha, not 29 (+3.448 %, allowed 1 %)"},
		"W1,1,,30,ha,":              {"zone W1 class 1 in 2020 is 28 ha, not 30 (-6.667 %, allowed 0 %)"},
		"W3,1,2010,30,ha,":          {"zone W3 class 1 in 2010 is not among what was measured"},
		"W1,1,2030,30,ha,":          {"zone W1 class 1 in 2030 is not among what was measured"},
		"W2,1,2010,0,ha,":           {"zone W2 class 1 in 2010 is 10 ha, not 0 (+Inf %, allowed 0 %)"},
		",2,2020,22,ha,\n,2,,1,ha,": {"all zones class 2 in 2010 is 20 ha, not 1 (+1900.000 %, allowed 0 %)", "all zones class 2 in 2020 is 22 ha, not 1 (+2100.000 %, allowed 0 %)"},
	} {
		list, err := controls(t, head+text+"\n")
		require.NoError(t, err, text)
		c := AgainstControls(list, extents, ha, Defaults)
		var got []string
		for _, f := range c.Findings {
			got = append(got, f.Text)
		}
		assert.Equal(t, want, got, text)
		assert.Equal(t, len(want) == 0, c.Outcome == Holds)
	}
	for text, want := range map[string]string{
		head + "W1,1,2010,x,ha,\n": "is not a number that an area can be", head + "W1,1,2010,-3,ha,\n": "is not a number that an area can be", head + "W1,1,2010,nan,ha,\n": "is not a number that an area can be",
		head + "W1,1,2010,3,,\n": "the unit is missing", head + "W1,1,2010,3,furlong,\n": "not known", head + "W1,1,2010,3,ha,some\n": "is not a percentage",
		head: "it holds no totals", "area,unit,country\n3,ha,x\n": `the column "country" is not known`, "zone_id,area\nW1,3\n": "it has no column",
	} {
		_, err := controls(t, text)
		assert.ErrorContains(t, err, want, text)
	}
}

// What the checks of two epochs find, on both sides of their limits.
func TestPairsOnBothSidesOfTheirLimits(t *testing.T) {
	bounds := Bounds{"mapped": 1, "extents": 0.1, "pace": 5}
	for _, of := range []struct {
		first, second, rate float64
		before, after       bool
		short               []string
	}{
		{0, 0, 0, true, true, nil},
		{0.4, 0.4, 5, true, true, nil},
		{0.9, 0.85, 5, false, false, []string{"mapped"}},
		{0, 0.2, 5.01, true, true, []string{"extents", "pace"}},
		{0, 0, 1, true, false, []string{"vanish"}},
		{0, 0, 1, false, true, []string{"vanish"}},
	} {
		p := Pairs{Bounds: bounds}
		p.Ground("2010–2020", "W1", of.first, of.second, 100)
		p.Rate("2010–2020", "W1", "", of.rate)
		p.Class("2010–2020", "W1", cover.Named{ID: "3", Name: "Bog"}, of.before, of.after, 1)
		mapped, extents, pace, vanish := p.Checks("change", NoDates)
		var short []string
		for _, c := range []Check{mapped, extents, pace, vanish} {
			if c.Outcome == FallsShort {
				short = append(short, c.Name)
				assert.NotEmpty(t, c.Findings)
			}
		}
		assert.Equal(t, of.short, short, "%v", of)
	}
	p := Pairs{Bounds: bounds}
	p.Rate("a–b", "W1", "", math.NaN())
	_, _, pace, _ := p.Checks("change", NoDates)
	assert.Equal(t, NotMade, pace.Outcome)
	assert.Equal(t, NoDates, pace.Text)
}

// Every check has a name that options take, and a limit only where it has one.
func TestNamesOfChecks(t *testing.T) {
	seen := map[string]bool{}
	for _, n := range Names {
		assert.False(t, seen[n], n)
		seen[n] = true
	}
	for n, limit := range Defaults {
		assert.True(t, seen[n], n)
		assert.GreaterOrEqual(t, limit, 0.0)
	}
	for outcome, text := range map[Outcome]string{Holds: "holds", FallsShort: "falls short", NotMade: "not made"} {
		assert.Equal(t, text, outcome.String())
	}
	assert.Equal(t, NotMade, Skipped("edges").Outcome)
}
