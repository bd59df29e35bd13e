package tally

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

func crs(t testing.TB, code int) *earth.CRS {
	t.Helper()
	c, err := earth.Lookup(code)
	require.NoError(t, err)
	return c
}

// grids of the three ways in which areas vary, fine and coarse.
func grids(t testing.TB) map[string]raster.Grid {
	return map[string]raster.Grid{
		"geographic":        {Width: 200, Height: 150, X0: 12, Y0: 59, DX: 0.001, DY: -0.0005, CRS: crs(t, 4326)},
		"geographic coarse": {Width: 90, Height: 60, X0: -10, Y0: 70, DX: 0.5, DY: -0.5, CRS: crs(t, 4326)},
		"south up":          {Width: 90, Height: 60, X0: -10, Y0: 40, DX: 0.5, DY: 0.5, CRS: crs(t, 4326)},
		"UTM":               {Width: 200, Height: 150, X0: 640000, Y0: 6500000, DX: 30, DY: -30, CRS: crs(t, 32633)},
		"UTM 1 km":          {Width: 200, Height: 150, X0: 640000, Y0: 6500000, DX: 1000, DY: -1000, CRS: crs(t, 32633)},
		"equal area":        {Width: 200, Height: 150, X0: 4321000, Y0: 3900000, DX: 100, DY: -100, CRS: crs(t, 3035)},
		"pseudo-Mercator":   {Width: 200, Height: 150, X0: 1300000, Y0: 8000000, DX: 250, DY: -250, CRS: crs(t, 3857)},
	}
}

// inCells makes zones of rings in cell coordinates, in the CRS of the grid.
func inCells(g raster.Grid, zones ...[]zone.Ring) *zone.Set {
	s := &zone.Set{Source: "test", CRS: g.CRS}
	for i, rings := range zones {
		var p zone.Polygon
		for _, r := range rings {
			out := make(zone.Ring, len(r))
			for k, q := range r {
				out[k][0], out[k][1] = g.Point(q[0], q[1])
			}
			// shells counter-clockwise in x, y
			if (turn(out) < 0) == (len(p) == 0) {
				for a, b := 0, len(out)-1; a < b; a, b = a+1, b-1 {
					out[a], out[b] = out[b], out[a]
				}
			}
			p = append(p, out)
		}
		s.Zones = append(s.Zones, zone.Zone{ID: fmt.Sprint(i), Polygons: []zone.Polygon{p}})
	}
	return s
}

func turn(r zone.Ring) (sum float64) {
	for i := range r {
		p, q := r[i], r[(i+1)%len(r)]
		sum += p[0]*q[1] - q[0]*p[1]
	}
	return sum
}

func measure(t testing.TB, s *zone.Set, centres bool, threads int, layers ...raster.Source) *Tally {
	t.Helper()
	p, err := s.Place(layers[0].Header().Grid)
	require.NoError(t, err)
	got, err := Measure(context.Background(), Request{Layers: layers, Zones: s, Placement: p, Centres: centres, Threads: threads})
	require.NoError(t, err)
	return got
}

func area(tl *Tally, z int, v float64) float64 {
	for i, x := range tl.Zones[z].Values {
		if tl.Number(0, 0, x[0]) == v {
			return tl.Zones[z].Extents[i].Area(tl.Quantum)
		}
	}
	return 0
}

func total(tl *Tally, z int) float64 {
	var e Extent
	for _, x := range tl.Zones[z].Extents {
		e.Add(x)
	}
	return e.Area(tl.Quantum)
}

// ground is the area of a rectangle of cell coordinates, by the line integral around it.
func ground(t testing.TB, g raster.Grid, c0, r0, c1, r1 float64) float64 {
	t.Helper()
	var ring [][2]float64
	for _, p := range [][2]float64{{c0, r0}, {c0, r1}, {c1, r1}, {c1, r0}} {
		x, y := g.Point(p[0], p[1])
		ring = append(ring, [2]float64{x, y})
	}
	a, ok := g.CRS.OutlineArea(ring)
	require.True(t, ok)
	return math.Abs(a)
}

func rect(c0, r0, c1, r1 float64) zone.Ring { return zone.Ring{{c0, r0}, {c0, r1}, {c1, r1}, {c1, r0}} }

