package cli

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/vector"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/core/zone"
)

// zonesReport is what look says of a file of zones.
type zonesReport struct {
	File     string         `json:"file"`
	Format   string         `json:"format"`
	Layers   []string       `json:"layers,omitempty"`
	CRS      string         `json:"crs"`
	Features int            `json:"features"`
	Kinds    map[string]int `json:"geometry"`
	Pieces   int            `json:"pieces"`
	Vertices int            `json:"vertices"`
	Area     float64        `json:"area_ha"`
	Fields   []zone.Field   `json:"fields"`
	Zones    []zoneLine     `json:"zones"`
	Findings []finding      `json:"findings,omitempty"`
	Notes    []string       `json:"notes,omitempty"`
}

type zoneLine struct {
	ID     string  `json:"zone_id"`
	Name   string  `json:"zone_name"`
	Pieces int     `json:"pieces"`
	Area   float64 `json:"area_ha"`
	Share  float64 `json:"pct_on_raster,omitempty"`
}

var formatNames = map[string]string{"geojson": "GeoJSON", "geopackage": "GeoPackage", "shapefile": "shapefile", "parquet": "GeoParquet", "table": "table in text"}

// lookZones tells what a file of zones holds, and how its zones lie to a raster beside.
func lookZones(ctx context.Context, c *cli.Command, where, beside string, r *reporter) error {
	path, layer := vectors.Split(where)
	kind, err := vectors.Kind(path)
	if err != nil {
		return err
	}
	report := zonesReport{File: path, Format: formatNames[kind]}
	if kind == "geopackage" {
		list, err := geopackage.Layers(path)
		if err != nil {
			return err
		}
		for _, i := range list {
			report.Layers = append(report.Layers, fmt.Sprintf("%s (%s, %s features)", i.Name, strings.ToLower(i.Geometry), group(float64(i.Features), 0)))
		}
		if layer == "" && len(list) > 1 {
			return lookLayers(c, &report, list)
		}
	}
	l, err := loadLayer(ctx, c, where)
	if err != nil {
		return err
	}
	e, err := condition(c)
	if err != nil {
		return err
	}
	picked, err := zone.Pick(l, e)
	if err != nil {
		return err
	}
	if e != nil {
		features := make([]vector.Feature, len(picked))
		for i, k := range picked {
			features[i] = l.Features[k]
		}
		l.Notes = append(l.Notes, fmt.Sprintf("the condition picks %d of %d features", len(picked), len(l.Features)))
		l.Features = features
	}
	if field := c.String("values"); field != "" {
		return lookFieldValues(c, l, field, r)
	}
	report.inspect(c, l)
	if beside != "" {
		if err := report.onRaster(c, l, beside, r); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return writeJSON(c, report)
	}
	if err := report.paint(c, l.Name, beside); err != nil {
		return err
	}
	r.notes(report.Notes)
	for _, f := range report.Findings {
		r.finding(f)
	}
	if c.Bool("strict") && r.warned > 0 {
		return errStrict
	}
	return nil
}

// lookLayers lists the layers of a file that has several.
func lookLayers(c *cli.Command, report *zonesReport, list []geopackage.Info) error {
	if c.Bool("json") {
		return writeJSON(c, report)
	}
	out := newCanvas(c.Root().Writer)
	paintFacts(out, []fact{{"file", report.File}, {"format", report.Format}, {"layers", fmt.Sprintf("%d; look at one with verdex look %s#LAYER", len(list), report.File)}})
	out.line()
	width := 5
	for _, i := range list {
		width = max(width, runewidth.StringWidth(i.Name))
	}
	out.line(out.dim(left("layer", width) + "  " + left("geometry", 20) + right("features", 12)))
	for _, i := range list {
		out.line(left(i.Name, width), "  ", left(strings.ToLower(i.Geometry), 20), right(group(float64(i.Features), 0), 12))
	}
	return out.flush()
}

