package job

import (
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/features"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// FeatureOptions say which features of a file are read, and where they lie.
type FeatureOptions struct {
	Where    string `opt:"where" help:"only the features for which a <CONDITION> in CQL2 holds, such as \"district = 'North' AND people > 500\""`
	ZonesCRS string `opt:"zones-crs" in:"CRS of the zones" help:"<CRS> of the zones, for a file that does not state one"`
}

// SelectionOptions say which features of a file are which zones.
type SelectionOptions struct {
	ZoneID   string `opt:"zone-id" help:"<FIELD> that identifies zones; features that share a value are one zone"`
	ZoneName string `opt:"zone-name" help:"<FIELD> with the names of zones"`
	FeatureOptions
}

// ZoneOptions name the zones to report on.
type ZoneOptions struct {
	Zones string `opt:"zones" in:"zones" help:"<ZONES>: a file of outlines (FILE#LAYER names a layer), a raster of zone ids, bbox:W,S,E,N in degrees, geo:LAT,LON;u=METRES for a circle, or WKT; without it the whole raster is the one zone"`
	SelectionOptions
	ZoneNames string `opt:"zone-names" in:"names of zones" help:"CSV <FILE> with the columns code and name, for a raster of zone ids"`
	Edges     string `opt:"edges" choose:"split,centre" help:"<split> gives each zone its exact share of the cells that its outline cuts; centre gives it the cells whose centres it holds"`
}

// given returns the first option that says something about zones, "" for none.
func (o ZoneOptions) given() string {
	for _, f := range []struct{ name, value string }{{"zone-id", o.ZoneID}, {"zone-name", o.ZoneName}, {"zone-names", o.ZoneNames}, {"zones-crs", o.ZonesCRS}, {"where", o.Where}} {
		if f.value != "" {
			return f.name
		}
	}
	return ""
}

// needZones refuses options about zones where none are named.
func (o ZoneOptions) needZones() error {
	if name := o.given(); o.Zones == "" && name != "" {
		return fault.Misusef(name, "", "is about zones, and none are named").By("name them", "zones", "")
	}
	return nil
}

func (o ZoneOptions) centres() bool { return o.Edges == "centre" }

// isVector reports whether a path, with or without #LAYER, names a file of features.
func isVector(from files.System, where string) bool {
	path, _ := vectors.Split(where)
	kind, err := vectors.Kind(from, path)
	return err == nil && kind != ""
}

// readsBeside records the files beside one that are read with it: the parts of a shapefile, the CRS of an ASCII grid, what places a TIFF.
func (w *work) readsBeside(role, path string) {
	for _, p := range existing(w.env.files(), Beside(path)) {
		w.reads(role, p)
	}
}

// existing are the files of a list that exist.
func existing(from files.System, paths []string) (out []string) {
	for _, p := range paths {
		if files.Exists(from, p) {
			out = append(out, p)
		}
	}
	return out
}

// Beside returns the files beside one that are read with it, whether they exist or not: the parts of a shapefile, the CRS
// of an ASCII grid, and what places a TIFF.
func Beside(path string) []string {
	var endings []string
	switch strings.ToLower(files.Ext(path)) {
	case ".shp":
		endings = []string{".dbf", ".shx", ".prj", ".cpg"}
	case ".asc":
		endings = []string{".prj"}
	case ".tif", ".tiff":
		if !files.IsURL(path) {
			endings = append(slices.Clone(geotiff.WorldFiles), ".prj")
		}
	}
	var out []string
	for _, e := range endings {
		out = append(out, files.Beside(path, e))
	}
	return out
}

// condition reads a condition of an option, nil for none.
func condition(text string) (*cql.Expr, error) {
	if text == "" {
		return nil, nil
	}
	e, err := cql.ParseCondition(text)
	if err != nil {
		return nil, fault.Misusef("where", "", "is not a condition: %w", err)
	}
	return e, nil
}

// zonesCRS reads the CRS of zones, nil for none.
func (w *work) zonesCRS(text string) (*earth.CRS, error) {
	if text == "" {
		return nil, nil
	}
	crs, err := w.parseCRS(text)
	if err != nil {
		return nil, fault.Misusef("zones-crs", "", "is wrong: %w", err)
	}
	return crs, nil
}

// readFeatures reads the features of a file that no option says more about.
func (w *work) readFeatures(role, where string) (*vector.Layer, error) {
	return w.readSome(role, where, SelectionOptions{})
}

// readSome reads the features of a file, or those of a server's collection for which a condition may hold and that are where zones are wanted.
func (w *work) readSome(role, where string, o SelectionOptions) (*vector.Layer, error) {
	path, layer := vectors.Split(where)
	w.reads(role, path)
	w.readsBeside(role, path)
	return vectors.ReadSome(w.noting(role), path, layer, features.Query{Box: w.near, Filter: o.Where, ID: o.ZoneID})
}

// loadLayer reads the features of a file, or of a raster of zone ids with a table of names or "", and gives them a CRS.
func (w *work) loadLayer(role, where string, o SelectionOptions, names string) (*vector.Layer, error) {
	crs, err := w.zonesCRS(o.ZonesCRS)
	if err != nil {
		return nil, err
	}
	if l, err := w.madeZones(where); l != nil || err != nil {
		return l, err
	}
	path, _ := vectors.Split(where)
	kind, err := vectors.Kind(w.env.files(), path)
	if err != nil {
		return nil, err
	}
	var l *vector.Layer
	if kind == "" && isRaster(w.env.files(), path) {
		l, err = w.rasterZones(role, path, names)
	} else if names != "" {
		return nil, fault.Misusef("zone-names", "", "is for a raster of zone ids, which %s is not", path)
	} else {
		l, err = w.readSome(role, where, o)
	}
	if err != nil {
		return nil, err
	}
	return l, w.giveCRS("zones-crs", where, l, crs)
}

// giveCRS gives a layer the CRS of an option, nil for none.
func (w *work) giveCRS(option, where string, l *vector.Layer, crs *earth.CRS) error {
	if crs == nil {
		return nil
	}
	stated := l.CRS
	if l.CRSAssumed {
		stated, l.Notes = nil, slices.DeleteFunc(l.Notes, func(n string) bool { return strings.HasSuffix(n, vector.NoteAssumedCRS) })
	}
	if err := w.replaceCRS(option, where, stated, crs); err != nil {
		return err
	}
	l.CRS, l.CRSProblem = crs, ""
	return nil
}

// rasterZones reads a raster of zone ids, with a table of names or "".
func (w *work) rasterZones(role, path, table string) (*vector.Layer, error) {
	w.reads(role, path)
	f, err := rasters.Raster(w.env.files(), path, 1)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if h := f.Header(); h.CellsProblem != "" || h.Unplaced {
		return nil, fault.Errorf("%s: %s%s", path, h.CellsProblem, h.CRSProblem)
	}
	var names map[int64]string
	if table != "" {
		if names, err = w.readNames(table); err != nil {
			return nil, err
		}
	}
	return zone.FromRaster(w.ctx, f, names)
}

// readNames reads a table with the columns code and name.
func (w *work) readNames(path string) (map[int64]string, error) {
	w.reads("names of zones", path)
	rows, notes, err := rows.Read(w.env.files(), path, []string{"code", "name"}, nil)
	if err != nil {
		return nil, err
	}
	w.note(notes...)
	out := map[int64]string{}
	for _, row := range rows {
		id, err := strconv.ParseInt(row.Cell["code"], 10, 64)
		if err != nil {
			return nil, fault.Errorf("%s: line %d: the code %q is not a whole number", path, row.Line, row.Cell["code"])
		}
		if _, twice := out[id]; twice {
			return nil, fault.Errorf("%s: line %d: the code %d occurs twice", path, row.Line, id)
		}
		out[id] = row.Cell["name"]
	}
	return out, nil
}

// loadZones reads ZONES: a file, or a text that is a zone by itself.
func (w *work) loadZones(role, where string, o SelectionOptions, names string) (*zone.Set, error) {
	selection := zone.Selection{IDField: o.ZoneID, NameField: o.ZoneName}
	var err error
	if selection.Condition, err = condition(o.Where); err != nil {
		return nil, err
	}
	if _, err := os.Stat(where); err != nil && !files.IsURL(where) && zone.IsText(where) {
		if selection.Condition != nil {
			return nil, fault.Misusef("where", "", "picks from a file of zones, and %s is a zone by itself", short(where))
		}
		crs, err := w.zonesCRS(o.ZonesCRS)
		if err != nil {
			return nil, err
		}
		return zone.FromText(where, crs)
	}
	if path, _ := vectors.Split(where); !files.IsURL(where) && (len(where) > 40 || strings.ContainsAny(where, "(),;")) {
		if _, err := os.Stat(path); err != nil { // a text that was mistyped rather than a file
			return nil, fault.Errorf("%s: there is no such file, and it is neither WKT, such as POLYGON((12.4 58.2, 12.6 58.2, 12.5 58.3, 12.4 58.2)), nor bbox:W,S,E,N, nor geo:LAT,LON;u=METRES", short(where)).Do("check it")
		}
	}
	l, err := w.loadLayer(role, where, o, names)
	if err != nil {
		return nil, err
	}
	return zone.FromLayer(l, selection)
}

// short cuts a long text.
func short(s string) string {
	if utf8.RuneCountInString(s) <= 60 {
		return s
	}
	return string([]rune(s)[:59]) + "…"
}

// readZones reads the zones, or makes the one zone of the whole raster, and places them on g.
func (w *work) readZones(o ZoneOptions, g raster.Grid) (*zone.Set, *zone.Placement, error) {
	if o.Zones == "" {
		if err := o.needZones(); err != nil {
			return nil, nil, err
		}
		set, p, err := tally.Whole(g)
		if err == nil {
			w.note(p.Notes...)
		}
		return set, p, err
	}
	w.near = boxOf(g)
	set, err := w.loadZones("zones", o.Zones, o.SelectionOptions, o.ZoneNames)
	w.near = nil
	if err != nil {
		return nil, nil, err
	}
	p, err := set.Place(g)
	if err != nil {
		return nil, nil, err
	}
	w.note(set.Notes...)
	w.note(p.Notes...)
	for _, o := range p.Outlines {
		if len(o.Rings) > 0 {
			return set, p, nil
		}
	}
	west, south, east, north, _ := g.GeographicBounds()
	return nil, nil, fault.Errorf("%s: %s, which spans %.3f° to %.3f° east and %.3f° to %.3f° north", set.Source, noneMeets(len(set.Zones)), west, east, south, north).
		Do("check that both lie in the same place and that their CRSs are right")
}

// boxOf is the box around a grid in degrees, with a margin, nil where it goes all around the Earth or is not known.
func boxOf(g raster.Grid) *[4]float64 {
	if g.CRS == nil {
		return nil
	}
	west, south, east, north, ok := g.GeographicBounds()
	const margin = 0.01
	if !ok || east-west > 359 {
		return nil
	}
	turned := func(lon float64) float64 { return lon - 360*math.Floor((lon+180)/360) }
	return &[4]float64{turned(west - margin), math.Max(-90, south-margin), turned(east + margin), math.Min(90, north+margin)}
}

func noneMeets(zones int) string {
	if zones == 1 {
		return "its one zone does not meet the raster"
	}
	return "none of its " + text.Count(zones, "zone") + " meets the raster"
}
