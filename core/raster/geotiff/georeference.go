package geotiff

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// georeference fills the grid of a header. A raster whose CRS is missing or not understood is
// opened all the same, with the reason in CRSProblem, so that it can be looked at.
func georeference(d *directory, l *layout, h *raster.Header) error {
	g := raster.Grid{Width: l.width, Height: l.height, DX: 1, DY: -1}
	keys, err := readGeoKeys(d)
	if err != nil {
		return err
	}
	placed, err := place(d, &g)
	if err != nil {
		return err
	}
	if keys.short[keyRasterType] == 2 { // PixelIsPoint: coordinates are those of cell centres
		g.X0 -= g.DX / 2
		g.Y0 -= g.DY / 2
	}
	switch {
	case !placed:
		h.CRSProblem = "it has no georeferencing, so nothing says where its cells lie and how large they are: get the file with it"
		h.Unplaced = true
	case keys.empty():
		h.CRSProblem = "it has no CRS, so nothing says where its cells lie"
	default:
		crs, err := keys.crs()
		if err != nil {
			h.CRSProblem = err.Error()
			break
		}
		g.CRS = crs
	}
	if err := g.Check(); err != nil {
		return err
	}
	h.Grid = g
	return nil
}

// place reads the tiepoint and scale, or the matrix.
func place(d *directory, g *raster.Grid) (bool, error) {
	if m := d.doubles(tagTransformation); len(m) >= 16 {
		if math.Abs(m[1])+math.Abs(m[4]) > 1e-12*(math.Abs(m[0])+math.Abs(m[5])) {
			return false, fmt.Errorf("its grid is rotated against its CRS, which is not read: turn it north-up first")
		}
		g.X0, g.DX, g.Y0, g.DY = m[3], m[0], m[7], m[5]
		return true, nil
	}
	scale, tie := d.doubles(tagPixelScale), d.doubles(tagTiepoint)
	if len(scale) >= 2 && len(tie) >= 6 {
		g.DX, g.DY = scale[0], -scale[1]
		g.X0, g.Y0 = tie[3]-tie[0]*g.DX, tie[4]-tie[1]*g.DY
		return true, nil
	}
	if len(tie) >= 12 {
		return false, fmt.Errorf("it is tied to the ground by %d control points only, which is not read: rectify it first", len(tie)/6)
	}
	return false, nil
}
