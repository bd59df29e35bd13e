package job

import (
	"context"
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// Features are zones that a job makes.
type Features struct {
	*vector.Layer
	*Report
}

// FeatureFile names a file of features, and says which of them are taken.
type FeatureFile struct {
	File           []string `arg:"FILE" in:"features"` // one
	FeatureOptions `group:"zones"`
	OverrideOption `group:"zones"`
}

// RadiusOption is the radius of circles.
type RadiusOption struct {
	Radius string `opt:"radius" help:"a <LENGTH> on the ground: 500m, 5km, 2mi"`
}

// PickOptions are those of [PickZones].
type PickOptions struct{ FeatureFile }

// PickZones takes the features of a file for which a condition holds.
func PickZones(ctx context.Context, env Env, o PickOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	l, err := w.readPicked(o.FeatureFile)
	return w.features(l, report, err)
}

// features makes the result of a job that makes features.
func (w *work) features(l *vector.Layer, report *Report, err error) (*Features, error) {
	if err != nil {
		return nil, err
	}
	w.note(l.Notes...)
	l.Notes = nil
	if err := needLayerCRS(l); err != nil {
		return nil, err
	}
	return &Features{l, report}, nil
}

// needLayerCRS refuses features that cannot be placed on the Earth.
func needLayerCRS(l *vector.Layer) error {
	if l.CRS != nil {
		return nil
	}
	return fault.Errorf("%s: %s", l.Source, l.CRSProblem).By("give its CRS", "zones-crs", "")
}

// readPicked reads the file that is named, and of it the features that the condition picks.
func (w *work) readPicked(o FeatureFile) (*vector.Layer, error) {
	if len(o.File) != 1 {
		return nil, fault.Misusef("", "", "one file of zones is needed, and %s", text.Given(len(o.File)))
	}
	l, err := w.loadLayer("features", o.File[0], SelectionOptions{FeatureOptions: o.FeatureOptions}, "")
	if err != nil {
		return nil, err
	}
	return pick(l, o.Where)
}

// pick keeps the features of a layer for which a condition holds, "" for all.
func pick(l *vector.Layer, where string) (*vector.Layer, error) {
	e, err := condition(where)
	if err != nil || e == nil {
		return l, err
	}
	picked, err := zone.Pick(l, e)
	if err != nil {
		return nil, err
	}
	features := make([]vector.Feature, len(picked))
	for i, k := range picked {
		features[i] = l.Features[k]
	}
	l.Notes = append(l.Notes, fmt.Sprintf("%s: the condition picks %d of its %s", l.Source, len(picked), text.Count(len(l.Features), "feature")))
	l.Features = features
	return l, nil
}

// MergeOptions are those of [MergeZones].
type MergeOptions struct {
	FeatureFile
	ZoneID string   `opt:"zone-id" help:"<FIELD> that identifies zones; features that share a value are one zone"`
	Sum    []string `opt:"sum" help:"<FIELD> of numbers to add up"`
	Keep   []string `opt:"keep" help:"<FIELD> of which to keep the first value"`
}

// MergeZones unites the outlines of features that share a value.
func MergeZones(ctx context.Context, env Env, o MergeOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if o.ZoneID == "" {
		return nil, fault.Misusef("", "", "nothing says which features belong together").By("name the field whose values are to be one zone each", "zone-id", "FIELD")
	}
	l, err := w.readPicked(o.FeatureFile)
	if err != nil {
		return nil, err
	}
	w.note(l.Notes...)
	out, left, err := zone.Merge(l, o.ZoneID, split(o.Sum), split(o.Keep))
	if err != nil {
		return nil, err
	}
	w.note(fmt.Sprintf("%s: %s became %d", l.Source, text.Count(len(l.Features), "feature"), len(out.Features)))
	if len(left) > 0 {
		w.note("fields in which merged features differ are left out: " + strings.Join(left, ", "))
	}
	return w.features(out, report, nil)
}

// CircleOptions are those of [CircleZones].
type CircleOptions struct {
	At []string `opt:"at" help:"<LON,LAT> in degrees; several make several circles"`
	RadiusOption
}

// CircleZones makes true circles around places. The corners lie at the radius on the ellipsoid, and the area is that of the circle to
// a few parts in 10⁸.
func CircleZones(ctx context.Context, env Env, o CircleOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, false)
	if err != nil {
		return nil, err
	}
	radius, err := metres("radius", o.Radius)
	if err != nil {
		return nil, err
	}
	if len(o.At) == 0 {
		return nil, fault.Misusef("", "", "no place is named").By("name the centre", "at", "LON,LAT")
	}
	l := &vector.Layer{Source: "the circles", Fields: []vector.Field{{Name: "zone_id"}, {Name: "longitude", Kind: vector.Real}, {Name: "latitude", Kind: vector.Real}, {Name: "radius_m", Kind: vector.Real}}}
	var places []string
	for i, at := range o.At {
		lon, lat, err := lonLat("at", at)
		if err != nil {
			return nil, err
		}
		s, err := zone.Circle(lon, lat, radius)
		if err != nil {
			return nil, err
		}
		l.CRS, l.Fine = s.CRS, radius < 1000
		l.Features = append(l.Features, vector.Feature{Values: []any{fmt.Sprintf("circle-%d", i+1), lon, lat, radius}, Geometry: vector.Geometry{Type: "Polygon", Polygons: s.Zones[0].Polygons}})
		places = append(places, fmt.Sprintf("%g° east, %g° north", lon, lat))
	}
	w.note("around " + text.List(places, 3)) // longitude and latitude are easily exchanged
	return w.features(l, report, nil)
}