func fill(g raster.Grid, t raster.CellType, bw, bh int, f func(c, r int) float64) *raster.Memory {
	m := raster.NewMemory("test.tif", g, t, bw, bh)
	for r := range g.Height {
		for c := range g.Width {
			m.Set(c, r, f(c, r))
		}
	}
	return m
}

// A half-plane: class 1 left of column 40, class 2 from there on; the zone is a rectangle that
// cuts cells at known shares on every side.
func TestHalfPlanesInCutRectangles(t *testing.T) {
	for name, g := range grids(t) {
		t.Run(name, func(t *testing.T) {
			src := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 {
				if c < 40 {
					return 1
				}
				return 2
			})
			for _, cut := range [][4]float64{{10.3, 7.7, 61.9, 48.4}, {39.25, 5, 40.75, 6}, {20, 20, 60, 40}, {39.9, 30.1, 40.1, 30.6}} {
				s := inCells(g, []zone.Ring{rect(cut[0], cut[1], cut[2], cut[3])})
				got := measure(t, s, false, 2, src)
				left, right := ground(t, g, cut[0], cut[1], 40, cut[3]), ground(t, g, 40, cut[1], cut[2], cut[3])
				// The line integral itself is good to about 1e-10 for rectangles below a cell.
				tol := 1e-9
				if cut[2]-cut[0] < 2 && !g.CRS.Geographic() {
					tol = 4e-9
				}
				assert.InEpsilon(t, left, area(got, 0, 1), tol, "left of %v", cut)
				assert.InEpsilon(t, right, area(got, 0, 2), tol, "right of %v", cut)
			}
		})
	}
}

// A disc of radius 40 cells against a checkerboard: both colours together must be the polygon's
// own area, and each colour half of it up to what the rim decides.
func TestDiscOverCheckerboard(t *testing.T) {
	for name, g := range grids(t) {
		t.Run(name, func(t *testing.T) {
			src := fill(g, raster.Uint8, 16, 16, func(c, r int) float64 { return float64((c + r) % 2) })
			ring := make(zone.Ring, 400)
			for i := range ring {
				s, c := math.Sincos(2 * math.Pi * float64(i) / 400)
				ring[i] = zone.Point{45 + 28.5*c, 30 + 28.5*s}
			}
			s := inCells(g, []zone.Ring{ring})
			p, err := s.Place(g)
			require.NoError(t, err)
			got := measure(t, s, false, 2, src)
			own := p.Outlines[0].Area
			tol := 1e-9
			if g.CRS.Geographic() && g.DX > 0.1 {
				tol = 3e-9 // degrees of half a degree, cut obliquely: third-order terms of density
			}
			assert.InEpsilon(t, own, area(got, 0, 0)+area(got, 0, 1), tol)
			assert.InEpsilon(t, own/2, area(got, 0, 0), 2e-3)
			if name == "equal area" {
				assert.InEpsilon(t, 28.5*28.5*200*math.Sin(2*math.Pi/400)*1e4, own, 1e-12, "regular polygon")
			}
		})
	}
}

// The kernel against the plainest count there is, for every type of cell.
func TestAgainstCellByCellCount(t *testing.T) {
	rng := rand.New(rand.NewPCG(3, 4))
	for name, g := range grids(t) {
		for _, typ := range []raster.CellType{raster.Uint8, raster.Int8, raster.Uint16, raster.Int16, raster.Uint32, raster.Int32, raster.Float32, raster.Float64} {
			values := make([]float64, g.Width*g.Height)
			v := 0.0
			src := fill(g, typ, 48, 33, func(c, r int) float64 {
				if rng.IntN(4) == 0 {
					v = float64(rng.IntN(7))
				}
				values[r*g.Width+c] = v
				return v
			})
			s := inCells(g, []zone.Ring{rect(3, 2, 81, 57), rect(20, 10, 70, 50)})
			a, err := raster.NewAreas(g)
			require.NoError(t, err)
			want := map[float64]float64{}
			cells := map[float64]int64{}
			for r := 2; r < 57; r++ {
				for c := 3; c < 81; c++ {
					if c >= 20 && c < 70 && r >= 10 && r < 50 {
						continue
					}
					x, err := a.Cell(c, r)
					require.NoError(t, err)
					want[values[r*g.Width+c]] += x
					cells[values[r*g.Width+c]]++
				}
			}
			got := measure(t, s, false, 3, src)
			require.Len(t, got.Zones[0].Values, len(want), "%s %v", name, typ)
			for i, val := range got.Zones[0].Values {
				v := got.Number(0, 0, val[0])
				assert.EqualValues(t, cells[v], got.Zones[0].Extents[i].CellCount())
				assert.InEpsilon(t, want[v], got.Zones[0].Extents[i].Area(got.Quantum), 1e-13)
			}
		}
	}
}

