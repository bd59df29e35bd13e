package cli

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	"github.com/verdex-land/verdex/internal/book"
)

// lookOptions are those of look.
type lookOptions struct {
	job.LookOptions
	JSON         bool   `opt:"json" help:"write JSON for programs"`
	LegendOut    string `opt:"legend-out" out:"legend" help:"write a legend of the values to <FILE>, to fill in"`
	forceOption  `group:"output"`
	strictOption `group:"checks"`
}

func lookCommand() *cli.Command {
	return command(cli.Command{
		Name:  "look",
		Usage: "what is in a raster, a file of zones or a book, and what will go wrong with it",
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
  verdex look wards.gpkg cover.tif             how the zones lie on a raster
  verdex look orrin.book                       the accounts of a book`,
	}, runLook)
}

func runLook(s *session, o *lookOptions) error {
	if len(o.Files) == 1 && book.IsBook(o.Files[0]) {
		b, err := s.openBook(o.Files[0], false, book.DefaultWait)
		if err != nil {
			return err
		}
		defer b.Close()
		if err := s.refuse("a book", append(ofRasters, ofZones...)); err != nil {
			return err
		}
		format := "table"
		if o.JSON {
			format = "json"
		}
		return s.listBook(b, &destination{format: format, digits: -1})
	}
	kind, ordered, err := job.LookKind(s.env(), o.Files)
	if err != nil {
		return err
	}
	o.Files = ordered
	if kind == job.LookAtZones {
		if len(o.Files) == 1 {
			if err := s.refuse("zones", ofRasters); err != nil {
				return err
			}
		}
		return s.lookZones(o)
	}
	if len(o.Files) == 1 {
		if err := s.refuse("a raster", ofZones); err != nil {
			return err
		}
	}
	return s.lookRasters(o)
}

// Options of look that are about files of one kind only.
var (
	ofRasters = []string{"quick", "whole", "legend", "nodata", "crs", "measurements", "legend-out"}
	ofZones   = []string{"where", "zone-id", "zone-name", "zones-crs", "values"}
)

// refuse returns an error of the first of some options that is given, since it has no effect on what is looked at.
func (s *session) refuse(what string, names []string) error {
	for _, o := range option.Of(s.options) {
		if slices.Contains(names, o.Name) && o.Given(s.options) {
			return usage("--%s has no effect on %s: leave it out", o.Name, what)
		}
	}
	return nil
}

// finding is a finding as JSON has it.
type finding struct {
	What   string `json:"what"`
	Remedy string `json:"remedy,omitempty"`
}

// remedyText words a remedy: what to do, or a command that does it.
func remedyText(r *job.Remedy) string {
	if r == nil {
		return ""
	}
	var words []string
	if r.Command != "" {
		words = append(words, "verdex", r.Command)
		words = append(words, r.Args...)
	}
	for _, o := range r.Options {
		words = append(words, optionText(o.Option, o.Value))
	}
	out := strings.Join(words, " ")
	switch {
	case r.When != "" && r.Command != "":
		out = r.When + ": " + out
	case r.When != "" && out != "":
		out = r.When + " with " + out
	case r.When != "":
		out = r.When
	}
	if r.Then != "" {
		separator := " "
		if strings.HasPrefix(r.Then, "and ") {
			separator = ", "
		}
		out += separator + r.Then
	}
	return out
}

// findings are findings as JSON has them.
func findings(list []job.Finding) []finding {
	var out []finding
	for _, f := range list {
		out = append(out, finding{f.What, remedyText(f.Remedy)})
	}
	return out
}

// finding reports a finding as a warning.
func (r *reporter) finding(f job.Finding, prefix string) {
	remedy := remedyText(f.Remedy)
	switch {
	case remedy == "":
		r.Warn(prefix + f.What)
	case r.log != nil:
		r.warned++
		r.log.Warn(prefix+f.What, "remedy", remedy)
	default:
		r.Warn(prefix + f.What + "\n         " + remedy)
	}
}

func (s *session) writeJSON(v any) error {
	b, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(s.stdout, "%s\n", b)
	return err
}

func paintFacts(c *canvas, facts []job.Fact) {
	width := 0
	for _, f := range facts {
		width = max(width, runewidth.StringWidth(f.Key))
	}
	for _, f := range facts {
		line := c.dim(left(f.Key, width)) + "  " + f.Value
		if f.Key == "command" { // to be copied
			c.whole(line)
			continue
		}
		c.lineIn(width+2, line)
	}
}
