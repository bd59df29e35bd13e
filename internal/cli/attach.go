package cli

import (
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
)

type attachOptions struct {
	job.AttachOptions
	featuresOutput `group:"output"`
}

func attachCommand() *cli.Command {
	return command(cli.Command{
		Name:  "attach",
		Usage: "join a table to the zones, and report how many matched",
		Description: `Joins the rows of a CSV table to zones by their ids and writes the zones with its columns. Rows
without a zone and zones without a row are listed, and nothing is written then unless --allow-partial
allows it. Of a long tally, as measure writes it, each class becomes columns of its own: its area and
its percent of the zone. Features that share an id are one zone.

  verdex attach extents.csv --zones wards.gpkg --zone-id code --out wards-with.gpkg
  verdex attach people.csv --key ward --zones wards.gpkg --zone-id code --allow-partial --out wards-with.geojson`,
	}, func(s *session, o *attachOptions) error {
		return s.makeFeatures(o.Out, func() (*job.Features, error) { return job.Attach(s.ctx, s.env(), o.AttachOptions) })
	})
}
