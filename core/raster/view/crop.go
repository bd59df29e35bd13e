package view

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/raster"
)

// Crop is a view of a raster on another extent of its own lattice: cut, or widened with nodata. The
// grid must have cells of the same size and place.
func Crop(s raster.Source, g raster.Grid) (raster.Source, error) {
	h := s.Header()
	off, err := (&raster.Header{Name: "the extent", Grid: g}).Offset(h)
	if err != nil {
		return nil, err
	}
	col, row := math.Round(off[0]), math.Round(off[1])
	if math.Max(math.Abs(off[0]-col), math.Abs(off[1]-row)) >= raster.SnapLimit {
		return nil, fmt.Errorf("%s: its cells are not those of the extent", h.Name)
	}
	m := &mosaic{members: onTurn(h.Grid, &member{Source: s, header: h, col: int(col), row: int(row)}, g.Width)}
	m.header = h
	if h.NoData != nil && !h.Type.Holds(*h.NoData) {
		m.header.NoData = nil // no cell can have it
	}
	m.header.Grid.X0, m.header.Grid.Y0 = h.Grid.Point(-col, -row)
	m.header.Grid.Width, m.header.Grid.Height = g.Width, g.Height
	if m.header.Settle(); m.header.NoData == nil && !m.covers(m.header.Grid) {
		t, v := raster.RoomFor(h.Type)
		m.header.Type, m.header.NoData = t, &v
	}
	m.prepare()
	return m, nil
}
