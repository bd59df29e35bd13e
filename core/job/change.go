package job

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/change"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector/tables"
)

// ChangeOptions are those of [Change].
type ChangeOptions struct {
	Epochs         []string `opt:"epoch" in:"cover" help:"<LABEL=COVER>, the earliest first; several with one label are one raster"`
	FromList       []string `opt:"from-list" in:"list of rasters" help:"<LABEL=FILE>, a file with one raster of that epoch on each line"`
	Only           string   `opt:"only" help:"only the transitions for which a <CONDITION> in CQL2 on from, to, from_name and to_name holds, in the matrix and on the map"`
	Crosswalk      []string `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that turns values into classes, for all epochs; LABEL=FILE for one"`
	ZoneOptions    `group:"zones"`
	RasterOptions  `group:"rasters"`
	OverrideOption `group:"rasters"`
	ClassOptions   `group:"classes"`
	CheckOptions   `group:"checks"`
	CheckAllOption `group:"checks"`
	// History says what is made of histories, for commands that show them.
	History HistoryOptions
	// Histories traces what each piece of ground went through, over all epochs.
	Histories bool
}

// HistoryOptions say what is made of histories.
type HistoryOptions struct {
	Steady   int    `opt:"steady" least:"0" most:"1000" group:"classes" help:"of three epochs or more, treat a class that lasts for fewer than so many <EPOCHS> between epochs of one other class as that other class; 0 changes nothing"`
	Accuracy string `opt:"accuracy" group:"checks" in:"table" help:"a <TABLE> with the error matrix of account accuracy: the check flicker then counts what errors of the maps do not explain"`
}

// readsFlips reports whether single cells are to be looked for that change and change back: where something is mended, they are.
func (o *ChangeOptions) readsFlips(epochs int) bool { return epochs > 2 && o.History.Steady == 0 }

// Changed is the result of [Change]. It keeps the rasters open for [Changed.Map] until Close.
type Changed struct {
	*change.Changes
	Keep   func(change.Transition) bool // the transitions that are wanted
	Some   bool                         // not all are
	Checks []check.Check
	Traced *change.Histories // nil unless they were asked for
	*Report

	work   *work
	layers [2]raster.Source // of the first and the last epoch
	coders [2]*cover.Coder
	open   []*cells
	all    *comparison
}

// Close closes the rasters.
func (c *Changed) Close() {
	for _, s := range c.open {
		s.Close()
	}
}

// Change compares the covers of two epochs or more in one pass: each with the next, and the first with the last.
func Change(ctx context.Context, env Env, o ChangeOptions) (_ *Changed, err error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, err
	}
	checks, err := w.readChecking(o.CheckOptions)
	if err != nil {
		return nil, err
	}
	only, err := readOnly(o.Only)
	if err != nil {
		return nil, err
	}
	c := &comparison{work: w, o: &o, out: &Changed{Report: report, work: w, Some: o.Only != ""}}
	c.out.all = c
	defer func() {
		if err != nil {
			c.out.Close()
		}
	}()
	made := []string{"balance", "outline", "inside", "mapped", "extents", "pace", "vanish", "nodata", "unlisted"}
	if err = c.open(); err == nil {
		if o.readsFlips(len(c.labels)) {
			made = append(made, "flicker", "speckle")
		}
		if o.History.Steady > 0 {
			made = append(made, "steady")
		}
		err = checks.makes(made...)
	}
	if err == nil {
		err = c.measure(o.readsFlips(len(c.labels)) && checks.wants("speckle") && o.readsAgain(c.in.Placement))
	}
	if err != nil {
		return nil, err
	}
	out := c.out
	if out.Keep, err = only.of(out.Legend); err != nil {
		return nil, err
	}
	out.Checks = checks.all(out.Check(checks.bounds), out.Extents, out.Unit)
	return out, nil
}

// comparison is a job of change while it is done.
type comparison struct {
	work   *work
	o      *ChangeOptions
	out    *Changed
	labels []string
	terms  terms
	walks  []*cover.Crosswalk
	layers []raster.Source // on one grid, with crosswalks of intervals applied
	plain  []raster.Source // before that; of one whose crosswalk makes a class of cells without data, the raster by itself
	moved  []*view.Aligned
	keys   []string // by layer
	paths  []string // of the crosswalks
	in     change.Input
}

