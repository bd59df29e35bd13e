package account

import (
	"cmp"
	"iter"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/cover"
)

// CompositionRow is a class in a zone at an epoch.
type CompositionRow struct {
	Epoch           string
	Zone, Class     cover.Named
	M2              float64
	PctOfZone       float64
	PctOfClassified float64
	Rank            int // by area within the zone; 1 is the largest
}

// Composition lists the classes of each zone and epoch in the order of the classes, and all zones together at the end of each epoch where
// there are several. The rows of a zone come together and serve until the next ones.
func (e *Extents) Composition() iter.Seq[[]CompositionRow] {
	return func(yield func([]CompositionRow) bool) {
		rows, areas := make([]CompositionRow, len(e.Classes)), make([]float64, len(e.Classes))
		for _, epoch := range e.Epochs {
			total := make([]float64, len(e.Classes))
			whole, zones := 0.0, 0
			for _, z := range e.Zones {
				if !e.Has(epoch, z.ID) {
					continue
				}
				for i, c := range e.Classes {
					areas[i] = e.Area(epoch, z.ID, c.ID)
				}
				compose(rows, epoch, z, e.Classes, areas, e.Whole(epoch, z.ID))
				if !yield(rows) {
					return
				}
				if e.units[z.ID] {
					continue
				}
				for i, a := range areas {
					total[i] += a
				}
				whole, zones = whole+e.Whole(epoch, z.ID), zones+1
			}
			if zones > 1 {
				if compose(rows, epoch, AllZones, e.Classes, total, whole); !yield(rows) {
					return
				}
			}
		}
	}
}

// compose fills the rows of a zone from the areas of its classes, in m².
func compose(rows []CompositionRow, epoch string, z cover.Named, classes []cover.Named, areas []float64, whole float64) {
	classified := 0.0
	for _, a := range areas {
		classified += a
	}
	for i, c := range classes {
		rows[i] = CompositionRow{epoch, z, c, areas[i], area.Percent(areas[i], whole), area.Percent(areas[i], classified), 1}
		for k, a := range areas {
			if a > areas[i] || a == areas[i] && k < i {
				rows[i].Rank++
			}
		}
	}
}

// RoundRows rounds the percentages of the rows of a zone such that they sum to what they sum to, as [RoundToSum] does.
func RoundRows(rows []CompositionRow, digits int) {
	zone, classified := make([]float64, len(rows)), make([]float64, len(rows))
	for i, r := range rows {
		zone[i], classified[i] = r.PctOfZone, r.PctOfClassified
	}
	zone, classified = RoundToSum(zone, digits), RoundToSum(classified, digits)
	for i := range rows {
		rows[i].PctOfZone, rows[i].PctOfClassified = zone[i], classified[i]
	}
}

// RankRow is a zone among those of an epoch, by the extent of one class.
type RankRow struct {
	CompositionRow
	Place      int     // 1 is the largest
	PctOfClass float64 // of the class in all zones
}

// RankZones ranks the zones of each epoch by the extent of a class, the largest first.
func (e *Extents) RankZones(class cover.Named) (out []RankRow) {
	byEpoch := map[string][]CompositionRow{}
	total := map[string]float64{}
	for rows := range e.Composition() {
		for _, r := range rows {
			if r.Class == class && r.Zone != AllZones {
				byEpoch[r.Epoch] = append(byEpoch[r.Epoch], r)
				total[r.Epoch] += r.M2
			}
		}
	}
	for _, epoch := range e.Epochs {
		of := byEpoch[epoch]
		slices.SortStableFunc(of, func(a, b CompositionRow) int { return cmp.Compare(b.M2, a.M2) })
		for k, r := range of {
			out = append(out, RankRow{r, k + 1, area.Percent(r.M2, total[epoch])})
		}
	}
	return out
}

// RoundToSum rounds numbers to a number of decimals such that the rounded ones sum to their rounded sum: those with the largest
// remainders are rounded up (Hamilton's method).
func RoundToSum(values []float64, digits int) []float64 {
	scale := math.Pow10(digits)
	sum := 0.0
	out := make([]float64, len(values))
	order := make([]int, len(values))
	left := 0.0
	for i, v := range values {
		sum += v
		out[i] = math.Floor(v*scale + 1e-9)
		left -= out[i]
		order[i] = i
	}
	left += math.Round(sum * scale)
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := values[a]*scale-out[a], values[b]*scale-out[b]
		switch {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	for k := 0; k < int(left) && k < len(order); k++ {
		out[order[k]]++
	}
	for i := range out {
		out[i] /= scale
	}
	return out
}
