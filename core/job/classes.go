package job

import (
	"errors"
	"fmt"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/survey"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// LegendOption names the classes.
type LegendOption struct {
	Legend string `opt:"legend" in:"legend" help:"CSV <FILE> of the classes: code,name,color,group,category"`
}

// UnitOption chooses the unit of areas.
type UnitOption struct {
	Unit string `opt:"unit" choose:"ha,m2,km2,acre,mi2" help:"<unit> of areas: ha, m2, km2, acre or mi2"`
}

// ClassOptions say in which terms extents are reported.
type ClassOptions struct {
	LegendOption
	By string `opt:"by" choose:"class,group" help:"report by <class>, or by group of the legend"`
	UnitOption
}

// unit finds the unit of an option that was checked.
func (o UnitOption) unit() area.Unit {
	u, err := area.Find(o.Unit)
	if err != nil {
		panic(err) // options are checked when a job begins
	}
	return u
}

// terms are those in which a measure or a change is reported.
type terms struct {
	unit   area.Unit
	legend *cover.Legend
	path   string        // of the legend
	groups *cover.Groups // nil when classes are reported as they are
}

// shown is the legend of what is reported: the groups, when classes are gathered.
func (t *terms) shown() *cover.Legend {
	if t.groups != nil {
		return t.groups.Legend
	}
	return t.legend
}

func (w *work) readTerms(o ClassOptions) (t terms, err error) {
	t.unit, t.path = o.unit(), o.Legend
	if t.legend, err = w.readLegend(o.Legend); err != nil || o.By == "class" {
		return t, err
	}
	if t.legend == nil {
		return t, fault.Misusef("by", "group", "needs a legend, whose column group says what belongs together").By("name it", "legend", "")
	}
	t.groups, err = t.legend.Group()
	return t, err
}

// readLegend reads a legend, nil for "".
func (w *work) readLegend(path string) (*cover.Legend, error) {
	if path == "" {
		return nil, nil
	}
	w.reads("legend", path)
	l, err := cover.ReadLegend(w.env.files(), path)
	if err == nil {
		w.note(l.Notes...)
	}
	return l, err
}

// readCrosswalk reads a crosswalk without a problem, nil for "".
func (w *work) readCrosswalk(path string, legend *cover.Legend) (*cover.Crosswalk, error) {
	if path == "" {
		return nil, nil
	}
	w.reads("crosswalk", path)
	walk, err := cover.ReadCrosswalk(w.env.files(), path, legend)
	if err == nil {
		w.note(walk.Notes...)
	}
	return walk, err
}

// coder makes the coder of a layer. A crosswalk with intervals, which measurements need, is applied to the cells,
// so that only the classes are counted; others are applied to the sums of the values.
func (t *terms) coder(s raster.Source, walk *cover.Crosswalk) (raster.Source, *cover.Coder, error) {
	if h := s.Header(); walk == nil && h.Scaled != "" {
		return nil, nil, fault.Errorf("%s: its values are %s, so they are measurements and not classes", h.Name, h.Scaled).By("put them into classes by intervals", "crosswalk", "FILE")
	}
	if walk == nil || !walk.HasIntervals() {
		return s, t.plainCoder(s, walk), nil
	}
	return t.classes(s, walk)
}

// plainCoder is the coder of the values of a layer.
func (t *terms) plainCoder(s raster.Source, walk *cover.Crosswalk) *cover.Coder {
	h := s.Header()
	return (&cover.Coder{Legend: t.legend, Crosswalk: walk, NoData: h.NoData, Groups: t.groups}).In(h.Type)
}

// classes is a layer to whose cells a crosswalk is applied, and the coder of what it makes of them.
func (t *terms) classes(s raster.Source, walk *cover.Crosswalk) (raster.Source, *cover.Coder, error) {
	plain := t.plainCoder(s, walk)
	plain.Groups = nil
	view, measured, err := cover.Measured(s, plain)
	if err != nil {
		return nil, nil, err
	}
	measured.Groups = t.groups
	return view, measured, nil
}

// warnFilled warns where a crosswalk makes a class of the value that a raster has for no data, perhaps without knowing it.
func (w *work) warnFilled(s raster.Source, walk *cover.Crosswalk) {
	h := s.Header()
	if l, named := (&cover.Coder{Crosswalk: walk, NoData: h.NoData}).In(h.Type).FillsWith(); l != nil && !named {
		w.warn(fmt.Sprintf("%s: line %d (%s) makes cells without data class %v, since %v means no data in %s: write nodata in the line if that is meant", walk.Source, l.Number, l.From, l.To, *h.NoData, h.Name))
	}
}

// explainGap lists all values without a line, where reading stopped at the first.
func (w *work) explainGap(err error, s raster.Source, t *terms, walk *cover.Crosswalk) error {
	if !errors.Is(err, cover.ErrNoLine) || walk == nil {
		return err
	}
	survey, again := survey.Take(w.ctx, s, &cover.Coder{Legend: t.legend, Crosswalk: walk, NoData: s.Header().NoData}, nil, w.threads(), nil)
	if again != nil || survey.Gap.Cells == 0 {
		return err
	}
	return gapError(survey)
}

// gapError lists the values that have no line.
func gapError(s *survey.Survey) *fault.Error {
	values := "values"
	if n := len(s.Gap.Values); n > 0 {
		var items []string
		for _, v := range s.Gap.Values {
			items = append(items, cover.ValueText(v))
		}
		values = text.Count(n, "value") + " that occur"
		if n == 1 {
			values = "1 value that occurs"
		}
		values += ": " + text.List(items, 12)
	}
	return fault.Errorf("%s: %s has no line for %s, with %s and %s ha", s.Raster, s.Crosswalk.Source, values,
		text.Count(int(s.Gap.Cells), "cell"), text.Number(s.Gap.Area/1e4, 1)).Do("add lines for them, or one for else")
}
