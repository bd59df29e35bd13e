package accuracy

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/files"
)

// The example of Olofsson and others (2014), tables 8 and 9: 640 samples of a map of change with cells of 0.09 ha.
func olofsson() Samples {
	s := NewSamples([]cover.Named{{ID: "1", Name: "Deforestation"}, {ID: "2", Name: "Forest gain"}, {ID: "3", Name: "Stable forest"}, {ID: "4", Name: "Stable non-forest"}})
	s.Counts = [][]int{{66, 0, 5, 4}, {0, 55, 8, 12}, {1, 0, 153, 11}, {2, 1, 9, 313}}
	for i, cells := range []float64{200000, 150000, 3200000, 6450000} {
		s.Areas[i] = cells * 900
	}
	return s
}

func TestWorkedExampleOfStratifiedEstimation(t *testing.T) {
	a, err := Assess(olofsson())
	require.NoError(t, err)
	assert.InDelta(t, 0.95, a.Overall.Value, 0.005)
	assert.InDelta(t, 0.02, a.Overall.Half, 0.005)
	for i, want := range [][2]float64{{0.88, 0.07}, {0.73, 0.10}, {0.93, 0.04}, {0.96, 0.02}} {
		assert.InDelta(t, want[0], a.Users[i].Value, 0.005)
		assert.InDelta(t, want[1], a.Users[i].Half, 0.005)
	}
	for i, want := range [][2]float64{{0.75, 0.21}, {0.85, 0.25}, {0.93, 0.03}, {0.96, 0.01}} {
		assert.InDelta(t, want[0], a.Producers[i].Value, 0.005)
		assert.InDelta(t, want[1], a.Producers[i].Half, 0.01)
	}
	// The second one's interval by hand: (0.015²·0.1528²·0.7333·0.2667/74 + 0.8472²·0.645²·0.003077·0.99692/324)^½ · 1.96 / 0.012985.
	assert.InDelta(t, 0.2544, a.Producers[1].Half, 1e-3)
	for i, want := range [][2]float64{{21158, 6158}, {11686, 3756}, {285770, 15510}, {581386, 16282}} { // ha
		assert.InDelta(t, want[0], a.Adjusted[i].Value/1e4, 1, a.Classes[i].Name)
		assert.InDelta(t, want[1], a.Adjusted[i].Half/1e4, 2, a.Classes[i].Name)
	}
	sum := 0.0
	for _, row := range a.Proportions {
		for _, p := range row {
			sum += p
		}
	}
	assert.InDelta(t, 1, sum, 1e-12)
}

// A map without error is adjusted to itself, with intervals of no width.
func TestPerfectMap(t *testing.T) {
	s := NewSamples([]cover.Named{{ID: "1", Name: "a"}, {ID: "2", Name: "b"}, {ID: "3", Name: "nowhere"}})
	s.Counts = [][]int{{10, 0, 0}, {0, 5, 0}, {0, 0, 0}}
	s.Areas = []float64{300, 700, 0}
	a, err := Assess(s)
	require.NoError(t, err)
	assert.Equal(t, Estimate{1, 0}, a.Overall)
	assert.Equal(t, []Estimate{{300, 0}, {700, 0}, {0, 0}}, a.Adjusted)
	assert.True(t, math.IsNaN(a.Users[2].Value) && math.IsNaN(a.Producers[2].Value))
	assert.False(t, a.Adjusted[0].HoldsZero())
	assert.True(t, Estimate{3, 4}.HoldsZero())
}

