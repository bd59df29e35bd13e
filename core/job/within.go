package job

import (
	"fmt"
	"slices"

	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// WithinOptions name larger units that zones lie in.
type WithinOptions struct {
	Within     string `opt:"within" in:"larger units" help:"<FILE> of larger units: report which one each zone lies in, and measure them too"`
	WithinID   string `opt:"within-id" help:"<FIELD> that identifies the larger units"`
	WithinName string `opt:"within-name" help:"<FIELD> with the names of the larger units"`
}

// units are zones together with the larger units that they lie in, which come behind them and are measured like them.
type units struct {
	set   *zone.Set
	place *zone.Placement
	first int   // the first unit; 0 when there are none
	of    []int // by zone: its unit, -1 for none
}

// addUnits reads the larger units and finds which one each zone lies in.
func (w *work) addUnits(o *MeasureOptions, set *zone.Set, place *zone.Placement) (*units, error) {
	u := &units{set: set, place: place}
	if o.Within == "" {
		for _, f := range []struct{ name, value string }{{"within-id", o.WithinID}, {"within-name", o.WithinName}} {
			if f.value != "" {
				return nil, fault.Misusef(f.name, "", "is about larger units, and none are named").By("name them", "within", "FILE")
			}
		}
		return u, nil
	}
	if o.Zones == "" {
		return nil, fault.Misusef("within", "", "is about zones, and none are named").By("name them", "zones", "")
	}
	l, err := w.readFeatures("larger units", o.Within)
	if err != nil {
		return nil, err
	}
	larger, err := zone.FromLayer(l, zone.Selection{IDField: o.WithinID, NameField: o.WithinName, IDOption: "within-id", NameOption: "within-name"})
	if err != nil {
		return nil, fmt.Errorf("larger units: %w", err)
	}
	taken := map[string]bool{}
	for _, z := range set.Zones {
		taken[z.ID] = true
	}
	for _, z := range larger.Zones {
		if taken[z.ID] {
			return nil, fault.Errorf("the id %s is that of a zone of %s and of a unit of %s", z.ID, set.Source, larger.Source).
				By("choose fields whose values differ", "zone-id", "").By("", "within-id", "")
		}
	}
	var share []float64
	if u.of, share, err = zone.Within(set, larger); err != nil {
		return nil, err
	}
	var astride, none []string
	for i, z := range set.Zones {
		switch {
		case u.of[i] < 0:
			none = append(none, z.ID)
		case share[i] < 0.999:
			astride = append(astride, fmt.Sprintf("%s (%.1f %% in %s)", z.ID, 100*share[i], larger.Zones[u.of[i]].ID))
		}
	}
	if n := len(astride); n == 1 {
		w.note("1 zone lies only partly in a unit and is listed under the one that holds most of it: " + astride[0])
	} else if n > 1 {
		w.note(text.Count(n, "zone") + " lie only partly in a unit and are listed under the one that holds most of them: " + text.List(astride, 5))
	}
	if n := len(none); n == 1 {
		w.note("1 zone lies in no unit: " + none[0])
	} else if n > 1 {
		w.note(text.Count(n, "zone") + " lie in no unit: " + text.List(none, 5))
	}
	placed, err := larger.Place(place.Grid)
	if err != nil {
		return nil, err
	}
	both, joined := *set, *place
	both.Zones = slices.Concat(set.Zones, larger.Zones)
	joined.Outlines = slices.Concat(place.Outlines, placed.Outlines)
	u.set, u.place, u.first = &both, &joined, len(set.Zones)
	return u, nil
}

// sets are the zones and the units, which share ground with them.
func (u *units) sets() []tally.Set {
	if u.first == 0 {
		return nil
	}
	return []tally.Set{{}, {First: u.first}}
}

// arrange puts each unit before its zones.
func (u *units) arrange(comp *extent.Composition) {
	if u.first == 0 {
		return
	}
	comp.HasLarger = true
	zones := make([][]extent.ZoneSum, len(comp.Zones)-u.first+1) // by unit, and at the end those of none
	for i, z := range comp.Zones[:u.first] {
		k := u.of[i]
		if k < 0 {
			k = len(zones) - 1
		} else {
			z.WithinID, z.WithinName = u.set.Zones[u.first+k].ID, u.set.Zones[u.first+k].Name
		}
		zones[k] = append(zones[k], z)
	}
	out := make([]extent.ZoneSum, 0, len(comp.Zones))
	for k, of := range zones {
		if k < len(zones)-1 {
			unit := comp.Zones[u.first+k]
			unit.Larger = true
			out = append(out, unit)
		}
		out = append(out, of...)
	}
	comp.Zones = out
}