// mosaicOf cuts the rectangle into wiggly zones that share their borders point for point, and
// gives the border of all of them with the same points.
func mosaicOf(rng *rand.Rand, nx, ny int, c0, r0, c1, r1 float64) (zones [][]zone.Ring, border zone.Ring) {
	dx, dy := (c1-c0)/float64(nx), (r1-r0)/float64(ny)
	node := make([][]zone.Point, ny+1)
	for j := range node {
		node[j] = make([]zone.Point, nx+1)
		for i := range node[j] {
			p := zone.Point{c0 + dx*float64(i), r0 + dy*float64(j)}
			if i > 0 && i < nx && j > 0 && j < ny {
				p[0] += dx * 0.3 * (rng.Float64() - 0.5)
				p[1] += dy * 0.3 * (rng.Float64() - 0.5)
			}
			node[j][i] = p
		}
	}
	wiggle := func(p, q zone.Point, straight bool) zone.Ring {
		out := zone.Ring{p}
		for k := 1; k < 8; k++ {
			t := float64(k) / 8
			m := zone.Point{p[0] + t*(q[0]-p[0]), p[1] + t*(q[1]-p[1])}
			if !straight {
				m[0] += dx * 0.1 * (rng.Float64() - 0.5)
				m[1] += dy * 0.1 * (rng.Float64() - 0.5)
			}
			out = append(out, m)
		}
		return out
	}
	h, v := map[[2]int]zone.Ring{}, map[[2]int]zone.Ring{}
	for j := 0; j <= ny; j++ {
		for i := 0; i <= nx; i++ {
			if i < nx {
				h[[2]int{i, j}] = append(wiggle(node[j][i], node[j][i+1], j == 0 || j == ny), node[j][i+1])
			}
			if j < ny {
				v[[2]int{i, j}] = append(wiggle(node[j][i], node[j+1][i], i == 0 || i == nx), node[j+1][i])
			}
		}
	}
	reverse := func(r zone.Ring) zone.Ring {
		out := make(zone.Ring, len(r))
		for i, p := range r {
			out[len(r)-1-i] = p
		}
		return out
	}
	for i := range nx {
		border = append(border, h[[2]int{i, 0}][:8]...)
	}
	for j := range ny {
		border = append(border, v[[2]int{nx, j}][:8]...)
	}
	for i := nx - 1; i >= 0; i-- {
		border = append(border, reverse(h[[2]int{i, ny}])[:8]...)
	}
	for j := ny - 1; j >= 0; j-- {
		border = append(border, reverse(v[[2]int{0, j}])[:8]...)
	}
	for j := range ny {
		for i := range nx {
			var ring zone.Ring
			for _, side := range []zone.Ring{h[[2]int{i, j}], v[[2]int{i + 1, j}], reverse(h[[2]int{i, j + 1}]), reverse(v[[2]int{i, j}])} {
				ring = append(ring, side[:len(side)-1]...)
			}
			zones = append(zones, []zone.Ring{ring})
		}
	}
	return zones, border
}

