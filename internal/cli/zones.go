package cli

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/raster"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/vector"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// featureFlags are those of all commands that write features.
func featureFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the features, when the file does not say"},
		&cli.StringFlag{Name: "where", Usage: "only the features for which a `CONDITION` in CQL2 holds"},
		&cli.StringFlag{Name: "out", Usage: "`FILE` to write: " + vectors.Writable},
		&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
	}
}

func zonesCommand() *cli.Command {
	return &cli.Command{
		Name:  "zones",
		Usage: "make the zones to report on: pick, merge, circle, buffer, grid",
		Commands: []*cli.Command{
			{
				Name: "pick", Usage: "the features for which a condition holds, in a file of their own", ArgsUsage: "FILE",
				Description: `Keeps all fields. Also without a condition, to write a file in another format.

  verdex zones pick wards.gpkg --where "district = 'North' AND people > 500" --out north.gpkg
  verdex zones pick counties.shp --out counties.geojson`,
				Flags: featureFlags(),
				Action: zonesAction(func(ctx context.Context, c *cli.Command, r *reporter) (*vector.Layer, error) {
					return readPicked(ctx, c)
				}),
			},
			{
				Name: "merge", Usage: "one outline for each value of a field", ArgsUsage: "FILE",
				Description: `Unites the outlines of features that share a value. A field in which they agree is kept;
--sum adds numbers up, --keep takes the first value, and the rest is left out.

  verdex zones merge parishes.gpkg --by county --sum people --out counties.gpkg`,
				Flags: slices.Concat([]cli.Flag{
					&cli.StringFlag{Name: "by", Usage: "the `FIELD` whose values are to be one feature each"},
					&cli.StringSliceFlag{Name: "sum", Usage: "`FIELD` of numbers to add up"},
					&cli.StringSliceFlag{Name: "keep", Usage: "`FIELD` of which to keep the first value"},
				}, featureFlags()),
				Action: zonesAction(mergeZones),
			},
			{
				Name: "circle", Usage: "a true circle around a place",
				Description: `The corners lie at the radius on the ellipsoid, and the area is that of the circle to a few parts
in 10⁸. A measure takes geo:58.31,12.52;u=5000 as its zone without a file, too.

  verdex zones circle --at 58.31,12.52 --radius 5km --out around.geojson`,
				Flags: slices.Concat([]cli.Flag{
					&cli.StringSliceFlag{Name: "at", Usage: "`LAT,LON` in degrees; several make several circles"},
					&cli.StringFlag{Name: "radius", Usage: "a `LENGTH` on the ground: 500m, 5km, 2mi"},
				}, featureFlags()[2:]),
				Action: zonesAction(circleZones),
			},
			{
				Name: "buffer", Usage: "true circles around the points of a file", ArgsUsage: "FILE",
				Description: `The radius is in metres on the ground, whatever the CRS of the file. Fields are kept.

  verdex zones buffer wells.csv --radius 500m --out around-wells.gpkg`,
				Flags:  slices.Concat([]cli.Flag{&cli.StringFlag{Name: "radius", Usage: "a `LENGTH` on the ground: 500m, 5km, 2mi"}}, featureFlags()),
				Action: zonesAction(bufferZones),
			},
			{
				Name: "grid", Usage: "squares over an area", ArgsUsage: "ZONES",
				Description: `Squares of which the area covers some part. With --size they lie on whole multiples of it in a
projected CRS, and their ids are those multiples (column_row), so that a square has the same id in
every grid of that size and CRS. With --like they consist of whole cells of a raster, and are numbered
from its upper left corner.

  verdex zones grid wards.geojson --size 1km --crs EPSG:3035 --out squares.gpkg
  verdex zones grid wards.geojson --like cover.tif --cells 10 --out blocks.gpkg`,
				Flags: slices.Concat([]cli.Flag{
					&cli.StringFlag{Name: "size", Usage: "a `LENGTH` in the CRS: 500m, 1km"},
					&cli.StringFlag{Name: "crs", Usage: "projected `CRS` of the squares, when the area is in degrees"},
					&cli.StringFlag{Name: "like", Usage: "`RASTER` whose cells the squares consist of; without an area, all of it"},
					&cli.IntFlag{Name: "cells", Usage: "`N`, the cells along a side"},
				}, featureFlags()),
				Action: zonesAction(gridZones),
			},
		},
	}
}

