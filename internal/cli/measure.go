package cli

import (
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/extent"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/zone"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/sheets"
	"github.com/verdex-land/verdex/internal/table"
)

// measureOptions are those of measure.
type measureOptions struct {
	job.MeasureOptions
	Layout         string `opt:"layout" group:"output" choose:"long,wide" help:"<long> (a row for each class) or wide (a row for each zone)"`
	Attach         string `opt:"attach" group:"output" out:"features" help:"write the zones with the areas as columns to <FILE>, too: .geojson, .geojsonl, .gpkg, .shp or .parquet"`
	checkOutput    `group:"checks"`
	postOptions    `group:"book"`
	tableOptions   `group:"output"`
	savePlanOption `group:"output"`
	partOption     `group:"output"`
}

func measureCommand() *cli.Command {
	return command(cli.Command{
		Name:  "measure",
		Usage: "extent and percent of each class in each zone",
		Description: `Measures the true area of each class of a cover raster in each zone. Zones are carried to
the raster's grid, never the raster to the zones; cells that an outline cuts count by their exact share.

  verdex measure cover.tif --zones wards.geojson --zone-id code --legend legend.csv
  verdex measure cover.tif --zones wards.geojson --zone-id code --crosswalk codes.csv --legend legend.csv
  verdex measure cover.tif --out extents.csv               the whole raster as one zone
  verdex measure cover.tif --zones bbox:12.4,58.2,12.6,58.3
  verdex measure cover.tif --zones "geo:58.31,12.52;u=5000" a circle of 5 km
  verdex measure "tiles/*.tif" --nodata 0                  tiles, as one raster
  verdex measure --rules rules.yaml --layer cover=cover.tif --layer slope=slope.tif --legend legend.csv
  verdex measure scenes.tif#2                              band 2
  verdex measure habitats.gpkg --class-field kind --zones wards.gpkg    polygons instead of cells
  verdex measure cover.tif --zones parishes.gpkg --within counties.gpkg    with larger units
  verdex measure cover.tif --zones wards.gpkg --legend legend.csv --epoch 2020 --post orrin.book --account wards`,
	}, runMeasure)
}

func runMeasure(s *session, o *measureOptions) error {
	if err := s.checkPost(&o.postOptions, o.Epoch); err != nil {
		return err
	}
	out, err := o.destination()
	if err != nil {
		return err
	}
	if o.Approximate > 0 && (o.Layout != "long" || o.Attach != "" || o.Account != "" || out.format == "xlsx") {
		return usage("--approximate goes with tables in the layout long, which have a column for the error to expect, and not with --attach, --account or spreadsheets")
	}
	if o.Attach != "" && (o.Zones == "" || zone.IsText(o.Zones)) {
		return usage("--attach writes the zones of a file with the areas as columns: name the file with --zones")
	}
	r, err := job.Measure(s.ctx, s.env(), o.MeasureOptions)
	if err != nil {
		return err
	}
	out.checks = r.Checks
	made := s.postings(o.postOptions, func() []*book.Posting { return []*book.Posting{book.FromComposition(r.Composition)} })
	out.sheets = func() []*table.Sheet {
		return sheets.Composition(r.Composition, o.Account, zoneSetName(o.ZoneSet, o.Zones))
	}
	switch {
	case out.format == "table":
	case o.Layout == "long":
		rows := model.ExtentsOf(r.Composition)
		if r.Approximate != nil {
			rows = model.WithErrors(rows, r.Composition, r.Approximate.Error)
		}
		err = s.write(out, rows)
	default:
		err = s.write(out, model.WideExtentsOf(r.Composition))
	}
	if err == nil && o.Attach != "" {
		err = s.attachExtents(r.Composition, o)
	}
	if err == nil {
		err = s.writeChecks(o.checkOutput, r.Checks)
	}
	if err != nil {
		return err
	}
	s.postTo(&o.postOptions, made)
	if err := s.commit(); err != nil {
		return err
	}
	if out.format == "table" {
		if err := paintComposition(s.canvas(), r.Composition); err != nil {
			return err
		}
	} else { // the drawn table shows it itself
		s.notes(r.Composition.Notes)
	}
	s.warnings(r.Composition.Warnings)
	return s.reportChecks(o.checkOutput, r.Checks)
}

// attachExtents writes the zones with the extents as columns.
func (s *session) attachExtents(comp *extent.Composition, o *measureOptions) error {
	columns, err := job.ColumnsOf(comp)
	if err != nil {
		return err
	}
	zones := job.JoinOptions{Zones: o.Zones, ZoneID: o.ZoneID, FeatureOptions: o.FeatureOptions, ZoneNames: o.ZoneNames}
	f, err := job.AttachTable(s.ctx, s.env(), columns, zones, false, o.OverrideCRS)
	if err != nil {
		return err
	}
	return s.writeFeatures(o.Attach, f.Layer)
}
