package cli

import (
	"fmt"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/zone"
)

// units are zones together with the larger units of --within, which come behind them and are measured like them.
type units struct {
	set   *zone.Set
	place *zone.Placement
	first int   // the first unit; 0 when there are none
	of    []int // by zone: its unit, -1 for none
}

// addUnits reads --within and finds which unit each zone lies in.
func addUnits(c *cli.Command, set *zone.Set, place *zone.Placement, r *reporter) (*units, error) {
	u := &units{set: set, place: place}
	path := c.String("within")
	if path == "" {
		if c.String("within-id") != "" || c.String("within-name") != "" {
			return nil, usage("--within-id and --within-name need --within")
		}
		return u, nil
	}
	if c.String("zones") == "" {
		return nil, usage("--within tells of the zones of --zones")
	}
	l, err := readFeatures(path)
	if err != nil {
		return nil, err
	}
	larger, err := zone.FromLayer(l, zone.Selection{IDField: c.String("within-id"), NameField: c.String("within-name")})
	if err != nil {
		return nil, fmt.Errorf("--within: %w", err)
	}
	for _, z := range larger.Zones {
		if slices.ContainsFunc(set.Zones, func(s zone.Zone) bool { return s.ID == z.ID }) {
			return nil, fmt.Errorf("the id %s is that of a zone of %s and of a unit of %s: choose fields that tell them apart with --zone-id and --within-id", z.ID, set.Source, larger.Source)
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
	if len(astride) > 0 {
		r.note(fmt.Sprintf("%d zone(s) lie in more than one unit, or partly beside them, and are told with the one that holds most: %s", len(astride), firstOf(astride, 5)))
	}
	if len(none) > 0 {
		r.note(fmt.Sprintf("%d zone(s) lie in no unit: %s", len(none), firstOf(none, 5)))
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

func firstOf(list []string, n int) string {
	if len(list) > n {
		list = append(slices.Clone(list[:n]), fmt.Sprintf("%d more", len(list)-n))
	}
	text := ""
	for i, s := range list {
		if i > 0 {
			text += ", "
		}
		text += s
	}
	return text
}

// arrange puts each unit before its zones.
func (u *units) arrange(comp *account.Composition) {
	if u.first == 0 {
		return
	}
	comp.HasUnits = true
	var out []account.ZoneSum
	take := func(unit int) {
		for i := range u.first {
			if u.of[i] != unit {
				continue
			}
			z := comp.Zones[i]
			if unit >= 0 {
				z.WithinID, z.WithinName = u.set.Zones[u.first+unit].ID, u.set.Zones[u.first+unit].Name
			}
			out = append(out, z)
		}
	}
	for k := range comp.Zones[u.first:] {
		unit := comp.Zones[u.first+k]
		unit.Unit = true
		out = append(out, unit)
		take(k)
	}
	take(-1)
	comp.Zones = out
}
