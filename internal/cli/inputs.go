package cli

import (
	"context"
	"errors"
	"fmt"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

func zoneFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "zones", Usage: "`ZONES`: a file of outlines (FILE#LAYER names a layer), a raster of zone ids, bbox:W,S,E,N in degrees, geo:LAT,LON;u=METRES for a circle, or WKT; without it the whole raster is the one zone"},
		&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart; features that share a value are one zone"},
		&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
		&cli.StringFlag{Name: "where", Usage: "only the zones for which a `CONDITION` in CQL2 holds, such as \"district = 'North' AND people > 500\""},
		&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
		&cli.StringFlag{Name: "zone-names", Usage: "CSV `FILE` with the columns code and name, for a raster of zone ids"},
		&cli.StringFlag{Name: "edges", Value: "split", Usage: "`split` gives each zone its exact share of cut cells, centre whole cells by their centres"},
	}
}

func classFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: code,name,color,group"},
		&cli.StringFlag{Name: "by", Value: "class", Usage: "tell by `class`, or by group of the legend"},
		&cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"},
	}
}

// rasterFlags say how rasters are read.
func rasterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "crs", Usage: "`CRS` of the raster, such as EPSG:3035, WKT or a .prj file, when the file does not say"},
		&cli.StringSliceFlag{Name: "nodata", Usage: "`VALUE` that means no data, whatever the file says"},
		&cli.StringFlag{Name: "overlap", Value: "last", Usage: "what holds where rasters overlap: `last`, first, majority, or for measurements mean, min, max"},
		&cli.StringFlag{Name: "resample", Usage: "allow cells to be moved onto another grid: `nearest`, or for measurements bilinear"},
		&cli.BoolFlag{Name: "measurements", Usage: "cells are measurements, not classes"},
	}
}

// listFlag names rasters by a list.
func listFlag() cli.Flag {
	return &cli.StringFlag{Name: "from-list", Usage: "`FILE` with a raster on each line, beside those that are named"}
}

// coverRaster is what a command reads: one raster or a mosaic, with --crs and --nodata applied.
type coverRaster struct {
	raster.Source
	files []open.File
	path  string // for messages
}

// Close closes the files.
func (c *coverRaster) Close() {
	for _, f := range c.files {
		f.Close()
	}
}

// openCover opens the rasters that are named, as one.
func openCover(c *cli.Command, args []string, r *reporter) (*coverRaster, error) {
	nodata, err := oneNodata(c)
	if err != nil {
		return nil, err
	}
	return openRasters(c, args, nodata, r)
}

// listOf are the values of an option that takes several, each by itself or separated by commas.
func listOf(c *cli.Command, name string) (out []string) {
	for _, text := range c.StringSlice(name) {
		for _, v := range strings.Split(text, ",") {
			out = append(out, strings.TrimSpace(v))
		}
	}
	return out
}

// oneNodata is the value of --nodata where all rasters have one, "" without it.
func oneNodata(c *cli.Command) (string, error) {
	switch nodata := c.StringSlice("nodata"); len(nodata) {
	case 0:
		return "", nil
	case 1:
		return nodata[0], nil
	default:
		return "", usage("--nodata is given %d times: give one value (%s takes no more)", len(nodata), commandName(c))
	}
}

// openRasters opens rasters as one, each FILE or FILE@BAND, with --crs and a nodata value applied.
func openRasters(c *cli.Command, args []string, nodata string, r *reporter) (_ *coverRaster, err error) {
	paths, err := rasterPaths(args)
	if err != nil {
		return nil, err
	}
	if len(paths) == 0 {
		return nil, usage("no raster is named")
	}
	o, err := mosaicOptions(c)
	if err != nil {
		return nil, err
	}
	out := &coverRaster{path: paths[0]}
	defer func() {
		if err != nil {
			out.Close()
		}
	}()
	var sources []raster.Source
	assumed := ""
	for _, arg := range paths {
		f, path, err := oneRaster(arg)
		if err != nil {
			return nil, err
		}
		out.files = append(out.files, f)
		s, err := adjust(c, f, path, nodata, r)
		if err != nil {
			return nil, err
		}
		for _, n := range f.Header().Notes {
			r.note(path + ": " + n)
		}
		if a := s.Header().Grid.Assumed(); assumed == "" && a != "" {
			assumed = a
			r.note(path + ": " + a)
		}
		sources = append(sources, s)
	}
	if len(sources) == 1 {
		out.Source = sources[0]
		return out, nil
	}
	if o.How == raster.Bilinear && !sources[0].Header().Type.Floating() && !c.Bool("measurements") {
		return nil, usage("--resample bilinear would make classes up that are between others, and %s holds whole numbers: choose nearest, or say --measurements if they are measurements", paths[0])
	}
	if o.Overlap >= raster.Mean && !sources[0].Header().Type.Floating() && !c.Bool("measurements") {
		return nil, usage("--overlap %s is for measurements, but %s holds whole numbers that may be classes: choose last, first or majority, or say --measurements if they are measurements",
			c.String("overlap"), paths[0])
	}
	j, err := raster.Mosaic(sources, o)
	if err != nil {
		return nil, err
	}
	r.notes(j.Notes)
	r.warnings(j.Warnings)
	out.Source, out.path = j.Source, j.Header().Name
	return out, nil
}

