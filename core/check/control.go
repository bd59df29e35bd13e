package check

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/text"
)

// Control is a total that is known from elsewhere.
type Control struct {
	Zone, Class, Epoch string // "" for all
	M2                 float64
	Tolerance          float64 // percent; NaN for none of its own
}

// ReadControls reads a CSV of control totals with the columns zone_id, class_code, epoch, area, unit and tolerance (percent);
// area and unit are needed, and an empty zone, class or epoch means all of them together.
func ReadControls(from files.System, path string) (list []Control, notes []string, err error) {
	rows, notes, err := rows.Read(from, path, []string{"area", "unit"}, []string{"zone_id", "class_code", "epoch", "tolerance", "note"})
	if err != nil {
		return nil, nil, err
	}
	for _, row := range rows {
		for name := range row.Cell {
			if !slices.Contains([]string{"zone_id", "class_code", "epoch", "area", "unit", "tolerance", "note"}, name) {
				return nil, nil, fmt.Errorf("%s: the column %q is not known: the columns are zone_id, class_code, epoch, area, unit, tolerance and note", path, name)
			}
		}
		cell := func(name string) string { return row.Cell[name] }
		wrong := func(what string) error { return fmt.Errorf("%s: line %d: %s", path, row.Line, what) }
		if cell("unit") == "" {
			return nil, nil, wrong("the unit is missing: write ha, m2, km2, acre or mi2")
		}
		unit, err := area.Find(cell("unit"))
		if err != nil {
			return nil, nil, wrong(err.Error())
		}
		area, err := decimal.Parse(cell("area"))
		if err != nil || math.IsNaN(area) || math.IsInf(area, 0) || area < 0 {
			return nil, nil, wrong(fmt.Sprintf("the area %q is not a number that an area can be", cell("area")))
		}
		c := Control{cell("zone_id"), cell("class_code"), cell("epoch"), area * unit.M2, math.NaN()}
		if text := cell("tolerance"); text != "" {
			if c.Tolerance, err = decimal.Parse(strings.TrimSpace(strings.TrimSuffix(text, "%"))); err != nil || c.Tolerance < 0 {
				return nil, nil, wrong(fmt.Sprintf("the tolerance %q is not a percentage", text))
			}
		}
		list = append(list, c)
	}
	if len(list) == 0 {
		return nil, nil, fmt.Errorf("%s: it holds no totals", path)
	}
	return list, notes, nil
}

// Among are the control totals that are about what was measured: its epochs, zones and classes.
func Among(controls []Control, extents []Mapped) (out []Control) {
	zones, classes, epochs := map[string]bool{"": true}, map[string]bool{"": true}, map[string]bool{"": true}
	for _, m := range extents {
		zones[m.Zone], classes[m.Class], epochs[m.Epoch] = true, true, true
	}
	for _, c := range controls {
		if zones[c.Zone] && classes[c.Class] && epochs[c.Epoch] {
			out = append(out, c)
		}
	}
	return out
}

// AgainstControls compares extents with control totals. One without an epoch holds for each.
func AgainstControls(controls []Control, extents []Mapped, unit area.Unit, b Bounds) Check {
	var epochs []string
	for _, m := range extents {
		if !slices.Contains(epochs, m.Epoch) {
			epochs = append(epochs, m.Epoch)
		}
	}
	var found []Finding
	for _, c := range controls {
		if c.Epoch != "" {
			found = append(found, c.compare(c.Epoch, extents, unit, b)...)
			continue
		}
		for _, e := range epochs {
			found = append(found, c.compare(e, extents, unit, b)...)
		}
	}
	return Judge("control", text.Count(len(controls), "control total")+" met", "control totals are not met", found)
}

// compare compares with the extents of one epoch.
func (c Control) compare(epoch string, extents []Mapped, unit area.Unit, b Bounds) []Finding {
	sum, any := 0.0, false
	for _, m := range extents {
		if (c.Zone == "" || c.Zone == m.Zone) && (c.Class == "" || c.Class == m.Class) && epoch == m.Epoch {
			sum, any = sum+m.M2, true
		}
	}
	what := "all zones"
	if c.Zone != "" {
		what = "zone " + c.Zone
	}
	if c.Class != "" {
		what += " class " + c.Class
	}
	if epoch != "" {
		what += " in " + epoch
	}
	f := Finding{Epoch: epoch, ZoneID: c.Zone, Class: c.Class}
	if !any {
		f.Value, f.Text = math.NaN(), what+" is not among what was measured"
		return []Finding{f}
	}
	tolerance := c.Tolerance
	if math.IsNaN(tolerance) {
		tolerance = b["control"]
	}
	f.Value = (sum - c.M2) / c.M2 * 100
	if c.M2 == 0 && sum == 0 || math.Abs(f.Value) <= tolerance {
		return nil
	}
	f.Text = fmt.Sprintf("%s is %.6g %s, not %.6g (%+.3f %%, allowed %g %%)", what, sum/unit.M2, unit.Name, c.M2/unit.M2, f.Value, tolerance)
	return []Finding{f}
}
