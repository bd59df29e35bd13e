package projection

import (
	"encoding/csv"
	"math"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// vectors reads a committed table of numbers; lines that begin with # say where it comes from.
func vectors(t *testing.T, name string) [][]float64 {
	t.Helper()
	f, err := os.Open("testdata/" + name)
	require.NoError(t, err)
	defer f.Close()
	r := csv.NewReader(f)
	r.Comment = '#'
	lines, err := r.ReadAll()
	require.NoError(t, err)
	out := make([][]float64, len(lines))
	for i, line := range lines {
		for _, s := range line {
			v, err := strconv.ParseFloat(s, 64)
			require.NoError(t, err)
			out[i] = append(out[i], v)
		}
	}
	require.NotEmpty(t, out)
	return out
}

func kruger(t *testing.T, e ellipsoid.Ellipsoid) Projection {
	t.Helper()
	p, err := TransverseMercator.New(e, nil)
	require.NoError(t, err)
	return p
}

func TestTransverseMercatorAgainstExactEllipticFunctions(t *testing.T) {
	p := kruger(t, ellipsoid.WGS84)
	for _, v := range vectors(t, "tmerc_exact.csv") {
		x, y, ok := p.Forward(v[0]*degree, v[1]*degree)
		require.True(t, ok)
		// The vectors carry nanometres; degrees to radians and back to metres cost four units
		// in the last place of a northing of 9,000 km, each of 1.9 nm.
		bound := 9e-9
		assert.InDelta(t, v[2], x, bound, "x %v", v)
		assert.InDelta(t, v[3], y, bound, "y %v", v)
		assert.InEpsilon(t, v[4]*v[4], p.ArealScale(v[0]*degree, v[1]*degree), 1e-13, "scale %v", v)
	}
}

// The first neglected term is of order n⁹. On bodies far flatter than the Earth it shows above
// rounding, and must fall as the ninth power: a wrong digit in any coefficient of either series
// would leave an error of a lower order.
func TestTransverseMercatorSeriesInvertEachOtherToOrderNine(t *testing.T) {
	worst := func(f float64) float64 {
		p := kruger(t, ellipsoid.Ellipsoid{Name: "flat", A: 6378137, F: f})
		w := 0.0
		for lat := -80.0; lat <= 80; lat += 3.7 {
			for lon := -8.0; lon <= 8; lon += 1.3 {
				x, y, ok := p.Forward(lon*degree, lat*degree)
				require.True(t, ok)
				gotLon, gotLat, ok := p.Inverse(x, y)
				require.True(t, ok)
				w = max(w, math.Abs(gotLat/degree-lat), math.Abs(gotLon/degree-lon)*math.Cos(lat*degree))
			}
		}
		return w
	}
	third := func(f float64) float64 { return f / (2 - f) }
	order := math.Log(worst(1./6)/worst(1./9)) / math.Log(third(1./6)/third(1./9))
	assert.InDelta(t, 9, order, 0.5)
	assert.Less(t, worst(1./298.257), 1e-13)
}

func TestTransverseMercatorRefusesWhatItCannotDo(t *testing.T) {
	p := kruger(t, ellipsoid.WGS84)
	_, _, ok := p.Forward(89*degree, 0.1)
	assert.False(t, ok)
	for _, x := range []float64{1e9, math.Inf(1), math.NaN()} {
		_, _, ok = p.Inverse(x, 0)
		assert.False(t, ok)
	}
}
