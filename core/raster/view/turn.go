package view

import (
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
)

// Longitudes wrap: on a grid in degrees, a column comes again a turn of the Earth further on. Rasters that meet across the
// antimeridian, or count longitude from another meridian, lie on one lattice where a turn is a whole number of columns.

// roundTheEarth moves members of a mosaic by whole turns so that together they span as little as may be, and
// never more than a turn; one that reaches over the end of the turn comes twice. Columns are those of a raster which header describes. It
// gives the first column and the width, and an error where the members span more than a turn of a lattice that does not close.
func roundTheEarth(header raster.Header, members []*member) (all []*member, first, width int, err error) {
	g := header.Grid
	c0, c1 := math.MaxInt, math.MinInt
	for _, m := range members {
		c0, c1 = min(c0, m.col), max(c1, m.col+m.header.Grid.Width)
	}
	turn, closes := g.Turn()
	if !closes {
		if g.CRS != nil && g.CRS.Geographic() && float64(c1-c0)*g.DX*g.CRS.Unit >= 2*math.Pi*(1+1e-9) {
			err = fault.Errorf("%s and the others span more than 360° of longitude, of which its cells of %.10g° are not a whole part", header.Name, g.DX).
				Through("bring them onto one grid first", "align")
		}
		return members, c0, c1 - c0, err
	}
	// The widest stretch of the turn that no member covers; the raster begins behind it.
	type stretch struct{ from, to int }
	var list []stretch
	for _, m := range members {
		from := raster.Mod(m.col-c0, turn)
		list = append(list, stretch{from, from + m.header.Grid.Width})
	}
	slices.SortFunc(list, func(a, b stretch) int { return a.from - b.from })
	end := 0
	for _, s := range list {
		end = max(end, s.to-turn) // what reaches over the end of the turn covers its beginning
	}
	begin, gap := 0, -1
	for _, s := range list {
		if s.from-end > gap {
			begin, gap = s.from, s.from-end
		}
		end = max(end, s.to)
	}
	if last := turn + list[0].from - end; last >= gap { // as they are
		begin, gap = list[0].from, last
	}
	first, width = c0+begin, turn-max(gap, 0)
	for _, m := range members {
		at := *m
		at.col = first + raster.Mod(m.col-first, turn)
		all = append(all, &at)
		if at.col+at.header.Grid.Width > first+turn {
			again := at
			again.col -= turn
			all = append(all, &again)
		}
	}
	return all, first, width, nil
}

// onTurn are the places of a raster on an extent of its lattice: as it lies, and a turn to either side where that
// meets the extent too.
func onTurn(g raster.Grid, m *member, width int) []*member {
	turn, closes := g.Turn()
	if !closes {
		return []*member{m}
	}
	var out []*member
	for _, k := range []int{0, -1, 1, -2, 2} {
		if c := m.col + k*turn; c < width && c+m.header.Grid.Width > 0 {
			at := *m
			at.col = c
			out = append(out, &at)
		}
	}
	if out == nil {
		return []*member{m}
	}
	return out
}
