package change

import (
	"context"
	"fmt"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/internal/sampletest"
)

// On random rasters histories sum to the transitions of every two epochs and to the extents of every epoch, to the last unit, what comes back is what flips.
func TestHistoriesSumToEverythingElse(t *testing.T) {
	for seed := range uint64(12) {
		n := 2 + int(seed)%7
		rasters, set, place := covers(t, seed, n)
		in := inputOf(t, rasters, set, place)
		ch, err := Compare(in, area.Units[0])
		require.NoError(t, err)
		coder := in.Coders[0]
		first := ch.Trace(in)
		for _, p := range ch.Pairs {
			a, b := 0, n-1
			if !p.Whole {
				for e, label := range ch.Epochs {
					if label == p.Epochs[0] {
						a, b = e, e+1
					}
				}
			}
			for i := range p.Zones {
				sums := map[[2]int32]tally.Extent{}
				for _, x := range first.Zones[i].List {
					k := [2]int32{x.Codes[a], x.Codes[b]}
					e := sums[k]
					e.Add(x.Extent)
					sums[k] = e
				}
				code := func(at int32) int32 {
					if class, mapped := p.Class(at); mapped {
						return int32(class.Code)
					}
					return Unmapped
				}
				for _, m := range p.Zones[i].Transitions {
					k := [2]int32{code(m.From), code(m.To)}
					assert.True(t, sums[k].Same(m.Extent), "seed %d, %v, zone %d, %v", seed, p.Epochs, i, k)
					delete(sums, k)
				}
				assert.Empty(t, sums)
			}
		}
		for e := range n {
			own, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{rasters[e]}, Zones: set, Placement: place})
			require.NoError(t, err)
			for i := range own.Zones {
				sums := map[int32]tally.Extent{}
				for _, x := range first.Zones[i].List {
					s := sums[x.Codes[e]]
					s.Add(x.Extent)
					sums[x.Codes[e]] = s
				}
				for k, v := range own.Zones[i].Values {
					if m, ok := coder.Code(own.Number(0, 0, v[0])); ok && m.Kind == cover.Classified {
						assert.True(t, sums[int32(m.Code)].Same(own.Zones[i].Extents[k]), "epoch %d, class %d", e, m.Code)
					}
				}
			}
		}
		if n == 3 {
			for i := range first.Zones {
				back := 0.0
				for _, x := range first.Zones[i].List {
					if x.Course() == CameBack {
						back += first.Area(x.Extent)
					}
				}
				assert.InDelta(t, ch.Flips[0].Back[i], back, 1e-9)
			}
		}
	}
}

func TestCourses(t *testing.T) {
	const no = Unmapped
	for _, c := range []struct {
		codes          []int32
		course         Course
		changes, since int
	}{
		{[]int32{1, 1, 1}, Stable, 0, 0},
		{[]int32{1, 2}, ChangedOnce, 1, 1},
		{[]int32{1, 1, 2, 2}, ChangedOnce, 1, 2},
		{[]int32{1, 2, 3}, WentOn, 2, 2},
		{[]int32{1, 2, 2, 1}, CameBack, 2, 3},
		{[]int32{1, 2, 3, 1}, Unsteady, 3, 3},
		{[]int32{1, 2, 1, 2}, Unsteady, 3, 3},
		{[]int32{1, 2, 1, 3}, Unsteady, 3, 3},
		{[]int32{no, 1, 1}, PartlyMapped, 0, 1},
		{[]int32{1, no, 2}, PartlyMapped, 0, 2},
		{[]int32{1, 2, no}, PartlyMapped, 1, -1},
		{[]int32{no, no}, NeverMapped, 0, -1},
	} {
		h := &History{Codes: c.codes}
		assert.Equal(t, c.course, h.Course(), "%v", c.codes)
		assert.Equal(t, c.changes, h.Changes(), "%v", c.codes)
		assert.Equal(t, c.since, h.Since(), "%v", c.codes)
	}
}

