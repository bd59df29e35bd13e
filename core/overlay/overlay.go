// Package overlay measures a cover of polygons in zones: outlines laid over each other, on the ellipsoid.
package overlay

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strconv"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/peterstace/simplefeatures/rtree"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/zone"
)

// Input is a cover of polygons and the zones that are laid over it.
type Input struct {
	Epoch  string
	Cover  *vector.Layer
	Field  string // of Cover: the code of a class, or its name
	Legend *cover.Legend
	Groups *cover.Groups
	Zones  *zone.Set // nil for the cover as a whole
}

// Lay makes the composition of zones from a cover of polygons. Zones are carried to the CRS of the cover, laid over its
// polygons exactly, and each piece is measured on the ellipsoid. Ground of a zone that no polygon covers is outside.
// Polygons of the cover that overlap count each, which a warning reports with the area.
func Lay(ctx context.Context, in Input, unit area.Unit) (*extent.Composition, error) {
	l := in.Cover
	if l.CRS == nil {
		return nil, fault.Errorf("%s: %s", l.Source, l.CRSProblem).By("give its CRS", "crs", "")
	}
	meanings, legend, err := coverClasses(l, in.Field, in.Legend)
	if err != nil {
		return nil, err
	}
	coder := &cover.Coder{Legend: legend, Groups: in.Groups}
	c := &extent.Composition{Epoch: in.Epoch, Unit: unit, Legend: coder.Shown(), Polygons: true}
	shapes, tree, err := soundShapes(l)
	if err != nil {
		return nil, err
	}
	if in.Zones == nil {
		return c, wholeCover(c, l, shapes, meanings, coder)
	}
	zones, note, err := vector.Carry(in.Zones.Layer(), l.CRS)
	if err != nil {
		return nil, err
	}
	if note != "" {
		c.Notes = append(c.Notes, note)
	}
	var overlapping []string
	for i := range zones.Features {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		z := &in.Zones.Zones[i]
		sum, shared, err := overlayZone(l, shapes, tree, meanings, coder, &zones.Features[i].Geometry, z, unit)
		if err != nil {
			return nil, fmt.Errorf("zone %s and %s: %w", z.ID, l.Source, err)
		}
		if take(c, sum); shared > rounding*sum.Area {
			overlapping = append(overlapping, fmt.Sprintf("%s (%.4g %s)", z.ID, shared, unit.Name))
		}
	}
	warnOverlap(c, l, overlapping)
	return c, nil
}

// rounding is the part of a zone that polygons may share by rounding alone.
const rounding = 1e-7

// take adds a zone that has been laid over the cover.
func take(c *extent.Composition, s laid) {
	c.AddZone(s.ZoneSum, s.parts, s.outside)
}

func warnOverlap(c *extent.Composition, l *vector.Layer, zones []string) {
	if len(zones) > 0 {
		c.Warnings = append(c.Warnings, fmt.Sprintf("polygons of %s overlap in %s, and ground that two share counts in both: %s", l.Source, text.Count(len(zones), "zone"), text.List(zones, 5)))
	}
}

// wholeCover takes the ground of all polygons for the one zone.
func wholeCover(c *extent.Composition, l *vector.Layer, shapes []geom.Geometry, meanings []cover.Meaning, coder *cover.Coder) error {
	s := laid{ZoneSum: extent.ZoneSum{ID: "all", Name: "whole cover", Balances: true}, parts: map[cover.Meaning]float64{}}
	total := 0.0
	var all []geom.Geometry
	for k := range l.Features {
		own := vector.FromGeom(shapes[k])
		if area := groundOf(l, &own) / c.Unit.M2; area > 0 {
			s.add(meanings[k], coder, area)
			total += area
			all = append(all, shapes[k])
		}
	}
	u, err := vector.Union(all)
	if err != nil {
		return fmt.Errorf("%s: its polygons cannot be united (%w)", l.Source, err)
	}
	whole := vector.FromGeom(u)
	s.Area = groundOf(l, &whole) / c.Unit.M2
	if take(c, s); total-s.Area > rounding*s.Area {
		warnOverlap(c, l, []string{fmt.Sprintf("all (%.4g %s)", total-s.Area, c.Unit.Name)})
	}
	return nil
}

// soundShapes are the polygons of a layer as geometries, and a tree of their extents.
func soundShapes(l *vector.Layer) ([]geom.Geometry, *rtree.RTree, error) {
	shapes := make([]geom.Geometry, len(l.Features))
	var items []rtree.BulkItem
	for i := range l.Features {
		g := &l.Features[i].Geometry
		if len(g.Polygons) == 0 {
			continue
		}
		if err := zone.CheckRings(g, l.CRS); err != nil {
			return nil, nil, fmt.Errorf("%s: feature %d: %w", l.Source, i+1, err)
		}
		var err error
		if shapes[i], err = vector.ShapeAround(l.CRS, g); err != nil {
			return nil, nil, fmt.Errorf("%s: the outline of feature %d is not valid (%w)", l.Source, i+1, err)
		}
		if box, ok := shapes[i].Envelope().AsBox(); ok {
			items = append(items, rtree.BulkItem{Box: box, RecordID: i})
		}
	}
	if len(items) == 0 {
		return nil, nil, fmt.Errorf("%s: it holds no polygons, so it is not a cover", l.Source)
	}
	return shapes, rtree.BulkLoad(items), nil
}