// Zones that tile a rectangle sum to the rectangle, to the last unit of the integers, with
// either rule for edges, and each balances against its own outline.
func TestPartitionSumsToTheWholeExactly(t *testing.T) {
	rng := rand.New(rand.NewPCG(5, 6))
	for name, g := range grids(t) {
		t.Run(name, func(t *testing.T) {
			src := fill(g, raster.Uint8, 32, 32, func(c, r int) float64 { return float64(rng.IntN(5)) })
			zones, border := mosaicOf(rng, 6, 5, 5.37, 4.21, 83.9, 55.13)
			parts, whole := inCells(g, zones...), inCells(g, []zone.Ring{border})
			for _, centres := range []bool{false, true} {
				a, b := measure(t, parts, centres, 2, src), measure(t, whole, centres, 2, src)
				sums := map[Value]Extent{}
				for _, z := range a.Zones {
					for i, v := range z.Values {
						e := sums[v]
						e.Add(z.Extents[i])
						sums[v] = e
					}
				}
				for i, v := range b.Zones[0].Values {
					assert.True(t, sums[v].Same(b.Zones[0].Extents[i]), "value %v, centres %v: %v against %v", v, centres, sums[v], b.Zones[0].Extents[i])
				}
			}
			p, err := parts.Place(g)
			require.NoError(t, err)
			got := measure(t, parts, false, 2, src)
			for i, o := range p.Outlines {
				tol := 1e-9
				if g.DX > 0.1 && g.DX < 1 || g.DX == 1000 {
					tol = 2e-8 // 15 cells of half a degree or a kilometre across, cut obliquely
				}
				assert.InEpsilon(t, o.Area, total(got, i), tol, "zone %d", i)
			}
		})
	}
}

func TestSameBitsForAnyThreadsAndTiling(t *testing.T) {
	rng := rand.New(rand.NewPCG(7, 8))
	for name, g := range grids(t) {
		values := make([]float64, g.Width*g.Height)
		for i := range values {
			values[i] = float64(rng.IntN(6))
		}
		wiggly, _ := mosaicOf(rng, 4, 4, 2.2, 3.3, 85.5, 58.8)
		zones := inCells(g, wiggly...)
		var first *Tally
		for _, block := range [][2]int{{g.Width, g.Height}, {16, 16}, {64, 48}, {g.Width, 1}, {g.Width, 7}, {33, 91}} {
			for _, threads := range []int{1, 2, 7} {
				src := fill(g, raster.Uint8, block[0], block[1], func(c, r int) float64 { return values[r*g.Width+c] })
				got := measure(t, zones, false, threads, src)
				if first == nil {
					first = got
				}
				assert.Equal(t, first.Zones, got.Zones, "%s, blocks %v, %d threads", name, block, threads)
			}
		}
	}
}

// Zones that share cells are told, in any tiling and for any number of threads; neighbours along a wiggly border and
// larger units are not.
func TestOverlapsAreTold(t *testing.T) {
	g := grids(t)["equal area"]
	cover := func(bw, bh int) raster.Source {
		return fill(g, raster.Uint8, bw, bh, func(c, r int) float64 { return 1 })
	}
	s := inCells(g, []zone.Ring{rect(10, 10, 90, 90)}, []zone.Ring{rect(80.5, 80.5, 120, 140)}, []zone.Ring{rect(120, 80, 190, 140)}, []zone.Ring{rect(0, 0, 200, 150)})
	for _, threads := range []int{1, 3} {
		got := measure(t, s, false, threads, cover(16, 64))
		assert.Equal(t, [][2]int{{0, 1}, {0, 3}, {1, 3}, {2, 3}}, got.Overlaps)
		assert.Empty(t, got.ManyOverlaps)
	}
	p, err := s.Place(g)
	require.NoError(t, err)
	got, err := Measure(context.Background(), Request{Layers: []raster.Source{cover(200, 150)}, Zones: s, Placement: p, Sets: []Set{{}, {First: 3}}})
	require.NoError(t, err)
	assert.Equal(t, [][2]int{{0, 1}}, got.Overlaps)
	zones, _ := mosaicOf(rand.New(rand.NewPCG(1, 2)), 5, 4, 0, 0, 200, 150)
	assert.Empty(t, measure(t, inCells(g, zones...), false, 2, cover(33, 20)).Overlaps)
	var many [][]zone.Ring
	for i := range 60 {
		many = append(many, []zone.Ring{rect(float64(i), 10, 190, 90)})
	}
	assert.Equal(t, []int{0}, measure(t, inCells(g, many...), false, 2, cover(64, 64)).ManyOverlaps)
}

