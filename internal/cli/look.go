package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"path/filepath"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

func lookCommand() *cli.Command {
	return &cli.Command{
		Name:      "look",
		Usage:     "what is in a raster or a file of zones",
		ArgsUsage: "FILE",
		Description: `Shows what a file holds and what its numbers mean: for a raster its grid, CRS, cell size
on the ground, nominal and true cell area, and the values with their cells and true areas; for zones their
CRS, fields, numbers and areas.

  verdex look cover.tif
  verdex look cover.tif --quick            without reading the cells
  verdex look cover.tif --legend legend.csv
  verdex look wards.geojson`,
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "quick", Usage: "do not read the cells"},
			&cli.BoolFlag{Name: "json", Usage: "for machines"},
			&cli.StringFlag{Name: "legend", Usage: "CSV `FILE` of the classes, for their names and colours"},
			&cli.StringFlag{Name: "crs", Usage: "`CRS` of the raster, when the file does not say"},
			&cli.StringFlag{Name: "nodata", Usage: "`VALUE` that means no data, whatever the file says"},
			&cli.StringFlag{Name: "zones-crs", Usage: "`CRS` of the zones, when the file does not say"},
			&cli.StringFlag{Name: "zone-id", Usage: "`FIELD` that tells zones apart"},
			&cli.StringFlag{Name: "zone-name", Usage: "`FIELD` with the names of zones"},
		},
		Action: look,
	}
}

// fact is a line of what look tells.
type fact struct{ Key, Value string }

// valueLine is what a raster holds of one value.
type valueLine struct {
	Value float64 `json:"value"`
	Kind  string  `json:"kind"`
	Name  string  `json:"name,omitempty"`
	Cells float64 `json:"cells"`
	Area  float64 `json:"area_ha,omitempty"`
	Pct   float64 `json:"pct"`
	color raster.Color
}

func look(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() != 1 {
		return usage("look takes one file, but %d were given", c.Args().Len())
	}
	r := newReporter(c)
	path := c.Args().First()
	if ext := strings.ToLower(filepath.Ext(path)); ext == ".geojson" || ext == ".json" {
		return lookZones(c, path, r)
	}
	src, err := openCover(c, path, r)
	if err != nil {
		return err
	}
	defer src.file.Close()
	legend, err := readLegend(c)
	if err != nil {
		return err
	}
	h := src.Header()
	facts := rasterFacts(h)
	var values []valueLine
	if !c.Bool("quick") {
		if values, err = lookValues(ctx, c, src, legend, r); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return writeJSON(c, facts, map[string]any{"values": values})
	}
	out := newCanvas(c.Root().Writer)
	paintFacts(out, facts)
	if values != nil {
		paintValues(out, values, h.Grid.CRS != nil)
	}
	if err := out.flush(); err != nil {
		return err
	}
	r.warnings(rasterWarnings(h, values))
	return nil
}

