package account

import (
	"fmt"
	"maps"
	"math"
	"slices"
	"sort"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
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
	PctOfZone               float64
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
	Rows       []Row
	// With larger units: the unit that holds most of the zone, "" for none; and whether this is such a unit itself.
	WithinID, WithinName string
	Unit                 bool
}

// Composition is the extent of each class in each zone.
type Composition struct {
	Epoch      string
	Unit       Unit
	Legend     *cover.Legend
	Zones      []ZoneSum
	HasUnits   bool // some of Zones are larger units
	Polygons   bool // the cover is polygons, so that there are no cells
	HasNominal bool // the grid has linear units, so that counting cells gives an area too
	Notes      []string
	Warnings   []string
}

// Compose makes the composition of every zone. A value for which the crosswalk has no line is an
// error that lists all such values with their cells.
func Compose(in Input, unit Unit) (*Composition, error) {
	meanings, err := decode(in.Coder, in.Raster, in.Tally.Zones, 0)
	if err != nil {
		return nil, err
	}
	c := &Composition{Epoch: in.Epoch, Unit: unit, Legend: in.Coder.Shown()}
	if c.Legend == nil {
		c.Legend = legendOf(meanings, in.Palette)
	}
	nominal, hasNominal := in.Placement.Grid.NominalCellArea()
	c.HasNominal = hasNominal
	n := len(c.Legend.Classes)
	place, codes := map[int]int{}, make([]string, n)
	for k, class := range c.Legend.Classes {
		place[class.Code], codes[k] = k, fmt.Sprint(class.Code)
	}
	cell := largestCell(in.Placement.Grid)
	parts := make([]tally.Extent, n+1) // of the classes, and of no data
	var values []tally.Value           // of the last zone, which the next one mostly has too
	var at []int                       // their places in parts, -1 for those that are unlisted
	rows := make([]Row, 0, len(in.Tally.Zones)*(n+3))
	c.Zones = make([]ZoneSum, 0, len(in.Tally.Zones))
	var trueSum, countSum float64
	for i, z := range in.Tally.Zones {
		if !sameList(z.Values, values) {
			values, at = z.Values, at[:0]
			for _, v := range values {
				switch m := meanings[v[0]]; m.Kind {
				case cover.Classified:
					k, ok := place[m.Code]
					if !ok { // never: the coder and the legend it shows have the same classes
						return nil, fmt.Errorf("%s: the value %v becomes class %d, which is not in the legend", in.Raster, v[0], m.Code)
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
		unlisted := map[float64]tally.Extent(nil)
		for k, e := range z.Extents {
			all.Add(e)
			if at[k] < 0 {
				if unlisted == nil {
					unlisted = map[float64]tally.Extent{}
				}
				value := meanings[z.Values[k][0]].Value
				u := unlisted[value]
				u.Add(e)
				unlisted[value] = u
				continue
			}
			parts[at[k]].Add(e)
			if at[k] < n {
				classified.Add(e)
			}
		}
		o := &in.Placement.Outlines[i]
		sum := ZoneSum{ID: in.Zones.Zones[i].ID, Name: in.Zones.Zones[i].Name, Area: o.Area / unit.M2, Classified: classified.Area(in.Tally.Unit) / unit.M2}
		from := len(rows)
		add := func(kind cover.Kind, code, name string, e tally.Extent, area float64) *Row {
			r := Row{Epoch: in.Epoch, ZoneID: sum.ID, ZoneName: sum.Name, Kind: kind, Code: code, Name: name, Area: area, Cells: e.CellCount()}
			r.NominalArea = r.Cells * nominal / unit.M2
			r.PctOfZone = Percent(area, sum.Area)
			rows = append(rows, r)
			return &rows[len(rows)-1]
		}
		area := func(e tally.Extent) float64 { return e.Area(in.Tally.Unit) / unit.M2 }
		for k, e := range parts[:n] {
			class := &c.Legend.Classes[k]
			r := add(cover.Classified, codes[k], class.Name, e, area(e))
			r.Color, r.PctOfClassified = class.Color, Percent(r.Area, sum.Classified)
		}
		add(cover.NoData, "", "no data", parts[n], area(parts[n]))
		if unlisted == nil {
			add(cover.Unlisted, "", "not in the legend", tally.Extent{}, 0)
		}
		for _, v := range slices.Sorted(maps.Keys(unlisted)) {
			add(cover.Unlisted, fmt.Sprint(v), "not in the legend", unlisted[v], area(unlisted[v]))
		}
		add(cover.Outside, "", "outside the raster", tally.Extent{}, o.Outside/unit.M2)
		sum.Rows = rows[from:len(rows):len(rows)]
		measured := all.Area(in.Tally.Unit)
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

// sameList reports whether two lists are one and the same.
func sameList(a, b []tally.Value) bool {
	return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0])
}

// Percent is a part in percent of a whole, 0 when there is none.
func Percent(part, whole float64) float64 {
	if whole == 0 {
		return 0
	}
	return part / whole * 100
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
	if t.ManyOverlaps {
		return []string{"more than a thousand pairs of zones share ground, which counts in each of them: do not add them up"}
	}
	var pairs []string
	for _, p := range t.Overlaps {
		pairs = append(pairs, set.Zones[p[0]].ID+" and "+set.Zones[p[1]].ID)
	}
	if len(pairs) == 0 {
		return nil
	}
	return []string{fmt.Sprintf("%d pair(s) of zones share ground, which counts in both: %s; do not add them up", len(pairs), listed(pairs, 5))}
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

func listed(items []string, most int) string {
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// decode says what each value of the n-th layer of a group counts as.
func decode(c *cover.Coder, name string, zones []tally.Zone, n int) (map[float64]cover.Meaning, error) {
	out := map[float64]cover.Meaning{}
	missing := map[float64]float64{}
	var last []tally.Value // of a zone whose values all have a line
	for _, z := range zones {
		if sameList(z.Values, last) {
			continue
		}
		before := len(missing)
		for i, v := range z.Values {
			m, ok := c.Code(v[n])
			if !ok {
				missing[v[n]] += z.Extents[i].CellCount()
			}
			out[v[n]] = m
		}
		if before == 0 && len(missing) == 0 {
			last = z.Values
		}
	}
	if len(missing) == 0 {
		return out, nil
	}
	var values []float64
	for v := range missing {
		values = append(values, v)
	}
	sort.Float64s(values)
	var items []string
	for _, v := range values {
		items = append(items, fmt.Sprintf("%v (%.0f cells)", v, math.Ceil(missing[v])))
	}
	return nil, fmt.Errorf("%s: %s has no line for %d value(s) that occur: %s: add lines for them, or one for else", name, c.Crosswalk.Source, len(values), listed(items, 12))
}

// legendOf makes a legend of the classes that occur.
func legendOf(meanings map[float64]cover.Meaning, palette []raster.Color) *cover.Legend {
	var codes []float64
	for _, m := range meanings {
		if m.Kind == cover.Classified {
			codes = append(codes, float64(m.Code))
		}
	}
	sort.Float64s(codes)
	return cover.LegendOfValues(codes, palette)
}
