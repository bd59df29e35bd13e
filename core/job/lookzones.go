package job

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// ZonesLook is what a file of zones holds.
type ZonesLook struct {
	File        string
	Format      string            // such as GeoPackage
	Layer       string            // its name, "" for none
	Layers      []geopackage.Info // of a GeoPackage
	Several     bool              // there are several layers, and none was named: there is no more than their list
	CRS         string
	Features    int
	Kinds       map[string]int // of geometry
	Pieces      int
	Vertices    int
	Area        float64 // hectares
	Fields      []zone.Field
	Zones       []ZoneLine
	Raster      string       // that the zones were compared with, "" for none
	FieldValues []FieldValue // of the field that was asked for
	Findings    []Finding
	Notes       []string
	*Report
}

// ZoneLine is one zone.
type ZoneLine struct {
	ID, Name string
	Pieces   int
	Area     float64 // hectares
	OnRaster float64 // percent of the zone that lies on the raster
}

// FieldValue is a value of a field, with the features that have it.
type FieldValue struct {
	Value    string
	Features int
	Area     float64 // hectares
}

var formatNames = map[string]string{"geojson": "GeoJSON", "geopackage": "GeoPackage", "shapefile": "shapefile", "parquet": "GeoParquet", "kml": "KML", "zip": "ZIP archive", "table": "table in text"}

// Kinds of what [LookKind] finds.
const (
	LookAtRasters = iota
	LookAtZones
)

// LookKind says whether files are rasters, or one file of zones with or without a raster, which it puts behind the zones.
func LookKind(env Env, paths []string) (kind int, ordered []string, err error) {
	w := &work{env: env}
	isVector := func(p string) bool {
		_, _, catalog := w.isCatalog(p)
		return !catalog && isVector(env.files(), p)
	}
	vectors := 0
	for _, p := range paths {
		if isVector(p) {
			vectors++
		}
	}
	switch {
	case vectors == 0:
		return LookAtRasters, paths, nil
	case vectors == 1 && len(paths) == 2 && isVector(paths[1]):
		return LookAtZones, []string{paths[1], paths[0]}, nil
	case vectors == 1 && len(paths) <= 2:
		return LookAtZones, paths, nil
	}
	return 0, nil, fault.Misusef("", "", "these files cannot be looked at together").Do("name several rasters, one file of zones, or one of each")
}

// LookZones finds what a file of zones holds, what will go wrong with it, and how its zones lie on a raster that is named behind it.
func LookZones(ctx context.Context, env Env, o LookOptions) (*ZonesLook, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	where := o.Files[0]
	path, layer := vectors.Split(where)
	kind, err := vectors.Kind(w.env.files(), path)
	if err != nil {
		return nil, err
	}
	z := &ZonesLook{File: path, Format: formatNames[kind], Report: report}
	if kind == "geopackage" {
		w.reads("file", path)
		if z.Layers, err = geopackage.Layers(w.env.files(), path); err != nil {
			return nil, err
		}
		if layer == "" && len(z.Layers) > 1 {
			z.Several = true
			return z, nil
		}
	}
	l, err := w.loadLayer("file", where, SelectionOptions{FeatureOptions: FeatureOptions{Where: o.Where, ZonesCRS: o.ZonesCRS}}, "")
	if err != nil {
		return nil, err
	}
	if l, err = pick(l, o.Where); err != nil {
		return nil, err
	}
	z.Layer = l.Name
	if o.Values != "" {
		z.Notes = l.Notes
		z.FieldValues, err = fieldValues(l, o.Values)
		return z, err
	}
	set := z.inspect(l, o.SelectionOptions)
	if len(o.Files) > 1 {
		if set == nil {
			_, err := zone.FromLayer(l, zone.Selection{IDField: o.ZoneID, NameField: o.ZoneName})
			return nil, err
		}
		err = w.onRaster(z, set, o.Files[1], &o)
	}
	return z, err
}