// What is mended in histories is what comes of rasters that are mended cell by cell: transitions, ground that goes back, and histories, to the last unit.
func TestSteadyIsMendingCells(t *testing.T) {
	coder := &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}
	for seed := range uint64(16) {
		n, steady := 3+int(seed)%6, 2+int(seed)%3
		rasters, set, place := covers(t, seed, n)
		in := inputOf(t, rasters, set, place)
		in.Steady = steady
		got, err := Compare(in, area.Units[0])
		require.NoError(t, err)
		class := func(v float64) float64 { // NaN for none
			if m, ok := coder.Code(v); ok && m.Kind == cover.Classified {
				return v
			}
			return math.NaN()
		}
		var cells []raster.Cells
		w := raster.Window{Width: 120, Height: 90}
		for _, r := range rasters {
			var c raster.Cells
			require.NoError(t, r.NewReader().Read(w, &c))
			cells = append(cells, c)
		}
		for r := range w.Height {
			for c := range w.Width {
				course := make([]float64, n)
				for e := range course {
					course[e] = class(cells[e].At(c, r))
				}
			again:
				for from := 1; from < n; from++ { // the plain way: every stretch of epochs
					for to := from + 1; to < n && to-from < steady; to++ {
						same := course[from-1] == course[to] && course[from] != course[to]
						for e := from; e < to; e++ {
							same = same && course[e] == course[from]
						}
						if same {
							for e := from; e < to; e++ {
								course[e] = course[to]
								rasters[e].Set(c, r, course[to])
							}
							goto again
						}
					}
				}
			}
		}
		plain := inputOf(t, rasters, set, place)
		want, err := Compare(plain, area.Units[0])
		require.NoError(t, err)
		require.Len(t, got.Pairs, len(want.Pairs))
		for k := range want.Pairs {
			assert.Equal(t, want.Pairs[k].Zones, got.Pairs[k].Zones, "seed %d", seed)
		}
		for e := range want.Flips {
			assert.InDeltaSlice(t, want.Flips[e].Back, got.Flips[e].Back, 1e-9)
			if steady == 2 {
				assert.Zero(t, want.Flips[e].Back[0])
			}
		}
		a, b := want.Trace(plain), got.Trace(in)
		for i := range a.Zones {
			require.Len(t, b.Zones[i].List, len(a.Zones[i].List))
			for k, x := range a.Zones[i].List {
				assert.Equal(t, x.Codes, b.Zones[i].List[k].Codes)
				assert.True(t, x.Extent.Same(b.Zones[i].List[k].Extent))
			}
		}
		mended, _ := got.MendedShare()
		assert.Positive(t, mended)
	}
}

func TestMend(t *testing.T) {
	const no = 9
	for _, c := range []struct {
		n          int
		have, want []int32
	}{
		{2, []int32{1, 2, 1}, []int32{1, 1, 1}},
		{2, []int32{1, 2, 2, 1}, []int32{1, 2, 2, 1}},
		{3, []int32{1, 2, 2, 1}, []int32{1, 1, 1, 1}},
		{2, []int32{1, 2, 1, 2}, []int32{1, 1, 1, 2}},
		{2, []int32{1, 2, 3, 1}, []int32{1, 2, 3, 1}},
		{4, []int32{1, 2, 3, 2, 1}, []int32{1, 1, 1, 1, 1}},
		{2, []int32{1, no, 1}, []int32{1, no, 1}},
		{2, []int32{no, 1, no}, []int32{no, 1, no}},
		{2, []int32{2, 1, 1}, []int32{2, 1, 1}},
		{1, []int32{1, 2, 1}, []int32{1, 2, 1}},
		{0, []int32{1, 2, 1}, []int32{1, 2, 1}},
		{2, []int32{1}, []int32{1}},
	} {
		got := slices.Clone(c.have)
		changed := mend(got, c.n, no)
		assert.Equal(t, c.want, got, "%v", c.have)
		assert.Equal(t, !slices.Equal(c.have, c.want), changed)
	}
}

// What is grouped is what has little in all zones together, and every zone keeps what it has of each course.
func TestGroupRare(t *testing.T) {
	rasters, set, place := covers(t, 5, 4)
	in := inputOf(t, rasters, set, place)
	ch, err := Compare(in, area.Units[0])
	require.NoError(t, err)
	all, some := ch.Trace(in), ch.Trace(in)
	sums := map[string]float64{}
	for _, z := range all.Zones {
		for _, x := range z.List {
			sums[fmt.Sprint(x.Codes)] += all.Area(x.Extent)
		}
	}
	var list []float64
	for _, v := range sums {
		list = append(list, v)
	}
	slices.Sort(list)
	least := list[len(list)/2]
	n, grouped := some.GroupRare(least)
	assert.InDelta(t, len(list)/2, n, 1) // one that is as large as the bound
	assert.Positive(t, grouped)
	for i := range all.Zones {
		var want, got [NeverMapped + 1]tally.Extent
		for _, x := range all.Zones[i].List {
			want[x.Course()].Add(x.Extent)
		}
		for _, x := range some.Zones[i].List {
			got[x.Course()].Add(x.Extent)
			assert.GreaterOrEqual(t, sums[fmt.Sprint(x.Codes)], least*(1-1e-9))
		}
		for course, r := range some.Zones[i].Rare {
			got[course].Add(r.Extent)
		}
		assert.Equal(t, want, got)
	}
}
