package cli

import (
	"context"
	"fmt"
	"math"
	"path/filepath"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/table"
)

func summariseCommand() *cli.Command {
	return &cli.Command{
		Name:      "summarise",
		Usage:     "statistics of a value raster in each zone, optionally for each class",
		ArgsUsage: "VALUES...",
		Description: `Tells of the measurements in each zone, weighed by the true area of each cell and by the share of it
that lies in the zone. The statistics are count (of cells), area, mean, std, min, max, range, median and
any percentile from p1 to p99 (exact, by area), sum (value × share of the cell: for cells that hold
amounts), variety, majority and minority (for whole numbers that are codes).

  verdex summarise elevation.tif --zones wards.gpkg --zone-id code
  verdex summarise elevation.tif --zones wards.gpkg --stats mean,p10,p90 --out heights.csv
  verdex summarise elevation.tif --per-class cover.tif --legend legend.csv --zones wards.gpkg`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "stats", Value: "count,area,mean,std,min,median,max", Usage: "`NAMES` of statistics, separated by commas"},
			&cli.StringFlag{Name: "per-class", Usage: "`COVER` raster: tell of each class within each zone"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes of --per-class: code,name,color,group"},
			&cli.StringFlag{Name: "unit", Value: "ha", Usage: "of area: `ha`, m2, km2, acre or mi2"},
			listFlag(),
		}, zoneFlags(), rasterFlags(), outputFlags()),
		Action: summarise,
	}
}

func summarise(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() == 0 && c.String("from-list") == "" {
		return usage("summarise needs a raster of measurements (verdex summarise --help shows examples)")
	}
	r := newReporter(c)
	out, err := chooseOutput(c)
	if err != nil {
		return err
	}
	stats, err := account.ParseStatistics(c.String("stats"))
	if err != nil {
		return usageError{err}
	}
	unit, err := account.FindUnit(c.String("unit"))
	if err != nil {
		return usageError{err}
	}
	s := &summariser{stats: stats, unit: unit}
	if s.legend, err = readLegend(c); err != nil {
		return err
	}
	if err := s.run(ctx, c, r); err != nil {
		return err
	}
	if out.format == "table" {
		err = s.paint(newCanvas(out.stdout))
	} else {
		err = out.write(ctx, s.table())
	}
	if err == nil {
		r.notes(s.notes)
	}
	return err
}

// summariser does a job of summarise.
type summariser struct {
	stats   []account.Statistic
	unit    account.Unit
	legend  *cover.Legend
	classes bool
	name    string
	zones   *zone.Set
	summary *account.Summary
	notes   []string
}

func (s *summariser) run(ctx context.Context, c *cli.Command, r *reporter) error {
	byCentre, err := centres(c)
	if err != nil {
		return err
	}
	paths, err := coverPaths(c)
	if err != nil {
		return err
	}
	src, err := openCover(c, paths, r)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return err
	}
	if len(src.Header().Palette) > 0 && !c.Bool("measurements") && slices.ContainsFunc(s.stats, arithmetic) {
		return fmt.Errorf("%s: it has a palette, so it holds codes of classes, whose mean means nothing: measure tells of classes; say --measurements if these are measurements", src.path)
	}
	s.name = src.path
	layers := []raster.Source{src}
	if path := c.String("per-class"); path != "" {
		cover, err := openRasters(c, []string{path}, "", r)
		if err != nil {
			return err
		}
		defer cover.Close()
		s.classes = true
		// They meet on the finer grid of the two, so that a coarse cell is told for each of its parts.
		first := 0
		if cover.Header().Grid.DX < src.Header().Grid.DX {
			layers, first = []raster.Source{cover, src}, 1
		} else {
			layers = append(layers, cover)
		}
		together, moved, err := raster.Together(layers, c.String("resample") == "nearest")
		if err != nil {
			return err
		}
		for _, a := range moved {
			defer func() { s.notes = append(s.notes, movesNote(a)) }()
		}
		layers = []raster.Source{together[first], together[1-first]}
	} else if s.legend != nil {
		return usage("--legend tells the classes of --per-class")
	}
	set, place, err := readZones(ctx, c, layers[0].Header().Grid, r)
	if err != nil {
		return err
	}
	s.zones = set
	req := account.SummaryRequest{Values: layers[0], Zones: set, Placement: place, Centres: byCentre, Threads: c.Int("threads"), Stats: s.stats}
	if len(layers) > 1 {
		req.Classes = layers[1]
	}
	tell, end := r.progress("summarising")
	req.Progress = tell
	s.summary, err = account.Summarise(ctx, req)
	end()
	if err != nil {
		return err
	}
	if n := s.summary.Infinite; n > 0 {
		where := "1 zone"
		if n > 1 {
			where = fmt.Sprintf("%d zones", n)
		}
		r.warn(fmt.Sprintf("in %s cells hold an infinite number, as a division by zero leaves it; they take no part", where))
	}
	var empty []string
	k := slices.Index(s.stats, "count")
	for _, row := range s.summary.Rows {
		if k >= 0 && row.Values[k] == 0 {
			empty = append(empty, set.Zones[row.Zone].ID)
		}
	}
	if n := len(empty); n > 0 && !s.classes {
		if n > 5 {
			empty = append(empty[:5], fmt.Sprintf("%d more", n-5))
		}
		s.notes = append(s.notes, "no cell with a value lies in zone "+strings.Join(empty, ", "))
	}
	return nil
}