// What every sample of a stratum agrees in does not vary, and what is right wherever it is mapped has an interval of exactly nothing, whatever the counts.
func TestNoVarianceIsExactlyNone(t *testing.T) {
	for n := 2; n < 60; n++ {
		s := NewSamples([]cover.Named{{ID: "1"}, {ID: "2"}})
		s.Strata, s.Areas = []cover.Named{{ID: "s"}, {ID: "t"}}, []float64{17.3, 5.9}
		s.ByStratum = []map[[2]int]int{{{0, 0}: n, {1, 1}: n/3 + 1}, {{0, 0}: 3, {1, 1}: n}}
		a, err := Assess(s)
		require.NoError(t, err)
		for _, e := range append(a.Users, a.Producers...) {
			require.InDelta(t, 1, e.Value, 1e-15)
			require.Zero(t, e.Half, "%d", n)
		}
		require.Zero(t, a.Overall.Half)
	}
}

func TestSamplesThatDoNotFit(t *testing.T) {
	s := olofsson()
	s.Counts[1] = []int{0, 1, 0, 0}
	_, err := Assess(s)
	assert.ErrorContains(t, err, "class Forest gain has 1 sample where it is mapped")
	s = olofsson()
	s.Areas[1] = 0
	_, err = Assess(s)
	assert.ErrorContains(t, err, "but no area")

	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		return path
	}
	counts := write("counts.csv", "map,reference,count\nForest gain,2,5\n1,Forest gain,1\n")
	s, err = ReadCounts(files.Disk, counts, olofsson().Classes, "")
	require.NoError(t, err)
	assert.Equal(t, 5, s.Counts[1][1])
	assert.Equal(t, 1, s.Counts[0][1])
	_, err = ReadCounts(files.Disk, write("bad.csv", "map,reference,count\nLake,2,5\n"), olofsson().Classes, "")
	assert.ErrorContains(t, err, `line 2: the map class "Lake" is not in the legend`)
	err = s.ReadAreas(files.Disk, write("areas.csv", "class_code,area,unit\n1,5,ha\n"))
	assert.ErrorContains(t, err, "no area for class Forest gain, which has samples")
	err = s.ReadAreas(files.Disk, write("areas.csv", "class_code,area\n1,5\n"))
	assert.ErrorContains(t, err, `no column "unit"`)
	err = s.ReadAreas(files.Disk, write("areas.csv", "class_code,area,unit\n1,5,ha\n2,5,ha\n9,5,ha\n"))
	assert.ErrorContains(t, err, "class 9 has area but no samples")
}

// By group, strata stay the classes that samples were drawn in, and a group is the sum of its cells of the error matrix: pooled samples
// would weigh a class by how often it was sampled.
func TestGroupsAreSumsOfTheErrorMatrix(t *testing.T) {
	legend, err := cover.NewLegend("legend.csv", []cover.Class{{Code: 1, Name: "Deforestation", Group: "changed"}, {Code: 2, Name: "Forest gain", Group: "changed"},
		{Code: 3, Name: "Stable forest", Group: "stable"}, {Code: 4, Name: "Stable non-forest", Group: "stable"}})
	require.NoError(t, err)
	groups, err := legend.Group()
	require.NoError(t, err)
	byClass, err := Assess(olofsson())
	require.NoError(t, err)
	grouped, err := olofsson().Group(groups)
	require.NoError(t, err)
	a, err := Assess(grouped)
	require.NoError(t, err)
	assert.Equal(t, []cover.Named{{ID: "changed", Name: "changed"}, {ID: "stable", Name: "stable"}}, a.Classes)
	p := byClass.Proportions
	for i := range 2 {
		for j := range 2 {
			sum := p[2*i][2*j] + p[2*i][2*j+1] + p[2*i+1][2*j] + p[2*i+1][2*j+1]
			assert.InDelta(t, sum, a.Proportions[i][j], 1e-15)
		}
		assert.InDelta(t, a.Proportions[i][i]/(a.Proportions[i][0]+a.Proportions[i][1]), a.Users[i].Value, 1e-14)
		assert.InDelta(t, byClass.Adjusted[2*i].Value+byClass.Adjusted[2*i+1].Value, a.Adjusted[i].Value, 1e-3)
		assert.Equal(t, byClass.Mapped[2*i]+byClass.Mapped[2*i+1], a.Mapped[i])
	}
	assert.InDelta(t, a.Proportions[0][0]+a.Proportions[1][1], a.Overall.Value, 1e-15)
	// User's accuracy of what changed by hand: (2·66/75 + 1.5·55/75)/3.5 of the two strata's shares.
	assert.InDelta(t, (2*66./75+1.5*55./75)/3.5, a.Users[0].Value, 1e-14)
	// Its interval: within each of the two strata the map says changed throughout.
	v := math.Pow(0.02, 2)*(66./75)*(9./75)/74 + math.Pow(0.015, 2)*(55./75)*(20./75)/74
	assert.InDelta(t, 1.96*math.Sqrt(v)/0.035, a.Users[0].Half, 1e-14)
}