// open opens the rasters of the epochs, brings them onto one grid, and reads what their values mean.
func (c *comparison) open() error {
	w, o := c.work, c.o
	labels, paths, err := w.epochs(o)
	if err != nil {
		return err
	}
	if c.labels = labels; o.History.Steady > 0 && len(labels) < 3 {
		return fault.Misusef("steady", "", "mends what a class is between two others, which takes three epochs or more")
	}
	if o.History.Accuracy != "" && !o.readsFlips(len(labels)) {
		return fault.Misusef("accuracy", "", "is for the check flicker, which takes three epochs or more, of which nothing is mended")
	}
	if c.terms, err = w.readTerms(o.ClassOptions); err != nil {
		return err
	}
	c.paths, err = labelled(o.Crosswalk, labels, "crosswalk")
	if err != nil {
		return err
	}
	nodata, err := labelled(o.NoData, labels, "nodata")
	if err != nil {
		return err
	}
	n := len(labels)
	c.walks = make([]*cover.Crosswalk, n)
	c.in = change.Input{Epochs: labels, Rasters: make([]string, n), Coders: make([]*cover.Coder, n)}
	for i, path := range c.paths {
		if c.walks[i], err = w.readCrosswalk(path, c.terms.legend); err != nil {
			return err
		}
	}
	var layers []raster.Source
	for i := range paths {
		w.about(labels[i], &o.ZoneOptions)
		s, err := w.openWith("cover "+labels[i], paths[i], nodata[i], o.RasterOptions)
		if err != nil {
			return err
		}
		c.out.open = append(c.out.open, s)
		if err := s.needCRS(); err != nil {
			return err
		}
		c.in.Rasters[i] = s.path
		if h := s.Header(); len(c.in.Palette) == 0 {
			c.in.Palette = h.Palette
		}
		layers = append(layers, s)
	}
	if err := c.together(layers); err != nil {
		return err
	}
	c.out.layers = [2]raster.Source{c.layers[0], c.layers[n-1]}
	c.out.coders = [2]*cover.Coder{c.in.Coders[0], c.in.Coders[n-1]}
	if c.in.Errors, err = c.readErrors(); err != nil {
		return err
	}
	c.in.Zones, c.in.Placement, err = w.readZones(o.ZoneOptions, c.layers[0].Header().Grid)
	return err
}

// together brings the layers onto one grid, and finds what their values are. Ground beyond a raster is in no class, whatever its crosswalk makes of cells
// without data: one that makes a class of them is applied before the raster is widened to the grid.
func (c *comparison) together(opened []raster.Source) (err error) {
	resample := c.o.Resample == "nearest"
	on, moved, err := view.Together(opened, resample)
	if err != nil {
		return err
	}
	list, filled := slices.Clone(opened), false
	for i, l := range on {
		c.work.warnFilled(opened[i], c.walks[i])
		if fills, _ := c.terms.plainCoder(l, c.walks[i]).FillsWith(); fills == nil || l == opened[i] {
			continue
		}
		if list[i], c.in.Coders[i], err = c.terms.classes(opened[i], c.walks[i]); err != nil {
			return err
		}
		filled = true
	}
	if filled {
		if on, moved, err = view.Together(list, resample); err != nil {
			return err
		}
	}
	c.moved, c.plain, c.layers, c.keys = moved, slices.Clone(on), slices.Clone(on), make([]string, len(on))
	for i, l := range on {
		if c.in.Coders[i] != nil {
			c.plain[i] = opened[i]
		} else if c.layers[i], c.in.Coders[i], err = c.terms.coder(l, c.walks[i]); err != nil {
			return err
		}
		if c.keys[i], err = c.key(i, opened[i].Header().Grid); err != nil {
			return err
		}
	}
	return nil
}

