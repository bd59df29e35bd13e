package job

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// CompositeOptions are those of [DeriveComposite].
type CompositeOptions struct {
	Stack          []string `arg:"RASTER... or PATTERN" in:"scene"` // in the order of time
	Of             string   `opt:"of" choose:"majority,min,max,mean,median,count" help:"<majority> for classes; min, max, mean, median or count for values"`
	Ties           string   `opt:"ties" default:"latest" help:"<latest>, or codes in the order in which they win a tie, such as 3,1"`
	RasterOptions  `group:"rasters"`
	ListOption     `group:"rasters"`
	OverrideOption `group:"rasters"`
}

// DeriveComposite keeps for each cell the class that most rasters of a stack hold, or a statistic of their values.
func DeriveComposite(ctx context.Context, env Env, o CompositeOptions) (_ *Raster, err error) {
	w, _, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	how := view.Statistic(slices.Index([]string{"majority", "min", "max", "mean", "median", "count"}, o.Of))
	ties, err := readTies(o.Ties)
	if err != nil {
		return nil, err
	}
	args := o.Stack
	if o.FromList != "" {
		w.reads("list of rasters", o.FromList)
		more, err := Listed(w.env.files(), o.FromList)
		if err != nil {
			return nil, err
		}
		args = slices.Concat(args, more)
	}
	groups, err := w.scenes(args)
	if err != nil {
		return nil, err
	}
	if len(groups) == 0 {
		return nil, fault.Misusef("", "", "no raster is named")
	}
	nodata, err := oneNodata(o.NoData)
	if err != nil {
		return nil, err
	}
	var sources []raster.Source
	var closes []func()
	defer func() {
		if err != nil {
			for _, c := range closes {
				c()
			}
		}
	}()
	for _, g := range groups {
		s, err := w.openWith("scene", g.Paths, nodata, o.RasterOptions)
		if err != nil {
			return nil, err
		}
		closes = append(closes, s.Close)
		h := s.Header()
		if how > view.StackMajority && how < view.StackCount && len(h.Palette) > 0 && !o.Measurements {
			return nil, fault.Errorf("%s: it has a palette, so it holds codes of classes, whose %s has no meaning", s.path, o.Of).
				By("take the majority", "of", "majority").By("state that they are measurements", "measurements", "")
		}
		if how == view.StackMajority && h.Type.Floating() {
			return nil, fault.Errorf("%s: its cells are floating-point numbers, which have no majority", s.path).By("choose min, max, mean, median or count", "of", "")
		}
		sources = append(sources, s)
	}
	sources, moved, err := view.Together(sources, o.Resample != "")
	if err != nil {
		return nil, err
	}
	stack, err := view.NewComposite(sources, how, ties)
	if err != nil {
		return nil, err
	}
	out := w.view(stack, o.Measurements, closes...)
	out.after = append(out.after, func() {
		w.noteMoves(moved)
		if groups[0].Date != "" {
			var names []string
			for _, g := range groups {
				names = append(names, fmt.Sprintf("%s (%d)", g.Date, len(g.Paths)))
			}
			w.note(fmt.Sprintf("%s with their numbers of files: %s", text.Count(len(groups), "date"), text.List(names, 12)))
		}
		if how == view.StackMajority {
			g := stack.Header().Grid
			w.note(fmt.Sprintf("%s (%.2f %%) had a tie", text.Count(int(stack.Tied()), "cell"), float64(stack.Tied())/float64(g.Width)/float64(g.Height)*100))
		}
	})
	return out, nil
}

// readTies reads codes in the order in which they win a tie; nil when the latest wins.
func readTies(ties string) (out []float64, err error) {
	if ties == "latest" {
		return nil, nil
	}
	for _, part := range strings.Split(ties, ",") {
		v, err := decimal.Finite(part)
		if err != nil {
			return nil, fault.Misusef("ties", ties, "is neither latest nor a list of codes such as 3,1")
		}
		out = append(out, v)
	}
	return out, nil
}
