package view

import (
	"math"
	"testing"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cql"
)

// On a plane the slope is its gradient over the true distances: in degrees, along a meridian and a parallel; in
// UTM, over the grid's distance divided by the scale.
func TestSlopeOfPlanes(t *testing.T) {
	deg := raster.Grid{Width: 120, Height: 90, X0: 12, Y0: 59, DX: 0.0005, DY: -0.0003, CRS: byCode(t, 4326)}
	e := deg.CRS.Ellipsoid
	for _, o := range []struct {
		dc, dr float64 // rise in metres for each column and row
	}{{1, 0}, {0, 2}, {0.7, -0.4}} {
		s, err := Slope(tile(deg, "z", raster.Float64, raster.Window{Col: 0, Row: 0, Width: 120, Height: 90}, 32, nil, func(c, r int) float64 { return o.dc*float64(c) + o.dr*float64(r) + 100 }), false)
		require.NoError(t, err)
		got := all(t, s, 37)
		for _, at := range [][2]int{{0, 0}, {50, 40}, {119, 89}, {3, 88}} {
			lat := (59 - 0.0003*(float64(at[1])+0.5)) * math.Pi / 180
			p, m := e.GroundSpacing(lat)
			want := 100 * math.Hypot(o.dc/(p*0.0005*math.Pi/180), o.dr/(m*0.0003*math.Pi/180))
			assert.InEpsilon(t, want, got[at[1]][at[0]], 2e-6, "%v at %v", o, at)
		}
	}
	g := raster.Grid{Width: 80, Height: 80, X0: 499000, Y0: 6500000, DX: 30, DY: -30, CRS: byCode(t, 32633)} // on the central meridian: scale 0.9996
	s, err := Slope(tile(g, "z", raster.Float32, raster.Window{Col: 0, Row: 0, Width: 80, Height: 80}, 32, nil, func(c, r int) float64 { return 3 * float64(c) }), true)
	require.NoError(t, err)
	assert.InEpsilon(t, math.Atan(3*0.9996/30)*180/math.Pi, all(t, s, 80)[40][33], 1e-6)
}

// Windows make no difference, and what is missing is continued from the other side.
func TestSlopeAtEdgesAndNodata(t *testing.T) {
	g := utm(t, 70, 50)
	none := -1.0
	z := tile(g, "z", raster.Int16, raster.Window{Col: 0, Row: 0, Width: 70, Height: 50}, 16, &none, func(c, r int) float64 {
		if c == 20 && r == 20 || c >= 40 && c <= 42 && r == 10 {
			return -1
		}
		return float64(10 * c)
	})
	s, err := Slope(z, false)
	require.NoError(t, err)
	whole, pieces := all(t, s, 70), all(t, s, 13)
	for r := range whole {
		for c, v := range whole[r] {
			if c == 20 && r == 20 || c >= 40 && c <= 42 && r == 10 {
				assert.True(t, math.IsNaN(v) && math.IsNaN(pieces[r][c]))
				continue
			}
			require.Equal(t, v, pieces[r][c])
			assert.InDelta(t, whole[30][30], v, whole[30][30]*1e-3, "%d, %d", c, r) // a plane throughout
		}
	}
	_, err = Slope(raster.WithGrid(z, raster.Grid{Width: 70, Height: 50, X0: 0, Y0: 0, DX: 1, DY: -1, CRS: nil}), false)
	assert.ErrorContains(t, err, "CRS")
}

func TestExpressions(t *testing.T) {
	g := utm(t, 100, 60)
	none := 0.0
	nir := tile(g, "nir", raster.Uint16, raster.Window{Col: 0, Row: 0, Width: 100, Height: 60}, 16, &none, func(c, r int) float64 { return float64((c*31 + r*7) % 50) })
	red := tile(g, "red", raster.Int8, raster.Window{Col: 0, Row: 0, Width: 100, Height: 60}, 32, nil, func(c, r int) float64 { return float64((c+r)%20) - 10 })
	l, err := NewLayers([]Layer{{"nir", nir}, {"red", red}})
	require.NoError(t, err)
	e, err := cql.ParseNumber("(nir - red) / (nir + red)")
	require.NoError(t, err)
	x, err := NewExpression(l, e)
	require.NoError(t, err)
	got := all(t, x, 23)
	zeros := 0
	for r := range got {
		for c, v := range got[r] {
			a, b := nir.ValueF(c, r), red.ValueF(c, r)
			switch {
			case a == 0:
				assert.True(t, math.IsNaN(v))
			case a+b == 0:
				zeros++
				assert.True(t, math.IsNaN(v))
			default:
				require.Equal(t, float64(float32((a-b)/(a+b))), v)
			}
		}
	}
	assert.Positive(t, zeros)
	assert.EqualValues(t, zeros, x.ZeroDivisions())
	off := tile(g, "off", raster.Uint8, raster.Window{Col: 1, Row: 0, Width: 99, Height: 60}, 16, nil, pattern)
	_, err = NewLayers([]Layer{{"nir", nir}, {"off", off}})
	assert.ErrorContains(t, err, "choose the layer on whose grid they meet")
	e, err = cql.ParseNumber("nirr + 1")
	require.NoError(t, err)
	_, err = NewExpression(l, e)
	assert.ErrorContains(t, err, `there is no layer "nirr"`)
}

