package job

import (
	"context"
	"iter"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geojson"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
)

// PatchOptions are those of [FindPatches].
type PatchOptions struct {
	Covers         []string `arg:"COVER..." in:"cover"`
	Class          string   `opt:"class" help:"<CLASSES>: codes, or names of the legend, separated by commas; without it all"`
	LegendOption   `group:"classes"`
	Neighbours     int     `opt:"neighbours" default:"4" help:"<4> for cells that share a side, or 8 for those that touch at a corner, too"`
	MinArea        float64 `opt:"min-area" least:"0" help:"leave out pieces smaller than <AREA>, in the unit of areas"`
	UnitOption     `group:"classes"`
	At             string   `opt:"at" help:"<LON,LAT> in degrees: only the piece at this place"`
	Set            []string `opt:"set" help:"<NAME=VALUE>, a text that every piece gets"`
	Smooth         bool     `opt:"smooth" help:"cut the corners of the outlines; areas stay those of the cells"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// Patches are the connected pieces of classes of a cover. They are found as they are asked for.
type Patches struct {
	Name   string // of the cover
	Legend *cover.Legend
	Unit   area.Unit
	Set    [][2]string // texts for every piece: name and value
	Smooth bool
	CRS    *earth.CRS // of the cover
	*Report

	src      *cells
	request  patch.Request
	rounding *earth.Rounding // from cells to degrees
	work     *work
}

// Close closes the cover.
func (p *Patches) Close() { p.src.Close() }

// Find finds the patches and hands each over when it is complete. It returns how many were left out because they are too small; none
// found is an error. Temporary files go to the folder dir. Tracer traces the outline of a patch.
func (p *Patches) Find(ctx context.Context, dir string, each func(*patch.Patch) error) (small int, err error) {
	tell, end := p.work.progress("tracing")
	defer end()
	found := 0
	req := p.request
	req.Dir, req.Progress = dir, tell
	req.Found = func(x *patch.Patch) error {
		found++
		return each(x)
	}
	if small, err = patch.Find(ctx, req); err == nil && found == 0 {
		err = p.nothing(small)
	}
	return small, err
}

// Tracer returns a tracer of outlines: from cells to degrees on WGS 84, within a thousandth of a cell, rounded to the decimals that GeoJSON is written with. Straight borders of cells are
// curves in degrees, which get points for that. Each serves one goroutine.
func (p *Patches) Tracer() *earth.RoundedTracer { return p.rounding.Tracer() }

// Feature is a patch as a feature in the CRS of the cover, whose corners are those of its cells. Its values are those of Fields.
func (p *Patches) Feature(x *patch.Patch) (vector.Feature, error) {
	g := p.src.Header().Grid
	var out vector.Feature
	err := x.Rings(func(shell bool, n int64, points iter.Seq[[2]int32]) error {
		ring := make(vector.Ring, 0, n)
		corners := patch.Corners(points)
		if p.Smooth {
			corners = patch.Smooth(points)
		}
		for q := range corners {
			ring = append(ring, vector.Point{g.X0 + q[0]*g.DX, g.Y0 + q[1]*g.DY})
		}
		if shell {
			out.Geometry.Polygons = append(out.Geometry.Polygons, vector.Polygon{ring})
		} else if n := len(out.Geometry.Polygons) - 1; n >= 0 {
			out.Geometry.Polygons[n] = append(out.Geometry.Polygons[n], ring)
		}
		return nil
	})
	name := any(nil)
	if class, ok := p.Legend.Find(int(x.Class)); ok {
		name = class.Name
	}
	out.Values = []any{x.ID, int64(x.Class), name, x.Cells, x.Area / p.Unit.M2, p.Unit.Name}
	for _, s := range p.Set {
		out.Values = append(out.Values, s[1])
	}
	return out, err
}

// Fields are those of the features.
func (p *Patches) Fields() []vector.Field {
	out := []vector.Field{{Name: "patch_id", Kind: vector.Integer}, {Name: "class_code", Kind: vector.Integer}, {Name: "class_name"}, {Name: "cells", Kind: vector.Integer}, {Name: "area", Kind: vector.Real}, {Name: "unit"}}
	for _, s := range p.Set {
		out = append(out, vector.Field{Name: s[0]})
	}
	return out
}

// nothing says why no piece was found.
func (p *Patches) nothing(small int) error {
	switch {
	case p.request.At != nil && small > 0:
		return fault.Errorf("%s: the piece at that place is too small", p.Name).By("allow it", "min-area", "")
	case p.request.At != nil:
		return fault.Errorf("%s: no piece of the chosen classes lies at that place", p.Name).Do("check the place, whose longitude comes first").Do("look at the values of the raster")
	case small > 0:
		return fault.Errorf("%s: all %d pieces are too small", p.Name, small).By("allow smaller ones", "min-area", "")
	}
	return fault.Errorf("%s: it holds no cell of the chosen classes", p.Name).Do("look at the values of the raster")
}

// FindPatches prepares to find the connected pieces of the chosen classes of a cover.
func FindPatches(ctx context.Context, env Env, o PatchOptions) (_ *Patches, err error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	p := &Patches{Unit: o.unit(), Smooth: o.Smooth, Report: report, work: w}
	p.request.Least = o.MinArea * p.Unit.M2
	switch o.Neighbours {
	case 0, 4, 8:
		p.request.Eight = o.Neighbours == 8
	default:
		return nil, fault.Misusef("neighbours", strconv.Itoa(o.Neighbours), "is not valid").Do("choose 4 or 8")
	}
	for _, text := range o.Set {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, fault.Misusef("set", text, "does not have the form NAME=VALUE")
		}
		if slices.Contains([]string{"patch_id", "class_code", "class_name", "cells", "area", "unit"}, name) {
			return nil, fault.Misusef("set", text, "has the name of a column that every piece has").Do("choose another")
		}
		p.Set = append(p.Set, [2]string{name, value})
	}
	if p.Legend, err = w.readLegend(o.Legend); err != nil {
		return nil, err
	}
	classes, err := chosenClasses(o.Class, p.Legend)
	if err != nil {
		return nil, err
	}
	p.request.Keep = func(v float64) bool { return classes == nil || classes[v] }
	if p.src, err = w.openAll(o.Covers, o.ListOption, o.RasterOptions); err != nil {
		return nil, err
	}
	p.Name = p.src.path
	if err = p.ready(o.At); err != nil {
		p.src.Close()
		return nil, err
	}
	return p, nil
}

// chosenClasses reads codes and names of classes, nil for all.
func chosenClasses(text string, legend *cover.Legend) (map[float64]bool, error) {
	if text == "" {
		return nil, nil
	}
	out := map[float64]bool{}
	for _, part := range strings.Split(text, ",") {
		part = strings.TrimSpace(part)
		if v, err := strconv.Atoi(part); err == nil {
			out[float64(v)] = true
			continue
		}
		found := false
		var names []string
		if legend != nil {
			for _, class := range legend.Classes {
				names = append(names, class.Name)
				if class.Name == part {
					out[float64(class.Code)], found = true, true
				}
			}
		}
		switch {
		case !found && legend == nil:
			return nil, fault.Misusef("class", part, "is not a code").By("write a code, or name the legend that has the class", "legend", "FILE")
		case !found:
			return nil, fault.Errorf("the class %q is not in the legend %s (%s)", part, legend.Source, strings.Join(names, ", ")).Do("check the name")
		}
	}
	return out, nil
}

// ready checks the raster and prepares the way from its cells to longitude and latitude on WGS 84.
func (p *Patches) ready(at string) error {
	if err := p.src.needCRS(); err != nil {
		return err
	}
	h := p.src.Header()
	if h.Type.Floating() {
		return fault.Errorf("%s: its cells are floating-point numbers, so they are measurements", p.Name).Through("put them into classes first", "reclassify")
	}
	g := h.Grid
	p.CRS = g.CRS
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return err
	}
	west, south, east, north, _ := g.GeographicBounds()
	shift, note, err := earth.NewShift(g.CRS, wgs84, (west+east)/2, (south+north)/2)
	if err != nil {
		return fault.Errorf("%s: %w", p.Name, err)
	}
	if note != "" {
		p.work.note(note)
	}
	own := g.CRS.On(wgs84, shift)
	toDegrees := func(q [2]float64) ([2]float64, bool) {
		lon, lat, ok := own.ToGeographic(g.Point(q[0], q[1]))
		return [2]float64{lon * 180 / math.Pi, lat * 180 / math.Pi}, ok
	}
	// GeoJSON wants shells counter-clockwise. Those of patches run clockwise where rows count downwards, and a CRS can be a mirror image of the ground.
	p.request.Source, p.request.Reversed = p.src, (g.DY < 0) != g.CRS.Mirrored()
	a, _ := toDegrees([2]float64{float64(g.Width) / 2, float64(g.Height) / 2})
	b, _ := toDegrees([2]float64{float64(g.Width)/2 + 1, float64(g.Height)/2 + 1})
	size := math.Max(1e-9, math.Min(math.Abs(a[0]-b[0]), math.Abs(a[1]-b[1])))
	lattice := max(10000/(size*111000), float64(max(g.Width, g.Height))/256, 1) // cells: 10 km, and at most 256 × 256
	tolerance := earth.Tolerance{Longest: 512, Absolute: size / 1000, Straight: 1e-9, Bend: earth.NewBend(toDegrees, lattice)}
	square := math.Min(512, 8000/(size*111000)) // cells: 8 km
	if square < 8 {
		square = 0 // making the polynomials would take longer than they save
	}
	p.rounding = earth.NewRounding(toDegrees, tolerance, math.Pow10(-geojson.Decimals), square)
	return p.place(at, g, wgs84, shift)
}

// place finds the cell of a place in longitude and latitude, "" for none.
func (p *Patches) place(text string, g raster.Grid, wgs84 *earth.CRS, shift *earth.Shift) error {
	if text == "" {
		return nil
	}
	lon, lat, err := lonLat("at", text)
	if err != nil {
		return err
	}
	x, y, ok := g.CRS.On(wgs84, shift).FromGeographic(lon*math.Pi/180, lat*math.Pi/180)
	col, row := g.Cell(x, y)
	if !ok || col < 0 || row < 0 || col >= float64(g.Width) || row >= float64(g.Height) {
		return fault.Errorf("%s: the place %s lies outside it", p.Name, text).Do("check it: the longitude comes first")
	}
	p.request.At = &[2]int{int(col), int(row)}
	return nil
}

// lonLat reads a place in degrees, the longitude first.
func lonLat(option, text string) (lon, lat float64, err error) {
	a, b, ok := strings.Cut(text, ",")
	lon, err1 := decimal.Finite(a)
	lat, err2 := decimal.Finite(b)
	if !ok || err1 != nil || err2 != nil || math.Abs(lat) > 90 || math.Abs(lon) > 360 {
		return 0, 0, fault.Misusef(option, text, "does not have the form LON,LAT in degrees, such as 12.52,58.31")
	}
	return lon, lat, nil
}
