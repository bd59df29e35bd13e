package view

import (
	"testing"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A lone cell, a pair, one that does not go back, and one that the middle epoch does not map; in windows of any place the same.
func TestFlips(t *testing.T) {
	g := raster.Grid{Width: 8, Height: 6, DX: 1, DY: -1}
	var epochs [3]raster.Source
	for e := range epochs {
		m := raster.NewMemory("m", g, raster.Uint8, 3, 2)
		for r := range 6 {
			for c := range 8 {
				m.Set(c, r, 1)
			}
		}
		switch e {
		case 1:
			m.Set(1, 1, 2) // alone
			m.Set(4, 2, 2) // a pair
			m.Set(5, 2, 3)
			m.Set(0, 5, 2) // stays
			m.Set(7, 0, 255)
			m.Set(7, 5, 2) // alone in a corner
		case 2:
			m.Set(0, 5, 2)
		}
		epochs[e] = m
	}
	f := Flips(epochs, func(_ int, v float64) int {
		if v == 255 {
			return -1
		}
		return int(v)
	})
	want := map[[2]int]uint8{{1, 1}: LoneFlip, {4, 2}: Flip, {5, 2}: Flip, {7, 5}: LoneFlip}
	for _, w := range []raster.Window{window(0, 0, 8, 6), window(0, 0, 3, 2), window(4, 2, 1, 1), window(5, 2, 3, 4), window(1, 0, 4, 3)} {
		var cells raster.Cells
		require.NoError(t, f.NewReader().Read(w, &cells))
		for r := range w.Height {
			for c := range w.Width {
				assert.EqualValues(t, want[[2]int{w.Col + c, w.Row + r}], cells.At(c, r), "%v %d %d", w, c, r)
			}
		}
	}
}

func window(col, row, width, height int) raster.Window {
	return raster.Window{Col: col, Row: row, Width: width, Height: height}
}