// readErrors reads the error matrix of the maps, nil for none.
func (c *comparison) readErrors() (*change.Confusion, error) {
	path := c.o.History.Accuracy
	if path == "" {
		return nil, nil
	}
	if c.terms.groups != nil {
		return nil, fault.Misusef("accuracy", "", "is about classes, and these are groups").By("report by class", "by", "class")
	}
	c.work.reads("table", path)
	list, notes, err := tables.Rows(c.work.env.files(), path, []string{"map_code", "map_name", "total", "samples"}, nil)
	if err != nil {
		return nil, fmt.Errorf("%w: the error matrix of an assessment of accuracy is needed", err)
	}
	c.work.note(notes...)
	var labels []string
	e := &change.Confusion{}
	for _, r := range list {
		code, err := strconv.Atoi(r.Cell["map_code"])
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: the map_code %q is not a whole number", path, r.Line, r.Cell["map_code"])
		}
		label := r.Cell["map_name"]
		if label == "" {
			label = r.Cell["map_code"]
		}
		e.Classes, labels = append(e.Classes, code), append(labels, strings.ToLower(label)) // as columns are called where tables are read
	}
	if list, _, err = tables.Rows(c.work.env.files(), path, labels, nil); err != nil {
		return nil, fmt.Errorf("%w: the error matrix of an assessment of accuracy is needed", err)
	}
	for _, r := range list {
		row := make([]float64, len(labels))
		for k, label := range labels {
			v, err := decimal.Parse(r.Cell[label])
			if err != nil || v < 0 || v > 1 {
				return nil, fmt.Errorf("%s: line %d: %q is not the proportion of the area that is %s on the ground: take the error matrix of an assessment of accuracy", path, r.Line, r.Cell[label], label)
			}
			row[k] = v
		}
		e.Proportions = append(e.Proportions, row)
	}
	return e, nil
}

// key is the key of an epoch's layer on the grid of all; opened is the grid of its raster.
func (c *comparison) key(i int, opened raster.Grid) (string, error) {
	if len(c.moved) > 0 {
		return c.work.ownKey(i), nil
	}
	key := c.out.open[i].key
	if g := c.layers[i].Header().Grid; g != opened {
		key = keyOf("on", key, g.Width, g.Height, g.X0, g.Y0, g.DX, g.DY, g.CRS.String())
	}
	return c.work.classesKey(key, c.plain[i], c.layers[i], c.paths[i], c.terms.path)
}

// measure reads all epochs in one pass and makes changes of what it counts. With lone it looks for single cells that change and
// change back, too.
func (c *comparison) measure(lone bool) (err error) {
	w, n := c.work, len(c.labels)
	layers := c.layers
	var flips []raster.Source
	if lone {
		layers, flips = c.flips()
	}
	key := w.zonesKey(c.in.Placement)
	request := w.request(c.in.Zones, c.in.Placement, key, layers, c.keys)
	request.Groups, request.Centres = change.Groups(n, c.o.Histories || c.o.History.Steady > 0), c.o.centres()
	requests := []tally.Keyed{request}
	for e, f := range flips {
		digests, err := w.digests(append([]string{c.terms.path}, c.paths[e:e+3]...)...)
		if err != nil {
			return err
		}
		own := keyOf("flips", c.keys[e:e+3], digests)
		if len(c.moved) > 0 {
			own = w.ownKey(n + e)
		}
		one := w.request(c.in.Zones, c.in.Placement, key, []raster.Source{f}, []string{own})
		one.Beside, one.Centres = c.keys[e:e+3], request.Centres
		requests = append(requests, one)
	}
	tallies, err := w.count("comparing", requests...)
	if err != nil {
		return c.explain(err)
	}
	c.in.Tally, c.in.Steady = tallies[0], c.o.History.Steady
	w.note(extent.SharedGround(c.in.Tally, c.in.Zones)...)
	for _, a := range c.moved {
		w.note(a.Notes...)
	}
	w.noteMoves(c.moved)
	if c.out.Changes, err = change.Compare(c.in, c.terms.unit); err != nil {
		return c.explain(err)
	}
	for e := range flips {
		c.out.FindLone(e, tallies[1+e])
	}
	if c.o.Histories {
		c.out.Traced = c.out.Trace(c.in)
	}
	if c.o.History.Steady > 0 {
		mended, share := c.out.MendedShare()
		w.note(fmt.Sprintf("a class that holds for fewer than %s between epochs of one other class is taken for that class: %s %s were mended, %s %% of the ground that the first two epochs map",
			text.Count(c.o.History.Steady, "epoch"), fmt.Sprintf("%.4g", mended), c.terms.unit.Name, fmt.Sprintf("%.3g", share)))
	}
	return nil
}

