package cli

import (
	"fmt"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/sheets"
	"github.com/verdex-land/verdex/internal/table"
)

// changeOptions are those of change.
type changeOptions struct {
	Rest []string `arg:"-"` // it takes none
	job.ChangeOptions
	job.HistoryOptions
	Table          string  `opt:"table" choose:"summary,matrix,parts,intensity,histories,since,flicker" help:"which <table>: summary (a row for each class), matrix (a row for each transition), parts (quantity, exchange, shift), intensity, histories (a row for each sequence of classes over all epochs), since (since when the ground of each class has been that class) or flicker (what changes and goes back)"`
	Top            int     `opt:"top" least:"0" most:"1000000" help:"of --table histories, the <NUMBER> largest of each zone, and the others as one; 0 is all in files and 12 where they are drawn"`
	GroupRare      float64 `opt:"group-rare" least:"0" help:"of --table histories, group by their course those that have less than an <AREA>, in the unit, in all zones together"`
	Map            string  `opt:"map" out:"map" help:"write a raster with a code for each transition from the first epoch to the last to <FILE>, and its legend beside it"`
	MapSince       string  `opt:"map-since" out:"map" help:"write a raster of the epoch since which each cell has been what it is at the last one to <FILE>, and its legend beside it"`
	MapKind        string  `opt:"map-kind" out:"map" help:"write a raster of the course of each cell (stable, changed once, changed and went on, went and came back, unsteady) to <FILE>, and its legend beside it"`
	MapCount       string  `opt:"map-count" out:"map" help:"write a raster of how often each cell changes its class to <FILE>, and its legend beside it"`
	checkOutput    `group:"checks"`
	postOptions    `group:"book"`
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
	partOption     `group:"output"`
}

func changeCommand() *cli.Command {
	return command(cli.Command{
		Name:  "change",
		Usage: "what changed between epochs in each zone",
		Description: `Compares the cover rasters of two epochs or more in one pass over all: each epoch with the next, and the
first with the last. Opening extent plus additions less reductions is the closing extent, exactly, on the ground
that both epochs map; ground that only one of them maps is shown apart.

  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --zones wards.geojson --zone-id code
  verdex change --epoch 2004=a.tif --epoch 2012=b.tif --epoch 2020=c.tif --crosswalk 2004=old.csv --legend legend.csv
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --table matrix --only "from = 3 AND to = 5"
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --table parts      quantity, exchange and shift
  verdex change --epoch 2004=a.tif --epoch 2012=b.tif --epoch 2020=c.tif --table histories --top 20    what each piece of ground went through
  verdex change --epoch 2004=a.tif --epoch 2020=b.tif --map moved.tif    where what became what
  verdex change --epoch 2012="tiles/*.tif" --nodata 2012=0 --epoch 2020=b.tif`,
	}, runChange)
}

// changeTables are the tables of change: as rows, and drawn.
var changeTables = map[string]struct {
	table func(*job.Changed) *model.Table
	paint func(*canvas, *job.Changed) error
}{
	"summary":   {func(c *job.Changed) *model.Table { return model.ChangeOf(c.Changes) }, paintSummary},
	"matrix":    {func(c *job.Changed) *model.Table { return model.TransitionsOf(c.Changes, c.Keep) }, paintChangeMatrix},
	"parts":     {func(c *job.Changed) *model.Table { return model.PartsOf(c.Changes) }, paintParts},
	"intensity": {func(c *job.Changed) *model.Table { return model.IntensityOf(c.Changes) }, paintIntensity},
	"flicker":   {func(c *job.Changed) *model.Table { return model.FlickerOf(c.Changes) }, paintFlicker},
	"histories": {nil, nil}, // by their options
	"since":     {func(c *job.Changed) *model.Table { return model.SinceOf(c.Traced) }, paintSince},
}