// oneRaster opens FILE or FILE@BAND whose cells are wanted. A file of several bands is not read by its first one without
// being asked.
func oneRaster(arg string) (f open.File, path string, err error) {
	path, band := bandOf(arg)
	f, err = open.Raster(path, band)
	if err != nil {
		return nil, path, err
	}
	h := f.Header()
	bands := h.Bands
	if h.Alpha > 0 {
		bands--
	}
	switch {
	case h.CellsProblem != "":
		err = fmt.Errorf("%s: %s", path, h.CellsProblem)
	case h.Unplaced: // nothing that is done with it would be true
		err = fmt.Errorf("%s: %s", path, h.CRSProblem)
	case bands > 1 && path == arg:
		err = fmt.Errorf("%s: it has %d bands, and nothing says which of them holds the values: name it, the first as %s@1", path, bands, path)
	}
	if err != nil {
		f.Close()
		return nil, path, err
	}
	return f, path, nil
}

func mosaicOptions(c *cli.Command) (o raster.MosaicOptions, err error) {
	names := []string{"last", "first", "majority", "mean", "min", "max"}
	overlap := c.String("overlap")
	if overlap == "" { // a command without the option
		overlap = names[0]
	}
	k := slices.Index(names, overlap)
	if k < 0 {
		return o, usage("--overlap %s is not known: choose %s", c.String("overlap"), strings.Join(names, ", "))
	}
	o.Overlap = raster.Overlap(k)
	switch c.String("resample") {
	case "":
	case "nearest":
		o.Resample = true
	case "bilinear":
		o.Resample, o.How = true, raster.Bilinear
	default:
		return o, usage("--resample %s is not known: choose nearest, or for measurements bilinear", c.String("resample"))
	}
	return o, nil
}

// parseCRS reads the value of an option: a code, WKT, or the name of a file with WKT.
func parseCRS(text string) (*earth.CRS, error) {
	if strings.HasSuffix(strings.ToLower(text), ".prj") {
		b, err := os.ReadFile(text)
		if err != nil {
			return nil, fault.Opening(text, err)
		}
		return earth.ParseCRS(string(b))
	}
	return earth.ParseCRS(text)
}

// overrideFlag goes with --crs and --zones-crs.
func overrideFlag() cli.Flag {
	return &cli.BoolFlag{Name: "override-crs", Usage: "let --crs and --zones-crs replace the CRS that a file states"}
}

// replaceCRS decides whether the CRS of an option may be given to a file that states another one.
func replaceCRS(c *cli.Command, option, path string, stated, given *earth.CRS, r *reporter) error {
	switch {
	case stated == nil || stated.Same(given):
		return nil
	case !c.Bool("override-crs"):
		return fmt.Errorf("%s: it states %v, but --%s says %v: --%s is for files that state no CRS; leave it out, or if the file is wrong add --override-crs", path, stated, option, given, option)
	}
	r.warn(fmt.Sprintf("%s: its CRS, %v, is replaced by %v: all areas follow from that", path, stated, given))
	return nil
}

// adjust applies --crs and a nodata value.
func adjust(c *cli.Command, f raster.Source, path, nodata string, r *reporter) (raster.Source, error) {
	s := f
	if text := c.String("crs"); text != "" {
		crs, err := parseCRS(text)
		if err != nil {
			return nil, err
		}
		if f.Header().Unplaced {
			return nil, fmt.Errorf("%s: %s; --crs alone does not tell", path, f.Header().CRSProblem)
		}
		g := f.Header().Grid
		if err := replaceCRS(c, "crs", path, g.CRS, crs, r); err != nil {
			return nil, err
		}
		g.CRS = crs
		if err := g.Check(); err != nil {
			return nil, fmt.Errorf("%s: %w: is %s its CRS?", path, err, text)
		}
		s = raster.WithGrid(s, g)
	}
	if nodata != "" {
		v, err := strconv.ParseFloat(nodata, 64)
		if err != nil || math.IsInf(v, 0) {
			return nil, usage("--nodata %q is no number", nodata)
		}
		if t := f.Header().Type; !t.Holds(v) && t != raster.Float32 {
			return nil, usage("%s: --nodata %s cannot occur: its cells are %s", path, nodata, t)
		} else if t == raster.Float32 {
			v = float64(float32(v))
		}
		s = raster.WithNoData(s, v)
	}
	return s, nil
}

// needCRS refuses a raster whose cells cannot be placed on the Earth.
func (s *coverRaster) needCRS() error {
	h := s.Header()
	if h.Grid.CRS != nil {
		return nil
	}
	if h.CRSProblem != "" {
		return fmt.Errorf("%s: %s", s.path, h.CRSProblem)
	}
	return fmt.Errorf("%s: it has no CRS: give one with --crs", s.path)
}