func writeJSON(c *cli.Command, facts []fact, more map[string]any) error {
	summary := map[string]string{}
	for _, f := range facts {
		summary[strings.ReplaceAll(f.Key, " ", "_")] = f.Value
	}
	more["summary"] = summary
	b, err := json.MarshalIndent(more, "", "  ")
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

// crsMeaning says what a kind of CRS means for counting cells.
var crsMeaning = map[string]string{
	"geographic": "cells shrink towards the poles, and degrees are no unit of area",
	"equal-area": "every cell has the same true area",
	"conformal":  "angles are true, areas are not: the scale changes over the map",
	"other":      "neither angles nor areas are true",
}

func rasterFacts(h raster.Header) []fact {
	g := h.Grid
	facts := []fact{{"file", h.Name}, {"format", h.Format},
		{"cells", fmt.Sprintf("%s × %s of %s, %d band(s), %d overview(s)", group(float64(g.Width), 0), group(float64(g.Height), 0), h.Type, h.Bands, h.Overviews)}}
	nodata := "none declared"
	if h.NoData != nil {
		nodata = fmt.Sprint(*h.NoData)
	}
	facts = append(facts, fact{"nodata", nodata})
	if len(h.Palette) > 0 {
		facts = append(facts, fact{"palette", fmt.Sprintf("%d colours", len(h.Palette))})
	}
	if g.CRS == nil {
		return append(facts, fact{"CRS", "unknown: " + h.CRSProblem})
	}
	facts = append(facts, fact{"CRS", g.CRS.String()}, fact{"kind", g.CRS.Kind() + ": " + crsMeaning[g.CRS.Kind()]})
	facts = append(facts, fact{"cell size", fmt.Sprintf("%s × %s %s", number(g.DX), number(math.Abs(g.DY)), plural(g.CRS.UnitName))})
	if ew, ns, ok := groundSize(g); ok {
		facts = append(facts, fact{"on the ground", fmt.Sprintf("%.3f m west to east × %.3f m south to north, in the middle of the raster", ew, ns)})
	}
	if least, mean, most, ok := trueAreas(g); ok {
		text := fmt.Sprintf("%s m² on average (%s to %s)", group(mean, 3), group(least, 3), group(most, 3))
		if (most-least)/mean < 1e-9 {
			text = group(mean, 3) + " m² everywhere"
		}
		facts = append(facts, fact{"true cell area", text})
		if nominal, ok := g.NominalCellArea(); ok {
			facts = append(facts, fact{"nominal area", fmt.Sprintf("%s m²: a count × nominal area is off by %s %%", group(nominal, 3), signed((nominal-mean)/mean*100, 4))})
		}
	}
	w, s, e, n := g.Bounds()
	facts = append(facts, fact{"extent", fmt.Sprintf("x %s to %s, y %s to %s", number(w), number(e), number(s), number(n))})
	if w, s, e, n, ok := g.GeographicBounds(); ok && !g.CRS.Geographic() {
		facts = append(facts, fact{"in degrees", fmt.Sprintf("%.5f to %.5f east, %.5f to %.5f north", w, e, s, n)})
	}
	return facts
}

func number(v float64) string { return strings.TrimSuffix(fmt.Sprintf("%.10g", v), ".0") }

func plural(unit string) string {
	if strings.HasSuffix(unit, "foot") {
		return strings.TrimSuffix(unit, "foot") + "feet"
	}
	return unit + "s"
}

// groundSize is the size of the middle cell in metres along the ground.
func groundSize(g raster.Grid) (eastWest, northSouth float64, ok bool) {
	x, y := g.Point(float64(g.Width)/2, float64(g.Height)/2)
	step := func(dx, dy float64) (float64, bool) {
		lon0, lat0, ok0 := g.CRS.ToGeographic(x-dx/2, y-dy/2)
		lon1, lat1, ok1 := g.CRS.ToGeographic(x+dx/2, y+dy/2)
		m, p := g.CRS.Ellipsoid.GroundSpacing((lat0 + lat1) / 2)
		return math.Hypot((lon1-lon0)*p, (lat1-lat0)*m), ok0 && ok1
	}
	a, ok1 := step(g.DX, 0)
	b, ok2 := step(0, g.DY)
	return a, b, ok1 && ok2
}

// trueAreas are the least, mean and greatest true area of the cells, from a lattice of them.
func trueAreas(g raster.Grid) (least, mean, most float64, ok bool) {
	a, err := raster.NewAreas(g)
	if err != nil {
		return 0, 0, 0, false
	}
	least, most = math.Inf(1), math.Inf(-1)
	const steps = 32
	n := 0.0
	for i := 0; i <= steps; i++ {
		for j := 0; j <= steps; j++ {
			v, err := a.Cell((g.Width-1)*i/steps, (g.Height-1)*j/steps)
			if err != nil {
				return 0, 0, 0, false
			}
			least, most = math.Min(least, v), math.Max(most, v)
			mean += v
			n++
		}
	}
	return least, mean / n, most, true
}

// lookValues counts the values of the whole raster.
func lookValues(ctx context.Context, c *cli.Command, src *coverRaster, legend *cover.Legend, r *reporter) ([]valueLine, error) {
	h := src.Header()
	s := raster.Source(src)
	placed := h.Grid.CRS != nil
	if !placed { // count the cells as if they were a square metre each
		g := h.Grid
		g.CRS = plane
		s = raster.WithGrid(src, g)
	}
	set, place, err := tally.Whole(s.Header().Grid)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", src.path, err)
	}
	tell, end := r.progress("looking")
	t, err := tally.Measure(ctx, tally.Request{Layers: []raster.Source{s}, Zones: set, Placement: place, Threads: c.Int("threads"), Progress: tell})
	end()
	if err != nil {
		return nil, err
	}
	coder := &cover.Coder{Legend: legend, NoData: h.NoData}
	z := t.Zones[0]
	total := float64(h.Grid.Width) * float64(h.Grid.Height)
	if legend == nil {
		var codes []float64
		for _, v := range z.Values {
			codes = append(codes, v[0])
		}
		legend = cover.LegendOfValues(codes, h.Palette)
		for i := range legend.Classes {
			legend.Classes[i].Name = ""
		}
	}
	var out []valueLine
	for i, v := range z.Values {
		m, _ := coder.Code(v[0])
		l := valueLine{Value: v[0], Kind: m.Kind.String(), Cells: z.Extents[i].CellCount()}
		l.Pct = l.Cells / total * 100
		if placed {
			l.Area = z.Extents[i].Area(t.Unit) / 1e4
		}
		if class, ok := legend.Find(m.Code); ok && m.Kind == cover.Classified {
			l.Name, l.color = class.Name, class.Color
		}
		out = append(out, l)
	}
	return out, nil
}

