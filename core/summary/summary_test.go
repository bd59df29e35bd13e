package summary

import (
	"cmp"
	"context"
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// heights is a raster of measurements, with nodata, and a class raster on its cells.
func heights(t *testing.T, code int, typ raster.CellType, value func(c, r int) float64) (values raster.Source, classes *raster.Memory, set *zone.Set, place *zone.Placement) {
	t.Helper()
	crs, err := earth.Lookup(code)
	require.NoError(t, err)
	g := raster.Grid{Width: 300, Height: 300, X0: 350000, Y0: 6480000, DX: 30, DY: -30, CRS: crs}
	if crs.Geographic() {
		g.X0, g.Y0, g.DX, g.DY = 12, 59, 0.001, -0.001
	}
	memory := raster.NewMemory("heights.tif", g, typ, 64, 64)
	values, classes = raster.WithNoData(memory, -9999), raster.NewMemory("cover.tif", g, raster.Uint8, 128, 32)
	for r := range 300 {
		for c := range 300 {
			memory.Set(c, r, value(c, r))
			classes.Set(c, r, float64(1+(c/40+r/50)%3))
		}
	}
	point := func(c, r float64) zone.Point { x, y := g.Point(c, r); return zone.Point{x, y} }
	set = &zone.Set{Source: "zones", CRS: crs, Zones: []zone.Zone{
		{ID: "a", Polygons: []zone.Polygon{{{point(10.3, 200.7), point(150.2, 280.1), point(120.6, 20.4)}}}},
		{ID: "all", Polygons: []zone.Polygon{{{point(0, 300), point(300, 300), point(300, 0), point(0, 0)}}}},
		{ID: "beyond", Polygons: []zone.Polygon{{{point(-30, 30), point(-20, 30), point(-20, 0), point(-30, 0)}}}},
	}}
	place, err = set.Place(g)
	require.NoError(t, err)
	return values, classes, set, place
}

// at is the value of a cell.
func at(t *testing.T, s raster.Source, col, row int) float64 {
	t.Helper()
	var c raster.Cells
	require.NoError(t, s.NewReader().Read(raster.Window{Col: col, Row: row, Width: 1, Height: 1}, &c))
	return c.At(0, 0)
}

// cellsOf are the cells of zone z with their weights, by measuring a raster that numbers its cells.
func cellsOf(t *testing.T, set *zone.Set, place *zone.Placement, z int) (areas, shares map[int]float64) {
	t.Helper()
	g := place.Grid
	number := raster.NewMemory("numbers", g, raster.Uint32, 64, 64)
	for r := range g.Height {
		for c := range g.Width {
			number.Set(c, r, float64(r*g.Width+c))
		}
	}
	got, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{number}, Zones: set, Placement: place, Values: 1 << 20})
	require.NoError(t, err)
	areas, shares = map[int]float64{}, map[int]float64{}
	for i, v := range got.Zones[z].Values {
		n := int(got.Number(0, 0, v[0]))
		areas[n] = got.Zones[z].Extents[i].Area(got.Quantum)
		shares[n] = got.Zones[z].Extents[i].CellCount()
	}
	return areas, shares
}

// plainly computes the statistics of cells one by one.
func plainly(values map[int]float64, areas, shares map[int]float64) map[string]float64 {
	type cell struct{ v, area, share float64 }
	var list []cell
	for k, v := range values {
		if areas[k] > 0 {
			list = append(list, cell{v, areas[k], shares[k]})
		}
	}
	slices.SortFunc(list, func(a, b cell) int { return cmp.Compare(a.v, b.v) })
	out := map[string]float64{}
	total, by := 0.0, map[float64]float64{}
	for _, c := range list {
		total += c.area
		out["count"] += c.share
		out["mean"] += c.v * c.area
		out["sum"] += c.v * c.share
		by[c.v] += c.area
	}
	out["area"] = total
	out["mean"] /= total
	for _, c := range list {
		out["std"] += (c.v - out["mean"]) * (c.v - out["mean"]) * c.area / total
	}
	out["std"] = math.Sqrt(out["std"])
	out["min"], out["max"] = list[0].v, list[len(list)-1].v
	out["range"] = out["max"] - out["min"]
	for s, p := range map[string]float64{"p10": 0.1, "median": 0.5, "p90": 0.9, "p1": 0.01} {
		sum := 0.0
		for _, c := range list {
			if sum += c.area; sum >= p*total*(1-1e-13) {
				out[s] = c.v
				break
			}
		}
	}
	out["variety"] = float64(len(by))
	most, least := math.Inf(-1), math.Inf(1)
	for _, c := range list {
		if a := by[c.v]; a > most {
			most, out["majority"] = a, c.v
		}
		if a := by[c.v]; a < least {
			least, out["minority"] = a, c.v
		}
	}
	return out
}