// inspect fills the look from a layer, and returns its zones, nil when there are none.
func (z *ZonesLook) inspect(l *vector.Layer, o SelectionOptions) *zone.Set {
	in := zone.Inspect(l)
	z.Features, z.Kinds, z.Pieces, z.Vertices = len(l.Features), in.Kinds, in.Pieces, in.Vertices
	z.Fields, z.Notes = zone.Describe(l), l.Notes
	for _, a := range in.Areas {
		if !math.IsNaN(a) {
			z.Area += a / 1e4
		}
	}
	for _, p := range in.Problems {
		z.Findings = append(z.Findings, Finding{What: p})
	}
	if !in.Checked && in.Pieces > 0 {
		z.Notes = append(z.Notes, "overlaps and gaps were not looked for, because there are many corners or some outlines cross themselves")
	}
	if l.CRS == nil {
		z.CRS = "none: " + l.CRSProblem
		z.Findings = append(z.Findings, Finding{"without a CRS the zones cannot be placed", &Remedy{When: "give it", Options: []fault.Remedy{{Option: "zones-crs", Value: "EPSG:<number>"}}}})
		return nil
	}
	z.CRS = l.CRS.String()
	set, err := zone.FromLayer(l, zone.Selection{IDField: o.ZoneID, NameField: o.ZoneName})
	if err != nil {
		z.Findings = append(z.Findings, Finding{What: err.Error()})
		return nil
	}
	z.Notes = set.Notes
	for _, s := range set.Zones {
		line := ZoneLine{ID: s.ID, Name: s.Name, Pieces: len(s.Polygons)}
		for _, p := range s.Polygons {
			for _, ring := range p {
				a, _ := set.CRS.OutlineArea(ring)
				line.Area += a / 1e4
			}
		}
		z.Zones = append(z.Zones, line)
	}
	return set
}

// onRaster finds what part of each zone lies on a raster.
func (w *work) onRaster(z *ZonesLook, set *zone.Set, path string, o *LookOptions) error {
	src, err := w.openWith("file", []string{path}, "", RasterOptions{SourceOptions: SourceOptions{CRS: o.CRS}})
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return err
	}
	z.Raster = path
	place, err := set.Place(src.Header().Grid)
	if err != nil {
		return err
	}
	z.Notes = append(z.Notes, place.Notes...)
	var partly, beside []string
	for i, o := range place.Outlines {
		share := 1 - o.Outside/o.Area
		z.Zones[i].OnRaster = 100 * share
		switch {
		case share < 1e-9:
			beside = append(beside, set.Zones[i].ID)
		case share < 1-1e-6:
			partly = append(partly, fmt.Sprintf("%s (%.1f %%)", set.Zones[i].ID, 100*share))
		}
	}
	if n := len(partly); n > 0 {
		z.Findings = append(z.Findings, Finding{fmt.Sprintf("%s %s only partly on %s: %s", text.Count(n, "zone"), verb(n, "lies", "lie"), path, text.List(partly, 5)), &Remedy{When: "a measure reports the rest as outside"}})
	}
	if n := len(beside); n > 0 {
		z.Findings = append(z.Findings, Finding{fmt.Sprintf("%s %s beside %s: %s", text.Count(n, "zone"), verb(n, "lies", "lie"), path, text.List(beside, 5)), &Remedy{When: "check that both lie in the same place and that their CRSs are right"}})
	}
	if crs := src.Header().Grid.CRS; !set.CRS.Same(crs) {
		z.Notes = append(z.Notes, fmt.Sprintf("the raster is in %v: the zones are carried to its grid and need not be converted", crs))
	}
	return nil
}

// fieldValues lists the values of a field with their features and areas, the most frequent first.
func fieldValues(l *vector.Layer, field string) ([]FieldValue, error) {
	k, err := zone.Need(l, field, "values")
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	var lines []FieldValue
	for i := range l.Features {
		f := &l.Features[i]
		text := "(none)"
		if f.Values[k] != nil {
			text = l.Cell(i, k)
		}
		n, ok := at[text]
		if !ok {
			n = len(lines)
			at[text] = n
			lines = append(lines, FieldValue{Value: text})
		}
		lines[n].Features++
		area, _ := vector.Area(l.CRS, &f.Geometry) // none without a CRS
		lines[n].Area += area / 1e4
	}
	slices.SortStableFunc(lines, func(a, b FieldValue) int { return cmp.Or(b.Features-a.Features, cmp.Compare(b.Area, a.Area)) })
	return lines, nil
}
