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

// Whatever the layers hold, what a group of many has of one to three of them is what these have when they are measured by themselves: on every kind of grid, for layers of bytes that
// are mostly the same or not at all, of other types, more than a word holds, and with thousands of sequences.
func TestSequencesSumToTheirLayers(t *testing.T) {
	for name, g := range grids(t) {
		for c, cover := range []struct {
			layers, values int
			differ         float64 // how often a layer differs from the first
			kinds          []raster.CellType
		}{
			{4, 5, 0.03, []raster.CellType{raster.Uint8}},
			{5, 5, 0.9, []raster.CellType{raster.Uint8, raster.Int8}},
			{8, 9, 0.02, []raster.CellType{raster.Uint8}},
			{8, 40, 0.9, []raster.CellType{raster.Uint8}},
			{9, 4, 0.05, []raster.CellType{raster.Uint8}},
			{6, 4, 0.1, []raster.CellType{raster.Uint8, raster.Uint16, raster.Float32}},
		} {
			t.Run(fmt.Sprint(name, c), func(t *testing.T) {
				random := rand.New(rand.NewPCG(3, uint64(c)))
				first := make([]float64, g.Width*g.Height)
				for i := range first {
					first[i] = float64(random.IntN(cover.values))
					if i > 0 && random.IntN(4) > 0 {
						first[i] = first[i-1]
					}
				}
				noData := 2.0
				var layers []raster.Source
				for l := range cover.layers {
					m := fill(g, cover.kinds[l%len(cover.kinds)], 32, 32, func(c, r int) float64 {
						if l > 0 && random.Float64() < cover.differ {
							return float64(random.IntN(cover.values))
						}
						return first[r*g.Width+c]
					})
					if l%2 == 1 {
						m.SetNoData(&noData)
					}
					layers = append(layers, m)
				}
				w, h := float64(g.Width), float64(g.Height)
				zones := inCells(g, []zone.Ring{rect(3.3, 2.2, w/2+0.3, h-4.4)}, []zone.Ring{{{w/2 + 1, 1.5}, {w - 3, 7.7}, {w / 2, h - 2.2}}})
				place, err := zones.Place(g)
				require.NoError(t, err)
				request := func(threads int, part Part, picked ...int) *Tally {
					r := Request{Zones: zones, Placement: place, Threads: threads, Part: part}
					for _, l := range picked {
						r.Layers = append(r.Layers, layers[l])
					}
					got, err := Measure(context.Background(), r)
					require.NoError(t, err)
					return got
				}
				var every []int
				for l := range layers {
					every = append(every, l)
				}
				all := request(1, Part{}, every...)
				require.True(t, slices.IsSortedFunc(all.Sequences[0], slices.Compare))
				assert.Equal(t, held(all), held(request(3, Part{}, every...)), "on three threads")
				b, err := all.AppendBinary(nil)
				require.NoError(t, err)
				again, err := Decode(b)
				require.NoError(t, err)
				assert.Equal(t, held(all), held(again), "as bytes")
				var parts []*Tally
				for i := range 5 {
					parts = append(parts, request(1, Part{i + 1, 5}, every...))
				}
				gathered, err := Gather(parts, nil, 0, make([]string, cover.layers))
				require.NoError(t, err)
				assert.Equal(t, held(all), held(gathered), "of parts")
				for _, picked := range [][]int{{0}, {cover.layers - 1, 1}, {2, 0, 3}, {3, 1, 0, 2}} {
					want := request(1, Part{}, picked...)
					got := &Tally{Quantum: all.Quantum, Members: [][]int{picked}, Numbers: all.Numbers}
					zones, sequences := all.project(0, all.Zones, picked)
					got.Groups, got.Sequences = [][]Zone{zones}, [][][]Slot{sequences}
					assert.Equal(t, held(want), held(got), "layers %v", picked)
				}
			})
		}
	}
}
