package cli

import (
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
)

type pickOptions struct {
	job.PickOptions
	featuresOutput `group:"output"`
}

type mergeOptions struct {
	job.MergeOptions
	featuresOutput `group:"output"`
}

type circleOptions struct {
	job.CircleOptions
	featuresOutput `group:"output"`
}

type bufferOptions struct {
	job.BufferOptions
	featuresOutput `group:"output"`
}

type squareOptions struct {
	job.SquareOptions
	featuresOutput `group:"output"`
}

func zonesCommand() *cli.Command {
	return &cli.Command{
		Name:  "zones",
		Usage: "make the zones to report on: pick, merge, circle, buffer, grid",
		Commands: []*cli.Command{
			command(cli.Command{
				Name: "pick", Usage: "the features for which a condition holds, in a file of their own",
				Description: `Keeps all fields. Also without a condition, to write a file in another format.

  verdex zones pick wards.gpkg --where "district = 'North' AND people > 500" --out north.gpkg
  verdex zones pick counties.shp --out counties.geojson`,
			}, func(s *session, o *pickOptions) error {
				return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.PickZones(s.ctx, s.env(), o.PickOptions) })
			}),
			command(cli.Command{
				Name: "merge", Usage: "one outline for each value of a field",
				Description: `Unites the outlines of features that share a value. A field in which they agree is kept;
--sum adds numbers up, --keep takes the first value, and the rest is left out.

  verdex zones merge parishes.gpkg --zone-id county --sum people --out counties.gpkg`,
			}, func(s *session, o *mergeOptions) error {
				return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.MergeZones(s.ctx, s.env(), o.MergeOptions) })
			}),
			command(cli.Command{
				Name: "circle", Usage: "a true circle around a place",
				Description: `The corners lie at the radius on the ellipsoid, and the area is that of the circle to a few parts
in 10⁸. measure also takes geo:58.31,12.52;u=5000 as its zone, without a file.

  verdex zones circle --at 12.52,58.31 --radius 5km --out around.geojson`,
			}, func(s *session, o *circleOptions) error {
				return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.CircleZones(s.ctx, s.env(), o.CircleOptions) })
			}),
			command(cli.Command{
				Name: "buffer", Usage: "true circles around the points of a file",
				Description: `The radius is in metres on the ground, whatever the CRS of the file. Fields are kept.

  verdex zones buffer wells.csv --radius 500m --out around-wells.gpkg`,
			}, func(s *session, o *bufferOptions) error {
				return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.BufferZones(s.ctx, s.env(), o.BufferOptions) })
			}),
			command(cli.Command{
				Name: "grid", Usage: "squares over an area",
				Description: `Squares of which the area covers some part. With --size they lie on whole multiples of it in a
projected CRS, and their ids are those multiples (column_row), so that a square has the same id in
every grid of that size and CRS. With --grid they consist of whole cells of a raster, and are numbered
from its upper left corner.

  verdex zones grid wards.geojson --size 1km --squares-crs EPSG:3035 --out squares.gpkg
  verdex zones grid wards.geojson --grid cover.tif --cells 10 --out blocks.gpkg`,
			}, func(s *session, o *squareOptions) error {
				return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.SquareZones(s.ctx, s.env(), o.SquareOptions) })
			}),
		},
	}
}

// makeFeatures makes features and writes them.
func (s *session) makeFeatures(out string, make func() (*job.Features, error)) error {
	if err := needOut(s, out); err != nil {
		return err
	}
	f, err := make()
	if err != nil {
		return err
	}
	return s.writeFeatures(out, f.Layer)
}
