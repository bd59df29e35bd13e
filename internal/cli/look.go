package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/internal/book"
)

func lookCommand() *cli.Command {
	return &cli.Command{
		Name:      "look",
		Usage:     "what is in a raster, a file of zones or a book, and what will go wrong with it",
		ArgsUsage: "FILE...",
		Description: `Shows what a file holds and what its numbers mean: for a raster its grid, CRS, cell size
on the ground, nominal and true cell area, and the values with their cells and true areas; for zones their
CRS, fields, numbers and areas. Warnings name what will go wrong, each with a command that mends it.
Several rasters are compared: do they lie on one grid, and what will a joint measure do?

  verdex look cover.tif
  verdex look cover.tif --quick            without reading the cells
  verdex look cover.tif --legend legend.csv
  verdex look cover.tif --legend-out legend.csv    a legend of its values, to fill in
  verdex look cover_2004.tif cover_2020.tif
  verdex look wards.gpkg
  verdex look wards.gpkg --values district     the values of a field, with their areas
  verdex look wards.gpkg cover.tif             how the zones lie to a raster
  verdex look orrin.book                       the accounts of a book`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "do not read the cells"},
			&cli.BoolFlag{Name: "json", Usage: "for machines"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes, for their names and colours"},
			&cli.StringFlag{Name: "legend-out", Usage: "write a legend of the values to `FILE`, to fill in"},
			&cli.BoolFlag{Name: "force", Usage: "replace a legend that exists"},
			&cli.StringFlag{Name: "crs", Usage: "`CRS` of the raster, when the file does not say"},
			&cli.StringSliceFlag{Name: "nodata", Usage: "`VALUE` that means no data, whatever the file says"},
			&cli.BoolFlag{Name: "measurements", Usage: "cells are measurements, not classes"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart"},
			&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
			&cli.StringFlag{Name: "where", Usage: "only the features for which a `CONDITION` in CQL2 holds"},
			&cli.StringFlag{Name: "values", Usage: "list the values of a `FIELD` of zones"},
			&cli.BoolFlag{Name: "strict", Usage: "end with status 3 when there is a warning"},
		},
		Action: look,
	}
}

// fact is a line of what look tells.
type fact struct{ Key, Value string }

// finding is something that will go wrong, and the command that mends it.
type finding struct {
	What   string `json:"what"`
	Remedy string `json:"remedy,omitempty"`
}

func look(ctx context.Context, c *cli.Command) error {
	r := newReporter(c)
	if c.Args().Len() == 1 && book.IsBook(c.Args().First()) {
		b, err := openBook(ctx, c, c.Args().First(), false, r)
		if err != nil {
			return err
		}
		defer b.Close()
		return listBook(ctx, b, &destination{format: "table", stdout: c.Root().Writer})
	}
	paths, err := rasterPaths(c.Args().Slice())
	if err != nil {
		return err
	}
	if len(paths) == 0 {
		return usage("look needs a file (verdex look --help shows examples)")
	}
	if len(paths) == 1 {
		if isVector(paths[0]) {
			return lookZones(ctx, c, paths[0], "", r)
		}
	}
	if len(paths) == 2 && isVector(paths[0]) != isVector(paths[1]) {
		if isVector(paths[1]) {
			paths[0], paths[1] = paths[1], paths[0]
		}
		return lookZones(ctx, c, paths[0], paths[1], r)
	}
	if slices.ContainsFunc(paths, isVector) {
		return usage("look takes several rasters, one file of zones, or one of each")
	}
	return lookRasters(ctx, c, paths, r)
}

// toldRemedy tells a finding as a warning.
func (r *reporter) finding(f finding) {
	switch {
	case f.Remedy == "":
		r.warn(f.What)
	case r.log != nil:
		r.warned++
		r.log.Warn(f.What, "remedy", f.Remedy)
	default:
		r.warn(f.What + "\n         " + f.Remedy)
	}
}

func writeJSON(c *cli.Command, v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(c.Root().Writer, "%s\n", b)
	return err
}

func paintFacts(c *canvas, facts []fact) {
	width := 0
	for _, f := range facts {
		width = max(width, runewidth.StringWidth(f.Key))
	}
	for _, f := range facts {
		c.line(c.dim(left(f.Key, width)), "  ", f.Value)
	}
}
