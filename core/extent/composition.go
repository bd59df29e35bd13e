// Package extent turns a tally into the composition of zones: the extent of each class, and of ground of no class.
//
// A composition is made from the exact integers of a tally, so that what must balance does so exactly; numbers become floating-point only in
// the rows that are handed over.
package extent

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// Input is a measured raster and what its values mean.
type Input struct {
	Epoch     string
	Raster    string // its name, for messages
	Tally     *tally.Tally
	Zones     *zone.Set
	Placement *zone.Placement
	Coder     *cover.Coder
	Palette   []raster.Color
	Centres   bool // edges by cell centres
}

// Row is one part of one zone at one epoch.
type Row struct {
	Epoch, ZoneID, ZoneName string
	Kind                    cover.Kind
	Code                    string // of classes; of unlisted values the value
	Name                    string
	Area                    float64 // in the unit of the composition
	PctOfZone               float64 // of all rows of the zone
	PctOfClassified         float64 // of classes only
	Cells                   float64 // cut cells by their share
	NominalArea             float64 // cells × nominal cell size, in the unit
	Color                   raster.Color
}

// ZoneSum is what a zone sums to.
type ZoneSum struct {
	ID, Name   string
	Area       float64 // of the outline on the ellipsoid, in the unit
	Classified float64
	Residual   float64 // area less all rows, as a share of area
	Balances   bool
	parts      []part
	of         *Composition
	// With larger units: the unit that holds most of the zone, "" for none; and whether this is such a unit itself.
	WithinID, WithinName string
	Larger               bool
}

// part is a row of a zone in few bytes: there may be a million.
type part struct {
	class int32   // in the legend, or one of the kinds below
	value float64 // of unlisted cells
	area  float64 // in the unit
	cells float64 // NaN where there are none
}

// Kinds of parts that are not classes.
const (
	noDataPart int32 = -1 - iota
	unlistedPart
	outsidePart
)

// kind is what the ground of the part is.
func (p *part) kind() cover.Kind {
	switch p.class {
	case noDataPart:
		return cover.NoData
	case unlistedPart:
		return cover.Unlisted
	case outsidePart:
		return cover.Outside
	}
	return cover.Classified
}

// Len is how many rows the zone has.
func (z *ZoneSum) Len() int { return len(z.parts) }

// Rows returns the rows of the zone: its classes in the order of the legend, then ground of no class.
func (z *ZoneSum) Rows() []Row {
	out := make([]Row, len(z.parts))
	whole, classified := 0.0, 0.0
	for i := range out {
		r := &out[i]
		*r = Row{Epoch: z.of.Epoch, ZoneID: z.ID, ZoneName: z.Name}
		r.Kind, r.Code, r.Name, r.Area, r.Cells, r.NominalArea = z.Part(i)
		if r.Kind == cover.Classified {
			r.Color = z.of.Legend.Classes[z.parts[i].class].Color
			classified += r.Area
		}
		whole += r.Area
	}
	for i := range out { // of the sums of parts, which are what can be computed alike from every table that has the rows
		out[i].PctOfZone = area.Percent(out[i].Area, whole)
		if out[i].Kind == cover.Classified {
			out[i].PctOfClassified = area.Percent(out[i].Area, classified)
		}
	}
	return out
}

// Part is what the i-th row of the zone says of itself, of [ZoneSum.Len].
func (z *ZoneSum) Part(i int) (kind cover.Kind, code, name string, area, cells, nominal float64) {
	p := &z.parts[i]
	switch kind = p.kind(); kind {
	case cover.NoData:
		name = "no data"
	case cover.Unlisted:
		if name = "not in the legend"; !math.IsNaN(p.value) {
			code = cover.ValueText(p.value)
		}
	case cover.Outside:
		name = "outside the raster"
		if z.of.Polygons {
			name = "outside the cover"
		}
	default:
		class := &z.of.Legend.Classes[p.class]
		code, name = class.ID(), class.Name
	}
	return kind, code, name, p.area, p.cells, p.cells * z.of.nominal
}