func runChange(s *session, o *changeOptions) error {
	if len(o.Rest) > 0 {
		return usage("change takes its rasters as --epoch LABEL=COVER, not %q", o.Rest[0])
	}
	if o.Only != "" && o.Table != "matrix" && o.Map == "" {
		return usage("--only picks transitions, which --table matrix and --map show, and --table %s does not", o.Table)
	}
	if o.Top > 0 && o.Table != "histories" {
		return usage("--top is for --table histories, and --table %s shows all", o.Table)
	}
	if o.GroupRare > 0 && o.Table != "histories" {
		return usage("--group-rare is for --table histories, and --table %s has no histories to group", o.Table)
	}
	o.History = o.HistoryOptions
	o.Histories = o.Table == "histories" || o.Table == "since"
	if err := s.checkPost(&o.postOptions, "of each raster"); err != nil {
		return err
	}
	out, err := o.destination()
	if err != nil {
		return err
	}
	r, err := job.Change(s.ctx, s.env(), o.ChangeOptions)
	if err != nil {
		return err
	}
	defer r.Close()
	if o.Table == "flicker" && len(r.Flips) == 0 {
		return usage("--table flicker shows what changes and goes back, which takes three epochs")
	}
	if o.GroupRare > 0 {
		n, grouped := r.Traced.GroupRare(o.GroupRare)
		s.Note(fmt.Sprintf("%s of less than %s %s, with %s %s in all, are grouped by their course", text.Count(n, "history"), text.Number(o.GroupRare, text.Decimals(o.GroupRare)), r.Unit.Name, text.Number(grouped, text.Decimals(grouped)), r.Unit.Name))
	}
	which := changeTables[o.Table]
	if o.Table == "histories" {
		which.table = func(c *job.Changed) *model.Table { return model.HistoriesOf(c.Traced, o.Top) }
		which.paint = func(c *canvas, r *job.Changed) error { return paintHistories(c, r.Traced, o.Top) }
	}
	out.checks = r.Checks
	made := s.postings(o.postOptions, func() []*book.Posting { return book.FromChanges(r.Changes) })
	if o.Table == "summary" || o.Table == "matrix" && !r.Some {
		out.sheets = func() []*table.Sheet { return sheets.Accounts(made(), r.Unit, false) }
	}
	if out.format != "table" {
		t := which.table(r)
		if r.Steady > 0 {
			t = model.Mended(t, r.Changes)
		}
		err = s.write(out, t)
	}
	if err == nil && o.Map != "" {
		err = s.writeChangeMap(o.Map, r)
	}
	for _, m := range []struct {
		path  string
		which job.HistoryMap
		what  string
	}{{o.MapSince, job.MapSince, "since which epoch each cell has been what it is"}, {o.MapKind, job.MapKind, "the course of each cell"}, {o.MapCount, job.MapCount, "how often each cell changes its class"}} {
		if err == nil && m.path != "" {
			err = s.writeHistoryMap(m.path, r, m.which, m.what)
		}
	}
	if err == nil {
		err = s.writeChecks(o.checkOutput, r.Checks)
	}
	if err != nil {
		return err
	}
	s.postTo(&o.postOptions, made)
	if err := s.commit(); err != nil {
		return err
	}
	if out.format == "table" {
		if err := which.paint(s.canvas(), r); err != nil {
			return err
		}
	}
	return s.reportChecks(o.checkOutput, r.Checks)
}

// writeHistoryMap stages a map of histories, and its legend.
func (s *session) writeHistoryMap(path string, r *job.Changed, which job.HistoryMap, what string) error {
	m, err := r.HistoryRaster(path, which)
	if err != nil {
		return err
	}
	if _, err := s.writeMap(path, m); err != nil {
		return err
	}
	s.noteThen(fmt.Sprintf("%s: %s from %s to %s; %s names its codes", path, what, r.Epochs[0], r.Epochs[len(r.Epochs)-1], legendBeside(path)))
	return nil
}

// writeChangeMap stages the map of what became of each cell, and its legend.
func (s *session) writeChangeMap(path string, r *job.Changed) error {
	codes, err := s.writeMap(path, r.Map(path).Raster)
	if err != nil {
		return err
	}
	s.noteThen(fmt.Sprintf("%s: what became of each cell from %s to %s; %s names its %d codes", path, r.Epochs[0], r.Epochs[len(r.Epochs)-1], legendBeside(path), codes))
	return nil
}

// writeMap stages a raster of classes and, beside it, its legend, and returns how many classes that has.
func (s *session) writeMap(path string, m *job.Raster) (codes int, err error) {
	if err := s.writeRaster(path, m, rasterOptions{}); err != nil {
		return 0, err
	}
	classes := m.Classes()
	return len(classes), s.writeLegend(legendBeside(path), classes)
}
