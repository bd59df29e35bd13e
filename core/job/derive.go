package job

import (
	"context"
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/survey"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
)

// IntervalOptions put what is derived into classes.
type IntervalOptions struct {
	Crosswalk string `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> whose intervals turn the values into classes"`
	LegendOption
}

// Derived is a raster that was computed. With a crosswalk, the survey says what it does to the values.
type Derived struct {
	*Raster
	Survey *survey.Survey
	Legend *cover.Legend
}

// ExpressionOptions are those of [DeriveExpression].
type ExpressionOptions struct {
	Expression      []string `arg:"EXPRESSION"` // one
	LayerOptions    `group:"layers"`
	SourceOptions   `group:"layers"`
	OverrideOption  `group:"layers"`
	IntervalOptions `group:"classes"`
}

// DeriveExpression computes an arithmetic expression over layers, cell by cell, as float32. Where a layer is nodata, and where
// something is divided by zero, the result is nodata.
func DeriveExpression(ctx context.Context, env Env, o ExpressionOptions) (_ *Derived, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if len(o.Expression) != 1 {
		return nil, fault.Misusef("", "", "one expression is needed, in quotes, and %s", text.Given(len(o.Expression)))
	}
	e, err := cql.ParseNumber(o.Expression[0])
	if err != nil {
		return nil, fault.Misusef("", "", "%w", err)
	}
	l, err := w.openLayers(o.LayerOptions, o.SourceOptions)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			l.Close()
		}
	}()
	if err := l.refuseCodes(o.LayerOptions, e); err != nil {
		return nil, err
	}
	x, err := view.NewExpression(l.Layers, e)
	if err != nil {
		return nil, err
	}
	d, err := w.derived(x, o.IntervalOptions, l.Close)
	if err != nil {
		return nil, err
	}
	zero, large := x.ZeroDivisions(), x.TooLarge() // in the survey
	d.after = append(d.after, func() {
		w.noteMoves(l.moved)
		if n := x.ZeroDivisions() - zero; n > 0 {
			w.note(fmt.Sprintf("%s nodata because something is divided by zero there", cellsAre(n)))
		}
		if n := x.TooLarge() - large; n > 0 {
			w.warn(fmt.Sprintf("%s nodata because the result is too large for a float32 number there: scale the expression", cellsAre(n)))
		}
	})
	return d, nil
}

func cellsAre(n int64) string {
	if n == 1 {
		return "1 cell is"
	}
	return text.Count(int(n), "cell") + " are"
}

// derived puts what was computed into classes where a crosswalk is given.
func (w *work) derived(s raster.Source, o IntervalOptions, closes ...func()) (*Derived, error) {
	if o.Crosswalk == "" {
		return &Derived{Raster: w.view(s, false, closes...)}, nil
	}
	legend, err := w.readLegend(o.Legend)
	if err != nil {
		return nil, err
	}
	walk, err := w.readCrosswalk(o.Crosswalk, legend)
	if err != nil {
		return nil, err
	}
	w.warnFilled(s, walk)
	coder := &cover.Coder{Legend: legend, Crosswalk: walk, NoData: s.Header().NoData}
	tell, end := w.progress("checking")
	survey, err := survey.Take(w.ctx, s, coder, nil, w.threads(), tell)
	end()
	if err != nil {
		return nil, err
	}
	if survey.Gap.Cells > 0 {
		return nil, &SurveyError{gapError(survey), survey, legend}
	}
	w.warnIdle(survey)
	view, err := cover.View(s, coder, nil)
	if err != nil {
		return nil, err
	}
	return &Derived{Raster: w.view(view, false, closes...).named(legend), Survey: survey, Legend: legend}, nil
}

// SurveyError says that a crosswalk does not fit a raster, and has the survey that shows it.
type SurveyError struct {
	error
	Survey *survey.Survey
	Legend *cover.Legend
}

// Unwrap returns the error without the survey.
func (e *SurveyError) Unwrap() error { return e.error }

// warnIdle warns of lines of a crosswalk that never apply.
func (w *work) warnIdle(s *survey.Survey) {
	for _, l := range s.Idle() {
		w.warn(fmt.Sprintf("%s: line %d (%s) never applies to %s", s.Crosswalk.Source, l.Number, l.From, s.Raster))
	}
}

// SlopeOptions are those of [DeriveSlope].
type SlopeOptions struct {
	Elevation       []string `arg:"ELEVATION" in:"elevation"` // one
	In              string   `opt:"in" choose:"percent,degrees" help:"<percent> or degrees"`
	SourceOptions   `group:"rasters"`
	OverrideOption  `group:"rasters"`
	IntervalOptions `group:"classes"`
}

// DeriveSlope computes the slope of each cell from its eight neighbours (Horn 1981), with true distances on the ellipsoid.
// Elevations are in metres.
func DeriveSlope(ctx context.Context, env Env, o SlopeOptions) (_ *Derived, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if len(o.Elevation) != 1 {
		return nil, fault.Misusef("", "", "one elevation raster is needed, and %s", text.Given(len(o.Elevation)))
	}
	src, err := w.openCells("elevation", o.Elevation, RasterOptions{SourceOptions: o.SourceOptions})
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			src.Close()
		}
	}()
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	if len(src.Header().Palette) > 0 {
		return nil, fault.Errorf("%s: it has a palette, so it holds codes of classes, not elevations", src.path).Do("name an elevation raster")
	}
	s, err := view.Slope(src, o.In == "degrees")
	if err != nil {
		return nil, err
	}
	return w.derived(s, o.IntervalOptions, src.Close)
}