// Composition is the extent of each class in each zone.
type Composition struct {
	Epoch      string
	Unit       area.Unit
	Legend     *cover.Legend
	Zones      []ZoneSum
	HasLarger  bool // some of Zones are larger units
	Polygons   bool // the cover is polygons, so that there are no cells
	HasNominal bool // the grid has linear units, so that counting cells gives an area too
	Notes      []string
	Warnings   []string
	nominal    float64 // size of a cell in the unit, 0 for none
}

// mostRows is how many rows a composition has at most when all classes have one in every zone.
const mostRows = 1 << 22

// Compose makes the composition of every zone. A value for which the crosswalk has no line is an
// error that lists all such values with their cells.
func Compose(in Input, unit area.Unit) (*Composition, error) {
	meanings, err := Meanings(in.Coder, in.Raster, in.Tally, 0, 0)
	if err != nil {
		return nil, err
	}
	c := &Composition{Epoch: in.Epoch, Unit: unit, Legend: in.Coder.Shown()}
	if c.Legend == nil {
		c.Legend = LegendOf(meanings, Occurring(in.Tally, 0, 0), in.Palette)
	}
	nominal, hasNominal := in.Placement.Grid.NominalCellArea()
	c.HasNominal, c.nominal = hasNominal, nominal/unit.M2
	n := len(c.Legend.Classes)
	place := map[int]int{}
	for k, class := range c.Legend.Classes {
		place[class.Code] = k
	}
	cell := largestCell(in.Placement.Grid)
	parts := make([]tally.Extent, n+1) // of the classes, and of no data
	var values []tally.Value           // of the last zone, which the next one mostly has too
	var at []int                       // their places in parts, -1 for those that are unlisted
	// A row for each class in each zone, unless that is more than anyone can read.
	dense := len(in.Tally.Zones)*(n+3) <= mostRows
	var rows []part
	if dense {
		rows = make([]part, 0, len(in.Tally.Zones)*(n+3))
	} else {
		c.Notes = append(c.Notes, fmt.Sprintf("%d zones × %d classes: classes without ground in a zone have no row there", len(in.Tally.Zones), n))
	}
	c.Zones = make([]ZoneSum, 0, len(in.Tally.Zones))
	var trueSum, countSum float64
	for i, z := range in.Tally.Zones {
		if !SameValues(z.Values, values) {
			values, at = z.Values, at[:0]
			for _, v := range values {
				switch m := meanings[v[0]]; m.Kind {
				case cover.Classified:
					k, ok := place[m.Code]
					if !ok { // never: the coder and the legend it shows have the same classes
						return nil, fmt.Errorf("%s: the value %v becomes class %d, which is not in the legend", in.Raster, in.Tally.Number(0, 0, v[0]), m.Code)
					}
					at = append(at, k)
				case cover.NoData:
					at = append(at, n)
				default:
					at = append(at, -1)
				}
			}
		}
		clear(parts)
		var classified, all tally.Extent
		var unlisted []listedExtent
		for k, e := range z.Extents {
			all.Add(e)
			if at[k] < 0 {
				unlisted = append(unlisted, listedExtent{meanings[z.Values[k][0]].Value, e})
				continue
			}
			parts[at[k]].Add(e)
			if at[k] < n {
				classified.Add(e)
			}
		}
		o := &in.Placement.Outlines[i]
		sum := ZoneSum{ID: in.Zones.Zones[i].ID, Name: in.Zones.Zones[i].Name, Area: o.Area / unit.M2, Classified: classified.Area(in.Tally.Quantum) / unit.M2, of: c}
		if !dense {
			rows = make([]part, 0, min(len(z.Extents), n)+3+len(unlisted))
		}
		from := len(rows)
		add := func(class int32, value float64, e tally.Extent, area float64) {
			rows = append(rows, part{class, value, area, e.CellCount()})
		}
		area := func(e tally.Extent) float64 { return e.Area(in.Tally.Quantum) / unit.M2 }
		for k, e := range parts[:n] {
			if a := area(e); dense || e.CellCount() != 0 || a != 0 {
				add(int32(k), 0, e, a)
			}
		}
		add(noDataPart, 0, parts[n], area(parts[n]))
		if unlisted == nil {
			add(unlistedPart, math.NaN(), tally.Extent{}, 0)
		}
		for _, u := range unlisted { // in the order of their values
			add(unlistedPart, u.value, u.extent, area(u.extent))
		}
		add(outsidePart, 0, tally.Extent{}, o.Outside/unit.M2)
		sum.parts = rows[from:len(rows):len(rows)]
		measured := all.Area(in.Tally.Quantum)
		if o.Area > 0 {
			sum.Residual = (o.Area - o.Outside - measured) / o.Area
		}
		sum.Balances = math.Abs(sum.Residual)*o.Area <= math.Max(1e-9*o.Area, 1e-5*cell)
		if in.Centres {
			sum.Balances = math.Abs(sum.Residual) <= 0.01
		}
		c.Zones = append(c.Zones, sum)
		trueSum += measured
		countSum += all.CellCount() * nominal
	}
	c.remark(in, trueSum, countSum)
	return c, nil
}

