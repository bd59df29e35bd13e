package view

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

// On a map whose corners lie on no ground, a raster on its own grid stays as it is: rows whose first cell lies beyond the end of the map, too.
func TestAlignWhereTheMapEnds(t *testing.T) {
	for _, code := range []int{8857, 3035} {
		crs, err := earth.Lookup(code)
		require.NoError(t, err)
		g := raster.Grid{Width: 70, Height: 40, X0: -17500000, Y0: 8600000, DX: 500000, DY: -430000, CRS: crs}
		src := raster.NewFunc(raster.Header{Name: "world", Grid: g, Type: raster.Uint8}, func(c, r int) float64 { return float64(1 + (c+3*r)%200) })
		a, err := Align(src, g, Nearest)
		require.NoError(t, err)
		var want, got raster.Cells
		w := raster.Window{Width: g.Width, Height: g.Height}
		require.NoError(t, src.NewReader().Read(w, &want))
		require.NoError(t, a.NewReader().Read(w, &got))
		for r := range g.Height {
			for c := range g.Width {
				x, y := g.Point(float64(c)+0.5, float64(r)+0.5)
				if crs.OnEarth(x, y) {
					assert.Equal(t, want.At(c, r), got.At(c, r), "EPSG:%d, column %d, row %d", code, c, r)
				}
			}
		}
	}
}
