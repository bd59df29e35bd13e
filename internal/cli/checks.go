package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/table"
)

func checkFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "strict", Usage: "end with status 3 when a check falls short"},
		&cli.StringFlag{Name: "control", Usage: "CSV `FILE` of totals known from elsewhere: zone_id,class_code,epoch,area,unit,tolerance"},
		&cli.StringSliceFlag{Name: "bound", Usage: "`CHECK=PERCENT`: another limit for a check, such as pace=2"},
		&cli.StringSliceFlag{Name: "ignore", Usage: "a `CHECK` to leave out"},
		&cli.StringFlag{Name: "checks", Usage: "write what the checks found to `FILE`, in the format that its ending chooses"},
	}
}

// checkAllFlag asks for the checks that read rasters again, however large they are.
func checkAllFlag() cli.Flag {
	return &cli.BoolFlag{Name: "check-all", Usage: "make also the checks that read large rasters again"}
}

// cellsReadAgain is how many cells may lie in the boxes of zones for checks that read them again to be made unasked.
const cellsReadAgain = 1 << 24

// readsAgain reports whether checks that read the cells of zones again are to be made.
func readsAgain(c *cli.Command, place *zone.Placement) bool {
	cells := 0
	for _, o := range place.Outlines {
		cells += (o.RowTo - o.RowFrom) * (o.ColTo - o.ColFrom)
	}
	return cells <= cellsReadAgain || c.Bool("check-all")
}

// checking is what the options say of checks.
type checking struct {
	bounds   account.Bounds
	ignore   []string
	controls []account.Control
	strict   bool
	out      *destination // nil without --checks
}

// readChecking reads the options, before any work is done.
func readChecking(c *cli.Command) (*checking, error) {
	k := &checking{bounds: maps.Clone(account.DefaultBounds), strict: c.Bool("strict")}
	for _, text := range c.StringSlice("bound") {
		name, value, ok := strings.Cut(text, "=")
		v, err := finite(value)
		if _, known := k.bounds[name]; !ok || !known || err != nil || v < 0 {
			return nil, usage("--bound %s is not understood: write CHECK=PERCENT for one of %s", text, strings.Join(slices.Sorted(maps.Keys(k.bounds)), ", "))
		}
		k.bounds[name] = v
	}
	for _, name := range listOf(c, "ignore") {
		if !slices.Contains(account.CheckNames, name) {
			return nil, usage("--ignore %s is not known: the checks are %s", name, strings.Join(account.CheckNames, ", "))
		}
		k.ignore = append(k.ignore, name)
	}
	var err error
	if path := c.String("control"); path != "" {
		var notes []string
		if k.controls, notes, err = account.ReadControls(path); err != nil {
			return nil, err
		}
		newReporter(c).notes(notes)
	}
	if path := c.String("checks"); path != "" {
		if k.out, err = destinationOf(c, "checks"); err != nil {
			return nil, err
		}
	}
	return k, nil
}

// wants reports whether a check is to be made.
func (k *checking) wants(name string) bool { return !slices.Contains(k.ignore, name) }

// all are the checks that were made and those of control totals, without those that are to be left out.
func (k *checking) all(checks []account.Check, extents func() []account.Mapped, unit account.Unit) []account.Check {
	if len(k.controls) > 0 {
		checks = append(checks, account.CheckControls(k.controls, extents(), unit, k.bounds))
	}
	return slices.DeleteFunc(checks, func(c account.Check) bool { return !k.wants(c.Name) })
}

// stage writes what checks found where --checks says.
func (k *checking) stage(ctx context.Context, checks []account.Check) error {
	if k.out == nil {
		return nil
	}
	return k.out.write(ctx, checksTable(checks))
}

// tell tells what checks found: those that hold by name, the others with what falls short. It is errStrict when one falls
// short, or the reporter has warned, and that is to end the command so.
func (k *checking) tell(r *reporter, checks []account.Check) error {
	var holding []string
	short := false
	for _, c := range checks {
		switch c.Outcome {
		case account.Holds:
			holding = append(holding, c.Name)
		case account.FallsShort:
			short = true
			r.warn(fmt.Sprintf("check %s: %s", c.Name, c.Text))
		}
	}
	if len(holding) > 0 {
		r.note("checks that hold: " + strings.Join(holding, ", "))
	}
	if k.strict && (short || r.warned > 0) {
		return errStrict
	}
	return nil
}

func checksTable(checks []account.Check) *table.Table {
	t := &table.Table{Name: "checks", Title: "What the checks found", Columns: []string{"check", "outcome", "epoch", "zone_id", "class_code", "value", "text"}}
	for _, c := range checks {
		if len(c.Findings) == 0 {
			t.Rows = append(t.Rows, []any{c.Name, c.Outcome.String(), "", "", "", nil, c.Text})
		}
		for _, f := range c.Findings {
			t.Rows = append(t.Rows, []any{c.Name, c.Outcome.String(), f.Epoch, f.ZoneID, f.Class, f.Value, f.Text})
		}
	}
	return t
}