// Zones share ground when some cell lies wholly in both, whatever the tiling, and whether zones are described as pieces (of bytes) or spans.
// Half of the zones have their corners on corners of cells, so that one column or row may be all that two share.
func TestOverlapsAreThoseOfCells(t *testing.T) {
	g := grids(t)["equal area"]
	rng := rand.New(rand.NewPCG(12, 9))
	pairs := 0
	for n := range 60 {
		var zones [][]zone.Ring
		for range 14 {
			c, r, w, h := 180*rng.Float64(), 130*rng.Float64(), 2+30*rng.Float64(), 2+30*rng.Float64()
			if n%2 == 0 {
				c, r, w, h = math.Floor(c), math.Floor(r), math.Floor(w), math.Floor(h)
			}
			ring := rect(c, r, c+w, r+h)
			if rng.IntN(3) == 0 {
				ring = ring[:3]
			}
			zones = append(zones, []zone.Ring{ring})
		}
		s := inCells(g, zones...)
		p, err := s.Place(g)
		require.NoError(t, err)
		c := zone.Cutter{Width: g.Width, Down: p.Down}
		holders := map[[2]int][]int{}
		for i := range p.Outlines {
			spans := c.Cut(&p.Outlines[i], i, 0, g.Height)
			for row := range g.Height {
				full, _ := spans.Row(row)
				for _, f := range full {
					for col := f.From; col < f.To; col++ {
						holders[[2]int{row, int(col)}] = append(holders[[2]int{row, int(col)}], i)
					}
				}
			}
			spans.Free()
		}
		found := map[[2]int]bool{}
		for _, zones := range holders {
			for k, a := range zones {
				for _, b := range zones[k+1:] {
					found[[2]int{a, b}] = true
				}
			}
		}
		want := slices.SortedFunc(maps.Keys(found), func(a, b [2]int) int { return cmp.Or(a[0]-b[0], a[1]-b[1]) })
		pairs += len(want)
		for _, kind := range []raster.CellType{raster.Uint8, raster.Int16} {
			for _, block := range [][2]int{{16, 16}, {33, 20}, {64, 150}, {200, 150}} {
				src := fill(g, kind, block[0], block[1], func(c, r int) float64 { return 1 })
				require.Equal(t, want, measure(t, s, false, 2, src).Overlaps, "%v, blocks %v, zones %v", kind, block, zones)
			}
		}
	}
	assert.Greater(t, pairs, 150)
}

// Bytes are counted by comparing, other numbers by runs: both give the same, with values that the first
// tiles do not have and with more than a counter knows.
func TestBytesAndWiderNumbersAgree(t *testing.T) {
	rng := rand.New(rand.NewPCG(31, 1))
	for name, g := range grids(t) {
		zones, _ := mosaicOf(rng, 3, 3, 2, 2, float64(g.Width)-3, float64(g.Height)-2)
		s := inCells(g, zones...)
		for _, values := range []int{3, 24, 40} {
			cover := func(c, r int) float64 {
				return float64((c*7+r*c)%11*values/11+r*values/g.Height) / 2
			}
			bytes := measure(t, s, false, 2, fill(g, raster.Uint8, 40, 32, cover))
			wide := measure(t, s, false, 1, fill(g, raster.Int16, 64, 16, func(c, r int) float64 { return math.Floor(cover(c, r)) }))
			require.Equal(t, byNumber(wide), byNumber(bytes), name)
		}
	}
}

// byNumber are the extents of each zone by their values.
func byNumber(t *Tally) (out []map[float64]Extent) {
	for _, z := range t.Zones {
		m := map[float64]Extent{}
		for i, v := range z.Values {
			m[t.Number(0, 0, v[0])] = z.Extents[i]
		}
		out = append(out, m)
	}
	return out
}

func TestPairsOfLayers(t *testing.T) {
	for name, g := range grids(t) {
		a := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return float64(c / 10 % 3) })
		b := fill(g, raster.Int16, 200, 5, func(c, r int) float64 { return float64(r/7%4) - 2 })
		s := inCells(g, []zone.Ring{rect(0, 0, 80, 56)})
		got := measure(t, s, false, 2, a, b)
		assert.Len(t, got.Zones[0].Values, 12, name)
		one := measure(t, s, false, 2, a)
		sums := map[Slot]Extent{}
		for i, v := range got.Zones[0].Values {
			e := sums[v[0]]
			e.Add(got.Zones[0].Extents[i])
			sums[v[0]] = e
		}
		for i, v := range one.Zones[0].Values {
			assert.True(t, sums[v[0]].Same(one.Zones[0].Extents[i]), name)
		}
	}
}

