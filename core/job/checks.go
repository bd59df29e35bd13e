package job

import (
	"maps"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/zone"
)

// CheckOptions say which checks are made, and with which limits.
type CheckOptions struct {
	Control string   `opt:"control" in:"control totals" help:"CSV <FILE> of totals known from elsewhere: zone_id,class_code,epoch,area,unit,tolerance"`
	Bound   []string `opt:"bound" help:"another limit for a check, <CHECK=PERCENT>, such as pace=2"`
	Ignore  []string `opt:"ignore" help:"a <CHECK> to leave out"`
	// Others leaves out control totals that are about other epochs, zones and classes than those that are measured: a plan has other outputs for them.
	Others bool
	Skip   string // a check that whoever asks for the job has no use for, whether it is made or not
}

// CheckAllOption asks for the checks that read rasters again.
type CheckAllOption struct {
	CheckAll bool `opt:"check-all" help:"make the checks that read rasters again, however large these are"`
}

// cellsReadAgain is how many cells may lie in the boxes of zones for checks that read them again to be made unasked.
const cellsReadAgain = 1 << 24

// readsAgain reports whether checks that read the cells of zones again are to be made.
func (o CheckAllOption) readsAgain(place *zone.Placement) bool {
	cells := 0
	for _, o := range place.Outlines {
		cells += (o.RowTo - o.RowFrom) * (o.ColTo - o.ColFrom)
	}
	return cells <= cellsReadAgain || o.CheckAll
}

// checking is what the options say of checks.
type checking struct {
	CheckOptions
	bounds   check.Bounds
	ignore   []string
	controls []check.Control
}

// readChecking reads the options, before any work is done.
func (w *work) readChecking(o CheckOptions) (*checking, error) {
	k := &checking{CheckOptions: o, bounds: maps.Clone(check.Defaults)}
	for _, text := range o.Bound {
		name, value, ok := strings.Cut(text, "=")
		v, err := decimal.Finite(value)
		if _, known := k.bounds[name]; !ok || !known || err != nil || v < 0 {
			return nil, fault.Misusef("bound", text, "is not a limit").Do("write CHECK=PERCENT for one of %s", strings.Join(slices.Sorted(maps.Keys(k.bounds)), ", "))
		}
		k.bounds[name] = v
	}
	for _, name := range split(o.Ignore) {
		if !slices.Contains(check.Names, name) {
			return nil, fault.Misusef("ignore", name, "is not a check").Do("choose one of %s", strings.Join(check.Names, ", "))
		}
		if slices.ContainsFunc(o.Bound, func(text string) bool { return strings.HasPrefix(text, name+"=") }) {
			return nil, fault.Misusef("ignore", name, "leaves out a check that has a limit with it").Do("leave one of the two out")
		}
		k.ignore = append(k.ignore, name)
	}
	if o.Control != "" {
		w.reads("control totals", o.Control)
		controls, notes, err := check.ReadControls(w.env.files(), o.Control)
		if err != nil {
			return nil, err
		}
		w.note(notes...)
		k.controls = controls
	}
	return k, nil
}

// makes refuses options about checks that are none of those that the job makes. What a plan states for all of its outputs need not be about each of them.
func (k *checking) makes(names ...string) error {
	if k.Others {
		return nil
	}
	if k.controls != nil {
		names = append(names, "control")
	}
	refuse := func(option, name string) error {
		if slices.Contains(names, name) {
			return nil
		}
		return fault.Misusef(option, name, "is about a check that is not made here").Do("leave it out; the checks are %s", strings.Join(names, ", "))
	}
	for _, text := range k.Bound {
		name, _, _ := strings.Cut(text, "=")
		if err := refuse("bound", name); err != nil {
			return err
		}
	}
	for _, name := range k.ignore {
		if err := refuse("ignore", name); err != nil {
			return err
		}
	}
	return nil
}

// wants reports whether a check is to be made.
func (k *checking) wants(name string) bool { return name != k.Skip && !slices.Contains(k.ignore, name) }

// all are the checks that were made and those of control totals, without those that are to be left out.
func (k *checking) all(checks []check.Check, extents func() []check.Mapped, unit area.Unit) []check.Check {
	if controls := k.controls; len(controls) > 0 {
		measured := extents()
		if k.Others {
			controls = check.Among(controls, measured)
		}
		if len(controls) > 0 {
			checks = append(checks, check.AgainstControls(controls, measured, unit, k.bounds))
		}
	}
	return slices.DeleteFunc(checks, func(c check.Check) bool { return !k.wants(c.Name) })
}

// split divides the values of an option that takes several, each by itself or separated by commas.
func split(values []string) (out []string) {
	for _, text := range values {
		for _, v := range strings.Split(text, ",") {
			out = append(out, strings.TrimSpace(v))
		}
	}
	return out
}
