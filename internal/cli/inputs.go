package cli

import (
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/account"
	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

var zoneFlags = []cli.Flag{
	&cli.StringFlag{Name: "zones", Usage: "GeoJSON `FILE` of the zones, or bbox:W,S,E,N in degrees; without it the whole raster is the one zone"},
	&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart; features that share a value are one zone"},
	&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
	&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say or says it wrongly"},
	&cli.StringFlag{Name: "edges", Value: "split", Usage: "`split` gives each zone its exact share of cut cells, centre whole cells by their centres"},
}

var classFlags = []cli.Flag{
	&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes: code,name,color,group"},
	&cli.StringFlag{Name: "crs", Usage: "`CRS` of the raster, such as EPSG:3035, when the file does not say"},
	&cli.StringFlag{Name: "nodata", Usage: "`VALUE` that means no data, whatever the file says"},
	&cli.StringFlag{Name: "unit", Value: "ha", Usage: "`ha`, m2, km2, acre or mi2"},
	&cli.BoolFlag{Name: "strict", Usage: "end with status 3 when a check falls short"},
}

// cover raster with what it was opened as.
type coverRaster struct {
	raster.Source
	file *geotiff.Source
	path string
}

// openCover opens a raster given as FILE or FILE@BAND, with --crs and --nodata applied.
func openCover(c *cli.Command, arg string, r *reporter) (*coverRaster, error) {
	path, band := arg, 1
	if _, err := os.Stat(arg); err != nil {
		if i := strings.LastIndexByte(arg, '@'); i > 0 {
			if n, err := strconv.Atoi(arg[i+1:]); err == nil {
				path, band = arg[:i], n
			}
		}
	}
	f, err := geotiff.Open(path, band)
	if err != nil {
		return nil, err
	}
	s, err := adjust(c, f)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	for _, n := range f.Header().Notes {
		r.note(path + ": " + n)
	}
	return &coverRaster{Source: s, file: f, path: path}, nil
}

// adjust applies --crs and --nodata.
func adjust(c *cli.Command, f *geotiff.Source) (raster.Source, error) {
	var s raster.Source = f
	if text := c.String("crs"); text != "" {
		crs, err := earth.ParseCRS(text)
		if err != nil {
			return nil, err
		}
		g := f.Header().Grid
		g.CRS = crs
		if err := g.Check(); err != nil {
			return nil, fmt.Errorf("%w: is %s its CRS?", err, text)
		}
		s = raster.WithGrid(s, g)
	}
	if text := c.String("nodata"); text != "" {
		v, err := strconv.ParseFloat(text, 64)
		if err != nil || math.IsInf(v, 0) {
			return nil, usage("--nodata %q is no number", text)
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

// readZones reads the zones, or makes the one zone of the whole raster, and places them on g.
func readZones(c *cli.Command, g raster.Grid, r *reporter) (*zone.Set, *zone.Placement, error) {
	where := c.String("zones")
	if where == "" {
		for _, f := range []string{"zone-id", "zone-name", "zones-crs"} {
			if c.String(f) != "" {
				return nil, nil, usage("--%s needs --zones", f)
			}
		}
		return tally.Whole(g)
	}
	set, err := loadZones(c, where)
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

// loadZones reads --zones with its options.
func loadZones(c *cli.Command, where string) (*zone.Set, error) {
	var crs *earth.CRS
	if text := c.String("zones-crs"); text != "" {
		var err error
		if crs, err = earth.ParseCRS(text); err != nil {
			return nil, fmt.Errorf("--zones-crs: %w", err)
		}
	}
	if text, ok := strings.CutPrefix(where, "bbox:"); ok {
		return zone.Box(text)
	}
	if ext := strings.ToLower(filepath.Ext(where)); ext != ".geojson" && ext != ".json" {
		if _, err := os.Stat(where); err == nil {
			return nil, fmt.Errorf("%s: zones are read from GeoJSON (.geojson, .json) in this version: convert the file", where)
		}
	}
	return zone.ReadGeoJSON(where, crs, zone.Selection{IDField: c.String("zone-id"), NameField: c.String("zone-name")})
}

// centres reads --edges.
func centres(c *cli.Command) (bool, error) {
	switch e := c.String("edges"); e {
	case "split":
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
		return cover.ReadLegend(path)
	}
	return nil, nil
}

// readTerms reads in what terms a measure or a change is told: the unit, the rule for edges and
// the classes.
func readTerms(c *cli.Command) (account.Unit, bool, *cover.Legend, error) {
	unit, err := account.FindUnit(c.String("unit"))
	if err != nil {
		return unit, false, nil, usageError{err}
	}
	byCentres, err := centres(c)
	if err != nil {
		return unit, false, nil, err
	}
	legend, err := readLegend(c)
	return unit, byCentres, legend, err
}
