package tally

import (
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// A raster that is counted while it is read gives what measuring it gives, on every grid and for every type of cells, whoever reads which window when; a window
// that is read twice is counted once.
func TestWatchingIsMeasuring(t *testing.T) {
	for name, g := range grids(t) {
		for _, cells := range []raster.CellType{raster.Uint8, raster.Int8, raster.Uint16, raster.Int16} {
			rng := rand.New(rand.NewPCG(7, uint64(cells)))
			src := fill(g, cells, 32, 16, func(c, r int) float64 { return float64((c/7*3+r/5)%11 + rng.IntN(2)) })
			nodata := 4.0
			src.SetNoData(&nodata)
			set, place, err := Whole(g)
			require.NoError(t, err)
			want, err := Measure(t.Context(), Request{Layers: []raster.Source{src}, Zones: set, Placement: place, Threads: 1})
			require.NoError(t, err)

			const width, height = 24, 17
			w, err := Watch(src, width, height)
			require.NoError(t, err)
			var windows []raster.Window
			for r := 0; r < g.Height; r += height {
				for c := 0; c < g.Width; c += width {
					windows = append(windows, raster.Window{Col: c, Row: r, Width: min(width, g.Width-c), Height: min(height, g.Height-r)})
				}
			}
			rng.Shuffle(len(windows), func(i, k int) { windows[i], windows[k] = windows[k], windows[i] })
			last := windows[len(windows)-1]
			windows = append(windows[:len(windows)-1], windows[0], raster.Window{Width: 5, Height: 3}, raster.Window{Col: width, Width: 2, Height: height})
			var wg sync.WaitGroup
			for i := range 3 {
				wg.Go(func() {
					var dst raster.Cells
					reader := w.NewReader()
					for ; i < len(windows); i += 3 {
						assert.NoError(t, reader.Read(windows[i], &dst))
						assert.Equal(t, src.At(windows[i].Col, windows[i].Row), dst.At(0, 0))
					}
				})
			}
			wg.Wait()
			_, ok := w.Tally()
			assert.False(t, ok, "a window has not been read")
			require.NoError(t, w.NewReader().Read(last, new(raster.Cells)))
			got, ok := w.Tally()
			require.True(t, ok)
			assert.Equal(t, want.Quantum, got.Quantum)
			assert.Equal(t, want.Numbers[0][1:], got.Numbers[0][1:])
			assert.Equal(t, want.Zones, got.Zones, "%s, %s", name, cells)
		}
	}
}
