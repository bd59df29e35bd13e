package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/cql"
	"github.com/verdex-land/verdex/core/earth"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/vector"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// isVector reports whether a path, with or without #LAYER, names a file of features.
func isVector(where string) bool {
	path, _ := vectors.Split(where)
	kind, err := vectors.Kind(path)
	return err == nil && kind != ""
}

// loadZones reads ZONES with the options that say which of its features are zones.
func loadZones(ctx context.Context, c *cli.Command, where string) (*zone.Set, error) {
	selection := zone.Selection{IDField: c.String("zone-id"), NameField: c.String("zone-name")}
	var err error
	if selection.Condition, err = condition(c); err != nil {
		return nil, err
	}
	if _, err := os.Stat(where); err != nil && zone.IsText(where) {
		if selection.Condition != nil {
			return nil, usage("--where picks from a file of zones, and --zones is a zone by itself")
		}
		crs, err := zonesCRS(c)
		if err != nil {
			return nil, err
		}
		return zone.FromText(where, crs)
	}
	if path, _ := vectors.Split(where); len(where) > 40 || strings.ContainsAny(where, "(),;") {
		if _, err := os.Stat(path); err != nil { // a text that was mistyped rather than a file
			return nil, fmt.Errorf("%s: there is no such file, and it is neither WKT, such as POLYGON((12.4 58.2, 12.6 58.2, 12.5 58.3, 12.4 58.2)), nor bbox:W,S,E,N, nor geo:LAT,LON;u=METRES: check it", runewidth.Truncate(where, 60, "…"))
		}
	}
	l, err := loadLayer(ctx, c, where)
	if err != nil {
		return nil, err
	}
	return zone.FromLayer(l, selection)
}

// condition reads --where.
func condition(c *cli.Command) (*cql.Expr, error) {
	text := c.String("where")
	if text == "" {
		return nil, nil
	}
	e, err := cql.ParseCondition(text)
	if err != nil {
		return nil, usageError{fmt.Errorf("--where: %w", err)}
	}
	return e, nil
}

// zonesCRS reads --zones-crs, nil without it.
func zonesCRS(c *cli.Command) (*earth.CRS, error) {
	text := c.String("zones-crs")
	if text == "" {
		return nil, nil
	}
	crs, err := parseCRS(text)
	if err != nil {
		return nil, fmt.Errorf("--zones-crs: %w", err)
	}
	return crs, nil
}

// loadLayer reads the features of a file, or of a raster of zone ids, and gives them the CRS of --zones-crs.
func loadLayer(ctx context.Context, c *cli.Command, where string) (*vector.Layer, error) {
	crs, err := zonesCRS(c)
	if err != nil {
		return nil, err
	}
	path, layer := vectors.Split(where)
	kind, err := vectors.Kind(path)
	if err != nil {
		return nil, err
	}
	var l *vector.Layer
	if kind == "" && isRaster(path) {
		l, err = rasterZones(ctx, c, path)
	} else if c.String("zone-names") != "" {
		return nil, usage("--zone-names is for a raster of zone ids, and %s is none", path)
	} else {
		l, err = vectors.Read(path, layer)
	}
	if err != nil {
		return nil, err
	}
	if crs != nil {
		stated := l.CRS
		if l.CRSAssumed {
			stated, l.Notes = nil, slices.DeleteFunc(l.Notes, func(n string) bool { return strings.Contains(n, "it does not say its CRS") })
		}
		if err := replaceCRS(c, "zones-crs", where, stated, crs, newReporter(c)); err != nil {
			return nil, err
		}
		l.CRS, l.CRSProblem = crs, ""
	}
	return l, nil
}

// readFeatures reads the features of a file that no option tells more of.
func readFeatures(where string) (*vector.Layer, error) {
	path, layer := vectors.Split(where)
	return vectors.Read(path, layer)
}

// rasterZones reads a raster of zone ids, with the names of --zone-names.
func rasterZones(ctx context.Context, c *cli.Command, path string) (*vector.Layer, error) {
	f, err := rasters.Raster(path, 1)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if h := f.Header(); h.CellsProblem != "" || h.Unplaced {
		return nil, fmt.Errorf("%s: %s%s", path, h.CellsProblem, h.CRSProblem)
	}
	var names map[int64]string
	if table := c.String("zone-names"); table != "" {
		if names, err = readNames(table, newReporter(c)); err != nil {
			return nil, err
		}
	}
	return zone.FromRaster(ctx, f, names)
}

// readNames reads a table with the columns code and name.
func readNames(path string, r *reporter) (map[int64]string, error) {
	rows, notes, err := cover.ReadRows(path, []string{"code", "name"}, nil)
	if err != nil {
		return nil, err
	}
	r.notes(notes)
	out := map[int64]string{}
	for _, row := range rows {
		id, err := strconv.ParseInt(row.Cell["code"], 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: the code %q is no whole number", path, row.Line, row.Cell["code"])
		}
		if _, twice := out[id]; twice {
			return nil, fmt.Errorf("%s: line %d: the code %d comes twice", path, row.Line, id)
		}
		out[id] = row.Cell["name"]
	}
	return out, nil
}

// writeLayer stages features as a file whose ending says the format, and tells how many and where.
func writeLayer(ctx context.Context, where string, l *vector.Layer, r *reporter) error {
	path, layer := vectors.SplitOutput(where)
	if layer != "" {
		l.Name = layer
	}
	if l.Name == "" {
		l.Name = baseName(path)
	}
	f := filesOf(ctx)
	if strings.EqualFold(filepath.Ext(path), ".gpkg") {
		if err := makeGeoPackage(f, path, l); err != nil {
			return err
		}
	} else {
		parts, notes, err := vectors.Parts(path, l)
		if err != nil {
			return err
		}
		for _, p := range parts {
			if err := f.Write(p.Path, p.Write); err != nil {
				return err
			}
		}
		r.notes(notes)
	}
	kind := "features"
	if len(l.Features) == 1 {
		kind = "feature"
	}
	noteThen(ctx, r, fmt.Sprintf("%s: %s %s", where, group(float64(len(l.Features)), 0), kind))
	return nil
}
