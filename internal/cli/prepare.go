package cli

import (
	"context"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"slices"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/geotiff"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/zone"
)

// rasterOutFlags say how a raster is written.
func rasterOutFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "out", Usage: "GeoTIFF `FILE` to write"},
		&cli.BoolFlag{Name: "force", Usage: "replace an output that exists"},
		&cli.StringFlag{Name: "compress", Value: "deflate", Usage: "`deflate`, zstd or none"},
		&cli.BoolFlag{Name: "no-overviews", Usage: "write no reduced copies"},
	}
}

func mosaicCommand() *cli.Command {
	return &cli.Command{
		Name:      "mosaic",
		Usage:     "one seamless raster of several",
		ArgsUsage: "RASTER...",
		Description: `Puts rasters that have one CRS and one cell size together, without moving a cell. measure and
change do the same by themselves when several rasters are named, with nothing written.

  verdex mosaic "tiles/*.tif" --nodata 0 --out whole.tif
  verdex mosaic --from-list tiles.txt --overlap first --out whole.tif
  verdex mosaic a.tif b.tif --measurements --overlap mean --out heights.tif`,
		Flags: append(slices.Concat(rasterFlags(), rasterOutFlags()), listFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			return prepare(ctx, c, func(src *coverRaster, r *reporter) (raster.Source, func(), error) {
				return src, func() {}, nil
			})
		},
	}
}

