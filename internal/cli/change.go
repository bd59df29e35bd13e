package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

func changeCommand() *cli.Command {
	return &cli.Command{
		Name:  "change",
		Usage: "what changed between epochs in each zone",
		Description: `Compares the cover rasters of two epochs or more in one pass over all: each epoch with the next, and the
first with the last. Opening extent plus additions less reductions is the closing extent, exactly, on the ground
that both epochs map; ground that only one of them maps is shown apart.

  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --zones wards.geojson --zone-id code
  verdex change --epoch 2004=a.tif --epoch 2012=b.tif --epoch 2020=c.tif --crosswalk 2004=old.csv --legend legend.csv
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --table matrix --only "from = 3 AND to = 5"
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --table parts      quantity, exchange and shift
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --map moved.tif    where what became what
  verdex change --epoch 2012="tiles/*.tif" --nodata 2012=0 --epoch 2020=b.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringSliceFlag{Name: "epoch", Usage: "`LABEL=COVER`, the earliest first; several with one label are one raster"},
			&cli.StringFlag{Name: "table", Value: "summary", Usage: "`summary` (a row for each class), matrix (a row for each transition), parts (quantity, exchange, shift) or intensity"},
			&cli.StringFlag{Name: "only", Usage: "only the transitions for which a `CONDITION` in CQL2 on from, to, from_name and to_name holds, in the matrix and the map"},
			&cli.StringFlag{Name: "map", Usage: "write a raster with a code for each transition from the first epoch to the last to `FILE`, and its legend beside it"},
			&cli.StringSliceFlag{Name: "crosswalk", Usage: "CSV `FILE` for all epochs, or LABEL=FILE for one"},
			&cli.StringSliceFlag{Name: "from-list", Usage: "`LABEL=FILE`, a file with a raster of that epoch on each line"},
			checkAllFlag(),
		}, zoneFlags(), rasterFlags(), classFlags(), checkFlags(), postFlags(), outputFlags()),
		Action: change,
	}
}

// changeTables are what change can tell.
var changeTables = []struct {
	name  string
	table func(*account.Changes, func(account.Transition) bool) *table.Table
	paint func(*canvas, *account.Changes, func(account.Transition) bool) error
}{
	{"summary", summaryTable, paintSummary},
	{"matrix", matrixTable, paintMatrix},
	{"parts", partsTable, paintParts},
	{"intensity", intensityTable, paintIntensity},
}

func change(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 {
		return usage("change takes its rasters as --epoch LABEL=COVER, not %q", c.Args().First())
	}
	r := newReporter(c)
	which := -1
	for i, t := range changeTables {
		if t.name == c.String("table") {
			which = i
		}
	}
	if which < 0 {
		return usage("--table %s is not known: choose summary, matrix, parts or intensity", c.String("table"))
	}
	if err := checkPost(ctx, c); err != nil {
		return err
	}
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	checks, err := readChecking(c)
	if err != nil {
		return err
	}
	only, err := readOnly(c)
	if err != nil {
		return err
	}
	ch, err := compare(ctx, c, r, only, checks)
	if err != nil {
		return err
	}
	keep, err := only.of(ch.Legend)
	if err != nil {
		return err
	}
	out.checks = checks.all(ch.Check(checks.bounds), ch.Extents, ch.Unit)
	made := postings(c, func() []*book.Posting { return book.FromChanges(ch) })
	if name := changeTables[which].name; name == "summary" || name == "matrix" && c.String("only") == "" {
		out.sheets = func() []*table.Sheet { return accountSheets(made(), ch.Unit) }
	}
	if out.format != "table" {
		if err := out.write(ctx, changeTables[which].table(ch, keep)); err != nil {
			return err
		}
	}
	if err := checks.stage(ctx, out.checks); err != nil {
		return err
	}
	postTo(ctx, c, made, r)
	if err := commit(ctx); err != nil {
		return err
	}
	if out.format == "table" {
		if err := changeTables[which].paint(newCanvas(out.stdout), ch, keep); err != nil {
			return err
		}
	}
	return checks.tell(r, out.checks)
}

// epochs reads the --epoch options: labels, each with one raster or several that are one.
func epochs(c *cli.Command) (labels []string, paths [][]string, err error) {
	for _, e := range c.StringSlice("epoch") {
		label, path, ok := strings.Cut(e, "=")
		if !ok || label == "" || path == "" {
			return labels, paths, usage("--epoch %q is not of the form LABEL=COVER, such as 2004=a.tif", e)
		}
		k := slices.Index(labels, label)
		if k < 0 {
			k = len(labels)
			labels, paths = append(labels, label), append(paths, nil)
		}
		if slices.Contains(paths[k], path) {
			return labels, paths, usage("%s is given twice for epoch %s", path, label)
		}
		paths[k] = append(paths[k], path)
	}
	for _, text := range c.StringSlice("from-list") {
		label, list, ok := strings.Cut(text, "=")
		if !ok || label == "" || list == "" {
			return labels, paths, usage("--from-list %q is not of the form LABEL=FILE, such as 2012=tiles.txt: it says which epoch its rasters are of", text)
		}
		more, err := listed(list)
		if err != nil {
			return labels, paths, err
		}
		if k := slices.Index(labels, label); k >= 0 {
			paths[k] = append(paths[k], more...)
			continue
		}
		at := len(labels)
		for k := range labels {
			if account.InOrder(slices.Insert(slices.Clone(labels), k, label)) == nil {
				at = k
				break
			}
		}
		labels, paths = slices.Insert(labels, at, label), slices.Insert(paths, at, more)
	}
	if n := len(labels); n < 2 {
		return labels, paths, usage("change compares epochs, but %d was given: write --epoch 2004=a.tif --epoch 2020=b.tif", n)
	}
	if err := account.InOrder(labels); err != nil {
		return labels, paths, usageError{err}
	}
	return labels, paths, nil
}

// labelled splits options of the form VALUE or LABEL=VALUE by epoch: a value without label is for all.
func labelled(given []string, labels []string, option string) ([]string, error) {
	out := make([]string, len(labels))
	for _, text := range given {
		n, value := -1, text
		for i, l := range labels {
			if v, ok := strings.CutPrefix(text, l+"="); ok {
				n, value = i, v
			}
		}
		for i := range out {
			if n >= 0 && n != i {
				continue
			}
			if out[i] != "" {
				return out, usage("%s is given twice for epoch %s", option, labels[i])
			}
			out[i] = value
		}
	}
	return out, nil
}

// crosswalks reads --crosswalk for each epoch.
func crosswalks(c *cli.Command, labels []string, legend *cover.Legend) ([]*cover.Crosswalk, error) {
	paths, err := labelled(c.StringSlice("crosswalk"), labels, "--crosswalk")
	out := make([]*cover.Crosswalk, len(paths))
	for i, path := range paths {
		if err == nil && path != "" {
			out[i], err = readCrosswalk(c, path, legend)
		}
	}
	return out, err
}

func compare(ctx context.Context, c *cli.Command, r *reporter, only *onlyOption, checks *checking) (*account.Changes, error) {
	labels, paths, err := epochs(c)
	if err != nil {
		return nil, err
	}
	t, err := readTerms(c)
	if err != nil {
		return nil, err
	}
	walks, err := crosswalks(c, labels, t.legend)
	if err != nil {
		return nil, err
	}
	nodata, err := labelled(c.StringSlice("nodata"), labels, "--nodata")
	if err != nil {
		return nil, err
	}
	n := len(labels)
	in := account.ChangeInput{Epochs: labels, Rasters: make([]string, n), Coders: make([]*cover.Coder, n)}
	var layers []raster.Source
	for i := range paths {
		s, err := openRasters(c, paths[i], nodata[i], r)
		if err != nil {
			return nil, err
		}
		defer s.Close()
		if err := s.needCRS(); err != nil {
			return nil, err
		}
		in.Rasters[i] = s.path
		if h := s.Header(); len(in.Palette) == 0 {
			in.Palette = h.Palette
		}
		layers = append(layers, s)
	}
	layers, moved, err := raster.Together(layers, c.String("resample") == "nearest")
	if err != nil {
		return nil, err
	}
	plain := slices.Clone(layers)
	for i, l := range plain {
		if layers[i], in.Coders[i], err = t.coder(l, walks[i]); err != nil {
			return nil, err
		}
	}
	g := layers[0].Header().Grid
	if in.Zones, in.Placement, err = readZones(ctx, c, g, r); err != nil {
		return nil, err
	}
	tell, end := r.progress("comparing")
	in.Tally, err = tally.Measure(ctx, tally.Request{Layers: layers, Groups: account.ChangeGroups(n), Zones: in.Zones, Placement: in.Placement,
		Centres: t.centres, Threads: c.Int("threads"), Progress: tell})
	end()
	explain := func(err error) error {
		for i := range plain {
			err = t.explainGap(ctx, err, plain[i], walks[i], c.Int("threads"))
		}
		return err
	}
	if err != nil {
		return nil, explain(err)
	}
	r.notes(account.SharedGround(in.Tally, in.Zones))
	for _, a := range moved {
		r.notes(a.Notes)
		r.note(movesNote(a))
	}
	ch, err := account.Compare(in, t.unit)
	if err != nil {
		return nil, explain(err)
	}
	if n > 2 && checks.wants("speckle") && readsAgain(c, in.Placement) {
		for e := range n - 2 {
			flips := raster.Flips([3]raster.Source(layers[e:e+3]), func(epoch int, v float64) int {
				if m, ok := in.Coders[e+epoch].Code(v); ok && m.Kind == cover.Classified {
					return m.Code
				}
				return -1
			})
			tell, end := r.progress("looking for single cells")
			found, err := tally.Measure(ctx, tally.Request{Layers: []raster.Source{flips}, Zones: in.Zones, Placement: in.Placement,
				Centres: t.centres, Threads: c.Int("threads"), Progress: tell})
			end()
			if err != nil {
				return nil, err
			}
			ch.FindLone(e, found)
		}
	}
	if path := c.String("map"); path != "" {
		last := n - 1
		err = writeChangeMap(ctx, c, path, ch, only, [2]raster.Source{layers[0], layers[last]}, [2]*cover.Coder{in.Coders[0], in.Coders[last]}, r)
	}
	return ch, err
}
