package cli

import (
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
)

type mosaicOptions struct {
	job.MosaicOptions
	rasterOutput `group:"output"`
}

func mosaicCommand() *cli.Command {
	return command(cli.Command{
		Name:  "mosaic",
		Usage: "one seamless raster of several",
		Description: `Puts rasters that have one CRS and one cell size together, without moving a cell. measure and
change do the same by themselves when several rasters are named, with nothing written.

  verdex mosaic "tiles/*.tif" --nodata 0 --out whole.tif
  verdex mosaic --from-list tiles.txt --overlap first --out whole.tif
  verdex mosaic a.tif b.tif --measurements --overlap mean --out heights.tif`,
	}, func(s *session, o *mosaicOptions) error {
		return s.makeRaster(o.rasterOutput, func() (*job.Raster, error) { return job.Mosaic(s.ctx, s.env(), o.MosaicOptions) })
	})
}

type clipOptions struct {
	job.ClipOptions
	rasterOutput `group:"output"`
}

func clipCommand() *cli.Command {
	return command(cli.Command{
		Name:  "clip",
		Usage: "a raster cut to zones, a box, a circle or another raster's extent",
		Description: `Makes cells whose centres lie outside nodata. No cell is moved; --shrink leaves out the rows
and columns that hold none. To measure in zones, nothing needs to be clipped first.

  verdex clip cover.tif --to wards.geojson --shrink --out wards.tif
  verdex clip cover.tif --to bbox:12.4,58.2,12.6,58.3 --nodata 255 --out box.tif
  verdex clip cover.tif --to "geo:58.31,12.52;u=5000" --shrink --out circle.tif
  verdex clip cover.tif --to other.tif --shrink --out same-place.tif`,
	}, func(s *session, o *clipOptions) error {
		return s.makeRaster(o.rasterOutput, func() (*job.Raster, error) { return job.Clip(s.ctx, s.env(), o.ClipOptions) })
	})
}

type alignOptions struct {
	job.AlignOptions
	rasterOutput `group:"output"`
}

func alignCommand() *cli.Command {
	return command(cli.Command{
		Name:  "align",
		Usage: "a raster on the grid of another",
		Description: `Brings a raster onto the cells of another one, also across CRSs, and reports how far cells were
moved. Classes take the nearest centre, or by majority the class that covers most of the cell; only
measurements (--measurements) are interpolated. A measure of one raster never needs this.

  verdex align old.tif --grid new.tif --out old-on-new.tif
  verdex align fine.tif --grid coarse.tif --resample majority --out coarse-cover.tif
  verdex align heights.tif --grid cover.tif --measurements --resample bilinear --out heights-on-cover.tif`,
	}, func(s *session, o *alignOptions) error {
		return s.makeRaster(o.rasterOutput, func() (*job.Raster, error) { return job.Align(s.ctx, s.env(), o.AlignOptions) })
	})
}

// makeRaster makes a raster and writes it.
func (s *session) makeRaster(o rasterOutput, make func() (*job.Raster, error)) error {
	if err := needOut(s, o.Out); err != nil {
		return err
	}
	r, err := make()
	if err != nil {
		return err
	}
	defer r.Close()
	return s.writeRaster(o.Out, r, o.rasterOptions)
}
