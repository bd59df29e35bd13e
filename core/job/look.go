package job

import (
	"context"
	"math"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/tally"
)

// LookOptions are those of [LookRasters] and [LookZones].
type LookOptions struct {
	Files            []string `arg:"FILE..." in:"file"`
	Quick            bool     `opt:"quick" help:"do not read the cells"`
	Whole            bool     `opt:"whole" help:"read the cells of a file on a server also where that is more than 64 MiB"`
	LegendOption     `group:"classes"`
	SourceOptions    `group:"rasters"`
	Measurements     bool `opt:"measurements" help:"the cells are measurements, not classes"`
	SelectionOptions `group:"zones"`
	Values           string `opt:"values" help:"list the values of a <FIELD> of zones"`
	OverrideOption   `group:"rasters"`
}

// Finding is something that will go wrong, and what mends it.
type Finding struct {
	What   string
	Remedy *Remedy // nil for none
}

// Remedy is a command that mends a finding, or something else to do.
type Remedy struct {
	When    string         // a condition, such as "if 0 means no data"; "" for always
	Command string         // such as "look", "measure", "align"; "" when it is none
	Args    []string       // of the command
	Options []fault.Remedy // of the command: name and value
	Then    string         // more to say, such as "and the same option with measure"
}

// RasterLook is what a raster holds. Areas and lengths are in the units that the comments state.
type RasterLook struct {
	Name    string // as it was given
	Bytes   int64
	Header  raster.Header
	Assumed string // what was assumed about its Earth, "" for nothing
	// The size of the middle cell on the ground in m, and the least, mean and greatest true area of cells in m²; 0 where they are not known.
	GroundWidth, GroundHeight         float64
	LeastArea, MeanArea, GreatestArea float64
	NominalArea                       float64    // m², 0 in degrees
	Bounds                            [4]float64 // west, south, east, north in the CRS
	DegreesBounds                     [4]float64 // in degrees, 0 where they are not known
	Values                            []ValueLine
	Measurements                      *Statistics // of measurements, nil when values were counted
	Findings                          []Finding

	border, corners map[float64]int64 // values along the border, and in the corners; MaxFloat64 is what is missing
}

// ValueLine is what a raster holds of one value.
type ValueLine struct {
	Value   float64
	Missing bool // it stands for cells without data; Value is the nodata value, or NaN
	Kind    cover.Kind
	Class   cover.Class // that the value is, when Kind is Classified
	Cells   float64
	Area    float64 // hectares; 0 without a CRS
	Pct     float64 // of the cells on ground
}

// Statistics are those of measurements.
type Statistics struct {
	Cells, NoData         int64
	Least, Mean, Greatest float64
}

// RastersLook is the result of [LookRasters].
type RastersLook struct {
	Rasters []*RasterLook
	Pairs   []*GridPair // each raster but the first beside the first
	Legend  *cover.Legend
	*Report
}

// LookRasters finds what rasters hold, what will go wrong with each, and how they go together.
func LookRasters(ctx context.Context, env Env, o LookOptions) (*RastersLook, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	paths, err := matching(w.env.files(), o.Files)
	if err == nil {
		paths, err = w.expand(paths)
	}
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 {
		return nil, fault.Misusef("", "", "no file is named")
	}
	out := &RastersLook{Report: report}
	if out.Legend, err = w.readLegend(o.Legend); err != nil {
		return nil, err
	}
	for _, path := range paths {
		r, err := w.lookRaster(path, &o, out.Legend)
		if err != nil {
			return nil, err
		}
		out.Rasters = append(out.Rasters, r)
	}
	for _, b := range out.Rasters[1:] {
		out.Pairs = append(out.Pairs, compareGrids(out.Rasters[0], b))
	}
	return out, nil
}

