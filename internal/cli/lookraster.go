package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/mattn/go-runewidth"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/text"
)

// rasterJSON is what look says of a raster as JSON. Areas are in the units that their names end in.
type rasterJSON struct {
	File          string      `json:"file"`
	Bytes         int64       `json:"bytes"`
	Format        string      `json:"format"`
	COG           bool        `json:"cloud_optimised"`
	Bands         int         `json:"bands"`
	Overviews     int         `json:"overviews"`
	Columns       int         `json:"columns"`
	Rows          int         `json:"rows"`
	Type          string      `json:"type"`
	NoData        *float64    `json:"nodata"`
	NaN           bool        `json:"nodata_is_nan,omitempty"`
	Mask          string      `json:"mask,omitempty"`
	Scaled        string      `json:"scaled,omitempty"`
	Assumed       string      `json:"assumed,omitempty"`
	Palette       int         `json:"palette_colours"`
	EPSG          int         `json:"epsg,omitempty"`
	CRS           string      `json:"crs"`
	Kind          string      `json:"crs_kind,omitempty"`
	CellWidth     float64     `json:"cell_width"`
	CellHeight    float64     `json:"cell_height"`
	CellUnit      string      `json:"cell_unit,omitempty"`
	GroundWidth   float64     `json:"ground_width_m,omitempty"`
	GroundHeight  float64     `json:"ground_height_m,omitempty"`
	LeastArea     float64     `json:"true_cell_area_least_m2,omitempty"`
	MeanArea      float64     `json:"true_cell_area_mean_m2,omitempty"`
	GreatestArea  float64     `json:"true_cell_area_greatest_m2,omitempty"`
	NominalArea   float64     `json:"nominal_cell_area_m2,omitempty"`
	CountError    float64     `json:"count_error_pct,omitempty"`
	Bounds        [4]float64  `json:"bounds"`
	DegreesBounds [4]float64  `json:"bounds_degrees"`
	Values        []valueJSON `json:"values,omitempty"`
	Measurements  *statsJSON  `json:"measurements,omitempty"`
	Findings      []finding   `json:"warnings"`
}

// valueJSON is what a raster holds of one value.
type valueJSON struct {
	Value float64 `json:"value"`
	Kind  string  `json:"kind"`
	Name  string  `json:"name,omitempty"`
	Color string  `json:"color,omitempty"`
	Cells float64 `json:"cells"`
	Area  float64 `json:"area_ha,omitempty"`
	Pct   float64 `json:"pct"`
}

// statsJSON is what a raster of measurements holds.
type statsJSON struct {
	Cells    int64   `json:"cells"`
	NoData   int64   `json:"nodata_cells"`
	Least    float64 `json:"least"`
	Mean     float64 `json:"mean"`
	Greatest float64 `json:"greatest"`
}

// pairJSON is how two rasters go together.
type pairJSON struct {
	First    string     `json:"first"`
	Second   string     `json:"second"`
	Facts    []job.Fact `json:"facts"`
	OneGrid  bool       `json:"one_grid"`
	Findings []finding  `json:"warnings"`
}

func jsonOf(r *job.RasterLook) *rasterJSON {
	h, g := r.Header, r.Header.Grid
	out := &rasterJSON{File: r.Name, Bytes: r.Bytes, Format: h.Format, COG: h.COG, Bands: h.Bands, Overviews: h.Overviews, Columns: g.Width, Rows: g.Height, Type: h.Type.String(),
		NoData: h.NoData, Mask: h.Mask, Scaled: h.Scaled, Assumed: r.Assumed, Palette: len(h.Palette), CellWidth: g.DX, CellHeight: math.Abs(g.DY), CRS: "unknown",
		GroundWidth: r.GroundWidth, GroundHeight: r.GroundHeight, LeastArea: r.LeastArea, MeanArea: r.MeanArea, GreatestArea: r.GreatestArea,
		NominalArea: r.NominalArea, CountError: r.CountError(), Bounds: r.Bounds, DegreesBounds: r.DegreesBounds, Findings: findings(r.Findings)}
	if h.NoData != nil && math.IsNaN(*h.NoData) {
		out.NoData, out.NaN = nil, true
	}
	if g.CRS != nil {
		out.EPSG, out.CRS, out.Kind, out.CellUnit = g.CRS.Code, g.CRS.String(), g.CRS.Kind(), text.Plural(g.CRS.UnitName)
	}
	for _, v := range r.Values {
		l := valueJSON{Value: v.Value, Kind: v.Kind.String(), Name: v.Class.Name, Cells: v.Cells, Area: v.Area, Pct: v.Pct}
		if math.IsNaN(v.Value) { // which JSON does not have
			l.Value = math.MaxFloat64
		}
		if v.Kind == cover.Classified {
			l.Color = v.Class.Color.String()
		}
		out.Values = append(out.Values, l)
	}
	if m := r.Measurements; m != nil {
		out.Measurements = &statsJSON{m.Cells, m.NoData, m.Least, m.Mean, m.Greatest}
	}
	return out
}

