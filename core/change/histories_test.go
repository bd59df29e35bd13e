package change

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/view"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/internal/sampletest"
)

// On random rasters histories sum to the transitions of every two epochs and to the extents of every epoch, to the last unit, for any number of threads; what comes back is what flips.
func TestHistoriesSumToEverythingElse(t *testing.T) {
	for seed := range uint64(12) {
		n := 2 + int(seed)%7
		ch, rasters, set, place := epochsOf(t, seed, n)
		coder := &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}
		var layers []raster.Source
		for _, r := range rasters {
			layers = append(layers, r)
		}
		var first *Histories
		for _, threads := range []int{1, 3} {
			s := view.NewSequences(layers, func(_ int, v float64) int32 {
				if m, ok := coder.Code(v); ok && m.Kind == cover.Classified {
					return int32(m.Code)
				}
				return Unmapped
			}, 1<<20)
			got, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place, Values: 1 << 20, Threads: threads})
			require.NoError(t, err)
			h := ch.Trace(Input{Zones: set, Placement: place}, got, s.List())
			if first == nil {
				first = h
			}
			require.Equal(t, first.Zones, h.Zones, "numbers of sequences do not matter")
		}
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
			own, err := tally.Measure(context.Background(), tally.Request{Layers: layers[e : e+1], Zones: set, Placement: place})
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

// More sequences than are counted are an error instead of a wrong number.
func TestTooManySequences(t *testing.T) {
	_, rasters, set, place := epochsOf(t, 1, 4)
	var layers []raster.Source
	for _, r := range rasters {
		layers = append(layers, r)
	}
	s := view.NewSequences(layers, func(_ int, v float64) int32 { return int32(v) }, 10)
	_, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place})
	assert.ErrorIs(t, err, view.ErrTooManySequences)
}
