package job

import (
	"cmp"
	"context"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
)

// ZoneTransition is a transition in a zone: the zone by its id or its name, the classes by their codes or names. The epochs are labels; without
// them they are the first and the last.
type ZoneTransition struct{ Zone, From, To, FromEpoch, ToEpoch string }

// ExplainTransition says what the ground is made of that was one class at an epoch and another at a later one.
func ExplainTransition(ctx context.Context, env Env, o ChangeOptions, of ZoneTransition) (*Explanation, *Report, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, nil, err
	}
	c := &comparison{work: w, o: &o, out: &Changed{Report: report, work: w}}
	defer c.out.Close()
	if err := c.open(); err != nil {
		return nil, nil, err
	}
	epochAt := func(label string, otherwise int) (int, error) {
		if label == "" {
			return otherwise, nil
		}
		k := slices.Index(c.labels, label)
		if k < 0 {
			return 0, fault.Misusef("epoch", label, "is none of the epochs (%s)", strings.Join(c.labels, ", "))
		}
		return k, nil
	}
	a, err := epochAt(of.FromEpoch, 0)
	if err != nil {
		return nil, nil, err
	}
	b, err := epochAt(of.ToEpoch, len(c.labels)-1)
	if err != nil {
		return nil, nil, err
	}
	if a >= b {
		return nil, nil, fault.Misusef("epoch", of.ToEpoch, "is not later than %s", c.labels[a])
	}
	one, at, err := oneZone(c.in.Zones, c.in.Placement, of.Zone)
	if err != nil {
		return nil, nil, err
	}
	x := &Explanation{FromEpoch: c.labels[a], Epoch: c.labels[b], ZoneID: one.Zones[0].ID, ZoneName: one.Zones[0].Name, Unit: c.terms.unit.Name, Edges: o.Edges,
		Rasters: []string{c.in.Rasters[a], c.in.Rasters[b]}, ZoneArea: at.Outlines[0].Area / c.terms.unit.M2}
	request := w.request(one, at, w.zonesKey(at), []raster.Source{c.layers[a], c.layers[b]}, []string{w.ownKey(0), w.ownKey(1)})
	request.Centres = o.centres()
	other := request
	other.Centres = !other.Centres
	x.OtherEdges = map[bool]string{true: "centre", false: "split"}[other.Centres]
	tallies, errs := tally.Together(ctx, []tally.Keyed{request, other})
	for _, err := range errs {
		if err != nil {
			return nil, nil, c.explain(err)
		}
	}
	if err := x.transition(c, tallies, [2]int{a, b}, of.From, of.To); err != nil {
		return nil, nil, err
	}
	if n, ok := at.Grid.NominalCellArea(); ok {
		x.NominalCell, x.Nominal = n, x.Cells*n/c.terms.unit.M2
	}
	if x.Cells > 0 {
		x.MeanCell = x.Area * c.terms.unit.M2 / x.Cells
	}
	return x, report, nil
}

// counted is what was counted in cells of an epoch: a value of its raster, or the class that the crosswalk made of it, where it was applied cell by cell.
func (c *comparison) counted(epoch int, v float64) string {
	if c.walks[epoch] != nil && c.in.Coders[epoch].Crosswalk == nil {
		return "class " + cover.ValueText(v)
	}
	return cover.ValueText(v)
}

// transition finds the pairs of values that a transition is made of.
func (x *Explanation) transition(c *comparison, tallies []*tally.Tally, epochs [2]int, from, to string) error {
	var classes [2]cover.Class
	for i, name := range []string{from, to} {
		class, err := c.classOf(epochs[i], tallies[0], i, [2]string{"from", "to"}[i], name)
		if err != nil {
			return err
		}
		classes[i] = class
	}
	x.FromCode, x.FromName, x.ClassCode, x.ClassName = classes[0].ID(), classes[0].Name, classes[1].ID(), classes[1].Name
	unit := c.terms.unit.M2
	for n, t := range tallies {
		var sum, opening tally.Extent
		for i, v := range t.Zones[0].Values {
			is := [2]bool{}
			for k := range 2 {
				if v[k] != tally.Missing {
					m, ok := c.in.Coders[epochs[k]].Code(t.Number(0, k, v[k]))
					is[k] = ok && m.Kind == cover.Classified && m.Code == classes[k].Code
				}
			}
			e := t.Zones[0].Extents[i]
			second, ok := cover.Meaning{}, false
			if v[1] != tally.Missing {
				second, ok = c.in.Coders[epochs[1]].Code(t.Number(0, 1, v[1]))
			}
			if is[0] && ok && second.Kind == cover.Classified {
				opening.Add(e)
			}
			if !is[0] || !is[1] {
				continue
			}
			sum.Add(e)
			if n == 0 {
				s := SourceShare{FromValue: c.counted(epochs[0], t.Number(0, 0, v[0])), Value: c.counted(epochs[1], t.Number(0, 1, v[1])), Cells: e.CellCount(), Area: e.Area(t.Quantum) / unit}
				x.Sources = append(x.Sources, s)
			}
		}
		if n == 1 {
			x.OtherEdgeArea = sum.Area(t.Quantum) / unit
			continue
		}
		x.Area, x.Cells = sum.Area(t.Quantum)/unit, sum.CellCount()
		if x.ZoneArea > 0 {
			x.PctOfZone = x.Area / x.ZoneArea * 100
		}
		if a := opening.Area(t.Quantum) / unit; a > 0 {
			x.PctOfOpening = x.Area / a * 100
		}
		for i := range x.Sources {
			x.Sources[i].Pct = x.Sources[i].Area / math.Max(x.Area, 1e-300) * 100
		}
		x.Blocks = t.Tiles
	}
	slices.SortStableFunc(x.Sources, func(a, b SourceShare) int { return cmp.Compare(b.Area, a.Area) })
	x.BlockW, x.BlockH = raster.WorkSize(c.layers[epochs[0]])
	g := c.in.Placement.Grid
	x.BlockW, x.BlockH = min(x.BlockW, g.Width), min(x.BlockH, g.Height)
	x.Of = ((g.Width + x.BlockW - 1) / x.BlockW) * ((g.Height + x.BlockH - 1) / x.BlockH)
	return nil
}

// classOf finds a class of an epoch by its code or its name.
func (c *comparison) classOf(epoch int, t *tally.Tally, k int, option, name string) (cover.Class, error) {
	legend := c.in.Coders[epoch].Shown()
	if legend == nil {
		legend = cover.LegendOfValues(t.Numbers[k][1:], c.in.Palette)
	}
	var names []string
	for _, class := range legend.Classes {
		if class.ID() == name || class.Name == name {
			return class, nil
		}
		names = append(names, strings.TrimSpace(class.ID()+" "+class.Name))
	}
	return cover.Class{}, fault.Misusef(option, name, "is none of the classes (%s)", text.List(names, 20))
}
