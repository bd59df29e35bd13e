package zone

import (
	"errors"
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spread"
)

// Placement is how a set of zones lies on a grid.
type Placement struct {
	Grid     raster.Grid
	Outlines []Outline
	Notes    []string
	Down     bool // rows count against y, as is usual
}

// Place carries the zones of a set to a grid. Zones are never moved by rounding: edges that are
// straight in the zones' CRS and curved on the grid are traced as [earth.TraceRing] describes.
func (s *Set) Place(g raster.Grid) (*Placement, error) {
	switch {
	case g.CRS == nil:
		return nil, errors.New("the grid has no CRS, so nothing says where its cells lie")
	case s.CRS == nil:
		return nil, fmt.Errorf("%s: it has no CRS, so nothing says where its zones lie", s.Source)
	}
	w, south, e, north, _ := g.GeographicBounds()
	lon, lat := (w+e)/2, (south+north)/2
	if x, y, ok := g.CRS.ToGeographic(g.Point(float64(g.Width)/2, float64(g.Height)/2)); ok {
		lon, lat = x*180/math.Pi, y*180/math.Pi
	}
	shift, note, err := earth.NewShift(s.CRS, g.CRS, lon, lat)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", s.Source, err)
	}
	p := &Placement{Grid: g, Outlines: make([]Outline, len(s.Zones)), Down: g.DY < 0}
	if note != "" {
		p.Notes = append(p.Notes, note)
	}
	m := newMapping(s, g, shift)
	errs := make([]error, len(s.Zones))
	spread.Over(len(s.Zones), func() func(int) {
		return func(i int) { p.Outlines[i], errs[i] = m.outline(&s.Zones[i]) }
	})
	for i, err := range errs {
		if err != nil {
			return nil, fmt.Errorf("%s: zone %s: %w", s.Source, s.Zones[i].ID, err)
		}
	}
	if n := m.beyond.Load(); n > 0 {
		what := "1 zone reaches"
		switch {
		case len(s.Zones) == 1:
			what = s.Source + " reaches"
		case n > 1:
			what = fmt.Sprintf("%d zones reach", n)
		}
		p.Notes = append(p.Notes, fmt.Sprintf("%s beyond the ground that %v maps; cells there lie on no ground and have no area", what, m.own))
	}
	return p, nil
}
