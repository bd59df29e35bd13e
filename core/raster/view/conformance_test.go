package view

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
)

// random is a raster in memory with cells of all sorts: ordinary ones, the ends of the type, the nodata value, NaN.
func random(rng *rand.Rand, g raster.Grid, t raster.CellType, nodata *float64) *raster.Memory {
	m := raster.NewMemory("random", g, t, 8+rng.IntN(20), 5+rng.IntN(20))
	m.SetNoData(nodata)
	least, most := t.Range()
	if t == raster.Float64 {
		least, most = -1e9, 1e9
	}
	values := []float64{1, 2, 3, 4, least, most}
	if t.Floating() {
		values = append(values, math.NaN(), 0.25)
	}
	if nodata != nil && t.Holds(*nodata) {
		values = append(values, *nodata, *nodata)
	}
	for r := range g.Height {
		for c := range g.Width {
			m.Set(c, r, values[rng.IntN(len(values))])
		}
	}
	return m
}

// views are all views that keep cells where they are and what they hold; what is missing stays missing.
func views(t *testing.T, s raster.Source) map[string]raster.Source {
	t.Helper()
	h := s.Header()
	g := h.Grid
	out := map[string]raster.Source{"itself": s, "cached": raster.Cached(s, 1<<12), "another grid": raster.WithGrid(s, g)}
	must := func(name string, v raster.Source, err error) {
		require.NoError(t, err, name)
		out[name] = v
	}
	v, err := Crop(s, g)
	must("extent", v, err)
	wide := g
	wide.X0, wide.Y0 = g.Point(-3, -2)
	wide.Width, wide.Height = g.Width+5, g.Height+4
	v, err = Crop(s, wide)
	require.NoError(t, err)
	v, err = Crop(v, g)
	must("widened and cut", v, err)
	left, right := g, g
	left.Width = g.Width / 2
	right.X0, _ = g.Point(float64(left.Width), 0)
	right.Width = g.Width - left.Width
	a, err := Crop(s, left)
	require.NoError(t, err)
	b, err := Crop(s, right)
	require.NoError(t, err)
	for name, o := range map[string]Overlap{"last": Last, "first": First, "majority": Majority} {
		j, err := Mosaic([]raster.Source{a, b, a}, MosaicOptions{Overlap: o})
		must("mosaic, "+name, j, err)
	}
	for _, how := range []Resample{Nearest, Heaviest} {
		al, err := Align(s, g, how)
		must(fmt.Sprintf("aligned, %d", how), al, err)
	}
	both, _, err := Together([]raster.Source{s, s}, false)
	must("together", both[1], err)
	for name, how := range map[string]Statistic{"majority": StackMajority, "least": StackMin, "greatest": StackMax} {
		c, err := NewComposite([]raster.Source{s, s}, how, nil)
		must("composite, "+name, c, err)
	}
	opaque := raster.NewMemory("mask", g, raster.Uint8, 7, 9)
	for r := range g.Height {
		for c := range g.Width {
			opaque.Set(c, r, 1)
		}
	}
	out["masked by nothing"] = Masked(s, opaque)
	same := h
	same.Settle()
	if same.NoData == nil || same.Type.Holds(*same.NoData) {
		out["mapped"] = Map(s, same, func(v float64) (float64, error) {
			if h.Missing(v) {
				return *same.NoData, nil
			}
			return v, nil
		})
		for _, n := range []int{2, 9} { // bytes of up to eight layers are looked up as one word
			layers := make([]raster.Source, n)
			for i := range layers {
				layers[i] = s
			}
			out[fmt.Sprintf("courses of %d", n)] = Courses(layers, same, func(v []float64) float64 {
				if h.Missing(v[n-1]) {
					return *same.NoData
				}
				return v[n-1]
			})
		}
	}
	return out
}

// readAll reads a raster at once.
func readAll(t *testing.T, s raster.Source) *raster.Cells {
	t.Helper()
	g := s.Header().Grid
	var c raster.Cells
	require.NoError(t, s.NewReader().Read(raster.Window{Width: g.Width, Height: g.Height}, &c))
	return &c
}