// inspect fills the report from a layer.
func (z *zonesReport) inspect(c *cli.Command, l *vector.Layer) {
	in := zone.Inspect(l)
	z.CRS, z.Features, z.Kinds, z.Pieces, z.Vertices = l.CRS.String(), len(l.Features), in.Kinds, in.Pieces, in.Vertices
	z.Fields, z.Notes = zone.Describe(l), l.Notes
	for _, a := range in.Areas {
		if !math.IsNaN(a) {
			z.Area += a / 1e4
		}
	}
	for _, p := range in.Problems {
		z.Findings = append(z.Findings, finding{What: p})
	}
	if !in.Checked && in.Pieces > 0 {
		z.Notes = append(z.Notes, "overlaps and gaps were not looked for, because there are many corners or some outlines cross themselves")
	}
	if l.CRS == nil {
		z.CRS = "none: " + l.CRSProblem
		z.Findings = append(z.Findings, finding{"without a CRS the zones cannot be placed", "name it, as in --zones-crs EPSG:3035"})
		return
	}
	set, err := zone.FromLayer(l, zone.Selection{IDField: c.String("zone-id"), NameField: c.String("zone-name")})
	if err != nil {
		z.Findings = append(z.Findings, finding{What: err.Error()})
		return
	}
	z.Notes = set.Notes
	for _, s := range set.Zones {
		line := zoneLine{ID: s.ID, Name: s.Name, Pieces: len(s.Polygons)}
		for _, p := range s.Polygons {
			for _, ring := range p {
				a, _ := set.CRS.OutlineArea(ring)
				line.Area += a / 1e4
			}
		}
		z.Zones = append(z.Zones, line)
	}
}

// onRaster tells what part of each zone lies on a raster.
func (z *zonesReport) onRaster(c *cli.Command, l *vector.Layer, path string, r *reporter) error {
	src, err := openRasters(c, []string{path}, "", r)
	if err != nil {
		return err
	}
	defer src.Close()
	if err := src.needCRS(); err != nil {
		return err
	}
	set, err := zone.FromLayer(l, zone.Selection{IDField: c.String("zone-id"), NameField: c.String("zone-name")})
	if err != nil {
		return err
	}
	place, err := set.Place(src.Header().Grid)
	if err != nil {
		return err
	}
	z.Notes = append(z.Notes, place.Notes...)
	var partly, wholly []string
	for i, o := range place.Outlines {
		share := 1 - o.Outside/o.Area
		z.Zones[i].Share = 100 * share
		switch {
		case share < 1e-9:
			wholly = append(wholly, set.Zones[i].ID)
		case share < 1-1e-6:
			partly = append(partly, fmt.Sprintf("%s (%.1f %%)", set.Zones[i].ID, 100*share))
		}
	}
	some := func(list []string) string {
		if n := len(list); n > 5 {
			list = append(list[:5:5], fmt.Sprintf("%d more", n-5))
		}
		return strings.Join(list, ", ")
	}
	if len(partly) > 0 {
		z.Findings = append(z.Findings, finding{fmt.Sprintf("%d zone(s) lie only partly on %s: %s", len(partly), path, some(partly)), "a measure tells the rest of them as outside"})
	}
	if len(wholly) > 0 {
		z.Findings = append(z.Findings, finding{fmt.Sprintf("%d zone(s) lie beside %s: %s", len(wholly), path, some(wholly)), "check that both lie in the same place and that their CRSs are right"})
	}
	if !set.CRS.Same(src.Header().Grid.CRS) {
		z.Notes = append(z.Notes, fmt.Sprintf("the raster is in %v: the zones are carried to its grid, and need not be converted", src.Header().Grid.CRS))
	}
	return nil
}