// lookRaster gathers what is to be reported of one raster.
func (w *work) lookRaster(arg string, o *LookOptions, legend *cover.Legend) (*RasterLook, error) {
	path, band := open.Split(arg)
	w.reads("file", path)
	w.readsBeside("file", path)
	f, err := open.Raster(w.env.files(), path, band)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	nodata, err := oneNodata(o.NoData)
	if err != nil {
		return nil, err
	}
	s, err := w.adjust(f, path, nodata, o.CRS)
	if err != nil {
		return nil, err
	}
	r := describe(arg, s.Header())
	if whole, err := w.env.files().Open(path); err == nil {
		r.Bytes = whole.Size()
		whole.Close()
	}
	for _, n := range f.Header().Notes {
		r.Findings = append(r.Findings, Finding{What: n})
	}
	if r.Header.CellsProblem == "" {
		if err := w.readCells(r, s, o, legend); err != nil {
			return nil, err
		}
	}
	r.find(legend, o.Legend, o.Measurements)
	return r, nil
}

// describe reports what a header says.
func describe(name string, h raster.Header) *RasterLook {
	g := h.Grid
	r := &RasterLook{Name: name, Header: h}
	r.Bounds[0], r.Bounds[1], r.Bounds[2], r.Bounds[3] = g.Bounds()
	if g.CRS == nil {
		return r
	}
	r.GroundWidth, r.GroundHeight, _ = g.GroundSize()
	if r.Assumed = g.Assumed(); r.Assumed != "" {
		r.Findings = append(r.Findings, Finding{What: r.Assumed})
	}
	if least, mean, most, ok := trueAreas(g); ok {
		r.LeastArea, r.MeanArea, r.GreatestArea = least, mean, most
		if nominal, ok := g.NominalCellArea(); ok {
			r.NominalArea = nominal
		}
	}
	if west, south, east, north, ok := g.GeographicBounds(); ok {
		r.DegreesBounds = [4]float64{west, south, east, north}
	}
	return r
}

// CountError is by how many percent a count of cells times the nominal area is off; 0 without a nominal area.
func (r *RasterLook) CountError() float64 {
	if r.NominalArea == 0 {
		return 0
	}
	return (r.NominalArea - r.MeanArea) / r.MeanArea * 100
}

// trueAreas are the least, mean and greatest true area of the cells, from a lattice of them.
func trueAreas(g raster.Grid) (least, mean, most float64, ok bool) {
	a, err := raster.NewAreas(g)
	if err != nil {
		return 0, 0, 0, false
	}
	least, most = math.Inf(1), math.Inf(-1)
	const steps = 32
	n := 0.0
	for i := 0; i <= steps; i++ {
		for j := 0; j <= steps; j++ {
			v, err := a.Cell((g.Width-1)*i/steps, (g.Height-1)*j/steps)
			if err != nil {
				return 0, 0, 0, false
			}
			if v == 0 { // on no ground
				continue
			}
			least, most = math.Min(least, v), math.Max(most, v)
			mean += v
			n++
		}
	}
	return least, mean / n, most, n > 0
}

// mostLooked is how large a file on a server may be whose cells are all read to look at them.
const mostLooked = 64 << 20

// readCells counts the values, or sums measurements up; a quick look is at the corners only.
func (w *work) readCells(r *RasterLook, s raster.Source, o *LookOptions, legend *cover.Legend) (err error) {
	rim := raster.Cached(s, 64<<20)
	if r.corners, err = raster.Border(rim, true); err != nil || o.Quick {
		return err
	}
	if files.IsURL(s.Header().Name) && r.Bytes > mostLooked && !o.Whole {
		r.add(command("look", r.Name, fault.Remedy{Option: "whole"}), "its cells are not counted, because all %d MiB of it would be fetched for that", r.Bytes>>20)
		return nil
	}
	if r.border, err = raster.Border(rim, false); err != nil {
		return err
	}
	if !o.Measurements {
		r.Values, err = w.countValues(s, legend)
		if err == nil || !tally.IsTooMany(err) {
			return err
		}
		r.Values = nil
	}
	tell, end := w.progress("looking")
	sum, err := raster.Summarise(w.ctx, s, w.threads(), tell)
	end()
	if err != nil {
		return err
	}
	r.Measurements = &Statistics{sum.Cells, sum.NoData, sum.Least, sum.Mean, sum.Most}
	if sum.Cells == 0 {
		r.Measurements = &Statistics{NoData: sum.NoData}
	}
	return nil
}