func TestWholeRasterIsOneZone(t *testing.T) {
	for name, g := range grids(t) {
		src := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 })
		set, p, err := Whole(g)
		require.NoError(t, err)
		got, err := Measure(context.Background(), Request{Layers: []raster.Source{src}, Zones: set, Placement: p})
		require.NoError(t, err)
		assert.InEpsilon(t, p.Outlines[0].Area, total(got, 0), 1e-9, name)
		assert.EqualValues(t, g.Width*g.Height, got.Zones[0].Extents[0].CellCount())
	}
}

func TestOnlyTouchedTilesAreRead(t *testing.T) {
	g := grids(t)["UTM"]
	src := fill(g, raster.Uint8, 10, 10, func(c, r int) float64 { return 1 })
	l := zone.Ring{{5, 5}, {5, 95}, {95, 95}, {95, 92}, {8, 92}, {8, 5}} // an L of 3 cells' width
	got := measure(t, inCells(g, []zone.Ring{l}), false, 2, src)
	assert.LessOrEqual(t, got.Tiles, 2*20, "its box has 200 tiles")
}

func TestOutlineThatCoversGroundTwiceIsAnError(t *testing.T) {
	g := grids(t)["UTM"]
	src := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 })
	s := inCells(g, []zone.Ring{rect(10, 10, 60, 60)})
	s.Zones[0].Polygons = append(s.Zones[0].Polygons, inCells(g, []zone.Ring{rect(20, 20, 30, 30)}).Zones[0].Polygons...)
	p, err := s.Place(g)
	require.NoError(t, err)
	_, err = Measure(context.Background(), Request{Layers: []raster.Source{src}, Zones: s, Placement: p})
	assert.ErrorContains(t, err, "more than once")
}

func TestTooManyValuesAreNoCategories(t *testing.T) {
	g := raster.Grid{Width: 300, Height: 300, X0: 4321000, Y0: 3900000, DX: 100, DY: -100, CRS: crs(t, 3035)}
	src := fill(g, raster.Float32, 64, 64, func(c, r int) float64 { return float64(c + 300*r) })
	set, p, err := Whole(g)
	require.NoError(t, err)
	_, err = Measure(context.Background(), Request{Layers: []raster.Source{src}, Zones: set, Placement: p})
	assert.ErrorContains(t, err, "measurements and not classes")
}

func TestStoppingIsQuiet(t *testing.T) {
	g := grids(t)["UTM"]
	src := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 })
	set, p, err := Whole(g)
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Measure(ctx, Request{Layers: []raster.Source{src}, Zones: set, Placement: p})
	assert.ErrorIs(t, err, context.Canceled)
}

func TestSumIsExact(t *testing.T) {
	var s Sum
	s.AddProduct(math.MaxInt64, math.MaxInt64)
	s.AddProduct(math.MinInt64+1, math.MaxInt64)
	assert.True(t, s.IsZero())
	s.AddProduct(-3, 1<<62)
	s.AddInt(5)
	assert.Equal(t, -3*math.Ldexp(1, 62), s.Float())
	s.Add(Sum{}.Minus(s))
	assert.True(t, s.IsZero())
	assert.Equal(t, -7*math.Ldexp(1, 40), Sum{-1, ^uint64(6)}.Shift(40).Float())
}

