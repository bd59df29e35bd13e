package job

import (
	"context"
	"slices"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
)

// ProbeOptions are those of [ProbeCover].
type ProbeOptions struct {
	Covers         []string `arg:"COVER..." in:"cover"`
	Crosswalk      string   `opt:"crosswalk" in:"crosswalk" help:"CSV <FILE> that turns values into classes"`
	RasterOptions  `group:"rasters"`
	OverrideOption `group:"rasters"`
	LegendOption   `group:"classes"`
}

// Probe is what a few blocks of a cover hold.
type Probe struct {
	Name     string
	Blocks   int       // that were read
	All      bool      // these are all that there are
	NoLine   []float64 // values without a line in the crosswalk
	Unlisted []float64 // values that are in no class of the legend
	*Report
}

// probed is how many blocks are read at the most.
const probed = 32

// ProbeCover reads blocks that are spread over a cover, at most 32, and returns the values in them that a crosswalk and a legend do not know. Others
// may occur elsewhere.
func ProbeCover(ctx context.Context, env Env, o ProbeOptions) (*Probe, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	t, err := w.readTerms(ClassOptions{LegendOption: o.LegendOption, By: "class", UnitOption: UnitOption{Unit: "ha"}})
	if err != nil {
		return nil, err
	}
	walk, err := w.readCrosswalk(o.Crosswalk, t.legend)
	if err != nil {
		return nil, err
	}
	src, err := w.openCells("cover", o.Covers, o.RasterOptions)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	h := src.Header()
	coder := t.plainCoder(src, walk)
	out := &Probe{Name: src.path, Report: report}
	bw, bh := raster.WorkSize(src)
	bw, bh = min(bw, h.Grid.Width), min(bh, h.Grid.Height)
	across, down := (h.Grid.Width+bw-1)/bw, (h.Grid.Height+bh-1)/bh
	n := across * down
	out.All = n <= probed
	reader := src.NewReader()
	var c raster.Cells
	known := map[float64]bool{}
	for k := range min(n, probed) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		at := k
		if !out.All {
			at = int(int64(k) * int64(n-1) / (probed - 1))
		}
		win := raster.Window{Col: at % across * bw, Row: at / across * bh, Width: bw, Height: bh}
		win.Width, win.Height = min(bw, h.Grid.Width-win.Col), min(bh, h.Grid.Height-win.Row)
		if err := reader.Read(win, &c); err != nil {
			return nil, err
		}
		out.Blocks++
		for row := range c.Height {
			for col := range c.Width {
				v := c.At(col, row)
				if v != v || known[v] || len(known) > 1<<16 {
					continue
				}
				known[v] = true
				switch m, ok := coder.Code(v); {
				case !ok:
					out.NoLine = append(out.NoLine, v)
				case m.Kind == cover.Unlisted && t.legend != nil:
					out.Unlisted = append(out.Unlisted, v)
				}
			}
		}
	}
	slices.Sort(out.NoLine)
	slices.Sort(out.Unlisted)
	return out, nil
}

// ProbeZones reads zones, whatever they lie on, and returns their ids.
func ProbeZones(ctx context.Context, env Env, o ZoneOptions) (ids []string, err error) {
	w, _, err := begin(ctx, env, &o, false)
	if err != nil {
		return nil, err
	}
	set, err := w.loadZones("zones", o.Zones, o.SelectionOptions, o.ZoneNames)
	if err != nil {
		return nil, err
	}
	for _, z := range set.Zones {
		ids = append(ids, z.ID)
	}
	return ids, nil
}