// zonesAction runs what makes features, and writes them.
func zonesAction(make func(context.Context, *cli.Command, *reporter) (*vector.Layer, error)) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		out := c.String("out")
		if out == "" {
			return usage("zones %s needs --out, the file to write", c.Name)
		}
		r := newReporter(c)
		l, err := make(ctx, c, r)
		if err != nil {
			return err
		}
		r.notes(l.Notes)
		if l.CRS == nil {
			return fmt.Errorf("%s: %s: name its CRS with --zones-crs", l.Source, l.CRSProblem)
		}
		return writeLayer(ctx, out, l, r)
	}
}

// readPicked reads the file that is named, and of it the features that --where picks.
func readPicked(ctx context.Context, c *cli.Command) (*vector.Layer, error) {
	if c.Args().Len() != 1 {
		return nil, usage("zones %s takes one file (verdex zones %s --help shows examples)", c.Name, c.Name)
	}
	l, err := loadLayer(ctx, c, c.Args().First())
	if err != nil {
		return nil, err
	}
	e, err := condition(c)
	if err != nil {
		return nil, err
	}
	picked, err := zone.Pick(l, e)
	if err != nil {
		return nil, err
	}
	features := make([]vector.Feature, len(picked))
	for i, k := range picked {
		features[i] = l.Features[k]
	}
	if e != nil {
		l.Notes = append(l.Notes, fmt.Sprintf("%s: the condition picks %d of its %d features", l.Source, len(picked), len(l.Features)))
	}
	l.Features = features
	return l, nil
}

func mergeZones(ctx context.Context, c *cli.Command, r *reporter) (*vector.Layer, error) {
	by := c.String("by")
	if by == "" {
		return nil, usage("zones merge needs --by, the field whose values are to be one feature each")
	}
	l, err := readPicked(ctx, c)
	if err != nil {
		return nil, err
	}
	r.notes(l.Notes)
	out, left, err := zone.Merge(l, by, listOf(c, "sum"), listOf(c, "keep"))
	if err != nil {
		return nil, err
	}
	r.note(fmt.Sprintf("%s: %d features became %d", l.Source, len(l.Features), len(out.Features)))
	if len(left) > 0 {
		r.note(fmt.Sprintf("fields in which merged features differ are left out: %s (--sum adds numbers up, --keep takes the first value)", strings.Join(left, ", ")))
	}
	return out, nil
}

// metres reads a length: a number with m, km, mi or ft; without a unit it is metres.
func metres(option, text string) (float64, error) {
	if text == "" {
		return 0, usage("--%s is needed: a length such as 500m or 5km", option)
	}
	digits := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyz")
	units := map[string]float64{"": 1, "m": 1, "km": 1000, "mi": 1609.344, "ft": 0.3048}
	unit, known := units[strings.TrimSpace(text[len(digits):])]
	v, err := finite(digits)
	if err != nil || !known || v <= 0 {
		return 0, usage("--%s %q is no length such as 500m, 5km, 2mi or 300ft", option, text)
	}
	return v * unit, nil
}

func circleZones(_ context.Context, c *cli.Command, _ *reporter) (*vector.Layer, error) {
	radius, err := metres("radius", c.String("radius"))
	if err != nil {
		return nil, err
	}
	places := c.StringSlice("at")
	if len(places) == 0 {
		return nil, usage("zones circle needs --at LAT,LON")
	}
	l := &vector.Layer{Source: "the circles", Fields: []vector.Field{{Name: "zone_id"}, {Name: "latitude", Kind: vector.Real}, {Name: "longitude", Kind: vector.Real}, {Name: "radius_m", Kind: vector.Real}}}
	for i, text := range places {
		a, b, ok := strings.Cut(text, ",")
		lat, err1 := finite(a)
		lon, err2 := finite(b)
		if !ok || err1 != nil || err2 != nil {
			return nil, usage("--at %q is not of the form LAT,LON in degrees, such as 58.31,12.52", text)
		}
		s, err := zone.Circle(lat, lon, radius)
		if err != nil {
			return nil, err
		}
		l.CRS = s.CRS
		l.Features = append(l.Features, vector.Feature{Values: []any{fmt.Sprintf("circle-%d", i+1), lat, lon, radius}, Geometry: vector.Geometry{Type: "Polygon", Polygons: s.Zones[0].Polygons}})
	}
	return l, nil
}

