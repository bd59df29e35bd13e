package job

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/patch"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/survey"
	"github.com/verdex-land/verdex/core/text"
)

// ReclassifyOptions are those of [Reclassify].
type ReclassifyOptions struct {
	Rasters        []string `arg:"RASTER..." in:"cover"`
	Crosswalk      string   `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that turns values into classes: from,to,note"`
	LegendOption   `group:"classes"`
	MinPatch       float64 `opt:"min-patch" least:"0" help:"fold pieces of less than <HECTARES> into the neighbour with which they share the longest border"`
	Type           string  `opt:"type" choose:",uint8,int8,uint16,int16,uint32,int32" help:"cell <TYPE>: uint8, int8, uint16, int16, uint32 or int32; without it the narrowest that holds the codes"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
	// Each takes every raster by itself instead of all as one.
	Each bool
}

// Reclassified is a raster of classes.
type Reclassified struct {
	*Raster
	Name   string // of the raster, or of the first of several
	Legend *cover.Legend
	survey func() (*survey.Survey, error)
}

// Survey is what the crosswalk does to the values of the raster, which are read for it unless all of the raster has been read already. A crosswalk that
// does not fit them is a [SurveyError].
func (r *Reclassified) Survey() (*survey.Survey, error) { return r.survey() }

// Reclassify turns values into the classes of a legend by a crosswalk, and holds it to the values that occur. It hands over each
// raster, which is closed afterwards. A crosswalk that does not fit one is a [SurveyError]; a value for which it has no line stops the reading.
func Reclassify(ctx context.Context, env Env, o ReclassifyOptions, each func(*Reclassified) error) (*Report, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if o.Crosswalk == "" {
		return nil, fault.Misusef("", "", "nothing says what becomes of the values").By("name a crosswalk", "crosswalk", "FILE")
	}
	if o.FromList != "" {
		w.reads("list of rasters", o.FromList)
	}
	paths, err := Rasters(w.env.files(), o.Rasters, o.FromList)
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 {
		return nil, fault.Misusef("", "", "no raster is named")
	}
	legend, err := w.readLegend(o.Legend)
	if err != nil {
		return nil, err
	}
	w.reads("crosswalk", o.Crosswalk)
	walk, problems, err := cover.InspectCrosswalk(w.env.files(), o.Crosswalk, legend)
	if err != nil {
		return nil, err
	}
	w.note(walk.Notes...)
	rasters := [][]string{paths}
	if o.Each {
		rasters = nil
		for _, p := range paths {
			rasters = append(rasters, []string{p})
		}
	}
	var surveys []*survey.Survey
	for _, of := range rasters {
		s, err := w.reclassifyOne(of, &o, legend, walk, problems, each)
		if err != nil {
			return nil, err
		}
		surveys = append(surveys, s)
	}
	w.compareSurveys(surveys)
	return report, nil
}

// reclassifyOne hands over the classes of one raster, or of several as one, and surveys it.
func (w *work) reclassifyOne(paths []string, o *ReclassifyOptions, legend *cover.Legend, walk *cover.Crosswalk, problems []cover.Problem, each func(*Reclassified) error) (*survey.Survey, error) {
	src, err := w.openCells("cover", paths, o.RasterOptions)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	coder := &cover.Coder{Legend: legend, Crosswalk: walk, NoData: src.Header().NoData}
	w.warnFilled(src, walk)
	var watched *survey.Watched // nil where it is read more than once, may not be written, or holds measurements
	if o.MinPatch == 0 && len(problems) == 0 {
		if watched, err = survey.Watch(src, coder, problems, geotiff.TileSize, geotiff.TileSize); err != nil {
			return nil, err
		}
	}
	surveyed := sync.OnceValues(func() (*survey.Survey, error) { return w.surveyed(src, watched, coder, problems) })
	from := raster.Source(src)
	if watched != nil {
		from = watched
	} else if _, err := surveyed(); err != nil {
		return nil, err
	}
	var want *raster.CellType
	if o.Type != "" {
		t, _ := raster.ParseCellType(o.Type)
		want = &t
	}
	view, err := cover.View(from, coder, want)
	if err != nil {
		return nil, err
	}
	if o.MinPatch > 0 {
		if view, err = w.fold(view, o.MinPatch, src.Header().Name); err != nil {
			return nil, err
		}
	}
	err = each(&Reclassified{w.view(view, false).named(legend), paths[0], legend, surveyed})
	if errors.Is(err, cover.ErrNoLine) { // all values that have none are named, not only the first that was met
		if _, all := surveyed(); all != nil {
			err = all
		}
	}
	if err != nil {
		return nil, err
	}
	return surveyed()
}

// surveyed is what the crosswalk of a coder does to a raster, which must fit it: as it was found while the raster was read, or by reading it.
func (w *work) surveyed(src *cells, watched *survey.Watched, coder *cover.Coder, problems []cover.Problem) (*survey.Survey, error) {
	var s *survey.Survey
	known := false
	if watched != nil {
		s, known = watched.Survey()
	}
	if !known {
		tell, end := w.progress("checking")
		var err error
		s, err = survey.Take(w.ctx, src, coder, problems, w.threads(), tell)
		end()
		if err != nil {
			return nil, err
		}
	}
	if err := w.judge(s); err != nil {
		return nil, &SurveyError{err, s, coder.Legend}
	}
	w.warnIdle(s)
	for _, g := range s.Crosswalk.Gaps {
		w.note(fmt.Sprintf("%s: no line holds %v; no cell of %s lies there", s.Crosswalk.Source, g, s.Raster))
	}
	return s, nil
}

// judge warns of the problems of a crosswalk that concern a raster, and refuses a raster that has some.
func (w *work) judge(s *survey.Survey) error {
	source := s.Crosswalk.Source
	for _, p := range s.Problems {
		w.warn(fmt.Sprintf("%s: %s (%s, %s ha)", source, p.What, text.Count(int(p.Cells), "cell"), text.Number(p.Area/1e4, 1)))
	}
	n := len(s.Problems)
	switch {
	case n > 0 && s.Gap.Cells > 0:
		return gapError(s).Do("correct the %s listed above", problemsOf(n))
	case n > 0:
		return fault.Errorf("%s: it has %s, listed above", source, text.Count(n, "problem")).Do("correct the crosswalk before anything is written")
	case s.Gap.Cells > 0:
		return gapError(s)
	}
	return nil
}

func problemsOf(n int) string {
	if n == 1 {
		return "problem"
	}
	return text.Count(n, "problem")
}

// fold puts small pieces into their neighbours.
func (w *work) fold(view raster.Source, hectares float64, name string) (raster.Source, error) {
	tell, end := w.progress("folding")
	f, err := patch.Fold(w.ctx, view, hectares*1e4, tell)
	end()
	if err != nil {
		return nil, err
	}
	were := "were"
	if f.Found == 1 {
		were = "was"
	}
	w.note(fmt.Sprintf("%s: %s of less than %v ha, %s ha in all, %s folded into neighbours", name, text.Count(int(f.Found), "piece"), hectares, text.Number(f.Area/1e4, 1), were))
	if f.Alone == 1 {
		w.note(name + ": 1 small piece has no neighbour with a class and stays")
	} else if f.Alone > 1 {
		w.note(fmt.Sprintf("%s: %s have no neighbour with a class and stay", name, text.Count(int(f.Alone), "small piece")))
	}
	return f, nil
}

// compareSurveys points out values that occur in one raster only, where one crosswalk serves several.
func (w *work) compareSurveys(surveys []*survey.Survey) {
	if len(surveys) < 2 {
		return
	}
	in := map[float64][]string{}
	for _, s := range surveys {
		if s.Values == nil {
			return
		}
		for _, v := range s.Values {
			in[v] = append(in[v], s.Raster)
		}
	}
	only := map[string][]string{}
	var values []float64
	for v := range in {
		values = append(values, v)
	}
	slices.Sort(values)
	for _, v := range values {
		if len(in[v]) == 1 {
			only[in[v][0]] = append(only[in[v][0]], cover.ValueText(v))
		}
	}
	for _, s := range surveys {
		if list := only[s.Raster]; len(list) > 0 {
			w.warn(fmt.Sprintf("only %s holds %s: is that right, or does it use codes of its own?", s.Raster, text.List(list, 12)))
		}
	}
}