// laid is a zone with the areas of what it is laid over, in the unit.
type laid struct {
	extent.ZoneSum
	parts   map[cover.Meaning]float64
	outside float64
}

// overlayZone lays one zone over the cover; shared is the area that several polygons cover, each time but once.
func overlayZone(l *vector.Layer, shapes []geom.Geometry, tree *rtree.RTree, meanings []cover.Meaning, coder *cover.Coder, g *vector.Geometry, z *zone.Zone, unit area.Unit) (s laid, shared float64, err error) {
	s.ZoneSum = extent.ZoneSum{ID: z.ID, Name: z.Name, Balances: true, Area: groundOf(l, g) / unit.M2}
	s.parts = map[cover.Meaning]float64{}
	shape, err := vector.ShapeAround(l.CRS, g)
	if err != nil {
		return s, 0, err
	}
	box, ok := shape.Envelope().AsBox()
	if !ok {
		return s, 0, nil
	}
	var pieces []geom.Geometry
	total := 0.0
	err = tree.RangeSearch(box, func(k int) error {
		both, err := vector.Intersection(shape, shapes[k])
		if err != nil {
			return err
		}
		piece := vector.FromGeom(both)
		area := groundOf(l, &piece) / unit.M2
		if area == 0 {
			return nil
		}
		s.add(meanings[k], coder, area)
		total += area
		pieces = append(pieces, (&vector.Geometry{Polygons: piece.Polygons}).Geom(true))
		return nil
	})
	if err != nil {
		return s, 0, err
	}
	covered := 0.0
	if len(pieces) > 0 {
		u, err := vector.Union(pieces)
		if err != nil {
			return s, 0, err
		}
		all := vector.FromGeom(u)
		covered = groundOf(l, &all) / unit.M2
	}
	if s.outside = s.Area - covered; s.outside < 1e-9*s.Area { // rounding
		s.outside = 0
	}
	return s, math.Max(0, total-covered), nil
}

// add adds a piece of the cover, by group where groups are wanted.
func (s *laid) add(m cover.Meaning, coder *cover.Coder, area float64) {
	if m.Kind == cover.Classified {
		m, _ = coder.Code(float64(m.Code))
		s.Classified += area
	}
	s.parts[m] += area
}

// groundOf is the area of polygons on the ellipsoid in m².
func groundOf(l *vector.Layer, g *vector.Geometry) float64 {
	a, _ := vector.Area(l.CRS, g) // what was carried to the CRS lies where it is defined
	return a
}

// coverClasses says what each feature counts as, by the code or the name in a field. Without a legend one is made of the
// values.
func coverClasses(l *vector.Layer, field string, legend *cover.Legend) ([]cover.Meaning, *cover.Legend, error) {
	k, err := zone.Need(l, field, "class-field")
	if err != nil {
		return nil, nil, err
	}
	codes := map[string]int{}
	if legend == nil {
		var names []string
		for i := range l.Features {
			if v := l.Cell(i, k); v != "" && !slices.Contains(names, v) {
				names = append(names, v)
			}
		}
		whole := l.Fields[k].Kind == vector.Integer // and no codes are so large that a legend cannot hold them
		for i := range l.Features {
			n, _ := vector.Number(l.Features[i].Values[k])
			whole = whole && math.Abs(n) < decimal.Exact
		}
		slices.SortFunc(names, func(a, b string) int {
			if whole && len(a) != len(b) {
				return cmp.Compare(len(a), len(b))
			}
			return cmp.Compare(a, b)
		})
		var classes []cover.Class
		for i, n := range names {
			class := cover.Class{Code: i + 1, Name: n, Color: cover.Shade(i), NoCode: true}
			if v, err := parseCode(n); whole && err == nil {
				class.Code, class.NoCode = v, false
			}
			classes = append(classes, class)
		}
		if legend, err = cover.NewLegend("", classes); err != nil {
			return nil, nil, err
		}
	}
	for _, class := range legend.Classes {
		codes[class.Name] = class.Code
	}
	out := make([]cover.Meaning, len(l.Features))
	for i := range l.Features {
		v := l.Features[i].Values[k]
		written := l.Cell(i, k)
		code, named := codes[written]
		if n, err := parseCode(written); !named && err == nil {
			if _, known := legend.Find(n); known {
				code, named = n, true
			}
		}
		switch {
		case written == "":
			out[i] = cover.Meaning{Kind: cover.NoData}
		case named:
			out[i] = cover.Meaning{Kind: cover.Classified, Code: code}
		default:
			n, _ := vector.Number(v)
			out[i] = cover.Meaning{Kind: cover.Unlisted, Value: n}
		}
	}
	return out, legend, nil
}

func parseCode(cell string) (int, error) {
	plain, err := text.Code(cell)
	if err != nil {
		return 0, err
	}
	return strconv.Atoi(plain)
}