// Zones on another datum, in degrees and projected, balance against their own outline as the raster's
// ellipsoid has it.
func TestZonesOnAnotherDatumBalance(t *testing.T) {
	g := raster.Grid{Width: 400, Height: 400, X0: 525000, Y0: 5860000, DX: 100, DY: -100, CRS: crs(t, 32630)}
	m := raster.NewMemory("a", g, raster.Uint8, 64, 64)
	for _, code := range []int{27700, 4277} {
		set := &zone.Set{Source: "test", CRS: crs(t, code)}
		ring := zone.Ring{{360000, 300000}, {372000, 301000}, {370000, 316000}, {361000, 314000}}
		if code == 4277 {
			ring = zone.Ring{{-2.6, 52.6}, {-2.4, 52.61}, {-2.43, 52.7}, {-2.59, 52.69}}
		}
		set.Zones = []zone.Zone{{ID: "1", Polygons: []zone.Polygon{{ring}}}}
		place, err := set.Place(g)
		require.NoError(t, err)
		require.NotEmpty(t, place.Notes)
		assert.Contains(t, place.Notes[0], "with a stated accuracy of")
		got, err := Measure(context.Background(), Request{Layers: []raster.Source{m}, Zones: set, Placement: place})
		require.NoError(t, err)
		assert.InEpsilon(t, place.Outlines[0].Area, got.Zones[0].Extents[0].Area(got.Quantum), 1e-9)
	}
}

// inDegrees is a zone given in degrees on WGS 84.
func inDegrees(t *testing.T, polygons ...zone.Polygon) *zone.Set {
	return &zone.Set{Source: "test", CRS: crs(t, 4326), Zones: []zone.Zone{{ID: "z", Polygons: polygons}}}
}

// A cap around the pole, as an outline in degrees has it: along a parallel, and back along the pole. On a polar grid, on
// one in degrees, and on an equal-area one whose pole lies in a cell, it has the area of the closed form.
func TestZoneAroundAPole(t *testing.T) {
	var ring zone.Ring
	for lon := -180.0; lon <= 180; lon += 0.25 {
		ring = append(ring, zone.Point{lon, 85})
	}
	ring = append(ring, zone.Point{180, 90}, zone.Point{-180, 90})
	s := inDegrees(t, zone.Polygon{ring})
	want, ok := crs(t, 4326).OutlineArea(ring)
	require.True(t, ok)
	for name, g := range map[string]raster.Grid{
		"polar":                  {Width: 130, Height: 130, X0: -650000, Y0: 650000, DX: 10000, DY: -10000, CRS: crs(t, 3413)},
		"polar, pole in a cell":  {Width: 131, Height: 131, X0: -655000, Y0: 655000, DX: 10000, DY: -10000, CRS: crs(t, 3413)},
		"equal area":             {Width: 131, Height: 131, X0: -655000, Y0: 655000, DX: 10000, DY: -10000, CRS: crs(t, 6931)},
		"degrees":                {Width: 720, Height: 20, X0: -180, Y0: 90, DX: 0.5, DY: -0.5, CRS: crs(t, 4326)},
		"degrees from Greenwich": {Width: 720, Height: 20, X0: 0, Y0: 90, DX: 0.5, DY: -0.5, CRS: crs(t, 4326)},
	} {
		got := measure(t, s, false, 2, fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return 1 }))
		assert.InEpsilon(t, want, total(got, 0), 1e-6, name)
		assert.Empty(t, got.Overlaps)
	}
}

// A zone across the antimeridian comes as two pieces, cut there, or with longitudes that go on beyond 180°.
func TestZoneAcrossTheAntimeridian(t *testing.T) {
	pieces := inDegrees(t, zone.Polygon{{{178, 60}, {180, 60}, {180, 62}, {178, 62}}}, zone.Polygon{{{-180, 60}, {-177, 60}, {-177, 62}, {-180, 62}}})
	onward := inDegrees(t, zone.Polygon{{{178, 60}, {183, 60}, {183, 62}, {178, 62}}})
	for name, g := range map[string]raster.Grid{
		"from -180":  {Width: 720, Height: 40, X0: -180, Y0: 70, DX: 0.5, DY: -0.5, CRS: crs(t, 4326)},
		"from 0":     {Width: 720, Height: 40, X0: 0, Y0: 70, DX: 0.5, DY: -0.5, CRS: crs(t, 4326)},
		"equal area": {Width: 900, Height: 900, X0: -4500000, Y0: 4500000, DX: 10000, DY: -10000, CRS: crs(t, 6931)},
		"UTM 1":      {Width: 60, Height: 60, X0: 100000, Y0: 7000000, DX: 10000, DY: -10000, CRS: crs(t, 32601)},
	} {
		cover := fill(g, raster.Uint8, 64, 64, func(c, r int) float64 { return float64(1 + c%3) })
		a, b := measure(t, pieces, false, 2, cover), measure(t, onward, false, 2, cover)
		want := ground(t, raster.Grid{X0: 178, Y0: 62, DX: 1, DY: -1, CRS: crs(t, 4326)}, 0, 0, 5, 2)
		if name != "UTM 1" { // which is too narrow for all of it
			assert.InEpsilon(t, want, total(a, 0), 1e-6, name)
		}
		assert.InEpsilon(t, total(a, 0), total(b, 0), 1e-9, name)
		for v := 1.0; v <= 3; v++ {
			assert.InEpsilon(t, area(a, 0, v), area(b, 0, v), 1e-6, name)
		}
	}
}