// Against computing cell by cell, in grids whose areas vary in all ways, for few values and for too many to count.
func TestSummaryAgainstCellByCell(t *testing.T) {
	for _, code := range []int{3035, 4326, 32633} {
		for _, many := range []bool{false, true} {
			rng := rand.New(rand.NewPCG(uint64(code), 2))
			typ := raster.Int16
			if many {
				typ = raster.Float32
			}
			values, classes, set, place := heights(t, code, typ, func(c, r int) float64 {
				switch v := rng.NormFloat64()*200 + float64(c); {
				case rng.IntN(20) == 0:
					return -9999
				case many:
					return float64(float32(v))
				default:
					return math.Round(v / 10)
				}
			})
			stats := slices.Clone(Statistics)
			stats = append(stats, percentile(1))
			if many {
				stats = slices.DeleteFunc(stats, (*Statistic).counted)
			}
			req := Request{Values: values, Zones: set, Placement: place, Threads: 2, Stats: stats}
			got, err := Summarise(context.Background(), req)
			require.NoError(t, err)
			require.Len(t, got.Rows, 3)
			check := func(row Row, z int, keep func(k int) bool) {
				areas, shares := cellsOf(t, set, place, z)
				cells := map[int]float64{}
				for k := range areas {
					if v := at(t, values, k%300, k/300); v != -9999 && keep(k) {
						cells[k] = v
					}
				}
				want := plainly(cells, areas, shares)
				for i, stat := range stats {
					switch s := stat.Name; s {
					case "std", "mean", "sum", "area", "count":
						assert.InEpsilon(t, want[s], row.Values[i], 1e-9, "%d %v %s", code, many, s)
					default:
						assert.Equal(t, want[s], row.Values[i], "%d %v %s", code, many, s)
					}
				}
			}
			check(got.Rows[0], 0, func(int) bool { return true })
			check(got.Rows[1], 1, func(int) bool { return true })
			for i, v := range got.Rows[2].Values { // the zone without ground
				if s := stats[i].Name; s == "count" || s == "area" || s == "variety" {
					assert.Zero(t, v, s)
				} else if s != "sum" {
					assert.True(t, math.IsNaN(v), s)
				}
			}
			req.Classes = classes
			byClass, err := Summarise(context.Background(), req)
			require.NoError(t, err)
			require.Len(t, byClass.Rows, 6)
			assert.Equal(t, 2.0, byClass.Rows[1].Class)
			check(byClass.Rows[1], 0, func(k int) bool { return at(t, classes, k%300, k/300) == 2 })
			check(byClass.Rows[5], 1, func(k int) bool { return at(t, classes, k%300, k/300) == 3 })

			// The same bits for any number of threads and any blocks.
			other, _, _, _ := heights(t, code, typ, func(c, r int) float64 { return at(t, values, c, r) })
			again := Request{Values: raster.Cached(other, 1<<20), Zones: set, Placement: place, Threads: 1, Stats: stats}
			same, err := Summarise(context.Background(), again)
			require.NoError(t, err)
			for i := range same.Rows[:2] {
				assert.Equal(t, got.Rows[i].Values, same.Rows[i].Values)
			}
		}
	}
}

func TestStatisticsByName(t *testing.T) {
	got, err := ParseStatistics("mean, P10,p99,median")
	require.NoError(t, err)
	var list []string
	for _, s := range got {
		list = append(list, s.Name)
		assert.NotEmpty(t, s.Meaning)
	}
	assert.Equal(t, []string{"mean", "p10", "p99", "median"}, list)
	for _, wrong := range []string{"average", "p0", "p100", "", "mean,mean", "p1.5"} {
		_, err := ParseStatistics(wrong)
		assert.Error(t, err, wrong)
	}
}

func TestClassesOfManyValuesAreRefused(t *testing.T) {
	values, _, set, place := heights(t, 3035, raster.Float32, func(c, r int) float64 { return float64(r*300+c) + 0.5 })
	_, err := Summarise(context.Background(), Request{Values: values, Zones: set, Placement: place, Stats: []*Statistic{named("mean"), named("majority")}})
	assert.ErrorContains(t, err, "majority means nothing for such values")
}
