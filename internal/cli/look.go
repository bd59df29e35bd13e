package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/zone"
)

func lookCommand() *cli.Command {
	return &cli.Command{
		Name:      "look",
		Usage:     "what is in a raster or a file of zones, and what will go wrong with it",
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
  verdex look wards.geojson`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "do not read the cells"},
			&cli.BoolFlag{Name: "json", Usage: "for machines"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes, for their names and colours"},
			&cli.StringFlag{Name: "legend-out", Usage: "write a legend of the values to `FILE`, to fill in"},
			&cli.BoolFlag{Name: "force", Usage: "replace a legend that exists"},
			&cli.StringFlag{Name: "crs", Usage: "`CRS` of the raster, when the file does not say"},
			&cli.StringSliceFlag{Name: "nodata", Usage: "`VALUE` that means no data, whatever the file says"},
			&cli.BoolFlag{Name: "values", Usage: "cells are measurements, not classes"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart"},
			&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
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
	paths, err := rasterPaths(c, c.Args().Slice())
	if err != nil {
		return err
	}
	if len(paths) == 0 {
		return usage("look needs a file (verdex look --help shows examples)")
	}
	r := newReporter(c)
	if len(paths) == 1 {
		if path := paths[0]; zoneFile(path) {
			return lookZones(c, path, r)
		}
	}
	return lookRasters(ctx, c, paths, r)
}

func zoneFile(path string) bool {
	ext := strings.ToLower(filepath.Ext(path))
	return ext == ".geojson" || ext == ".json"
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

// zonesReport is what look says of a file of zones.
type zonesReport struct {
	File     string       `json:"file"`
	Format   string       `json:"format"`
	CRS      string       `json:"crs"`
	Pieces   int          `json:"pieces"`
	Vertices int          `json:"vertices"`
	Area     float64      `json:"area_ha"`
	Fields   []zone.Field `json:"fields"`
	Zones    []zoneLine   `json:"zones"`
	Notes    []string     `json:"notes,omitempty"`
}

type zoneLine struct {
	ID     string  `json:"zone_id"`
	Name   string  `json:"zone_name"`
	Pieces int     `json:"pieces"`
	Area   float64 `json:"area_ha"`
}

// lookZones tells what a file of zones holds.
func lookZones(c *cli.Command, path string, r *reporter) error {
	set, err := loadZones(c, path)
	if err != nil {
		return err
	}
	report := zonesReport{File: path, Format: "GeoJSON", CRS: set.CRS.String(), Fields: set.Fields, Notes: set.Notes}
	for _, z := range set.Zones {
		line := zoneLine{ID: z.ID, Name: z.Name, Pieces: len(z.Polygons)}
		for _, p := range z.Polygons {
			report.Pieces++
			for _, ring := range p {
				report.Vertices += len(ring)
				a, _ := set.CRS.OutlineArea(ring)
				line.Area += a / 1e4
			}
		}
		report.Zones = append(report.Zones, line)
		report.Area += line.Area
	}
	if c.Bool("json") {
		return writeJSON(c, report)
	}
	out := newCanvas(c.Root().Writer)
	paintFacts(out, []fact{{"file", path}, {"format", report.Format}, {"CRS", report.CRS},
		{"zones", fmt.Sprintf("%d, in %d piece(s) with %s vertices", len(set.Zones), report.Pieces, group(float64(report.Vertices), 0))},
		{"true area", group(report.Area, 1) + " ha in all"}})
	out.line()
	width := 5
	for _, f := range set.Fields {
		width = max(width, runewidth.StringWidth(f.Name))
	}
	out.line(out.dim(left("field", width) + "  " + left("kind", 10) + right("values", 8) + right("distinct", 10) + "  example"))
	for _, f := range set.Fields {
		out.line(left(f.Name, width), "  ", left(f.Kind, 10), right(fmt.Sprint(f.Values), 8), right(fmt.Sprint(f.Distinct), 10), "  ", runewidth.Truncate(f.Example, 40, "…"))
	}
	out.line()
	out.line(out.dim(left("zone", 28) + right("pieces", 8) + right("hectares", 16)))
	for i, z := range report.Zones {
		if i == 40 {
			out.line(out.dim(fmt.Sprintf("… and %d more zones", len(report.Zones)-40)))
			break
		}
		out.line(left(title(z.ID, z.Name), 28), right(fmt.Sprint(z.Pieces), 8), right(group(z.Area, 1), 16))
	}
	if err := out.flush(); err != nil {
		return err
	}
	r.notes(set.Notes)
	return nil
}