// Zones given as a raster of ids and the pairs of both rasters' values are the same cells, to the last unit.
func TestRasterZonesAreTheirCells(t *testing.T) {
	for name, g := range grids(t) {
		ids := fill(g, raster.Int16, 32, 32, func(c, r int) float64 { return float64((c/17+r/23*3+c*r/900)%7 - 2) })
		cover := fill(g, raster.Uint8, 64, 16, func(c, r int) float64 { return float64((c*c+r)%5 + 1) })
		l, err := zone.FromRaster(context.Background(), ids, map[int64]string{-2: "two below"})
		require.NoError(t, err)
		s, err := zone.FromLayer(l, zone.Selection{})
		require.NoError(t, err)
		assert.Equal(t, "two below", s.Zones[0].Name)
		got := measure(t, s, false, 2, cover)
		whole, place, err := Whole(g)
		require.NoError(t, err)
		pairs, err := Measure(context.Background(), Request{Layers: []raster.Source{ids, cover}, Zones: whole, Placement: place})
		require.NoError(t, err)
		found := 0
		for i, v := range pairs.Zones[0].Values {
			id := int(pairs.Number(0, 0, v[0]))
			z := id + 2
			require.Equal(t, fmt.Sprint(id), s.Zones[z].ID)
			for k, w := range got.Zones[z].Values {
				if got.Number(0, 0, w[0]) == pairs.Number(0, 1, v[1]) {
					assert.Equal(t, pairs.Zones[0].Extents[i], got.Zones[z].Extents[k], name)
					found++
				}
			}
		}
		assert.Equal(t, len(pairs.Zones[0].Values), found)
	}
}

// Epochs in which little changes are counted by what differs, others and wider numbers by runs of combinations: all give the same.
func TestEpochsInBytesAndWiderNumbersAgree(t *testing.T) {
	rng := rand.New(rand.NewPCG(41, 1))
	for name, g := range grids(t) {
		for _, changed := range []int{0, 3, 40, 100} { // in a hundred cells
			zones, _ := mosaicOf(rng, 3, 3, 2, 2, float64(g.Width)-3, float64(g.Height)-2)
			for layers := 2; layers <= 3; layers++ {
				for _, block := range [][2]int{{64, 64}, {200, 50}, {33, 20}} {
					salt := rng.Uint64()
					var bytes, wide []raster.Source
					for n := range layers {
						cover := func(c, r int) float64 {
							v := float64((c/5 + r/3) % 7)
							h := (uint64(c/2)*1000+uint64(r))*0x9e3779b97f4a7c15 ^ salt*uint64(n)
							h ^= h >> 29
							if h *= 0xbf58476d1ce4e5b9; n > 0 && int(h>>33%100) < changed {
								return float64(h >> 50 % 40)
							}
							return v
						}
						bytes = append(bytes, fill(g, raster.Uint8, block[0], block[1], cover))
						wide = append(wide, fill(g, raster.Int16, 64, 16, cover))
					}
					for _, set := range []*zone.Set{inCells(g, zones...), inCells(g, []zone.Ring{rect(0, 0, float64(g.Width), float64(g.Height))})} {
						want, got := measure(t, set, false, 1, wide...), measure(t, set, false, 2, bytes...)
						require.Equal(t, held(want), held(got), "%s, %d layers, %d %% changed", name, layers, changed)
					}
				}
			}
		}
	}
}