// largestCell is about the true area of a cell in m².
func largestCell(g raster.Grid) float64 {
	x, y := g.Point(float64(g.Width)/2, float64(g.Height)/2)
	d, _ := g.CRS.Density(x, y)
	return d * math.Abs(g.DX*g.DY)
}

// remark writes the notes.
func (c *Composition) remark(in Input, trueSum, countSum float64) {
	c.Notes = append(c.Notes, SharedGround(in.Tally, in.Zones)...)
	if c.HasNominal && trueSum > 0 {
		d := (countSum - trueSum) / trueSum * 100
		switch {
		case in.Placement.Grid.CRS.EqualArea():
			c.Notes = append(c.Notes, "cells × nominal size gives the same area here, because the raster's CRS is equal-area")
		default:
			c.Notes = append(c.Notes, fmt.Sprintf("counting cells × nominal size would have been off by %+.4f %% (%+.*f %s in all)", d, digitsFor((countSum-trueSum)/c.Unit.M2), (countSum-trueSum)/c.Unit.M2, c.Unit.Name))
		}
	}
	if in.Placement.Grid.CRS.Geographic() {
		c.Notes = append(c.Notes, "the raster is in degrees, so a count of cells says nothing about area; true areas are measured on the ellipsoid")
	}
}

// SharedGround notes zones that share ground, each of which counts it.
func SharedGround(t *tally.Tally, set *zone.Set) []string {
	if len(t.ManyOverlaps) > 0 {
		return []string{"more than a thousand pairs of zones share ground, which counts in each of them: do not add them up"}
	}
	var pairs []string
	for _, p := range t.Overlaps {
		pairs = append(pairs, set.Zones[p[0]].ID+" and "+set.Zones[p[1]].ID)
	}
	if len(pairs) == 0 {
		return nil
	}
	what := "1 pair of zones shares ground, which counts in both"
	if n := len(pairs); n > 1 {
		what = fmt.Sprintf("%d pairs of zones share ground, which counts in both zones of each", n)
	}
	return []string{what + ": " + text.List(pairs, 5) + "; do not add them up"}
}

// digitsFor is how many decimals show a number with about three digits.
func digitsFor(v float64) int {
	v = math.Abs(v)
	for d, limit := range []float64{100, 10, 1, 0.1} {
		if v >= limit {
			return d
		}
	}
	return 4
}

// listedExtent is an extent of a value that is in no class.
type listedExtent struct {
	value  float64
	extent tally.Extent
}

// AddZone adds a zone of a composition of polygons, with the areas of its ground by what it is, and that of the ground outside the cover, in the
// unit.
func (c *Composition) AddZone(z ZoneSum, areas map[cover.Meaning]float64, outside float64) {
	z.parts, z.of = partsOf(c.Legend, areas, outside), c
	c.Zones = append(c.Zones, z)
}

// partsOf are the parts of a zone: each class of the legend, nodata, unlisted and outside.
func partsOf(l *cover.Legend, areas map[cover.Meaning]float64, outside float64) (out []part) {
	nan := math.NaN()
	for k, class := range l.Classes {
		out = append(out, part{int32(k), 0, areas[cover.Meaning{Kind: cover.Classified, Code: class.Code}], nan})
	}
	var nodata, unlisted float64
	for m, a := range areas {
		switch m.Kind {
		case cover.NoData:
			nodata += a
		case cover.Unlisted:
			unlisted += a
		}
	}
	return append(out, part{noDataPart, 0, nodata, nan}, part{unlistedPart, nan, unlisted, nan}, part{outsidePart, 0, outside, nan})
}
