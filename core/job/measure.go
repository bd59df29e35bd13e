package job

import (
	"context"
	"fmt"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/overlay"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// MeasureOptions are those of [Measure].
type MeasureOptions struct {
	Covers            []string `arg:"COVER..." in:"cover"` // several are one raster
	ZoneOptions       `group:"zones"`
	WithinOptions     `group:"zones"`
	RasterOptions     `group:"rasters"`
	ListOption        `group:"rasters"`
	OverrideOption    `group:"rasters"`
	ApproximateOption `group:"rasters"`
	ClassOptions      `group:"classes"`
	Crosswalk         string `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that turns values into classes: from,to,note"`
	Rules             string `opt:"rules" group:"classes" in:"rules" help:"YAML <FILE> of rules over layers, which make the classes"`
	LayerOptions      `group:"layers"`
	ClassField        string `opt:"class-field" group:"classes" help:"<FIELD> with the class, when the cover is a file of polygons"`
	Epoch             string `opt:"epoch" help:"<LABEL> of the date that the cover is of"`
	CheckOptions      `group:"checks"`
	CheckAllOption    `group:"checks"`
}

// Measured is the result of [Measure].
type Measured struct {
	*extent.Composition
	Checks      []check.Check
	Approximate *Approximation // nil where all cells were measured
	*Report
}

// Measure measures the extent of each class of a cover in each zone. The cover is one raster, several as one, layers with rules, or
// a file of polygons.
func Measure(ctx context.Context, env Env, o MeasureOptions) (*Measured, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	switch named := len(o.Covers) > 0 || o.FromList != ""; {
	case o.Rules != "" && named:
		return nil, fault.Misusef("rules", "", "take their rasters as layers").By("name each", "layer", "NAME=RASTER")
	case o.Rules == "" && len(o.Layers) > 0:
		return nil, fault.Misusef("layer", "", "needs rules, which make classes of the layers").By("name them", "rules", "FILE")
	case o.Rules != "" && o.Crosswalk != "":
		return nil, fault.Misusef("crosswalk", "", "is not needed: rules make classes already")
	case o.Rules == "" && !named:
		return nil, fault.Misusef("", "", "there is nothing to measure").Do("name a raster")
	}
	checks, err := w.readChecking(o.CheckOptions)
	if err != nil {
		return nil, err
	}
	out := &Measured{Report: report}
	var edges []check.Check
	polygons := len(o.Covers) == 1 && w.isPolygonCover(o.Covers[0], o.ClassField)
	made := []string{"balance", "outline", "inside", "nodata", "unlisted", "ground"}
	if !polygons {
		made = append(made, "nominal")
	}
	if !polygons && o.Zones != "" {
		made = append(made, "edges")
	}
	if err := checks.makes(made...); err != nil {
		return nil, err
	}
	if polygons {
		out.Composition, err = w.overlay(o.Covers[0], &o)
	} else if o.ClassField != "" {
		return nil, fault.Misusef("class-field", "", "is for one cover of polygons")
	} else {
		out.Composition, edges, out.Approximate, err = w.compose(&o, checks)
	}
	if err != nil {
		return nil, err
	}
	comp := out.Composition
	out.Checks = checks.all(append(comp.Check(checks.bounds), edges...), comp.Extents, comp.Unit)
	return out, nil
}

// compose measures cells, and checks what the edges of zones do.
func (w *work) compose(o *MeasureOptions, checks *checking) (_ *extent.Composition, _ []check.Check, approximate *Approximation, _ error) {
	t, err := w.readTerms(o.ClassOptions)
	if err != nil {
		return nil, nil, nil, err
	}
	w.about(o.Epoch, &o.ZoneOptions)
	l, err := w.openLayer(o, &t)
	if err != nil {
		return nil, nil, nil, err
	}
	defer l.Close()
	var whole raster.Source
	if o.Approximate > 0 {
		if whole, err = l.reduce(o.Approximate); err != nil {
			return nil, nil, nil, err
		}
	}
	set, place, err := w.readZones(o.ZoneOptions, l.source.Header().Grid)
	if err != nil {
		return nil, nil, nil, err
	}
	two, err := w.addUnits(o, set, place)
	if err != nil {
		return nil, nil, nil, err
	}
	request := w.request(two.set, two.place, w.zonesKey(two.place), []raster.Source{l.source}, []string{l.key})
	request.Sets, request.Centres = two.sets(), o.centres()
	requests := []tally.Keyed{request}
	asked := o.Zones != "" && checks.wants("edges")
	// A second tally takes the memory of the first again.
	both := asked && o.readsAgain(two.place) && (len(two.set.Zones) <= 1<<17 || o.CheckAll)
	if both {
		request.Centres = !request.Centres
		requests = append(requests, request)
	}
	tallies, err := w.count("measuring", requests...)
	if err != nil {
		return nil, nil, nil, w.explainGap(err, l.plain, &t, l.walk)
	}
	compose := func(n int) (*extent.Composition, error) {
		comp, err := extent.Compose(extent.Input{
			Epoch: o.Epoch, Raster: l.name, Tally: tallies[n], Zones: two.set, Placement: two.place, Palette: l.palette, Centres: requests[n].Centres, Coder: l.coder,
		}, t.unit)
		return comp, w.explainGap(err, l.plain, &t, l.walk)
	}
	comp, err := compose(0)
	if err != nil {
		return nil, nil, nil, err
	}
	w.noteMoves(l.moved)
	if v := l.coder.Undecided; v != nil {
		w.noteUndecided(o.Rules, *v, tallies[0], t.unit)
	}
	var edges []check.Check
	if both {
		other, err := compose(1)
		if err != nil {
			return nil, nil, nil, err
		}
		edges = append(edges, comp.CheckEdges(other, checks.bounds))
	} else if asked {
		edges = append(edges, check.Skipped("edges"))
	}
	if whole != nil {
		if approximate, err = w.compare(o.Approximate, whole, l.source, l.coder, comp.Legend, place); err != nil {
			return nil, nil, nil, fmt.Errorf("%s: %w", l.name, err)
		}
		comp.Warnings = append(comp.Warnings, approximate.warning(l.name))
	}
	two.arrange(comp)
	return comp, edges, approximate, nil
}

// noteUndecided reports the ground of zones for which rules could not be decided, whose cells hold a value of their own.
func (w *work) noteUndecided(rules string, value float64, t *tally.Tally, unit area.Unit) {
	sum, where := 0.0, 0
	for i := range t.Zones {
		z := &t.Zones[i]
		for k, v := range z.Values { // of one value a zone has one extent
			if a := z.Extents[k].Area(t.Quantum) / unit.M2; v[0] != tally.Missing && t.Number(0, 0, v[0]) == value && a > 0 {
				sum, where = sum+a, where+1
			}
		}
	}
	if where > 0 {
		in := ""
		if len(t.Zones) > 1 {
			in = " in " + text.Count(where, "zone")
		}
		w.warn(fmt.Sprintf("%s: %s %s%s are nodata, because no rule holds and a layer that one asks about has no data there: give such ground a rule with IS NULL", rules, text.Number(sum, text.Decimals(sum)), unit.Name, in))
	}
}

// measured is the layer that is measured: classes, or values that the coder turns into them.
type measured struct {
	name    string
	key     string
	source  raster.Source
	plain   raster.Source // before a crosswalk was applied to its cells
	walk    *cover.Crosswalk
	coder   *cover.Coder
	palette []raster.Color
	moved   []*view.Aligned
	Close   func()
}

// openLayer opens the raster to measure, with its crosswalk; or the layers that rules make classes of.
func (w *work) openLayer(o *MeasureOptions, t *terms) (*measured, error) {
	if o.Rules != "" {
		return w.openRules(o, t)
	}
	paths, err := Rasters(w.env.files(), o.Covers, o.FromList)
	if err != nil {
		return nil, err
	}
	return w.openCover(paths, o.Crosswalk, o.RasterOptions, t)
}

// openCover opens a cover with a crosswalk, "" for none.
func (w *work) openCover(paths []string, crosswalk string, o RasterOptions, t *terms) (*measured, error) {
	m := &measured{}
	var err error
	if m.walk, err = w.readCrosswalk(crosswalk, t.legend); err != nil {
		return nil, err
	}
	src, err := w.openCells("cover", paths, o)
	if err != nil {
		return nil, err
	}
	m.name, m.plain, m.palette, m.Close = src.path, src, src.Header().Palette, src.Close
	if err = src.needCRS(); err == nil {
		w.warnFilled(src, m.walk)
		m.source, m.coder, err = t.coder(src, m.walk)
	}
	if err == nil {
		m.key, err = w.classesKey(src.key, src, m.source, crosswalk, t.path)
	}
	if err != nil {
		src.Close()
		return nil, err
	}
	return m, nil
}

// openRules opens the layers of rules.
func (w *work) openRules(o *MeasureOptions, t *terms) (*measured, error) {
	w.reads("rules", o.Rules)
	rules, err := cover.ReadRules(w.env.files(), o.Rules, t.legend)
	if err != nil {
		return nil, err
	}
	l, err := w.openLayers(o.LayerOptions, o.SourceOptions)
	if err != nil {
		return nil, err
	}
	m := &measured{name: o.Rules, moved: l.moved, Close: l.Close}
	g := l.List[0].Header()
	switch err = l.refuseCodes(o.LayerOptions, conditionsOf(rules)...); {
	case err != nil:
	case g.Grid.CRS == nil:
		err = noCRS(g.Name, g)
	default:
		var view *cover.RuleView
		if view, err = cover.NewRuleView(rules, l.Layers, t.legend, cover.RuleApart); err == nil {
			m.source, m.plain = view, view
			if m.key, err = w.rulesKey(o, l); err != nil {
				break
			}
			m.coder = &cover.Coder{Legend: t.legend, NoData: view.Header().NoData, Groups: t.groups}
			if value, _, ok := view.Undecided(); ok {
				m.coder.Undecided = &value
			}
			return m, nil
		}
	}
	l.Close()
	return nil, err
}

// rulesKey is the key of the classes that rules make of layers.
func (w *work) rulesKey(o *MeasureOptions, l *layers) (string, error) {
	if len(l.moved) > 0 {
		return w.ownKey(0), nil
	}
	digests, err := w.digests(o.Rules, o.Legend)
	return keyOf("rules", digests, l.keys, o.CodesAsNumbers), err
}

// conditionsOf are the conditions of rules.
func conditionsOf(rules *cover.Rules) (out []*cql.Expr) {
	for _, rule := range rules.List {
		out = append(out, rule.When)
	}
	return out
}

// isPolygonCover reports whether what is to be measured is a file of outlines. A table in text is one only when a field with
// its classes is named.
func (w *work) isPolygonCover(where, classField string) bool {
	path, _ := vectors.Split(where)
	if _, _, is := w.isCatalog(where); is {
		return false
	}
	kind, err := vectors.Kind(w.env.files(), path)
	return err == nil && kind != "" && kind != "zip" && (kind != "table" || classField != "")
}

// overlay measures a cover of polygons.
func (w *work) overlay(path string, o *MeasureOptions) (*extent.Composition, error) {
	for _, option := range []struct{ name, value string }{{"crosswalk", o.Crosswalk}, {"within", o.Within}, {"resample", o.Resample}} {
		if option.value != "" {
			return nil, fault.Misusef(option.name, "", "is for covers of cells, and %s is one of polygons", path)
		}
	}
	if o.ClassField == "" {
		return nil, fault.Misusef("", "", "%s holds polygons", path).By("name the field with their class", "class-field", "FIELD")
	}
	t, err := w.readTerms(o.ClassOptions)
	if err != nil {
		return nil, err
	}
	l, err := w.readFeatures("cover", path)
	if err != nil {
		return nil, err
	}
	if o.CRS != "" {
		crs, err := w.parseCRS(o.CRS)
		if err != nil {
			return nil, err
		}
		if err := w.giveCRS("crs", path, l, crs); err != nil {
			return nil, err
		}
	}
	w.note(l.Notes...)
	var set *zone.Set
	if o.Zones != "" {
		if set, err = w.loadZones("zones", o.Zones, o.SelectionOptions, o.ZoneNames); err != nil {
			return nil, err
		}
		w.note(set.Notes...)
	} else if err := o.needZones(); err != nil {
		return nil, err
	}
	return overlay.Lay(w.ctx, overlay.Input{Epoch: o.Epoch, Cover: l, Field: o.ClassField, Legend: t.legend, Groups: t.groups, Zones: set}, t.unit)
}
