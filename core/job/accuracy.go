package job

import (
	"context"
	"fmt"
	"math"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/accuracy"
	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// AccuracyOptions are those of [Accuracy].
type AccuracyOptions struct {
	Samples        []string `arg:"SAMPLES" in:"samples"` // one
	Cover          string   `opt:"cover" in:"cover" help:"<RASTER> that is the map"`
	Crosswalk      string   `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that puts the values of the map into classes"`
	Reference      string   `opt:"reference" default:"reference" help:"<FIELD> of the points with the true class, by code or name"`
	Areas          string   `opt:"areas" in:"areas" help:"<FILE> with the areas of the map's classes (a table of measure, or class_code,area,unit); with a map they are measured"`
	Strata         string   `opt:"strata" help:"<FIELD> or column with the stratum of each sample, where samples were not drawn in the classes of the map; the file of areas then has those of the strata (stratum,area,unit)"`
	SkipOutside    bool     `opt:"skip-outside" help:"leave out points beyond the map, or where it has no class"`
	ClassOptions   `group:"classes"`
	RasterOptions  `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// Assessed is the result of [Accuracy].
type Assessed struct {
	*accuracy.Accuracy
	*Terms
}

// Accuracy estimates from reference samples, drawn at random within each class of a map or in other strata, how true the map is and what
// extents the classes have on the ground (stratified estimation, Olofsson and others 2014).
func Accuracy(ctx context.Context, env Env, o AccuracyOptions) (*Assessed, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if len(o.Samples) != 1 {
		return nil, fault.Misusef("", "", "one file of samples is needed, and %s", text.Given(len(o.Samples)))
	}
	t, err := w.readTerms(o.ClassOptions)
	if err != nil {
		return nil, err
	}
	s, err := w.samples(&o, &t)
	w.note(s.Notes...)
	if err == nil && t.groups != nil {
		s, err = s.Group(t.groups)
	}
	if err != nil {
		return nil, err
	}
	a, err := accuracy.Assess(s)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", o.Samples[0], err)
	}
	for i, e := range a.Adjusted {
		if e.HoldsZero() && (a.Samples[i] > 0 || e.Half > 0) {
			w.warn(a.Classes[i].Label() + ": the 95 % interval of its extent contains zero, so the samples do not show that there is any")
		}
	}
	return &Assessed{a, &Terms{Unit: t.unit, Legend: t.shown(), Report: report}}, nil
}

// samples reads the samples: points on a map, or counts with the areas of classes.
func (w *work) samples(o *AccuracyOptions, t *terms) (s accuracy.Samples, err error) {
	path := o.Samples[0]
	switch {
	case o.Strata != "" && o.Areas == "":
		return s, fault.Misusef("strata", o.Strata, "needs the areas of the strata").By("name a table with the columns stratum, area and unit", "areas", "FILE")
	case o.Cover != "":
		if s, err = w.samplesOnMap(o, *t); err != nil {
			return s, err
		}
	case o.Areas == "":
		return s, fault.Misusef("", "", "the areas of the map's classes are needed").By("name the map", "cover", "RASTER").By("name a table of areas", "areas", "FILE")
	default:
		var classes []cover.Named
		if t.legend != nil {
			classes = cover.NamedClasses(t.legend)
		}
		w.reads("samples", path)
		if s, err = accuracy.ReadCounts(w.env.files(), path, classes, o.Strata); err != nil {
			return s, err
		}
		if o.Strata == "" {
			w.reads("areas", o.Areas)
			err = s.ReadAreas(w.env.files(), o.Areas)
		}
	}
	if err == nil && o.Strata != "" {
		w.reads("areas", o.Areas)
		err = s.ReadStrata(w.env.files(), o.Areas)
	}
	return s, err
}

// samplesOnMap reads the map at the points of a file, and measures the areas of its classes.
func (w *work) samplesOnMap(o *AccuracyOptions, t terms) (s accuracy.Samples, err error) {
	points, err := w.readPoints(o)
	if err != nil {
		return s, err
	}
	t.groups = nil // groups are made of the error matrix, last
	m, err := w.openCover([]string{o.Cover}, o.Crosswalk, o.RasterOptions, &t)
	if err != nil {
		return s, err
	}
	defer m.Close()
	legend := (*cover.Legend)(nil)
	if s, legend, err = w.mapped(m, &t); err != nil {
		return s, err
	}
	if o.Areas != "" && points.stratum < 0 {
		w.reads("areas", o.Areas)
		s.Areas = make([]float64, len(s.Classes))
		if err := s.ReadAreas(w.env.files(), o.Areas); err != nil {
			return s, err
		}
	}
	return s, w.sample(&s, points, m, legend, o.SkipOutside)
}

// points are samples in a file.
type points struct {
	*vector.Layer
	truth, stratum int // fields; stratum is -1 for none
}

func (w *work) readPoints(o *AccuracyOptions) (p points, err error) {
	if p.Layer, err = w.readFeatures("samples", o.Samples[0]); err != nil {
		return p, err
	}
	p.stratum = -1
	find := func(name, option, what string) (int, error) {
		k := p.Field(name)
		if k < 0 {
			return k, fault.Errorf("%s: it has no field %q with the %s (fields: %s)", p.Source, name, what, strings.Join(p.FieldNames(), ", ")).By("name the field", option, "FIELD")
		}
		return k, nil
	}
	if p.truth, err = find(o.Reference, "reference", "true class"); err == nil && o.Strata != "" {
		p.stratum, err = find(o.Strata, "strata", "stratum")
	}
	return p, err
}

// mapped measures the areas of the classes of a map.
func (w *work) mapped(m *measured, t *terms) (s accuracy.Samples, legend *cover.Legend, err error) {
	set, place, err := tally.Whole(m.source.Header().Grid)
	if err != nil {
		return s, nil, err
	}
	sums, err := w.count("measuring the map", w.request(set, place, w.zonesKey(place), []raster.Source{m.source}, []string{m.key}))
	if err != nil {
		return s, nil, w.explainGap(err, m.plain, t, m.walk)
	}
	comp, err := extent.Compose(extent.Input{Raster: m.name, Tally: sums[0], Zones: set, Placement: place, Palette: m.palette, Coder: m.coder}, area.Units[1])
	if err != nil {
		return s, nil, w.explainGap(err, m.plain, t, m.walk)
	}
	s = accuracy.NewSamples(cover.NamedClasses(comp.Legend)) // by class also where groups are shown
	for _, row := range comp.Zones[0].Rows() {
		if i, ok := s.ClassOf(row.Code); ok && row.Kind == cover.Classified {
			s.Areas[i] = row.Area
		}
	}
	s.Mapped = s.Areas
	return s, comp.Legend, nil
}

// sample adds the class of the map and the true class at each point.
func (w *work) sample(s *accuracy.Samples, p points, m *measured, legend *cover.Legend, skip bool) error {
	g := m.source.Header().Grid
	placed, note, err := vector.Carry(p.Layer, g.CRS)
	if err != nil {
		return err
	}
	if note != "" {
		w.note(note)
	}
	classAt := classReader(m, legend, s)
	var outside []string
	for i, f := range placed.Features {
		if len(f.Geometry.Points) != 1 {
			return fault.Errorf("%s: feature %d is not a point, and samples are points", p.Source, i+1).Do("name a file of points")
		}
		at, err := classAt(f.Geometry.Points[0])
		if err != nil {
			return err
		}
		if at < 0 {
			outside = append(outside, strconv.Itoa(i+1))
			continue
		}
		name := placed.Cell(i, p.truth)
		truth, ok := s.ClassOf(name)
		if !ok {
			return fault.Errorf("%s: feature %d: the true class %q is not in the legend", p.Source, i+1, name).Do("write a code or a name of it")
		}
		stratum := ""
		if p.stratum >= 0 {
			if stratum = placed.Cell(i, p.stratum); stratum == "" {
				return fault.Errorf("%s: feature %d has no stratum in the field %q", p.Source, i+1, p.Fields[p.stratum].Name).Do("fill it in")
			}
		}
		s.Add(stratum, at, truth, 1)
	}
	if len(outside) == 0 {
		return nil
	}
	what := fmt.Sprintf("%d of %s lie beyond %s or where it has no class: number %s", len(outside), text.Count(len(placed.Features), "sample"), m.name, text.List(outside, 10))
	if !skip {
		return fault.Errorf("%s: %s", p.Source, what).Do("check their CRS").By("leave them out", "skip-outside", "")
	}
	w.note(what + "; they are left out")
	return nil
}

// classReader returns a function that reads the class of a map at a point of its CRS, -1 where there is none.
func classReader(m *measured, legend *cover.Legend, s *accuracy.Samples) func(p vector.Point) (int, error) {
	g := m.source.Header().Grid
	reader := raster.Cached(m.source, 64<<20).NewReader() // points that lie in one block decode it once
	var cell raster.Cells
	return func(p vector.Point) (int, error) {
		x, y := g.Cell(p[0], p[1])
		if !(x >= 0 && y >= 0 && x < float64(g.Width) && y < float64(g.Height)) {
			return -1, nil
		}
		if err := reader.Read(raster.Window{Col: int(math.Floor(x)), Row: int(math.Floor(y)), Width: 1, Height: 1}, &cell); err != nil {
			return -1, err
		}
		if meaning, ok := m.coder.Code(cell.At(0, 0)); ok && meaning.Kind == cover.Classified {
			if class, ok := legend.Find(meaning.Code); ok {
				at, _ := s.ClassOf(class.ID())
				return at, nil
			}
		}
		return -1, nil
	}
}