func TestMapByTableAndByValue(t *testing.T) {
	g := utm(t, 40, 30)
	for _, typ := range []raster.CellType{raster.Uint8, raster.Int8, raster.Uint16, raster.Int16, raster.Int32, raster.Float64} {
		for _, to := range []raster.CellType{raster.Uint8, raster.Int16} {
			s := tile(g, "s", typ, raster.Window{Col: 0, Row: 0, Width: 40, Height: 30}, 16, nil, func(c, r int) float64 {
				return pattern(c, r) - 5 + 5*boolean(typ == raster.Uint8 || typ == raster.Uint16)
			})
			m := Map(s, raster.Header{Name: "m", Type: to}, func(v float64) (float64, error) {
				if v > 30 || v < -30 {
					return 0, assert.AnError
				}
				return 100 + v, nil
			})
			want := all(t, s, 40)
			got := all(t, m, 11)
			for r := range got {
				for c := range got[r] {
					require.Equal(t, want[r][c]+100, got[r][c], "%v to %v", typ, to)
				}
			}
			s.ValueF = constant(31)
			var c raster.Cells
			assert.ErrorIs(t, m.NewReader().Read(raster.Window{Col: 0, Row: 0, Width: 4, Height: 4}, &c), assert.AnError)
		}
	}
}

func boolean(b bool) float64 {
	if b {
		return 1
	}
	return 0
}

func TestComposite(t *testing.T) {
	g := utm(t, 6, 1)
	none := 0.0
	stack := func(rows ...[]float64) (out []raster.Source) {
		for _, row := range rows {
			out = append(out, tile(g, "s", raster.Uint8, raster.Window{Col: 0, Row: 0, Width: 6, Height: 1}, 16, &none, func(c, _ int) float64 { return row[c] }))
		}
		return out
	}
	s := stack([]float64{1, 1, 1, 3, 0, 5}, []float64{2, 2, 1, 1, 0, 0}, []float64{2, 3, 2, 2, 0, 0})
	for _, o := range []struct {
		how  Statistic
		ties []float64
		want []float64
		tied int64
	}{
		{StackMajority, nil, []float64{2, 3, 1, 2, 0, 5}, 2},
		{StackMajority, []float64{1}, []float64{2, 1, 1, 1, 0, 5}, 2},
		{StackMajority, []float64{3, 1}, []float64{2, 3, 1, 3, 0, 5}, 2},
		{StackMin, nil, []float64{1, 1, 1, 1, 0, 5}, 0}, {StackMax, nil, []float64{2, 3, 2, 3, 0, 5}, 0},
		{StackCount, nil, []float64{3, 3, 3, 3, 0, 1}, 0},
		{StackMean, nil, []float64{float64(float32(5. / 3)), 2, float64(float32(4. / 3)), 2, math.NaN(), 5}, 0},
		{StackMedian, nil, []float64{2, 2, 1, 2, math.NaN(), 5}, 0},
	} {
		c, err := NewComposite(s, o.how, o.ties)
		require.NoError(t, err)
		got := all(t, c, 6)[0]
		for i, want := range o.want {
			if math.IsNaN(want) {
				assert.True(t, math.IsNaN(got[i]), "%v", o)
				continue
			}
			assert.Equal(t, want, got[i], "%v at %d", o, i)
		}
		assert.Equal(t, o.tied, c.Tied(), "%v", o)
	}
	_, err := NewComposite(append(s, tile(g, "f", raster.Float32, raster.Window{Col: 0, Row: 0, Width: 6, Height: 1}, 16, nil, constant(1))), StackMean, nil)
	assert.ErrorContains(t, err, "whole numbers and measurements")
}
