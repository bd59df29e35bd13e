package change

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
)

func legendOf(t *testing.T, codes ...int) *cover.Legend {
	t.Helper()
	var classes []cover.Class
	for _, code := range codes {
		classes = append(classes, cover.Class{Code: code, Name: string(rune('A' + code))})
	}
	l, err := cover.NewLegend("l", classes)
	require.NoError(t, err)
	return l
}

// By hand: of 1,000 ha that are mapped as class 1, a map that is right in nine of ten has 900 ha that are and 100 ha that are class 2. Of the 900, 0.9 · 0.1 · 0.9 are mapped as 1, 2, 1; of the 100, 0.1 · 0.9 · 0.1.
func TestWhatErrorsMake(t *testing.T) {
	legend := legendOf(t, 1, 2, 7)
	errors := &Confusion{Classes: []int{2, 1}, Proportions: [][]float64{{0.45, 0.05}, {0.05, 0.45}}}
	expects := errors.of(legend).expects([]float64{1000, 0, 50})
	assert.InDelta(t, 72.9+0.9, expects(0, 1), 1e-9)
	assert.InDelta(t, 900*0.1*0.9*0.1+100*0.9*0.1*0.9, expects(1, 0), 1e-9)
	assert.True(t, math.IsNaN(expects(0, 2)), "a class that was not assessed")
	assert.True(t, math.IsNaN((*Confusion)(nil).of(legend).expects([]float64{1, 2, 3})(0, 1)))
	p := FlipPair{Area: 100, Expected: 73.8}
	assert.InDelta(t, 26.2, p.Unexplained(), 1e-9)
	p = FlipPair{Area: 10, Expected: 73.8}
	assert.Zero(t, p.Unexplained())
	p = FlipPair{Area: 10, Expected: math.NaN()}
	assert.Equal(t, 10.0, p.Unexplained())
}

// Ground that never changes is drawn on three maps with errors that have nothing to do with one another: as much of it goes there and back as is expected.
func TestErrorsOfThreeMaps(t *testing.T) {
	random := rand.New(rand.NewPCG(4, 2))
	q := [3][3]float64{{0.9, 0.08, 0.02}, {0.1, 0.85, 0.05}, {0.02, 0.03, 0.95}} // by ground: how often each class is mapped
	share := [3]float64{0.5, 0.3, 0.2}
	errors := &Confusion{Classes: []int{1, 2, 3}}
	for m := range 3 {
		var row []float64
		for g := range 3 {
			row = append(row, share[g]*q[g][m])
		}
		errors.Proportions = append(errors.Proportions, row)
	}
	draw := func(of [3]float64) int {
		v := random.Float64()
		for k, p := range of {
			if v -= p; v < 0 {
				return k
			}
		}
		return 2
	}
	const n = 1_000_000
	var got [3][3]float64
	areas := make([]float64, 3)
	for range n {
		g := draw(share)
		a, b, c := draw(q[g]), draw(q[g]), draw(q[g])
		areas[a]++
		if a == c && a != b {
			got[a][b]++
		}
	}
	expects := errors.of(legendOf(t, 1, 2, 3)).expects(areas)
	for a := range int32(3) {
		for b := range int32(3) {
			if a != b {
				assert.InDelta(t, got[a][b], expects(a, b), 5*math.Sqrt(got[a][b])+50, "%d %d", a, b)
			}
		}
	}
}

// The pairs of every zone sum to what goes back in it.
func TestFlickerSumsToWhatGoesBack(t *testing.T) {
	for seed := range uint64(6) {
		rasters, set, place := covers(t, seed, 3+int(seed)%3)
		in := inputOf(t, rasters, set, place)
		in.Errors = &Confusion{Classes: []int{1, 2, 3}, Proportions: [][]float64{{0.3, 0.01, 0}, {0.01, 0.3, 0.01}, {0, 0.01, 0.36}}}
		ch, err := Compare(in, area.Units[0])
		require.NoError(t, err)
		for _, f := range ch.Flips {
			for i, list := range f.Pairs {
				sum := 0.0
				for _, p := range list {
					sum += p.Area
					assert.LessOrEqual(t, p.Unexplained(), p.Area)
				}
				assert.InDelta(t, f.Back[i], sum, 1e-9)
			}
		}
	}
}