func bufferZones(ctx context.Context, c *cli.Command, r *reporter) (*vector.Layer, error) {
	radius, err := metres("radius", c.String("radius"))
	if err != nil {
		return nil, err
	}
	l, err := readPicked(ctx, c)
	if err != nil {
		return nil, err
	}
	out, note, err := zone.Buffer(l, radius)
	if err == nil && note != "" {
		r.note(note)
	}
	return out, err
}

func gridZones(ctx context.Context, c *cli.Command, r *reporter) (*vector.Layer, error) {
	if c.String("like") != "" {
		return gridLike(ctx, c)
	}
	size, err := metres("size", c.String("size"))
	if err != nil {
		return nil, err
	}
	if c.Args().Len() != 1 {
		return nil, usage("zones grid takes the area as a file, a box, a circle or WKT")
	}
	set, err := loadZones(ctx, c, c.Args().First())
	if err != nil {
		return nil, err
	}
	crs := set.CRS
	if text := c.String("crs"); text != "" {
		if crs, err = parseCRS(text); err != nil {
			return nil, err
		}
	}
	if crs.Geographic() {
		return nil, usage("%s is in degrees, in which squares have no size: name a projected CRS with --crs, such as an equal-area one for the place", set.Source)
	}
	l, note, err := vector.Carry(set.Layer(), crs)
	if err != nil {
		return nil, err
	}
	if note != "" {
		r.note(note)
	}
	side := size / crs.Unit
	c0, r0, c1, r1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, f := range l.Features {
		for _, p := range f.Geometry.Polygons {
			b := vector.Box(p[0])
			c0, r0 = math.Min(c0, math.Floor(b[0]/side)), math.Min(r0, math.Floor(b[1]/side))
			c1, r1 = math.Max(c1, math.Ceil(b[2]/side)), math.Max(r1, math.Ceil(b[3]/side))
		}
	}
	if !(c1-c0 < 1e7 && r1-r0 < 1e7) {
		return nil, fmt.Errorf("the grid would have %g × %g squares: choose larger ones", c1-c0, r1-r0)
	}
	g := raster.Grid{Width: int(c1 - c0), Height: int(r1 - r0), X0: c0 * side, Y0: r1 * side, DX: side, DY: -side, CRS: crs}
	return zone.Squares(set, g, zone.Origin{Column: int(c0), Row: int(r1) - 1, Up: true})
}

// gridLike makes squares of whole cells of a raster.
func gridLike(ctx context.Context, c *cli.Command) (*vector.Layer, error) {
	n := c.Int("cells")
	if n < 1 || c.String("size") != "" || c.String("crs") != "" {
		return nil, usage("with --like, the side of a square is told by --cells N")
	}
	path, band := bandOf(c.String("like"))
	f, err := rasters.Raster(path, band)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	h := f.Header()
	if h.Grid.CRS == nil {
		return nil, fmt.Errorf("%s: %s", path, h.CRSProblem)
	}
	g := h.Grid
	set := &zone.Set{Source: path, CRS: g.CRS}
	w, s, e, north := g.Bounds()
	set.Zones = []zone.Zone{{ID: "all", Polygons: []zone.Polygon{{{{w, s}, {e, s}, {e, north}, {w, north}}}}}}
	if c.Args().Len() > 0 {
		if set, err = loadZones(ctx, c, c.Args().First()); err != nil {
			return nil, err
		}
	}
	g.Width, g.Height = (g.Width+n-1)/n, (g.Height+n-1)/n
	g.DX, g.DY = g.DX*float64(n), g.DY*float64(n)
	return zone.Squares(set, g, zone.Origin{})
}
