package job

import (
	"context"
	"slices"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/summary"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// SummariseOptions are those of [Summarise].
type SummariseOptions struct {
	Values         []string `arg:"VALUES..." in:"values"`
	Stats          string   `opt:"stats" default:"count,area,mean,std,min,median,max" help:"<NAMES> of statistics, separated by commas"`
	PerClass       string   `opt:"per-class" in:"cover" help:"<COVER> raster: summarise each class within each zone"`
	LegendOption   `group:"classes"`
	UnitOption     `group:"classes"`
	ZoneOptions    `group:"zones"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// Summarised is the result of [Summarise].
type Summarised struct {
	*summary.Summary
	Name    string // of the values
	Stats   []*summary.Statistic
	Unit    area.Unit
	Zones   *zone.Set
	Classes bool // there is a row for each class
	Legend  *cover.Legend
	*Report
}

// Summarise computes statistics of measurements in each zone, weighted by the true area of each cell and by its share of the zone.
func Summarise(ctx context.Context, env Env, o SummariseOptions) (*Summarised, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	s := &Summarised{Unit: o.unit(), Classes: o.PerClass != "", Report: report}
	if s.Stats, err = summary.ParseStatistics(o.Stats); err != nil {
		return nil, fault.Misusef("stats", "", "are wrong: %w", err)
	}
	if o.Legend != "" && !s.Classes {
		return nil, fault.Misusef("legend", "", "names the classes of a cover, and there is none").By("name it", "per-class", "COVER")
	}
	if s.Legend, err = w.readLegend(o.Legend); err != nil {
		return nil, err
	}
	if o.FromList != "" {
		w.reads("list of rasters", o.FromList)
	}
	paths, err := Rasters(w.env.files(), o.Values, o.FromList)
	if err != nil {
		return nil, err
	}
	src, err := w.openCells("values", paths, o.RasterOptions)
	if err != nil {
		return nil, err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	if len(src.Header().Palette) > 0 && !o.Measurements && slices.ContainsFunc(s.Stats, func(s *summary.Statistic) bool { return s.Arithmetic }) {
		return nil, fault.Errorf("%s: it has a palette, so it holds codes of classes, whose mean is meaningless", src.path).
			Do("measure reports classes").By("state that these are measurements", "measurements", "")
	}
	s.Name = src.path
	req := summary.Request{Values: src, Centres: o.centres(), Threads: w.threads(), Stats: s.Stats}
	var moved []*view.Aligned
	if s.Classes {
		cover, err := w.openWith("cover", []string{o.PerClass}, "", o.RasterOptions)
		if err != nil {
			return nil, err
		}
		defer cover.Close()
		if req.Values, req.Classes, moved, err = onFinerGrid(src, cover, o.Resample == "nearest"); err != nil {
			return nil, err
		}
	}
	if req.Zones, req.Placement, err = w.readZones(o.ZoneOptions, req.Values.Header().Grid); err != nil {
		return nil, err
	}
	s.Zones = req.Zones
	tell, end := w.progress("summarising")
	req.Progress = tell
	s.Summary, err = summary.Summarise(ctx, req)
	end()
	if err != nil {
		return nil, err
	}
	if n := s.Infinite; n > 0 {
		w.warn("in " + text.Count(n, "zone") + " cells hold an infinite number, as a division by zero leaves it; they are left out")
	}
	if !s.Classes {
		w.noteEmpty(s)
	}
	w.noteMoves(moved)
	return s, nil
}

// onFinerGrid brings values and classes onto the finer grid of the two, so that a coarse cell counts for each of its parts.
func onFinerGrid(values, classes raster.Source, resample bool) (v, c raster.Source, moved []*view.Aligned, err error) {
	if classes.Header().Grid.DX < values.Header().Grid.DX {
		both, moved, err := view.Together([]raster.Source{classes, values}, resample)
		if err != nil {
			return nil, nil, nil, err
		}
		return both[1], both[0], moved, nil
	}
	both, moved, err := view.Together([]raster.Source{values, classes}, resample)
	if err != nil {
		return nil, nil, nil, err
	}
	return both[0], both[1], moved, nil
}

// noteEmpty notes the zones without a value.
func (w *work) noteEmpty(s *Summarised) {
	k := slices.IndexFunc(s.Stats, func(s *summary.Statistic) bool { return s.Kind == summary.Cells })
	if k < 0 {
		return
	}
	var empty []string
	for _, row := range s.Rows {
		if row.Values[k] == 0 {
			empty = append(empty, s.Zones.Zones[row.Zone].ID)
		}
	}
	if len(empty) > 0 {
		w.note("no cell with a value lies in zone " + text.List(empty, 5))
	}
}