// needZones refuses options that say something of zones where none are named.
func needZones(c *cli.Command) error {
	for _, f := range []string{"zone-id", "zone-name", "zone-names", "zones-crs", "where"} {
		if c.String(f) != "" {
			return usage("--%s needs --zones", f)
		}
	}
	return nil
}

// readZones reads the zones, or makes the one zone of the whole raster, and places them on g.
func readZones(ctx context.Context, c *cli.Command, g raster.Grid, r *reporter) (*zone.Set, *zone.Placement, error) {
	where := c.String("zones")
	if where == "" {
		if err := needZones(c); err != nil {
			return nil, nil, err
		}
		set, p, err := tally.Whole(g)
		if err == nil {
			r.notes(p.Notes)
		}
		return set, p, err
	}
	set, err := loadZones(ctx, c, where)
	if err != nil {
		return nil, nil, err
	}
	p, err := set.Place(g)
	if err != nil {
		return nil, nil, err
	}
	r.notes(set.Notes)
	r.notes(p.Notes)
	missed := true
	for _, o := range p.Outlines {
		missed = missed && len(o.Rings) == 0
	}
	if missed {
		w, s, e, n, _ := g.GeographicBounds()
		return nil, nil, fmt.Errorf("%s: none of its %d zone(s) meets the raster, which spans %.3f° to %.3f° east and %.3f° to %.3f° north: check that both lie in the same place and that their CRSs are right",
			set.Source, len(set.Zones), w, e, s, n)
	}
	return set, p, nil
}

// centres reads --edges.
func centres(c *cli.Command) (bool, error) {
	switch e := c.String("edges"); e {
	case "split", "":
		return false, nil
	case "centre":
		return true, nil
	default:
		return false, usage("--edges %s is not known: choose split or centre", e)
	}
}

// readLegend reads --legend, nil without it.
func readLegend(c *cli.Command) (*cover.Legend, error) {
	if path := c.String("legend"); path != "" {
		l, err := cover.ReadLegend(path)
		if err == nil {
			newReporter(c).notes(l.Notes)
		}
		return l, err
	}
	return nil, nil
}

// readCrosswalk reads a crosswalk without a problem.
func readCrosswalk(c *cli.Command, path string, legend *cover.Legend) (*cover.Crosswalk, error) {
	walk, err := cover.ReadCrosswalk(path, legend)
	if err == nil {
		newReporter(c).notes(walk.Notes)
	}
	return walk, err
}

// terms are those in which a measure or a change is told.
type terms struct {
	unit    account.Unit
	centres bool // edges by cell centres
	legend  *cover.Legend
	groups  *cover.Groups // nil when classes are told as they are
}

func readTerms(c *cli.Command) (t terms, err error) {
	if t.unit, err = account.FindUnit(c.String("unit")); err != nil {
		return t, usageError{err}
	}
	if t.centres, err = centres(c); err != nil {
		return t, err
	}
	if t.legend, err = readLegend(c); err != nil {
		return t, err
	}
	switch by := c.String("by"); by {
	case "class":
	case "group":
		if t.legend == nil {
			return t, usage("--by group needs --legend, whose column group says what belongs together")
		}
		t.groups, err = t.legend.Group()
	default:
		return t, usage("--by %s is not known: choose class or group", by)
	}
	return t, err
}

// coder makes the coder of a layer. A crosswalk with intervals, which measurements need, is applied to the cells,
// so that only the classes are counted; others are applied to the sums of the values.
func (t *terms) coder(s raster.Source, walk *cover.Crosswalk) (raster.Source, *cover.Coder, error) {
	if h := s.Header(); walk == nil && h.Scaled != "" {
		return nil, nil, fmt.Errorf("%s: its values are %s, so they are measurements and not classes: put them into classes with a crosswalk of intervals", h.Name, h.Scaled)
	}
	coder := (&cover.Coder{Legend: t.legend, Crosswalk: walk, NoData: s.Header().NoData, Groups: t.groups}).In(s.Header().Type)
	if walk == nil || !walk.HasIntervals() {
		return s, coder, nil
	}
	plain := *coder
	plain.Groups = nil
	view, measured, err := cover.Measured(s, &plain)
	if err != nil {
		return nil, nil, err
	}
	measured.Groups = t.groups
	return view, measured, nil
}

// explainGap tells all values without a line, where reading stopped at the first.
func (t *terms) explainGap(ctx context.Context, err error, s raster.Source, walk *cover.Crosswalk, threads int) error {
	if !errors.Is(err, cover.ErrNoLine) || walk == nil {
		return err
	}
	survey, again := account.TakeSurvey(ctx, s, &cover.Coder{Legend: t.legend, Crosswalk: walk, NoData: s.Header().NoData}, nil, threads, nil)
	if again != nil || survey.Gap.Cells == 0 {
		return err
	}
	return gapError(survey)
}