// metres reads a length: a number with m, km, mi or ft; without a unit it is metres.
func metres(option, text string) (float64, error) {
	if text == "" {
		return 0, fault.Misusef("", "", "a length such as 500m or 5km is missing").By("give it", option, "LENGTH")
	}
	digits := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyz")
	units := map[string]float64{"": 1, "m": 1, "km": 1000, "mi": 1609.344, "ft": 0.3048}
	unit, known := units[strings.TrimSpace(text[len(digits):])]
	v, err := decimal.Finite(digits)
	if err != nil || !known || v <= 0 {
		return 0, fault.Misusef(option, text, "is not a length such as 500m, 5km, 2mi or 300ft")
	}
	return v * unit, nil
}

// BufferOptions are those of [BufferZones].
type BufferOptions struct {
	RadiusOption
	FeatureFile
}

// BufferZones makes true circles around the points of a file. Fields are kept.
func BufferZones(ctx context.Context, env Env, o BufferOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	radius, err := metres("radius", o.Radius)
	if err != nil {
		return nil, err
	}
	l, err := w.readPicked(o.FeatureFile)
	if err != nil {
		return nil, err
	}
	out, note, err := zone.Buffer(l, radius)
	if err == nil && note != "" {
		w.note(note)
	}
	if err == nil {
		out.Fine = radius < 1000
	}
	return w.features(out, report, err)
}

// SquareOptions are those of [SquareZones].
type SquareOptions struct {
	Area           []string `arg:"[ZONES]" in:"area"` // one; without it all of the raster of the grid
	Size           string   `opt:"size" help:"a <LENGTH> in the CRS of the squares: 500m, 1km"`
	SquaresCRS     string   `opt:"squares-crs" in:"CRS of the squares" help:"projected <CRS> of the squares, when the area is in degrees"`
	Grid           string   `opt:"grid" in:"grid" help:"the <RASTER> of whose cells the squares consist; without an area, all of it"`
	Cells          int      `opt:"cells" least:"0" most:"1000000000" help:"<N>, the cells along a side"`
	FeatureOptions `group:"zones"`
	OverrideOption `group:"zones"`
}