// RulesOptions are those of [DeriveRules].
type RulesOptions struct {
	Rules          string `opt:"rules" group:"classes" in:"rules" help:"YAML <FILE> of the rules"`
	ExplainRules   bool   `opt:"explain-rules" help:"show what each rule took"`
	LayerOptions   `group:"layers"`
	SourceOptions  `group:"layers"`
	OverrideOption `group:"layers"`
	LegendOption   `group:"classes"`
}

// RuledRaster is a raster of classes that rules make.
type RuledRaster struct {
	*Raster
	Rules     *cover.Rules
	Legend    *cover.Legend
	Explained *Explained // what each rule took; nil unless it was asked for
	apart     func() (*cover.RuleView, error)
}

// Explained is what each rule took, and after the rules what is in no class by them (else).
type Explained struct {
	Took    []RuleShare
	NoData  float64   // m² that are nodata in every layer
	Open    RuleShare // what is undecided
	Total   float64   // m²
	HasElse bool      // the last of Took is of else
}

// RuleShare is what one rule took.
type RuleShare struct {
	Cells  int64
	Area   float64 // m²
	Before int64   // cells for which the rule holds, too, but an earlier rule took them
}

// DeriveRules gives each cell the class of the first rule that holds.
func DeriveRules(ctx context.Context, env Env, o RulesOptions) (_ *RuledRaster, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	if o.Rules == "" {
		return nil, fault.Misusef("", "", "no rules are named").By("name them", "rules", "FILE")
	}
	out := &RuledRaster{}
	if out.Legend, err = w.readLegend(o.Legend); err != nil {
		return nil, err
	}
	w.reads("rules", o.Rules)
	if out.Rules, err = cover.ReadRules(w.env.files(), o.Rules, out.Legend); err != nil {
		return nil, err
	}
	l, err := w.openLayers(o.LayerOptions, o.SourceOptions)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			l.Close()
		}
	}()
	if err := l.refuseCodes(o.LayerOptions, conditionsOf(out.Rules)...); err != nil {
		return nil, err
	}
	if o.ExplainRules {
		if out.Explained, err = w.explainRules(out.Rules, l, out.Legend); err != nil {
			return nil, err
		}
	}
	view, err := cover.NewRuleView(out.Rules, l.Layers, out.Legend, cover.RuleClasses)
	if err != nil {
		return nil, err
	}
	out.Raster = w.view(view, false, l.Close).named(out.Legend)
	out.after = append(out.after, func() { w.noteMoves(l.moved) })
	out.apart = func() (*cover.RuleView, error) {
		return cover.NewRuleView(out.Rules, l.Layers, out.Legend, cover.RuleApart)
	}
	return out, nil
}

// Watch makes ready to report how much ground the rules do not decide, as the raster is read from front to end in tiles of size × size cells, as
// it is when it is written. It is called before the raster is read.
func (r *RuledRaster) Watch(size int) error {
	apart, err := r.apart()
	if err != nil {
		return err
	}
	value, _, ok := apart.Undecided()
	if h := apart.Header(); !ok || h.Type != r.Header().Type || h.Type.Bytes() > 2 {
		return nil
	}
	watched, err := tally.Watch(apart, size, size)
	if err != nil {
		return err
	}
	h := r.Header()
	r.Source = view.Map(watched, h, func(v float64) (float64, error) {
		if v == value {
			return *h.NoData, nil
		}
		return v, nil
	})
	r.after = append(r.after, func() {
		if t, ok := watched.Tally(); ok {
			ha, _ := area.Find("ha")
			r.work.noteUndecided(r.Rules.Source, value, t, ha)
		}
	})
	return nil
}

// explainRules measures what each rule took.
func (w *work) explainRules(rules *cover.Rules, l *layers, legend *cover.Legend) (*Explained, error) {
	view, err := cover.NewRuleView(rules, l.Layers, legend, cover.RuleNumbers)
	if err != nil {
		return nil, err
	}
	set, place, err := tally.Whole(view.Header().Grid)
	if err != nil {
		return nil, err
	}
	tell, end := w.progress("explaining")
	t, err := tally.Measure(w.ctx, tally.Request{Layers: []raster.Source{view}, Zones: set, Placement: place, Threads: w.env.Threads, Progress: tell})
	end()
	if err != nil {
		return nil, err
	}
	x := &Explained{HasElse: rules.Else != nil}
	areas := map[int]float64{}
	for i, v := range t.Zones[0].Values {
		a := t.Zones[0].Extents[i].Area(t.Quantum)
		k := math.MaxUint16 // nodata in every layer
		if v[0] != tally.Missing {
			k = int(t.Number(0, 0, v[0]))
		}
		areas[k] += a
		x.Total += a
	}
	x.NoData = areas[math.MaxUint16]
	_, open, _ := view.Undecided()
	x.Open = RuleShare{Cells: open, Area: areas[math.MaxUint16-1]}
	n := len(rules.List)
	if x.HasElse {
		n++
	}
	for k := range n {
		x.Took = append(x.Took, RuleShare{view.Took(k), areas[k+1], view.Before(k)})
	}
	for k, rule := range rules.List {
		switch took := x.Took[k]; {
		case took.Cells == 0 && took.Before > 0:
			w.warn(fmt.Sprintf("%s: rule %d never decides: earlier rules take all of its %s", rules.Source, k+1, text.Count(int(took.Before), "cell")))
		case took.Cells == 0:
			w.warn(fmt.Sprintf("%s: rule %d holds nowhere: %s", rules.Source, k+1, rule.When.Text))
		}
	}
	return x, nil
}
