package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/raster"
)

func compositeCommand() *cli.Command {
	return &cli.Command{
		Name:      "composite",
		Usage:     "one raster of a stack: the majority class, or a statistic of values",
		ArgsUsage: "RASTER... or PATTERN",
		Description: `Keeps for each cell the class that most rasters of the stack hold, or the least, greatest, mean or
median value, or how many hold data. The stack is in the order of time; a tie goes to the latest, or as --ties says.
A pattern with {date} groups files: those of one date are one raster first, so that none counts twice where its
tiles overlap.

  verdex derive composite "scenes/{date}_{tile}.tif" --out usual.tif
  verdex derive composite 2018.tif 2019.tif 2020.tif --ties 3,1 --out usual.tif
  verdex derive composite "ndvi/{date}.tif" --of median --out median.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "of", Value: "majority", Usage: "`majority` for classes; min, max, mean, median or count for values"},
			&cli.StringFlag{Name: "ties", Value: "latest", Usage: "`latest`, or codes in the order in which they win a tie, such as 3,1"},
			listFlag(),
		}, rasterFlags(), rasterOutFlags()),
		Action: composite,
	}
}

func composite(ctx context.Context, c *cli.Command) error {
	r := newReporter(c)
	statistics := []string{"majority", "min", "max", "mean", "median", "count"}
	how := slices.Index(statistics, c.String("of"))
	if how < 0 {
		return usage("--of %s is not known: choose %s", c.String("of"), strings.Join(statistics, ", "))
	}
	var ties []float64
	if text := c.String("ties"); text != "latest" {
		for _, part := range strings.Split(text, ",") {
			v, err := finite(part)
			if err != nil {
				return usage("--ties %q is neither latest nor a list of codes such as 3,1", text)
			}
			ties = append(ties, v)
		}
	}
	out := c.String("out")
	if out == "" {
		return usage("derive composite needs --out, the file to write")
	}
	groups, err := stack(c)
	if err != nil {
		return err
	}
	nodata, err := oneNodata(c)
	if err != nil {
		return err
	}
	var sources []raster.Source
	for _, g := range groups {
		s, err := openRasters(c, g.paths, nodata, r)
		if err != nil {
			return err
		}
		defer s.Close()
		h := s.Header()
		if how > int(raster.StackMajority) && how < int(raster.StackCount) && len(h.Palette) > 0 && !c.Bool("measurements") {
			return fmt.Errorf("%s: it has a palette, so it holds codes of classes, whose %s means nothing: take the majority, or say --measurements", s.path, statistics[how])
		}
		if how == int(raster.StackMajority) && h.Type.Floating() {
			return fmt.Errorf("%s: its cells are floating-point numbers, which have no majority: choose --of min, max, mean, median or count", s.path)
		}
		sources = append(sources, s)
	}
	sources, moved, err := raster.Together(sources, c.String("resample") != "")
	if err != nil {
		return err
	}
	view, err := raster.NewComposite(sources, raster.Statistic(how), ties)
	if err != nil {
		return err
	}
	if err := writeRaster(ctx, c, out, view, r); err != nil {
		return err
	}
	for _, a := range moved {
		r.note(movesNote(a))
	}
	var names []string
	for _, g := range groups {
		names = append(names, fmt.Sprintf("%s (%d)", g.date, len(g.paths)))
	}
	if groups[0].date != "" {
		r.note(fmt.Sprintf("%d dates with their files: %s", len(groups), shown(names, 12)))
	}
	if how == int(raster.StackMajority) {
		g := view.Header().Grid
		r.note(fmt.Sprintf("%s cells (%.2f %%) had a tie", group(float64(view.Tied()), 0), float64(view.Tied())/float64(g.Width)/float64(g.Height)*100))
	}
	return nil
}

// scene is the files of one date.
type scene struct {
	date  string
	paths []string
}

// stack finds the rasters of the stack: each argument is one, and a pattern with {date} one for each date.
func stack(c *cli.Command) ([]scene, error) {
	var out []scene
	args, err := namedRasters(c)
	if err != nil {
		return nil, err
	}
	for _, arg := range args {
		if strings.Contains(arg, "{") {
			found, err := dated(arg)
			if err != nil {
				return nil, err
			}
			out = append(out, found...)
			continue
		}
		paths, err := rasterPaths([]string{arg})
		if err != nil {
			return nil, err
		}
		for _, p := range paths {
			out = append(out, scene{paths: []string{p}})
		}
	}
	if len(out) == 0 {
		return nil, usage("derive composite needs rasters (verdex derive composite --help shows examples)")
	}
	return out, nil
}

var placeholder = regexp.MustCompile(`\{([a-z]+)\}`)

// dated groups the files that fit a pattern by what stands in the place of {date}.
func dated(pattern string) ([]scene, error) {
	if strings.Count(pattern, "{date}") != 1 {
		return nil, usage("the pattern %q groups by {date}, which stands in it %d times", pattern, strings.Count(pattern, "{date}"))
	}
	glob := placeholder.ReplaceAllString(pattern, "*")
	// The same as an expression, in which {date} is kept; others may hold anything but a separator.
	expression, rest := "^", filepath.Clean(pattern)
	for rest != "" {
		at := placeholder.FindStringIndex(rest)
		if at == nil {
			expression += regexp.QuoteMeta(rest)
			break
		}
		expression += regexp.QuoteMeta(rest[:at[0]])
		if rest[at[0]:at[1]] == "{date}" {
			expression += `([0-9][0-9T:.-]*)`
		} else {
			expression += `[^/\\\\]+`
		}
		rest = rest[at[1]:]
	}
	expression = strings.ReplaceAll(strings.ReplaceAll(expression, `\*`, `[^/\\]*`), `\?`, `[^/\\]`) + "$"
	match, err := regexp.Compile(expression)
	if err != nil {
		return nil, usage("the pattern %q is not understood (%v)", pattern, err)
	}
	files, err := filepath.Glob(glob)
	if err != nil {
		return nil, usage("the pattern %q is not understood (%v)", pattern, err)
	}
	by := map[string][]string{}
	for _, f := range files {
		if m := match.FindStringSubmatch(filepath.Clean(f)); m != nil {
			by[m[1]] = append(by[m[1]], f)
		}
	}
	if len(by) == 0 {
		return nil, fmt.Errorf("%s: no file fits the pattern with digits in the place of {date}: check the path", pattern)
	}
	var out []scene
	for date, paths := range by {
		slices.Sort(paths)
		out = append(out, scene{date, paths})
	}
	slices.SortFunc(out, func(a, b scene) int { return strings.Compare(a.date, b.date) })
	return out, nil
}