// plane stands in for a missing CRS where only cells are counted: an equal-area one.
var plane = earth.NewProjected(0, "a plane", &earth.CRS{Datum: earth.Datum{Name: "none"}, Ellipsoid: earth.WGS84},
	earth.NewCylindricalEqualArea(earth.WGS84, 0, 0, 0, 0))

func paintValues(c *canvas, values []valueLine, placed bool) {
	c.line()
	name := 10
	for _, v := range values {
		name = max(name, runewidth.StringWidth(v.Name))
	}
	head := right("value", 12) + "     " + left("", name) + right("cells", 16)
	if placed {
		head += right("hectares", 16)
	}
	c.line(c.dim(head + right("%", 9)))
	const most = 60
	for i, v := range values {
		if i == most {
			c.line(c.dim(fmt.Sprintf("… and %d more values", len(values)-most)))
			break
		}
		key := "  "
		if v.Kind == "class" && c.color {
			key = c.swatch(v.color, ' ')
		}
		label := v.Name
		if v.Kind != "class" {
			label = v.Kind
		}
		row := right(fmt.Sprint(v.Value), 12) + "  " + key + " " + left(label, name) + right(group(v.Cells, 0), 16)
		if placed {
			row += right(group(v.Area, 1), 16)
		}
		c.line(row + right(group(v.Pct, 2), 9))
	}
}

// rasterWarnings names what will go wrong with a raster.
func rasterWarnings(h raster.Header, values []valueLine) []string {
	var out []string
	if h.Grid.CRS == nil {
		out = append(out, h.CRSProblem)
	}
	unlisted := 0
	for _, v := range values {
		if v.Kind == "unlisted" {
			unlisted++
		}
	}
	if unlisted > 0 {
		out = append(out, fmt.Sprintf("%d value(s) are not in the legend; measure will show them as unlisted", unlisted))
	}
	return out
}

// lookZones tells what a file of zones holds.
func lookZones(c *cli.Command, path string, r *reporter) error {
	set, err := loadZones(c, path)
	if err != nil {
		return err
	}
	vertices, pieces := 0, 0
	var sum float64
	areas := make([]float64, len(set.Zones))
	for i, z := range set.Zones {
		for _, p := range z.Polygons {
			pieces++
			for _, ring := range p {
				vertices += len(ring)
				a, _ := set.CRS.OutlineArea(ring)
				areas[i] += a / 1e4
			}
		}
		sum += areas[i]
	}
	facts := []fact{{"file", path}, {"format", "GeoJSON"}, {"CRS", set.CRS.String()},
		{"zones", fmt.Sprintf("%d, in %d piece(s) with %s vertices", len(set.Zones), pieces, group(float64(vertices), 0))},
		{"true area", group(sum, 1) + " ha in all"}}
	if c.Bool("json") {
		return writeJSON(c, facts, map[string]any{"fields": set.Fields, "zones": zoneList(set, areas)})
	}
	out := newCanvas(c.Root().Writer)
	paintFacts(out, facts)
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
	for i, z := range set.Zones {
		if i == 40 {
			out.line(out.dim(fmt.Sprintf("… and %d more zones", len(set.Zones)-40)))
			break
		}
		out.line(left(title(z.ID, z.Name), 28), right(fmt.Sprint(len(z.Polygons)), 8), right(group(areas[i], 1), 16))
	}
	if err := out.flush(); err != nil {
		return err
	}
	r.notes(set.Notes)
	return nil
}

func zoneList(set *zone.Set, areas []float64) []map[string]any {
	var out []map[string]any
	for i, z := range set.Zones {
		out = append(out, map[string]any{"zone_id": z.ID, "zone_name": z.Name, "pieces": len(z.Polygons), "area_ha": areas[i]})
	}
	return out
}
