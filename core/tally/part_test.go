package tally

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// Any number of parts, in any order and kept as bytes meanwhile, add up to the whole, on every kind of grid.
func TestPartsAddUpToTheWhole(t *testing.T) {
	for name, g := range grids(t) {
		random := rand.New(rand.NewPCG(3, 4))
		noData := 0.0
		cover := func(kind raster.CellType, block, values int) raster.Source {
			m := fill(g, kind, block, block, func(c, r int) float64 { return float64(random.IntN(values)) })
			m.SetNoData(&noData)
			return m
		}
		w, h := float64(g.Width), float64(g.Height)
		set := inCells(g, []zone.Ring{rect(3.3, 2.2, w/2+0.3, h-4.4)}, []zone.Ring{rect(w/2-7.3, 2.2, w-1.7, h-4.4)}, []zone.Ring{rect(w/3, h/3, w/2, h/2)}, []zone.Ring{{{1.5, 1.5}, {w - 3, 7.7}, {w / 2, h - 2.2}}})
		place, err := set.Place(g)
		require.NoError(t, err)
		for _, req := range []Request{
			{Layers: []raster.Source{cover(raster.Uint8, 16, 5)}, Zones: set, Placement: place},
			{Layers: []raster.Source{cover(raster.Uint16, 32, 400)}, Zones: set, Placement: place, Centres: true},
			{Layers: []raster.Source{cover(raster.Uint8, 16, 3), cover(raster.Uint8, 32, 4), cover(raster.Uint8, 16, 3)}, Groups: [][]int{{0, 1, 2}, {0, 2}}, Zones: set, Placement: place, Sets: []Set{{}, {First: 2, Centres: true}}},
		} {
			whole, err := Measure(context.Background(), req)
			require.NoError(t, err)
			for _, n := range []int{1, 2, 7, 97} {
				var parts []*Tally
				tiles := 0
				for i := range n {
					one := req
					one.Part = Part{i + 1, n}
					got, err := Measure(context.Background(), one)
					require.NoError(t, err)
					tiles += got.Tiles
					if len(got.Groups) == 1 {
						b, err := got.AppendBinary(nil)
						require.NoError(t, err)
						got, err = Decode(b)
						require.NoError(t, err)
					}
					parts = append(parts, got)
				}
				assert.Equal(t, whole.Tiles, tiles, "every window is in one part")
				random.Shuffle(n, func(i, k int) { parts[i], parts[k] = parts[k], parts[i] })
				sum, err := Gather(parts, req.Sets, 0, []string{"a", "b", "c"})
				require.NoError(t, err)
				require.Equal(t, held(whole), held(sum), "%s in %d parts", name, n)
			}
		}
	}
}

// Parts have about the same number of bytes to decode, wherever in the raster those are.
func TestPartsAreBalanced(t *testing.T) {
	g := grids(t)["equal area"]
	m := fill(g, raster.Uint8, 8, 8, func(c, r int) float64 { return 1 })
	heavy := weighed{m, func(w raster.Window) int64 { return int64(1 + w.Row*w.Row) }}
	set, place, err := Whole(g)
	require.NoError(t, err)
	areas, err := raster.NewAreas(g)
	require.NoError(t, err)
	var sums []int64
	covered := int64(0)
	for i := range 8 {
		p := newPass(Request{Layers: []raster.Source{heavy}, Zones: set, Placement: place, Part: Part{i + 1, 8}}, areas)
		assert.Equal(t, covered, p.from)
		covered = p.to
		sum := int64(0)
		for n := p.from; n < p.to; n++ {
			sum += raster.Weight(heavy, p.bands[n/int64(p.across)].window(int(n)%p.across))
		}
		sums = append(sums, sum)
		if i == 7 {
			assert.Equal(t, int64(len(p.bands)*p.across), covered)
		}
	}
	assert.Less(t, float64(slices.Max(sums)), 1.3*float64(slices.Min(sums)), fmt.Sprint(sums))
}

type weighed struct {
	raster.Source
	weight func(raster.Window) int64
}

func (w weighed) Weight(of raster.Window) int64 { return w.weight(of) }

func TestPartsAreRead(t *testing.T) {
	p, err := ParsePart("3/64")
	require.NoError(t, err)
	assert.Equal(t, Part{3, 64}, p)
	p, err = ParsePart("0+1/64")
	require.NoError(t, err)
	assert.Equal(t, Part{1, 64}, p)
	for _, text := range []string{"-1+1/4", "4+1/4", "00+1/4", "", "3", "0/4", "5/4", "-1/4", "1/0", "1/4x", "01/4", "1/ 4", "1/9999999", "a/b"} {
		_, err := ParsePart(text)
		assert.ErrorContains(t, err, "is not a part", text)
	}
	_, err = Gather([]*Tally{{Quantum: 1}, {Quantum: 2}}, nil, 0, nil)
	assert.ErrorContains(t, err, "not of one job")
}
