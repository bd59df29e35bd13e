package job

import (
	"context"
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// MapOptions are those of [ReadMap].
type MapOptions struct {
	Covers         []string `arg:"COVER..." in:"cover"` // several are one raster
	ZoneOptions    `group:"zones"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
	ClassOptions   `group:"classes"`
	Crosswalk      string `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that turns values into classes: from,to,note"`
	Epoch          string `opt:"epoch" help:"<LABEL> of the date that the cover is of"`
}

// Mapped is a cover with zones on it, to be looked at. Its files stay open until Close.
type Mapped struct {
	Name      string
	Epoch     string
	Source    raster.Source
	Coder     *cover.Coder
	Legend    *cover.Legend // of the classes that are shown
	Zones     *zone.Set
	Placement *zone.Placement
	Whole     bool                // no zones are named
	Extents   *extent.Composition // nil where measuring would take long
	*Report

	layer *measured
}

// Close closes the files.
func (m *Mapped) Close() { m.layer.Close() }

// measuredAtOnce is how many cells the zones of a map may have for their extents to be measured.
const measuredAtOnce = 1 << 28

// ReadMap opens a cover with zones for a map. Extents are measured where that does not take long.
func ReadMap(ctx context.Context, env Env, o MapOptions) (_ *Mapped, err error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	t, err := w.readTerms(o.ClassOptions)
	if err != nil {
		return nil, err
	}
	paths, err := Rasters(w.env.files(), o.Covers, o.FromList)
	if err != nil {
		return nil, err
	}
	w.about(o.Epoch, &o.ZoneOptions)
	l, err := w.openCover(paths, o.Crosswalk, o.RasterOptions, &t)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			l.Close()
		}
	}()
	m := &Mapped{Name: l.name, Epoch: o.Epoch, Source: l.source, Coder: l.coder, Legend: t.shown(), Whole: o.Zones == "", Report: report, layer: l}
	if m.Zones, m.Placement, err = w.readZones(o.ZoneOptions, l.source.Header().Grid); err != nil {
		return nil, err
	}
	cells := 0
	for _, o := range m.Placement.Outlines {
		cells += (o.RowTo - o.RowFrom) * (o.ColTo - o.ColFrom)
	}
	if cells > measuredAtOnce {
		w.note(fmt.Sprintf("%s: its zones have too many cells to be measured for a map, so the legend has no areas", l.name))
		return m, nil
	}
	request := w.request(m.Zones, m.Placement, w.zonesKey(m.Placement), []raster.Source{l.source}, []string{l.key})
	request.Centres = o.centres()
	tallies, err := w.count("measuring", request)
	if err != nil {
		return nil, w.explainGap(err, l.plain, &t, l.walk)
	}
	m.Extents, err = extent.Compose(extent.Input{Epoch: o.Epoch, Raster: l.name, Tally: tallies[0], Zones: m.Zones, Placement: m.Placement, Palette: l.palette, Centres: request.Centres, Coder: l.coder}, t.unit)
	if err != nil {
		return nil, w.explainGap(err, l.plain, &t, l.walk)
	}
	m.Legend = m.Extents.Legend
	return m, nil
}

// Layer is the raster of an epoch on the cells of all, and what its values mean; n counts from the earliest.
func (c *Changed) Layer(n int) (raster.Source, *cover.Coder) {
	return c.all.layers[n], c.all.in.Coders[n]
}

// Placed are the zones of a comparison on the cells of its rasters.
func (c *Changed) Placed() (*zone.Set, *zone.Placement) { return c.all.in.Zones, c.all.in.Placement }

// PlaceZones reads zones and places them on a plane of their own CRS, of a thousand cells across, so that they can be drawn without a raster.
func PlaceZones(ctx context.Context, env Env, o ZoneOptions, override bool) (*zone.Set, *zone.Placement, error) {
	w, _, err := begin(ctx, env, &o, override)
	if err != nil {
		return nil, nil, err
	}
	set, err := w.loadZones("zones", o.Zones, o.SelectionOptions, o.ZoneNames)
	if err != nil {
		return nil, nil, err
	}
	w.note(set.Notes...)
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, z := range set.Zones {
		for _, p := range z.Polygons {
			b := vector.Box(p[0])
			x0, y0, x1, y1 = math.Min(x0, b[0]), math.Min(y0, b[1]), math.Max(x1, b[2]), math.Max(y1, b[3])
		}
	}
	if !(x1 > x0) || !(y1 > y0) {
		return nil, nil, fault.Errorf("%s: its zones have no extent", set.Source)
	}
	size := math.Max(x1-x0, y1-y0) / 1000
	g := raster.Grid{Width: int(math.Ceil((x1-x0)/size)) + 1, Height: int(math.Ceil((y1-y0)/size)) + 1, X0: x0, Y0: y1, DX: size, DY: -size, CRS: set.CRS}
	place, err := set.Place(g)
	return set, place, err
}
