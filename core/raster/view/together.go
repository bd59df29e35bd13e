package view

import (
	"errors"
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/verdex-land/verdex/core/fault"
)

// Together brings rasters onto the cells of the first. Those on its lattice are widened to an extent that
// holds them all; ground that one of them does not cover is nodata in it. One that lies elsewhere (another
// CRS, cell size or offset) is refused, or with resample moved by nearest centre.
func Together(sources []raster.Source, resample bool) (out []raster.Source, aligned []*Aligned, err error) {
	first := sources[0].Header()
	same := true
	for _, s := range sources[1:] {
		same = same && first.Grid.Aligned(s.Header().Grid) == nil
	}
	if same {
		return sources, nil, nil
	}
	g := first.Grid
	r0, r1 := 0, g.Height
	on := []*member{{header: first}}
	off := make([]bool, len(sources))
	for i, s := range sources[1:] {
		h := s.Header()
		at, err := first.Offset(h)
		col, row := math.Round(at[0]), math.Round(at[1])
		if err == nil && math.Max(math.Abs(at[0]-col), math.Abs(at[1]-row)) >= raster.SnapLimit {
			err = fmt.Errorf("the cells of %s lie %.3f columns and %.3f rows off those of %s", h.Name, math.Abs(at[0]-col), math.Abs(at[1]-row), first.Name)
		}
		if err != nil {
			if !resample {
				var f *fault.Error
				if !errors.As(err, &f) {
					f = fault.Errorf("%w", err)
				}
				return nil, nil, f.By("allow the cells of "+h.Name+" to be moved to the nearest ones", "resample", "nearest")
			}
			off[i+1] = true
			continue
		}
		if math.Abs(col)+math.Abs(row) > math.MaxInt32/4 {
			return nil, nil, fmt.Errorf("%s and %s lie too far apart for one grid", first.Name, h.Name)
		}
		on = append(on, &member{header: h, col: int(col)})
		r0, r1 = min(r0, int(row)), max(r1, int(row)+h.Grid.Height)
	}
	_, c0, width, err := roundTheEarth(first, on)
	if err != nil {
		return nil, nil, err
	}
	g.X0, g.Y0 = first.Grid.Point(float64(c0), float64(r0))
	g.Width, g.Height = width, r1-r0
	for i, s := range sources {
		var v raster.Source
		if off[i] {
			a, err := Align(s, g, Nearest)
			if err != nil {
				return nil, nil, err
			}
			aligned = append(aligned, a)
			v = a
		} else if v, err = Crop(s, g); err != nil {
			return nil, nil, err
		}
		out = append(out, raster.WithGrid(v, g))
	}
	return out, aligned, nil
}
