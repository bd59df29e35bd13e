package account

import (
	"iter"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/epoch"
)

// SeriesRow is the extent of a class in a zone at an epoch, beside earlier ones. Differences are NaN at the first epoch.
type SeriesRow struct {
	Zone, Class                            cover.Named
	Epoch                                  string
	M2                                     float64
	SinceFirst, SincePrevious              float64 // m²
	PctSinceFirst, PctSincePrevious        float64
	PctPerYearSinceFirst, PctPerYearSimple float64 // simple, NaN where labels are not dates
}

// Series lists the extents of each class in each zone over the epochs.
func (e *Extents) Series() iter.Seq[SeriesRow] {
	return func(yield func(SeriesRow) bool) {
		zones := slices.Clone(e.Zones)
		if len(zones)-len(e.units) > 1 {
			zones = append(zones, AllZones)
		}
		for _, z := range zones {
			for _, c := range e.Classes {
				for _, r := range e.seriesOf(z, c) {
					if !yield(r) {
						return
					}
				}
			}
		}
	}
}

// areaOf is the extent of a class in a zone, or in all zones together, and whether there is one.
func (e *Extents) areaOf(epoch string, z, c cover.Named) (float64, bool) {
	if z != AllZones {
		return e.Area(epoch, z.ID, c.ID), e.Has(epoch, z.ID)
	}
	sum := 0.0
	for _, one := range e.Zones {
		if !e.units[one.ID] {
			sum += e.Area(epoch, one.ID, c.ID)
		}
	}
	return sum, true
}

// seriesOf lists the extents of one class in one zone over the epochs.
func (e *Extents) seriesOf(z, c cover.Named) (out []SeriesRow) {
	nan := math.NaN()
	var first, previous SeriesRow
	for _, at := range e.Epochs {
		a, ok := e.areaOf(at, z, c)
		if !ok {
			continue
		}
		r := SeriesRow{z, c, at, a, nan, nan, nan, nan, nan, nan}
		if out == nil {
			first = r
		} else {
			r.SinceFirst, r.SincePrevious = a-first.M2, a-previous.M2
			r.PctSinceFirst, r.PctPerYearSinceFirst, _ = epoch.Rates(first.M2, a, a-first.M2, epoch.Years(first.Epoch, at))
			r.PctSincePrevious, r.PctPerYearSimple, _ = epoch.Rates(previous.M2, a, a-previous.M2, epoch.Years(previous.Epoch, at))
		}
		previous = r
		out = append(out, r)
	}
	return out
}
