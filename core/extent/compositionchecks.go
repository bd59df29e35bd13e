package extent

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"

	"github.com/verdex-land/verdex/core/cover"
)

// Check checks a composition.
func (c *Composition) Check(b check.Bounds) []check.Check {
	var balance, outline, inside, nodata, unlisted, ground []check.Finding
	present := make([]float64, len(c.Legend.Classes))
	var trueSum, count float64
	for i := range c.Zones {
		z := &c.Zones[i]
		sum, parts := 0.0, [4]float64{}
		for k := range z.parts {
			p := &z.parts[k]
			kind := p.kind()
			sum += p.area
			parts[kind] += p.area
			if kind != cover.Outside && !z.Larger {
				trueSum, count = trueSum+p.area, count+p.cells*c.nominal
			}
			if kind == cover.Classified {
				present[p.class] += p.area
			}
		}
		sum = area.Percent(sum, z.Area)
		at := func(share float64, what string) check.Finding {
			return check.Finding{Epoch: c.Epoch, ZoneID: z.ID, Value: share, Text: fmt.Sprintf("%s %.3g %%%s", z.ID, share, what)}
		}
		if math.Abs(sum-100) > 0.01 && math.Abs(sum-100) > 2*math.Abs(z.Residual)*100 {
			balance = append(balance, at(sum, ""))
		}
		if !z.Balances {
			outline = append(outline, at(z.Residual*100, ""))
		}
		pct := func(k cover.Kind) float64 { return area.Percent(parts[k], z.Area) }
		if v := pct(cover.Outside); v > b["inside"] {
			inside = append(inside, at(v, ""))
		}
		if v := pct(cover.NoData); v > b["nodata"] {
			nodata = append(nodata, at(v, ""))
		}
		if v := pct(cover.Unlisted); v > b["unlisted"] {
			unlisted = append(unlisted, at(v, ""))
		}
	}
	for k, class := range c.Legend.Classes {
		if present[k] == 0 {
			ground = append(ground, check.Finding{Epoch: c.Epoch, Class: class.ID(), Text: class.Name})
		}
	}
	out := []check.Check{
		check.Judge("balance", "the parts of each zone make 100 %", "the parts of zones do not make 100 %", balance),
		check.Judge("outline", "what was measured in each zone is the area of its outline", "what was measured differs from the area of the outline", outline),
		check.Judge("inside", "every zone lies in the raster", "zones lie partly outside the raster", inside),
		check.Judge("nodata", fmt.Sprintf("no zone is more than %g %% no data", b["nodata"]), "zones are mostly no data", nodata),
		check.Judge("unlisted", "every value is in the legend", "zones have values that are not in the legend", unlisted),
		check.Judge("ground", "every class has ground in some zone", "classes without any ground in these zones", ground),
	}
	if c.HasNominal && trueSum > 0 {
		out = append(out, nominalCheck(trueSum, count, b["nominal"]))
	}
	return out
}

func nominalCheck(trueSum, count, bound float64) check.Check {
	d := (count - trueSum) / trueSum * 100
	var f []check.Finding
	if math.Abs(d) > bound {
		f = []check.Finding{{Value: d, Text: fmt.Sprintf("%+.4f %%", d)}}
	}
	return check.Judge("nominal", fmt.Sprintf("cells × nominal size would be off by %+.4f %%", d), "cells × nominal size, which is not used here, would be far off true ground", f)
}

// CheckEdges compares the extents of classes by exact shares with those by cell centres.
func (c *Composition) CheckEdges(centre *Composition, b check.Bounds) check.Check {
	var found []check.Finding
	most := 0.0
	for i, z := range c.Zones {
		worst, class := 0.0, ""
		other := map[string]float64{} // by code: without a legend, a class that only cut cells have is missing
		for _, r := range centre.Zones[i].Rows() {
			if r.Kind == cover.Classified {
				other[r.Code] = r.PctOfZone
			}
		}
		for _, r := range z.Rows() {
			if r.Kind != cover.Classified {
				continue
			}
			if d := math.Abs(r.PctOfZone - other[r.Code]); d > worst {
				worst, class = d, r.Name
			}
		}
		most = math.Max(most, worst)
		if worst > b["edges"] {
			found = append(found, check.Finding{Epoch: c.Epoch, ZoneID: z.ID, Value: worst, Text: fmt.Sprintf("%s %.2f %% of it (%s)", z.ID, worst, class)})
		}
	}
	return check.Judge("edges", fmt.Sprintf("split and centre differ by no more than %.2g %% of a zone", most),
		"extents depend on how cells at the edge are counted, because the zones have few cells", found)
}

// Extents are those of the classes.
func (c *Composition) Extents() (out []check.Mapped) {
	for _, z := range c.Zones {
		for _, r := range z.Rows() {
			if r.Kind == cover.Classified && !z.Larger {
				out = append(out, check.Mapped{Zone: z.ID, Class: r.Code, Epoch: r.Epoch, M2: r.Area * c.Unit.M2})
			}
		}
	}
	return out
}