// countValues counts the values of the whole raster.
func (w *work) countValues(s raster.Source, legend *cover.Legend) ([]ValueLine, error) {
	h := s.Header()
	placed := h.Grid.CRS != nil
	if !placed { // count the cells as if they were a square metre each
		g := h.Grid
		g.CRS = plane()
		s = raster.WithGrid(s, g)
	}
	set, place, err := tally.Whole(s.Header().Grid)
	if err != nil {
		return nil, fault.Errorf("%s: %w", h.Name, err)
	}
	tell, end := w.progress("looking")
	t, err := tally.Measure(w.ctx, tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place, Threads: w.env.Threads, Progress: tell})
	end()
	if err != nil {
		return nil, err
	}
	w.note(place.Notes...)
	z := t.Zones[0]
	total := 0.0 // of those on ground
	for _, e := range z.Extents {
		total += e.CellCount()
	}
	coder := &cover.Coder{Legend: legend, NoData: h.NoData}
	if legend == nil {
		legend = namelessLegend(t, h.Palette)
	}
	var out []ValueLine
	for i, v := range z.Values {
		value := t.Number(0, 0, v[0])
		m, _ := coder.Code(value)
		l := ValueLine{Value: value, Kind: m.Kind, Cells: z.Extents[i].CellCount(), Missing: v[0] == tally.Missing}
		if l.Missing && h.NoData != nil {
			l.Value = *h.NoData
		}
		l.Pct = l.Cells / total * 100
		if placed {
			l.Area = z.Extents[i].Area(t.Quantum) / 1e4
		}
		if class, ok := legend.Find(m.Code); ok && m.Kind == cover.Classified {
			l.Class = class
		}
		out = append(out, l)
	}
	return out, nil
}

// namelessLegend has a class without a name for each value of a tally.
func namelessLegend(t *tally.Tally, palette []raster.Color) *cover.Legend {
	var codes []float64
	for _, v := range t.Zones[0].Values {
		codes = append(codes, t.Number(0, 0, v[0]))
	}
	l := cover.LegendOfValues(codes, palette)
	for i := range l.Classes {
		l.Classes[i].Name = ""
	}
	return l
}

// plane stands in for a missing CRS where only cells are counted: an equal-area one.
var plane = sync.OnceValue(func() *earth.CRS {
	base := &earth.CRS{Datum: earth.Datum{Name: "none"}, Ellipsoid: ellipsoid.WGS84}
	crs, err := earth.Define(earth.Definition{Name: "a plane", Base: base, Method: projection.CylindricalEqualArea, Unit: 1, UnitName: "metre"})
	if err != nil {
		panic(err) // the definition is a constant
	}
	return crs
})

// LegendOf makes the classes of a legend of the values that occur in a raster, with the colours of its palette or, where there is none, distinct
// ones; named says that their names and colours are those of a legend already.
func LegendOf(r *RasterLook, named bool) ([]cover.Class, error) {
	var out []cover.Class
	for _, v := range r.Values {
		if v.Kind == cover.NoData || v.Value != math.Trunc(v.Value) {
			continue
		}
		class := v.Class
		class.Code = int(v.Value)
		if len(r.Header.Palette) == 0 && !named {
			class.Color = cover.Shade(len(out))
		}
		out = append(out, class)
	}
	if len(out) == 0 || len(out) > 1000 {
		return nil, fault.Errorf("%s: it has %d whole values, which is not a number of classes for a legend", r.Name, len(out)).Do("check that it holds classes")
	}
	return out, nil
}

// sortedKeys are the keys of a count, the most frequent first.
func sortedKeys(m map[float64]int64) []float64 {
	var out []float64
	for v := range m {
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b float64) int {
		if m[a] != m[b] {
			return int(m[b] - m[a])
		}
		if a < b {
			return -1
		}
		return 1
	})
	return out
}