func (z *zonesReport) paint(c *cli.Command, layer, beside string) error {
	out := newCanvas(c.Root().Writer)
	order := slices.SortedFunc(maps.Keys(z.Kinds), func(a, b string) int { return cmp.Or(z.Kinds[b]-z.Kinds[a], cmp.Compare(a, b)) })
	var kinds []string
	for _, k := range order {
		kinds = append(kinds, fmt.Sprintf("%s %s", group(float64(z.Kinds[k]), 0), k))
	}
	facts := []fact{{"file", z.File}, {"format", z.Format}}
	if layer != "" {
		facts = append(facts, fact{"layer", layer})
	}
	facts = append(facts, fact{"CRS", z.CRS}, fact{"features", fmt.Sprintf("%s (%s), in %s piece(s) with %s vertices", group(float64(z.Features), 0), strings.Join(kinds, ", "), group(float64(z.Pieces), 0), group(float64(z.Vertices), 0))},
		fact{"true area", group(z.Area, 1) + " ha in all"})
	if len(z.Zones) > 0 && len(z.Zones) != z.Features {
		facts = append(facts, fact{"zones", group(float64(len(z.Zones)), 0)})
	}
	paintFacts(out, facts)
	out.line()
	width := 5
	for _, f := range z.Fields {
		width = max(width, runewidth.StringWidth(f.Name))
	}
	out.line(out.dim(left("field", width) + "  " + left("kind", 13) + right("values", 9) + right("distinct", 10) + "  " + left("id?", 8) + "example"))
	for _, f := range z.Fields {
		id := ""
		switch {
		case f.ID && f.Distinct == f.Values:
			id = "yes"
		case f.ID:
			id = "pieces" // features that share one would be one zone
		}
		out.line(left(f.Name, width), "  ", left(f.Kind, 13), right(group(float64(f.Values), 0), 9), right(group(float64(f.Distinct), 0), 10), "  ", left(id, 8), runewidth.Truncate(f.Example, 40, "…"))
	}
	if len(z.Zones) > 0 {
		out.line()
		head := left("zone", 28) + right("pieces", 8) + right("hectares", 16)
		if beside != "" {
			head += right("% on raster", 14)
		}
		out.line(out.dim(head))
	}
	for i, s := range z.Zones {
		if i == 40 {
			out.line(out.dim(fmt.Sprintf("… and %d more zones", len(z.Zones)-40)))
			break
		}
		line := left(title(s.ID, s.Name), 28) + right(fmt.Sprint(s.Pieces), 8) + right(group(s.Area, 1), 16)
		if beside != "" {
			line += right(fmt.Sprintf("%.2f", s.Share), 14)
		}
		out.line(line)
	}
	return out.flush()
}

// lookFieldValues lists the values of a field with their features and areas, the most frequent first.
func lookFieldValues(c *cli.Command, l *vector.Layer, field string, r *reporter) error {
	k, err := zone.Need(l, field, "--values")
	if err != nil {
		return err
	}
	type line struct {
		Value    string  `json:"value"`
		Features int     `json:"features"`
		Area     float64 `json:"area_ha"`
	}
	at := map[string]int{}
	var lines []line
	for i := range l.Features {
		f := &l.Features[i]
		text := "(none)"
		if f.Values[k] != nil {
			text = vector.TextOf(f.Values[k])
		}
		n, ok := at[text]
		if !ok {
			n = len(lines)
			at[text] = n
			lines = append(lines, line{Value: text})
		}
		lines[n].Features++
		area, _ := vector.Area(l.CRS, &f.Geometry) // none without a CRS
		lines[n].Area += area / 1e4
	}
	slices.SortStableFunc(lines, func(a, b line) int { return cmp.Or(b.Features-a.Features, cmp.Compare(b.Area, a.Area)) })
	if c.Bool("json") {
		return writeJSON(c, lines)
	}
	out := newCanvas(c.Root().Writer)
	width := runewidth.StringWidth(field)
	for _, s := range lines {
		width = min(60, max(width, runewidth.StringWidth(s.Value)))
	}
	out.line(out.dim(left(field, width) + right("features", 12) + right("hectares", 16)))
	for _, s := range lines {
		out.line(left(runewidth.Truncate(s.Value, width, "…"), width), right(group(float64(s.Features), 0), 12), right(group(s.Area, 1), 16))
	}
	if err := out.flush(); err != nil {
		return err
	}
	r.notes(l.Notes)
	return nil
}