// lookRasters reports what one raster holds, or several and how they go together.
func (s *session) lookRasters(o *lookOptions) error {
	r, err := job.LookRasters(s.ctx, s.env(), o.LookOptions)
	if err != nil {
		return err
	}
	if o.LegendOut != "" {
		if err := s.writeLegendOf(r, o); err != nil {
			return err
		}
	}
	if o.JSON {
		err = s.writeJSON(rastersJSON(r))
	} else {
		err = paintLook(s.canvas(), r)
	}
	if err != nil {
		return err
	}
	for _, p := range r.Rasters {
		prefix := ""
		if len(r.Rasters) > 1 {
			prefix = p.Name + ": "
		}
		for _, f := range p.Findings {
			s.finding(f, prefix)
		}
	}
	for _, p := range r.Pairs {
		for _, f := range p.Findings {
			s.finding(f, "")
		}
	}
	return s.strict(o.Strict)
}

func rastersJSON(r *job.RastersLook) any {
	var list []*rasterJSON
	for _, p := range r.Rasters {
		list = append(list, jsonOf(p))
	}
	if len(list) == 1 {
		return list[0]
	}
	var pairs []pairJSON
	for _, p := range r.Pairs {
		pairs = append(pairs, pairJSON{p.First, p.Second, p.Facts, p.OneGrid, findings(p.Findings)})
	}
	return map[string]any{"rasters": list, "comparisons": pairs}
}

// writeLegendOf writes a legend of the values that occur.
func (s *session) writeLegendOf(r *job.RastersLook, o *lookOptions) error {
	if len(r.Rasters) != 1 || o.Quick {
		return usage("--legend-out takes one raster, whose cells are read")
	}
	classes, err := job.LegendOf(r.Rasters[0], o.Legend != "")
	if err != nil {
		return err
	}
	for i := range classes {
		if classes[i].Name == "" {
			classes[i].Name = fmt.Sprintf("class %d", classes[i].Code)
		}
	}
	if err := s.writeLegend(o.LegendOut, classes); err != nil {
		return err
	}
	s.noteThen(fmt.Sprintf("%s: %s; give them their names, and groups where you want them", o.LegendOut, text.Count(len(classes), "class")))
	return nil
}

// paintLook draws what rasters hold.
func paintLook(c *canvas, r *job.RastersLook) error {
	warned := 0
	for i, p := range r.Rasters {
		if i > 0 {
			c.line()
		}
		paintRaster(c, p)
		warned += len(p.Findings)
	}
	for _, p := range r.Pairs {
		c.line()
		c.line(c.bold(fmt.Sprintf("%s beside %s", p.Second, p.First)))
		paintFacts(c, p.Facts)
		warned += len(p.Findings)
	}
	if warned > 0 {
		c.line()
	}
	return c.flush()
}

// crsMeaning says what a kind of CRS means for counting cells.
var crsMeaning = map[string]string{
	"geographic": "cells shrink towards the poles, and degrees are not a unit of area",
	"equal-area": "every cell has the same true area",
	"conformal":  "angles are true, areas are not: the scale changes over the map",
	"other":      "neither angles nor areas are true",
}

func size(bytes int64) string {
	v, units := float64(bytes), []string{"bytes", "KiB", "MiB", "GiB", "TiB"}
	k := 0
	for v >= 1024 && k < len(units)-1 {
		v, k = v/1024, k+1
	}
	if k == 0 {
		return fmt.Sprintf("%d bytes", bytes)
	}
	return fmt.Sprintf("%.1f %s", v, units[k])
}