// Every view gives the cells that it was made of, in every cell type, with any nodata value, and windows of any shape give what the
// whole gives.
func TestConformanceOfViews(t *testing.T) {
	rng := rand.New(rand.NewPCG(14, 3))
	value := func(v float64) *float64 { return &v }
	for typ := raster.Uint8; typ <= raster.Float64; typ++ {
		for _, nodata := range []*float64{nil, value(0), value(3), value(-9999), value(300), value(math.NaN())} {
			if nodata != nil && math.IsNaN(*nodata) && !typ.Floating() {
				continue
			}
			for _, g := range []raster.Grid{utm(t, 37, 23), utm(t, 1, 1), utm(t, 2, 40), degreesGrid(t, 170, 60, 19, 11, 0.5)} {
				s := random(rng, g, typ, nodata)
				h := s.Header()
				for name, v := range views(t, s) {
					what := fmt.Sprintf("%s of %v with nodata %v, %d × %d", name, typ, nodata, g.Width, g.Height)
					head := v.Header()
					all := readAll(t, v)
					require.Equal(t, head.Type, all.Type, what)
					for r := range g.Height {
						for c := range g.Width {
							want, got := s.At(c, r), all.At(c, r)
							require.Equal(t, h.Missing(want), head.Missing(got), "%s at %d, %d: %v became %v", what, c, r, want, got)
							if !h.Missing(want) {
								require.Equal(t, want, got, "%s at %d, %d", what, c, r)
							}
						}
					}
					windows(t, rng, v, all, what)
				}
			}
		}
	}
}

// windows compares windows of random shapes, read by one reader after another, with the whole.
func windows(t *testing.T, rng *rand.Rand, v raster.Source, all *raster.Cells, what string) {
	g := v.Header().Grid
	reader := v.NewReader()
	var got raster.Cells
	for range 6 {
		w := raster.Window{Col: rng.IntN(g.Width), Row: rng.IntN(g.Height)}
		w.Width, w.Height = 1+rng.IntN(g.Width-w.Col), 1+rng.IntN(g.Height-w.Row)
		require.NoError(t, reader.Read(w, &got), what)
		require.Equal(t, []int{w.Width, w.Height}, []int{got.Width, got.Height}, what)
		for r := range w.Height {
			for c := range w.Width {
				if a, b := all.At(w.Col+c, w.Row+r), got.At(c, r); !raster.SameValue(a, b) {
					require.Equal(t, a, b, "%s: window %+v at %d, %d", what, w, c, r)
				}
			}
		}
	}
}

// Views that compute: whatever they make of a cell, windows of any shape give what the whole gives, and a cell that is missing in all
// that they are made of is missing.
func TestConformanceOfComputingViews(t *testing.T) {
	rng := rand.New(rand.NewPCG(14, 4))
	seven := 7.0
	for typ := raster.Uint8; typ <= raster.Float64; typ++ {
		for _, nodata := range []*float64{nil, &seven} {
			g := utm(t, 41, 29)
			s := random(rng, g, typ, nodata)
			h := s.Header()
			out := map[string]raster.Source{}
			for name, how := range map[string]Statistic{"mean": StackMean, "median": StackMedian} {
				c, err := NewComposite([]raster.Source{s, s, s}, how, nil)
				require.NoError(t, err)
				out[name] = c
			}
			sl, err := Slope(s, true)
			require.NoError(t, err)
			out["slope"] = sl
			layers, err := NewLayers([]Layer{{"a", s}, {"b", raster.Cached(s, 1<<12)}})
			require.NoError(t, err)
			e, err := cql.ParseNumber("a / 4 + b")
			require.NoError(t, err)
			x, err := NewExpression(layers, e)
			require.NoError(t, err)
			out["expression"] = x
			w, err := Where(s, raster.NewFunc(raster.Header{Grid: g, Type: raster.Uint8}, constant(1)), 1)
			require.NoError(t, err)
			out["where"] = w
			out["scaled"] = Scaled(s, 0.5, 1)
			turned := g
			turned.X0, turned.Y0 = g.X0+7, g.Y0-4
			for _, how := range []Resample{Nearest, Heaviest, Bilinear} {
				a, err := Align(s, turned, how)
				require.NoError(t, err)
				out[fmt.Sprint("moved, ", how)] = a
			}
			for name, v := range out {
				what := fmt.Sprintf("%s of %v", name, typ)
				all := readAll(t, v)
				head := v.Header()
				if name != "slope" && head.Grid == g {
					for r := range g.Height {
						for c := range g.Width {
							if h.Missing(s.At(c, r)) {
								require.True(t, head.Missing(all.At(c, r)), "%s at %d, %d", what, c, r)
							}
						}
					}
				}
				windows(t, rng, v, all, what)
			}
		}
	}
}

func byCode(t testing.TB, code int) *earth.CRS {
	t.Helper()
	c, err := earth.Lookup(code)
	require.NoError(t, err)
	return c
}
