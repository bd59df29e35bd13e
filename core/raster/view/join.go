package view

import (
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
)

// join settles the grid, the type, the nodata value and the palette.
func (m *mosaic) join(first raster.Header, j *Joined) error {
	h := first
	r0, r1 := math.MaxInt, math.MinInt
	for _, s := range m.members {
		r0, r1 = min(r0, s.row), max(r1, s.row+s.header.Grid.Height)
	}
	count := len(m.members)
	members, c0, width, err := roundTheEarth(first, m.members)
	if err != nil {
		return err
	}
	m.members = members
	c1 := c0 + width
	if c1-c0 > math.MaxInt32 || r1-r0 > math.MaxInt32 {
		return fmt.Errorf("%s and the others span %d × %d cells, too many for one raster", first.Name, c1-c0, r1-r0)
	}
	h.Grid.X0, h.Grid.Y0 = first.Grid.Point(float64(c0), float64(r0))
	h.Grid.Width, h.Grid.Height = c1-c0, r1-r0
	for _, s := range m.members {
		s.col, s.row = s.col-c0, s.row-r0
	}
	h.Overviews, h.Notes = 0, nil
	h.Format = fmt.Sprintf("mosaic of %d rasters, the first: %s", count, first.Format)
	if count > 1 {
		h.Name = fmt.Sprintf("%s and %d more", first.Name, count-1)
	}
	if err := m.joinTypes(&h); err != nil {
		return err
	}
	m.joinPalettes(&h, j)
	m.joinNoData(&h, j)
	if h.NoData == nil && !m.covers(h.Grid) {
		t, v := raster.RoomFor(h.Type)
		j.Notes = append(j.Notes, fmt.Sprintf("the rasters leave ground between them uncovered and declare no nodata value; there, cells are nodata (%g, as %s)", v, t))
		h.Type, h.NoData = t, &v
	}
	m.header = h
	return nil
}

// joinTypes finds the narrowest type that holds all.
func (m *mosaic) joinTypes(h *raster.Header) error {
	var types []raster.CellType
	for _, s := range m.members {
		t := s.header.Type
		if t.Floating() != h.Type.Floating() {
			return fmt.Errorf("%s holds %s and %s %s cells: whole numbers and measurements do not make one raster", h.Name, h.Type, s.header.Name, t)
		}
		types = append(types, t)
	}
	joint, ok := raster.JointType(types...)
	if !ok {
		return fmt.Errorf("%s and the others hold cells that no type can hold together", h.Name)
	}
	h.Type = joint
	return nil
}

// joinPalettes takes the first palette and points out values that another colours differently.
func (m *mosaic) joinPalettes(h *raster.Header, j *Joined) {
	named := ""
	h.Palette = nil
	for _, s := range m.members {
		p := s.header.Palette
		if len(p) == 0 {
			continue
		}
		if h.Palette == nil {
			h.Palette, named = p, s.header.Name
			continue
		}
		for v := range min(len(p), len(h.Palette)) {
			if p[v] != h.Palette[v] && p[v] != (raster.Color{}) && h.Palette[v] != (raster.Color{}) {
				j.Warnings = append(j.Warnings, fmt.Sprintf("the value %d is %v in %s and %v in %s: check that both have the same legend", v, h.Palette[v], named, p[v], s.header.Name))
				return
			}
		}
	}
}

// joinNoData takes the nodata value that is declared; rasters that declare none are taken to mean it too. Where rasters declare
// different ones, none of them will do, because one may be a class of another: the mosaic has a value that no cell can have.
func (m *mosaic) joinNoData(h *raster.Header, j *Joined) {
	h.NoData = nil
	named := ""
	differ := ""
	var silent []string
	for _, s := range m.members {
		if n := s.header.NoData; n != nil && !s.header.Type.Holds(*n) {
			s.header.NoData = nil // no cell can hold it
		}
		switch n := s.header.NoData; {
		case n == nil:
			silent = append(silent, s.header.Name)
		case h.NoData == nil:
			h.NoData, named = n, s.header.Name
		case !raster.SameValue(*n, *h.NoData) && differ == "":
			differ = fmt.Sprintf("nodata is %g in %s and %g in %s", *h.NoData, named, *n, s.header.Name)
		}
	}
	silent = slices.Compact(silent)
	if h.NoData != nil && len(silent) > 0 {
		for _, s := range m.members {
			if s.header.NoData == nil {
				s.header.NoData = h.NoData
			}
		}
		more := ""
		if len(silent) > 1 {
			more = fmt.Sprintf(" and %d more", len(silent)-1)
		}
		j.Notes = append(j.Notes, fmt.Sprintf("%s%s declares no nodata value; %g is taken as nodata there too, as in %s", silent[0], more, *h.NoData, named))
	}
	if differ != "" {
		t, v := raster.RoomFor(h.Type)
		j.Notes = append(j.Notes, fmt.Sprintf("%s; both become %g, which no cell can have, as %s", differ, v, t))
		h.Type, h.NoData = t, &v
	}
	h.Settle()
}

// covers reports whether the members leave no cell of the grid uncovered.
func (m *mosaic) covers(g raster.Grid) bool {
	if len(m.members) > 4000 {
		return false
	}
	cols, rows := []int{0, g.Width}, []int{0, g.Height}
	for _, s := range m.members {
		w := s.window().Within(g.Width, g.Height)
		cols, rows = append(cols, w.Col, w.Col+w.Width), append(rows, w.Row, w.Row+w.Height)
	}
	slices.Sort(cols)
	slices.Sort(rows)
	cols, rows = slices.Compact(cols), slices.Compact(rows)
	if len(cols)*len(rows) > 1<<26 {
		return false
	}
	taken := make([]bool, len(cols)*len(rows))
	for _, s := range m.members {
		w := s.window().Within(g.Width, g.Height)
		i0, _ := slices.BinarySearch(cols, w.Col)
		i1, _ := slices.BinarySearch(cols, w.Col+w.Width)
		j0, _ := slices.BinarySearch(rows, w.Row)
		j1, _ := slices.BinarySearch(rows, w.Row+w.Height)
		for j := j0; j < j1; j++ {
			for i := i0; i < i1; i++ {
				taken[j*len(cols)+i] = true
			}
		}
	}
	for j := range len(rows) - 1 {
		for i := range len(cols) - 1 {
			if !taken[j*len(cols)+i] {
				return false
			}
		}
	}
	return true
}