// SquareZones makes squares of which an area covers some part: on whole multiples of their size in a projected CRS, or of
// whole cells of a raster.
func SquareZones(ctx context.Context, env Env, o SquareOptions) (*Features, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if len(o.Area) > 1 || len(o.Area) == 0 && o.Grid == "" {
		return nil, fault.Misusef("", "", "one area is needed, as a file, a box, a circle or WKT, and %s", text.Given(len(o.Area)))
	}
	l, err := (*vector.Layer)(nil), error(nil)
	if o.Grid != "" {
		l, err = w.squaresOfCells(&o)
	} else {
		l, err = w.squaresOfSize(&o)
	}
	return w.features(l, report, err)
}

// area reads the area of squares.
func (w *work) area(o *SquareOptions) (*zone.Set, error) {
	return w.loadZones("area", o.Area[0], SelectionOptions{FeatureOptions: o.FeatureOptions}, "")
}

// squaresOfSize makes squares on whole multiples of their size.
func (w *work) squaresOfSize(o *SquareOptions) (*vector.Layer, error) {
	size, err := metres("size", o.Size)
	if err != nil {
		return nil, err
	}
	set, err := w.area(o)
	if err != nil {
		return nil, err
	}
	crs := set.CRS
	if o.SquaresCRS != "" {
		if crs, err = w.parseCRS(o.SquaresCRS); err != nil {
			return nil, err
		}
	}
	if crs.Geographic() {
		return nil, fault.Misusef("", "", "%s is in degrees, in which squares have no size", set.Source).By("name a projected CRS, such as an equal-area one for the place, with %", "squares-crs", "")
	}
	l, note, err := vector.Carry(set.Layer(), crs)
	if err != nil {
		return nil, err
	}
	if note != "" {
		w.note(note)
	}
	side := size / crs.Unit
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, f := range l.Features {
		for _, p := range f.Geometry.Polygons {
			b := vector.Box(p[0])
			c0, r0 = math.Min(c0, math.Floor(b[0]/side)), math.Min(r0, math.Floor(b[1]/side))
			c1, r1 = math.Max(c1, math.Ceil(b[2]/side)), math.Max(r1, math.Ceil(b[3]/side))
		}
	}
	if !(c1-c0 < 1e7 && r1-r0 < 1e7) {
		return nil, fault.Errorf("the grid would have %g × %g squares", c1-c0, r1-r0).Do("choose larger ones")
	}
	g := raster.Grid{Width: int(c1 - c0), Height: int(r1 - r0), X0: c0 * side, Y0: r1 * side, DX: side, DY: -side, CRS: crs}
	return zone.Squares(set, g, zone.Origin{Column: int(c0), Row: int(r1) - 1, Up: true})
}

// squaresOfCells makes squares of whole cells of a raster.
func (w *work) squaresOfCells(o *SquareOptions) (*vector.Layer, error) {
	switch {
	case o.Size != "":
		return nil, fault.Misusef("size", o.Size, "does not go with a grid, of whose cells the squares consist").By("give the cells along a side", "cells", "N")
	case o.SquaresCRS != "":
		return nil, fault.Misusef("squares-crs", o.SquaresCRS, "does not go with a grid, whose CRS the squares have")
	case o.Cells < 1:
		return nil, fault.Misusef("grid", o.Grid, "needs the number of cells along a side").By("give it", "cells", "N")
	}
	g, err := w.gridOfRaster(o.Grid)
	if err != nil {
		return nil, err
	}
	set := &zone.Set{Source: o.Grid, CRS: g.CRS}
	west, south, east, north := g.Bounds()
	set.Zones = []zone.Zone{{ID: "all", Polygons: []zone.Polygon{{{{west, south}, {east, south}, {east, north}, {west, north}}}}}}
	if len(o.Area) > 0 {
		if set, err = w.area(o); err != nil {
			return nil, err
		}
	}
	n, cells := o.Cells, g
	g.Width, g.Height = (g.Width+n-1)/n, (g.Height+n-1)/n
	g.DX, g.DY = g.DX*float64(n), g.DY*float64(n)
	return zone.Squares(set, g, zone.Origin{Cells: &cells, Side: n})
}