// Strata that are not the map's classes, by hand: two strata of 600 and 400 ha with 4 samples each.
func TestStrataOfTheirOwn(t *testing.T) {
	path := filepath.Join(t.TempDir(), "counts.csv")
	require.NoError(t, os.WriteFile(path, []byte("stratum,map,reference,count\nlow,a,a,2\nlow,a,b,1\nlow,b,b,1\nhigh,b,b,3\nhigh,a,b,1\n"), 0o644))
	areas := filepath.Join(t.TempDir(), "areas.csv")
	require.NoError(t, os.WriteFile(areas, []byte("stratum,area,unit\nlow,600,ha\nhigh,400,ha\n"), 0o644))
	s, err := ReadCounts(files.Disk, path, nil, "stratum")
	require.NoError(t, err)
	require.NoError(t, s.ReadStrata(files.Disk, areas))
	a, err := Assess(s)
	require.NoError(t, err)
	assert.InDelta(t, 0.6*3/4+0.4*3/4, a.Overall.Value, 1e-15)
	assert.InDelta(t, 1.96*math.Sqrt(0.36*(3./4)*(1./4)/3+0.16*(3./4)*(1./4)/3), a.Overall.Half, 1e-15)
	assert.InDelta(t, 0.6*2/4*1e7, a.Adjusted[0].Value, 1e-6)
	// User's of a: both are a 0.6·2/4; the map is a 0.6·3/4 + 0.4·1/4.
	x := 0.6*3/4 + 0.4*1/4
	r := 0.3 / x
	assert.InDelta(t, r, a.Users[0].Value, 1e-15)
	// Low: y is 1 for 2 of 4, x for 3 of 4, both for 2. High: y never, x for 1 of 4.
	v := 0.36/3*((2./4)*(2./4)+r*r*(3./4)*(1./4)-2*r*(2./4-(2./4)*(3./4))) + 0.16/3*r*r*(1./4)*(3./4)
	assert.InDelta(t, 1.96*math.Sqrt(v)/x, a.Users[0].Half, 1e-15)
	assert.True(t, math.IsNaN(a.Mapped[0]))
	require.NoError(t, os.WriteFile(areas, []byte("stratum,area,unit\nlow,600,ha\n"), 0o644))
	assert.ErrorContains(t, s.ReadStrata(files.Disk, areas), `no area for the stratum "high"`)
}

// A map of change has many classes: the time goes with the samples, not with the cells of the error matrix.
func TestAccuracyOfManyClasses(t *testing.T) {
	const n = 400
	var classes []cover.Named
	for i := range n {
		classes = append(classes, cover.Named{ID: fmt.Sprintf("c%d", i)})
	}
	s := NewSamples(classes)
	for i := range n {
		s.Areas[i] = 100
		s.Add("", i, i, 20)
		s.Add("", i, (i+1)%n, 5)
	}
	begun := time.Now()
	a, err := Assess(s)
	require.NoError(t, err)
	assert.Less(t, time.Since(begun), 10*time.Second)
	assert.InDelta(t, 0.8, a.Overall.Value, 1e-12)
	assert.InDelta(t, 0.2/n, a.Proportions[3][4], 1e-15)
	assert.InDelta(t, 0.8, a.Producers[7].Value, 1e-12)
}