// rasterFacts are the lines that are drawn of a raster.
func rasterFacts(p *job.RasterLook) (facts []job.Fact) {
	h, g := p.Header, p.Header.Grid
	add := func(key, format string, args ...any) {
		facts = append(facts, job.Fact{Key: key, Value: fmt.Sprintf(format, args...)})
	}
	layout := ""
	if h.COG {
		layout = ", laid out as a COG"
	}
	add("file", "%s, %s", p.Name, size(p.Bytes))
	add("format", "%s", h.Format+layout)
	add("cells", "%s × %s of %s, %s in memory", text.Number(float64(g.Width), 0), text.Number(float64(g.Height), 0), h.Type, size(int64(g.Width)*int64(g.Height)*int64(h.Type.Bytes())))
	if h.Overviews > 0 {
		add("bands", "%d, and %s", h.Bands, text.Count(h.Overviews, "overview"))
	} else {
		add("bands", "%d", h.Bands)
	}
	if h.NoData != nil {
		add("nodata", "%v", *h.NoData)
	} else {
		add("nodata", "none declared")
	}
	if h.Mask != "" {
		add("mask", "%s: ground that it leaves out is nodata", h.Mask)
	}
	if h.Scaled != "" {
		add("values", "measurements: %s", h.Scaled)
	}
	if n := len(h.Palette); n > 0 {
		add("palette", "%s", text.Count(n, "colour"))
	}
	width, height := g.DX, math.Abs(g.DY)
	if g.CRS == nil {
		add("CRS", "unknown")
		add("cell size", "%s × %s, in an unknown unit", number(width), number(height))
	} else {
		add("CRS", "%v", g.CRS)
		add("kind", "%s: %s", g.CRS.Kind(), crsMeaning[g.CRS.Kind()])
		add("cell size", "%s × %s %s", number(width), number(height), text.Plural(g.CRS.UnitName))
	}
	if p.GroundWidth > 0 {
		add("on the ground", "%.3f m west to east × %.3f m south to north, in the middle of the raster", p.GroundWidth, p.GroundHeight)
	}
	if p.MeanArea > 0 {
		if (p.GreatestArea-p.LeastArea)/p.MeanArea < 1e-9 {
			add("true cell area", "%s m² everywhere", text.Number(p.MeanArea, 3))
		} else {
			add("true cell area", "%s m² on average (%s to %s)", text.Number(p.MeanArea, 3), text.Number(p.LeastArea, 3), text.Number(p.GreatestArea, 3))
		}
		if p.NominalArea > 0 {
			add("nominal area", "%s m²: a count × nominal area is off by %s %%", text.Number(p.NominalArea, 3), text.Signed(p.CountError(), 4))
		}
	}
	add("extent", "x %s to %s, y %s to %s", number(p.Bounds[0]), number(p.Bounds[2]), number(p.Bounds[1]), number(p.Bounds[3]))
	if d := p.DegreesBounds; g.CRS != nil && !g.CRS.Geographic() && d != [4]float64{} {
		add("in degrees", "%.5f to %.5f east, %.5f to %.5f north", d[0], d[2], d[1], d[3])
	}
	return facts
}

func paintRaster(c *canvas, p *job.RasterLook) {
	paintFacts(c, rasterFacts(p))
	if s := p.Measurements; s != nil {
		c.line()
		c.line(c.dim("measurements: "), fmt.Sprintf("%s to %s, %s on average over %s; %s nodata",
			number(s.Least), number(s.Greatest), number(s.Mean), text.Count(int(s.Cells), "cell"), are(int(s.NoData), "cell")))
	}
	if p.Values != nil {
		paintValues(c, p.Values, p.Header.Grid.CRS != nil)
	}
}

func number(v float64) string { return strings.TrimSuffix(fmt.Sprintf("%.10g", v), ".0") }

func paintValues(c *canvas, values []job.ValueLine, placed bool) {
	c.line()
	name, wide := 10, 16
	for _, v := range values {
		name = max(name, runewidth.StringWidth(v.Class.Name))
		wide = max(wide, len(text.Number(v.Area, 1))+2)
	}
	head := right("value", 12) + "     " + left("", name) + right("cells", 16)
	if placed {
		head += right("hectares", wide)
	}
	c.line(c.dim(head + right("%", 9)))
	most := 60
	if len(values) > most { // so many are hardly classes
		most = 20
	}
	for i, v := range values {
		if i == most {
			c.line(c.dim("… and " + text.Count(len(values)-most, "more value")))
			break
		}
		key, label := "  ", v.Kind.String()
		if v.Kind == cover.Classified {
			if label = v.Class.Name; c.color {
				key = c.swatch(v.Class.Color, ' ')
			}
		}
		row := right(fmt.Sprint(v.Value), 12) + "  " + key + " " + left(label, name) + right(text.Number(v.Cells, 0), 16)
		if placed {
			row += right(text.Number(v.Area, 1), wide)
		}
		row += right(text.Number(v.Pct, 2), 9)
		if c.color && v.Kind != cover.NoData {
			p := part{share: v.Pct / 100, color: v.Class.Color, plain: v.Kind != cover.Classified}
			row += "  " + c.bar([]part{p}, max(10, min(40, c.width-runewidth.StringWidth(row)-2)))
		}
		c.line(row)
	}
}