func clipCommand() *cli.Command {
	return &cli.Command{
		Name:      "clip",
		Usage:     "a raster cut to zones, a box, a circle or another raster's extent",
		ArgsUsage: "RASTER...",
		Description: `Makes cells whose centres lie outside nodata. No cell is moved; --shrink leaves away the rows
and columns that hold none. To measure in zones, nothing needs to be clipped first.

  verdex clip cover.tif --to wards.geojson --shrink --out wards.tif
  verdex clip cover.tif --to bbox:12.4,58.2,12.6,58.3 --nodata 255 --out box.tif
  verdex clip cover.tif --to "geo:58.31,12.52;u=5000" --shrink --out circle.tif
  verdex clip cover.tif --to other.tif --shrink --out same-place.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "to", Usage: "`WHERE`: a file of zones, bbox:W,S,E,N, geo:LAT,LON;u=METRES, WKT, or another raster"},
			&cli.BoolFlag{Name: "shrink", Usage: "cut to the smallest extent on the same grid"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart"},
			&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
			&cli.StringFlag{Name: "where", Usage: "only the zones for which a `CONDITION` in CQL2 holds"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			listFlag(),
		}, rasterFlags(), rasterOutFlags()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.String("to") == "" {
				return usage("clip needs --to, where to cut (verdex clip --help shows examples)")
			}
			return prepare(ctx, c, func(src *coverRaster, r *reporter) (raster.Source, func(), error) {
				s, err := clipTo(ctx, c, src, r)
				return s, func() {}, err
			})
		},
	}
}

func alignCommand() *cli.Command {
	return &cli.Command{
		Name:      "align",
		Usage:     "a raster on the grid of another",
		ArgsUsage: "RASTER...",
		Description: `Brings a raster onto the cells of another one, also across CRSs, and says how far cells were
moved. Classes take the nearest centre, or by majority the class that covers most of the cell; only
measurements (--measurements) are interpolated. A measure on one raster never needs this.

  verdex align old.tif --like new.tif --out old-on-new.tif
  verdex align fine.tif --like coarse.tif --by majority --out coarse-cover.tif
  verdex align heights.tif --like cover.tif --measurements --by bilinear --out heights-on-cover.tif`,
		Flags: slices.Concat([]cli.Flag{
			&cli.StringFlag{Name: "like", Usage: "`RASTER` whose grid is taken"},
			&cli.StringFlag{Name: "by", Value: "nearest", Usage: "`nearest` or majority; bilinear for measurements"},
			listFlag(),
		}, rasterFlags(), rasterOutFlags()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.String("like") == "" {
				return usage("align needs --like, the raster whose grid is taken")
			}
			return prepare(ctx, c, func(src *coverRaster, r *reporter) (raster.Source, func(), error) {
				return alignTo(c, src, r)
			})
		},
	}
}

// prepare opens rasters as one, makes a view of it and writes that. The function that comes with the view is
// called when all is written.
func prepare(ctx context.Context, c *cli.Command, view func(*coverRaster, *reporter) (raster.Source, func(), error)) error {
	if c.Args().Len() == 0 && c.String("from-list") == "" {
		return usage("%s needs a raster (verdex %s --help shows examples)", c.Name, c.Name)
	}
	out := c.String("out")
	if out == "" {
		return usage("%s needs --out, the file to write", c.Name)
	}
	r := newReporter(c)
	paths, err := coverPaths(c)
	if err != nil {
		return err
	}
	src, err := openCover(c, paths, r)
	if err != nil {
		return err
	}
	defer src.Close()
	s, told, err := view(src, r)
	if err != nil {
		return err
	}
	if err := writeRaster(ctx, c, out, s, r); err != nil {
		return err
	}
	told()
	return nil
}

// writeRaster stages a raster and says what was written.
func writeRaster(ctx context.Context, c *cli.Command, path string, s raster.Source, r *reporter) error {
	o := geotiff.Options{NoOverviews: c.Bool("no-overviews"), Threads: c.Int("threads"), SpillDir: filepath.Dir(path)}
	h := s.Header()
	o.Values = c.Bool("measurements") || h.Type.Floating()
	switch c.String("compress") {
	case "deflate", "":
	case "zstd":
		o.Compression = geotiff.Zstandard
	case "none":
		o.Compression = geotiff.Uncompressed
	default:
		return usage("--compress %s is not known: choose deflate, zstd or none", c.String("compress"))
	}
	tell, end := r.progress("writing")
	o.Progress = tell
	err := writeFile(ctx, path, func(w io.Writer) error { return geotiff.Write(ctx, w, s, o) })
	end()
	if err != nil {
		return err
	}
	nodata := "no nodata value"
	if h.NoData != nil {
		nodata = fmt.Sprintf("nodata %v", *h.NoData)
	}
	noteThen(ctx, r, fmt.Sprintf("%s: %s × %s cells of %s, %s, %v", path, group(float64(h.Grid.Width), 0), group(float64(h.Grid.Height), 0), h.Type, nodata, h.Grid.CRS))
	return nil
}

// clipTo makes the view of clip.
func clipTo(ctx context.Context, c *cli.Command, src *coverRaster, r *reporter) (raster.Source, error) {
	g := src.Header().Grid
	where := c.String("to")
	path, band := bandOf(where)
	if isRaster(path) {
		other, err := open.Raster(path, band)
		if err != nil {
			return nil, err
		}
		defer other.Close()
		return clipToRaster(c, src, other.Header())
	}
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	set, err := loadZones(ctx, c, where)
	if err != nil {
		return nil, err
	}
	place, err := set.Place(g)
	if err != nil {
		return nil, err
	}
	r.notes(set.Notes)
	r.notes(place.Notes)
	return cutTo(c, src, place, set.Source)
}

// isRaster reports whether a file is one of the rasters that are read.
func isRaster(path string) bool {
	f, err := files.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 512)
	n, _ := f.ReadAt(head, 0)
	kind := open.Kind(head[:n])
	return kind == "TIFF" || kind == "ASCII grid"
}

// cutTo masks by placed zones, and shrinks.
func cutTo(c *cli.Command, src *coverRaster, place *zone.Placement, name string) (raster.Source, error) {
	w := place.Extent()
	if w.Width == 0 {
		return nil, fmt.Errorf("%s: no cell of %s has its centre in it: check that both lie in the same place and that their CRSs are right", name, src.path)
	}
	s, err := zone.Mask(src, place)
	if err != nil {
		return nil, err
	}
	if !c.Bool("shrink") {
		return s, nil
	}
	return shrink(s, w)
}

func shrink(s raster.Source, w raster.Window) (raster.Source, error) {
	g := s.Header().Grid
	g.X0, g.Y0 = g.Point(float64(w.Col), float64(w.Row))
	g.Width, g.Height = w.Width, w.Height
	return raster.Extent(s, g)
}

// clipToRaster cuts to the extent of another raster, whose outline is a rectangle in its own CRS.
func clipToRaster(c *cli.Command, src *coverRaster, other raster.Header) (raster.Source, error) {
	g := src.Header().Grid
	if err := src.needCRS(); err != nil {
		return nil, err
	}
	if other.Grid.CRS == nil {
		return nil, fmt.Errorf("%s: %s", other.Name, other.CRSProblem)
	}
	w, s, e, n := other.Grid.Bounds()
	ring := zone.Ring{{w, s}, {e, s}, {e, n}, {w, n}}
	set := &zone.Set{Source: other.Name, CRS: other.Grid.CRS, Zones: []zone.Zone{{ID: "extent", Polygons: []zone.Polygon{{ring}}}}}
	place, err := set.Place(g)
	if err != nil {
		return nil, err
	}
	window := place.Extent()
	inside := place.Outlines[0]
	if c.Bool("shrink") && other.Grid.CRS.Same(g.CRS) && len(inside.Rings) > 0 && window.Width > 0 {
		return shrink(src, window) // a rectangle of the grid: nothing lies outside
	}
	return cutTo(c, src, place, other.Name)
}

// alignTo makes the view of align.
func alignTo(c *cli.Command, src *coverRaster, r *reporter) (raster.Source, func(), error) {
	path, band := bandOf(c.String("like"))
	other, err := open.Raster(path, band)
	if err != nil {
		return nil, nil, err
	}
	defer other.Close()
	if err := src.needCRS(); err != nil {
		return nil, nil, err
	}
	h := other.Header()
	if h.Grid.CRS == nil {
		return nil, nil, fmt.Errorf("%s: %s", path, h.CRSProblem)
	}
	values := c.Bool("measurements") || src.Header().Type.Floating()
	var how raster.Resample
	switch c.String("by") {
	case "nearest":
	case "majority":
		how = raster.Heaviest
	case "bilinear":
		if how = raster.Bilinear; !values {
			return nil, nil, usage("--by bilinear would make classes up that are between others: choose nearest or majority, or say --measurements if the cells of %s are measurements", src.path)
		}
	default:
		return nil, nil, usage("--by %s is not known: choose nearest, majority or bilinear", c.String("by"))
	}
	a, err := raster.Align(src, h.Grid, how)
	if err != nil {
		return nil, nil, err
	}
	r.notes(a.Notes)
	return a, func() { r.note(movesNote(a)) }, nil
}

// movesNote says how many cells were moved by how much.
func movesNote(a *raster.Aligned) string {
	m := a.Moves()
	g := a.Source().Grid
	ew, ns, _ := groundSize(g)
	size := math.Max(ew, ns)
	text := ""
	switch a.How() {
	case raster.Heaviest:
		text = fmt.Sprintf("%s cells took the value of %s that covers most of them", group(float64(m.Cells), 0), a.Source().Name)
	case raster.Bilinear:
		text = fmt.Sprintf("%s cells were interpolated between the cells of %s, of which the nearest centre lay %.2f of a cell away on average (%.3g m on the ground)",
			group(float64(m.Cells), 0), a.Source().Name, m.Mean, m.Mean*size)
	default:
		text = fmt.Sprintf("%s cells took the nearest one of %s, moved by %.2f of a cell on average and %.2f at most (%.3g m and %.3g m on the ground)",
			group(float64(m.Cells), 0), a.Source().Name, m.Mean, m.Greatest, m.Mean*size, m.Greatest*size)
	}
	if m.Empty > 0 {
		text += fmt.Sprintf("; %s cells of the grid lie beyond it and are nodata", group(float64(m.Empty), 0))
	}
	return text
}