// arithmetic reports whether a statistic computes with values.
func arithmetic(s account.Statistic) bool {
	return s == "mean" || s == "std" || s == "sum" || s == "range"
}

// cell is a statistic as it is told: areas in the unit.
func (s *summariser) cell(i int, v float64) float64 {
	if s.stats[i] == "area" {
		return v / s.unit.M2
	}
	return v
}

func (s *summariser) className(code float64) string {
	if class, ok := s.legend.Find(int(code)); ok {
		return class.Name
	}
	return ""
}

func (s *summariser) table() *table.Table {
	t := &table.Table{Name: "summary", Title: "Statistics of " + filepath.Base(s.name), Columns: []string{"zone_id", "zone_name"}}
	if s.classes {
		t.Columns = append(t.Columns, "class_code", "class_name")
	}
	for _, name := range s.stats {
		if t.Columns = append(t.Columns, string(name)); name == "area" {
			t.Columns = append(t.Columns, "unit")
		}
	}
	for _, row := range s.summary.Rows {
		z := s.zones.Zones[row.Zone]
		cells := []any{z.ID, z.Name}
		if s.classes {
			cells = append(cells, fmt.Sprint(row.Class), s.className(row.Class))
		}
		for i, v := range row.Values {
			if cells = append(cells, s.cell(i, v)); s.stats[i] == "area" {
				cells = append(cells, s.unit.Name)
			}
		}
		t.Rows = append(t.Rows, cells)
	}
	return t
}

// decimals of each statistic: those that are values have the same.
func (s *summariser) decimals() []int {
	out := make([]int, len(s.stats))
	most := map[bool]float64{} // of areas, and of values
	value := func(i int) bool { return s.stats[i] != "area" && s.stats[i] != "sum" }
	for i, name := range s.stats {
		if name == "count" || name == "variety" {
			continue
		}
		for _, row := range s.summary.Rows {
			if v := math.Abs(s.cell(i, row.Values[i])); !math.IsNaN(v) {
				most[value(i)] = math.Max(most[value(i)], v)
			}
		}
	}
	for i, name := range s.stats {
		switch name {
		case "count":
			out[i] = 1
		case "variety", "majority", "minority":
		default:
			out[i] = decimalsFor(most[value(i)])
		}
	}
	return out
}

// paint draws a row for each zone, and under it for each class.
func (s *summariser) paint(c *canvas) error {
	c.line(c.bold(fmt.Sprintf("Values of %s in %d zone(s), by true ground", s.name, len(s.zones.Zones))))
	c.line()
	head := []string{"zone"}
	if s.classes {
		head = append(head, "class")
	}
	texts := len(head)
	for _, name := range s.stats {
		if name == "area" {
			head = append(head, s.unit.Name)
		} else {
			head = append(head, string(name))
		}
	}
	decimals := s.decimals()
	var lines [][]string
	last := -1
	for _, row := range s.summary.Rows {
		z := s.zones.Zones[row.Zone]
		line := []string{runewidth.Truncate(title(z.ID, z.Name), 32, "…")}
		if s.classes {
			if row.Zone == last {
				line[0] = ""
			}
			last = row.Zone
			line = append(line, strings.TrimSpace(fmt.Sprint(row.Class)+" "+s.className(row.Class)))
		}
		for i, v := range row.Values {
			line = append(line, group(s.cell(i, v), decimals[i]))
		}
		lines = append(lines, line)
	}
	widths := make([]int, len(head))
	for _, line := range append([][]string{head}, lines...) {
		for i, text := range line {
			widths[i] = max(widths[i], runewidth.StringWidth(text))
		}
	}
	write := func(line []string, paint func(string) string) {
		text := ""
		for i, t := range line {
			if i < texts {
				text += left(t, widths[i]) + "  "
			} else {
				text += right(t, widths[i]) + "  "
			}
		}
		c.line(paint(strings.TrimRight(text, " ")))
	}
	write(head, c.dim)
	for _, line := range lines {
		write(line, func(s string) string { return s })
	}
	return c.flush()
}
