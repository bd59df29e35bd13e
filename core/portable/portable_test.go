package portable

import (
	"encoding/binary"
	"hash/fnv"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
)

// The functions are those of package math, to a few units in the last place, and at the ends as well.
func TestFunctions(t *testing.T) {
	for name, f := range map[string][2]func(float64) float64{
		"Exp": {Exp, math.Exp}, "Sinh": {Sinh, math.Sinh}, "Cosh": {Cosh, math.Cosh}, "Tanh": {Tanh, math.Tanh},
		"Pow of it": {func(x float64) float64 { return Pow(x, 1.37) }, func(x float64) float64 { return math.Pow(x, 1.37) }},
		"Pow by it": {func(y float64) float64 { return Pow(2.5, y) }, func(y float64) float64 { return math.Pow(2.5, y) }},
	} {
		ends := []float64{0, math.Copysign(0, -1), 1e-320, 1e-9, 0.5, -0.5, 1, -1, 20, -20, 600, 709.7, 710, -709, -800, 1e300, math.Inf(1), math.Inf(-1), math.NaN()}
		r := rand.New(rand.NewPCG(1, 1))
		for range 10000 {
			ends = append(ends, r.NormFloat64()*math.Exp2(float64(r.IntN(16)-8)))
		}
		for _, x := range ends {
			got, want := f[0](x), f[1](x)
			near := 4e-14
			if math.Abs(x) < 8 {
				near = 2e-15
			}
			same := got == want || math.IsNaN(got) && math.IsNaN(want)
			assert.True(t, same || math.Abs(got-want) <= math.Max(1e-300, near*math.Abs(want)), "%s %g: %g, not %g", name, x, got, want)
		}
	}
}

// The digits are those that were computed on amd64, and on arm64 without products and sums in one.
func TestDigits(t *testing.T) {
	if probe*probe-square(probe) != 0 {
		t.Skip("this build fuses products and sums")
	}
	h := fnv.New64a()
	r := rand.New(rand.NewPCG(7, 7))
	for range 100000 {
		x := r.NormFloat64() * 5
		for _, v := range []float64{Exp(x), Sinh(x), Cosh(x), Tanh(x), Pow(math.Abs(x), 1.37), Pow(1.37, x)} {
			binary.Write(h, binary.LittleEndian, v)
		}
	}
	assert.Equal(t, uint64(0xfce734abd44c03aa), h.Sum64())
}

var probe = 1 + 1.0/(1<<30)

//go:noinline
func square(a float64) float64 { return a * a }