// explain lists all values without a line, where reading stopped at the first.
func (c *comparison) explain(err error) error {
	for i := range c.plain {
		err = c.work.explainGap(err, c.plain[i], &c.terms, c.walks[i])
	}
	return err
}

// keptBlocks is how many bytes of decoded blocks are kept for all epochs while single cells are looked for.
const keptBlocks = 192 << 20

// flips are the views that mark what changes and changes back, and the epochs with their blocks kept, so that the views and the pass decode
// each block once.
func (c *comparison) flips() (layers, flips []raster.Source) {
	for _, l := range c.layers {
		layers = append(layers, raster.NewPool(keptBlocks/len(c.layers)).KeepAll(l))
	}
	for e := range len(c.labels) - 2 {
		flips = append(flips, view.Flips([3]raster.Source(layers[e:e+3]), func(epoch int, v float64) int {
			if m, ok := c.in.Coders[e+epoch].Code(v); ok && m.Kind == cover.Classified {
				return m.Code
			}
			return -1
		}))
	}
	return layers, flips
}

// epochs reads the labels, each with one raster or several that are one.
func (w *work) epochs(o *ChangeOptions) (labels []string, paths [][]string, err error) {
	for _, e := range o.Epochs {
		label, path, ok := strings.Cut(e, "=")
		if !ok || label == "" || path == "" {
			return nil, nil, fault.Misusef("epoch", e, "does not have the form LABEL=COVER, such as 2004=a.tif")
		}
		k := slices.Index(labels, label)
		if k < 0 {
			k = len(labels)
			labels, paths = append(labels, label), append(paths, nil)
		}
		if slices.Contains(paths[k], path) {
			return nil, nil, fault.Misusef("epoch", e, "is given twice")
		}
		paths[k] = append(paths[k], path)
	}
	for _, given := range o.FromList {
		label, list, ok := strings.Cut(given, "=")
		if !ok || label == "" || list == "" {
			return nil, nil, fault.Misusef("from-list", given, "does not have the form LABEL=FILE, such as 2012=tiles.txt, which says which epoch the rasters are of")
		}
		w.reads("list of rasters", list)
		more, err := Listed(w.env.files(), list)
		if err != nil {
			return nil, nil, err
		}
		if k := slices.Index(labels, label); k >= 0 {
			paths[k] = append(paths[k], more...)
			continue
		}
		at := len(labels)
		for k := range labels {
			if epoch.InOrder(slices.Insert(slices.Clone(labels), k, label)) == nil {
				at = k
				break
			}
		}
		labels, paths = slices.Insert(labels, at, label), slices.Insert(paths, at, more)
	}
	if n := len(labels); n < 2 {
		return nil, nil, fault.Misusef("", "", "a comparison takes two epochs or more, and %s", text.Given(n)).By("give each", "epoch", "LABEL=COVER")
	}
	if err := epoch.InOrder(labels); err != nil {
		return nil, nil, fault.Misusef("", "", "%w", err)
	}
	return labels, paths, nil
}

// labelled splits values of the form VALUE or LABEL=VALUE by epoch: a value without a label is for all.
func labelled(given []string, labels []string, option string) ([]string, error) {
	out := make([]string, len(labels))
	for _, text := range given {
		n, value := -1, text
		for i, l := range labels {
			if v, ok := strings.CutPrefix(text, l+"="); ok {
				n, value = i, v
			}
		}
		if label, _, ok := strings.Cut(text, "="); ok && n < 0 && option == "nodata" {
			return out, fault.Misusef(option, text, "is about %s, which is none of the epochs (%s)", label, strings.Join(labels, ", "))
		}
		for i := range out {
			if n >= 0 && n != i {
				continue
			}
			if out[i] != "" {
				return out, fault.Misusef(option, text, "is not the only value for epoch %s", labels[i]).Do("give each epoch one")
			}
			out[i] = value
		}
	}
	return out, nil
}
