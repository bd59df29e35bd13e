package cli

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"

	"github.com/mattn/go-runewidth"
	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
)

// rasterReport is what look says of a raster. Areas are in the units that their names end in.
type rasterReport struct {
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
	Values        []valueLine `json:"values,omitempty"`
	Measurements  *statsLine  `json:"measurements,omitempty"`
	Findings      []finding   `json:"warnings"`

	header  raster.Header
	source  *coverRaster
	border  map[float64]int64 // values along the border; with --quick of the corners
	corners map[float64]int64
	shared  bool // bounds in degrees are those of the grid
}

// valueLine is what a raster holds of one value.
type valueLine struct {
	Value float64 `json:"value"`
	Kind  string  `json:"kind"`
	Name  string  `json:"name,omitempty"`
	Color string  `json:"color,omitempty"`
	Cells float64 `json:"cells"`
	Area  float64 `json:"area_ha,omitempty"`
	Pct   float64 `json:"pct"`
	color raster.Color
}

// statsLine is what a raster of measurements holds.
type statsLine struct {
	Cells    int64   `json:"cells"`
	NoData   int64   `json:"nodata_cells"`
	Least    float64 `json:"least"`
	Mean     float64 `json:"mean"`
	Greatest float64 `json:"greatest"`
}

// lookRasters tells of one raster, or of several and how they go together.
func lookRasters(ctx context.Context, c *cli.Command, paths []string, r *reporter) error {
	legend, err := readLegend(c)
	if err != nil {
		return err
	}
	var reports []*rasterReport
	for _, path := range paths {
		report, err := lookRaster(ctx, c, path, legend, r)
		if err != nil {
			return err
		}
		defer report.source.Close()
		reports = append(reports, report)
	}
	if out := c.String("legend-out"); out != "" {
		if err := writeLegend(ctx, c, out, reports, r); err != nil {
			return err
		}
	}
	pairs := comparePairs(reports)
	if c.Bool("json") {
		if len(reports) == 1 {
			err = writeJSON(c, reports[0])
		} else {
			err = writeJSON(c, map[string]any{"rasters": reports, "comparisons": pairs})
		}
		if err != nil {
			return err
		}
	} else {
		out := newCanvas(c.Root().Writer)
		for i, p := range reports {
			if i > 0 {
				out.line()
			}
			p.paint(out)
		}
		for _, p := range pairs {
			p.paint(out)
		}
		warned := 0
		for _, p := range reports {
			warned += len(p.Findings)
		}
		for _, p := range pairs {
			warned += len(p.Findings)
		}
		if warned > 0 {
			out.line()
		}
		if err := out.flush(); err != nil {
			return err
		}
	}
	for _, p := range reports {
		for _, f := range p.Findings {
			if len(reports) > 1 {
				f.What = p.File + ": " + f.What
			}
			r.finding(f)
		}
	}
	for _, p := range pairs {
		for _, f := range p.Findings {
			r.finding(f)
		}
	}
	if c.Bool("strict") && r.warned > 0 {
		return errStrict
	}
	return nil
}

// writeLegend writes a legend of the values that occur, with the colours of the palette or, where there is none,
// distinct ones.
func writeLegend(ctx context.Context, c *cli.Command, path string, reports []*rasterReport, r *reporter) error {
	if len(reports) != 1 || c.Bool("quick") {
		return usage("--legend-out takes one raster, whose cells are read")
	}
	p := reports[0]
	var classes []valueLine
	for _, v := range p.Values {
		if v.Kind != "nodata" && v.Value == math.Trunc(v.Value) {
			classes = append(classes, v)
		}
	}
	if len(classes) == 0 || len(classes) > 1000 {
		return fmt.Errorf("%s: it has %d whole values, which is no number of classes for a legend", p.File, len(classes))
	}
	var lines [][]string
	for i, v := range classes {
		name, color := v.Name, v.Color
		if name == "" {
			name = fmt.Sprintf("class %v", v.Value)
		}
		if len(p.header.Palette) == 0 && c.String("legend") == "" {
			color = cover.Shade(i).String()
		}
		lines = append(lines, []string{fmt.Sprintf("%.0f", v.Value), name, color, ""})
	}
	err := writeLegendLines(ctx, path, lines)
	if err == nil {
		noteThen(ctx, r, fmt.Sprintf("%s: %d classes; give them their names, and groups where you want them", path, len(classes)))
	}
	return err
}

// writeLegendLines writes a legend of lines of code, name, colour and group.
func writeLegendLines(ctx context.Context, path string, lines [][]string) error {
	return writeFile(ctx, path, func(w io.Writer) error {
		rows := [][]string{{"code", "name", "color", "group"}}
		for _, l := range lines {
			row := make([]string, len(l))
			for i, cell := range l {
				row[i] = text.Guard(cell)
			}
			rows = append(rows, row)
		}
		return csv.NewWriter(w).WriteAll(rows)
	})
}

// hexOf is a colour as legends write it.

// lookRaster gathers what is to be said of one raster.
func lookRaster(ctx context.Context, c *cli.Command, arg string, legend *cover.Legend, r *reporter) (*rasterReport, error) {
	path, band := bandOf(arg)
	f, err := open.Raster(path, band)
	if err != nil {
		return nil, err
	}
	nodata, err := oneNodata(c)
	if err != nil {
		f.Close()
		return nil, err
	}
	s, err := adjust(c, f, path, nodata, r)
	if err != nil {
		f.Close()
		return nil, err
	}
	src := &coverRaster{Source: s, files: []open.File{f}, path: arg}
	report := describe(arg, s.Header())
	report.source = src
	if info, err := os.Stat(path); err == nil {
		report.Bytes = info.Size()
	}
	for _, n := range f.Header().Notes {
		report.Findings = append(report.Findings, finding{What: n})
	}
	if report.header.CellsProblem == "" {
		err = report.readCells(ctx, c, legend, r)
	}
	if err != nil {
		src.Close()
		return nil, err
	}
	report.find(legend, c.String("legend"), c.Bool("measurements"))
	return report, nil
}

// describe tells what a header says.
func describe(name string, h raster.Header) *rasterReport {
	g := h.Grid
	p := &rasterReport{File: name, Format: h.Format, COG: h.COG, Bands: h.Bands, Overviews: h.Overviews, Columns: g.Width, Rows: g.Height, Type: h.Type.String(),
		NoData: h.NoData, Mask: h.Mask, Scaled: h.Scaled, Palette: len(h.Palette), CellWidth: g.DX, CellHeight: math.Abs(g.DY), header: h, CRS: "unknown"}
	if h.NoData != nil && math.IsNaN(*h.NoData) {
		p.NoData, p.NaN = nil, true
	}
	p.Bounds[0], p.Bounds[1], p.Bounds[2], p.Bounds[3] = g.Bounds()
	if g.CRS == nil {
		return p
	}
	p.EPSG, p.CRS, p.Kind, p.CellUnit = g.CRS.Code, g.CRS.String(), g.CRS.Kind(), plural(g.CRS.UnitName)
	p.GroundWidth, p.GroundHeight, _ = groundSize(g)
	if p.Assumed = g.Assumed(); p.Assumed != "" {
		p.Findings = append(p.Findings, finding{What: p.Assumed})
	}
	if least, mean, most, ok := trueAreas(g); ok {
		p.LeastArea, p.MeanArea, p.GreatestArea = least, mean, most
		if nominal, ok := g.NominalCellArea(); ok {
			p.NominalArea, p.CountError = nominal, (nominal-mean)/mean*100
		}
	}
	if w, s, e, n, ok := g.GeographicBounds(); ok {
		p.DegreesBounds, p.shared = [4]float64{w, s, e, n}, g.CRS.Geographic()
	}
	return p
}

// readCells counts the values, or sums measurements up; with --quick it looks at the corners only.
func (p *rasterReport) readCells(ctx context.Context, c *cli.Command, legend *cover.Legend, r *reporter) (err error) {
	quick := c.Bool("quick")
	rim := raster.Cached(p.source, 64<<20)
	if p.corners, err = raster.Border(rim, true); err != nil || quick {
		return err
	}
	if p.border, err = raster.Border(rim, false); err != nil {
		return err
	}
	if !c.Bool("measurements") {
		p.Values, err = lookValues(ctx, c, p.source, legend, r)
		if err == nil || !tally.IsTooMany(err) {
			return err
		}
		p.Values = nil
	}
	tell, end := r.progress("looking")
	s, err := raster.Summarise(ctx, p.source, c.Int("threads"), tell)
	end()
	if err != nil {
		return err
	}
	p.Measurements = &statsLine{s.Cells, s.NoData, s.Least, s.Mean, s.Most}
	if s.Cells == 0 {
		p.Measurements = &statsLine{NoData: s.NoData}
	}
	return nil
}

// crsMeaning says what a kind of CRS means for counting cells.
var crsMeaning = map[string]string{
	"geographic": "cells shrink towards the poles, and degrees are no unit of area",
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

// facts are the lines that are drawn.
func (p *rasterReport) facts() []fact {
	h, g := p.header, p.header.Grid
	layout := ""
	if p.COG {
		layout = ", laid out as a COG"
	}
	facts := []fact{{"file", p.File + ", " + size(p.Bytes)}, {"format", p.Format + layout},
		{"cells", fmt.Sprintf("%s × %s of %s, %s in memory", group(float64(p.Columns), 0), group(float64(p.Rows), 0), p.Type,
			size(int64(p.Columns)*int64(p.Rows)*int64(h.Type.Bytes())))},
		{"bands", fmt.Sprintf("%d, and %d overview(s)", p.Bands, p.Overviews)}}
	nodata := "none declared"
	if h.NoData != nil {
		nodata = fmt.Sprint(*h.NoData)
	}
	facts = append(facts, fact{"nodata", nodata})
	if p.Mask != "" {
		facts = append(facts, fact{"mask", p.Mask + ": ground that it leaves out is nodata"})
	}
	if p.Scaled != "" {
		facts = append(facts, fact{"values", "measurements: " + p.Scaled})
	}
	if p.Palette > 0 {
		facts = append(facts, fact{"palette", fmt.Sprintf("%d colours", p.Palette)})
	}
	if g.CRS == nil {
		facts = append(facts, fact{"CRS", "unknown"}, fact{"cell size", fmt.Sprintf("%s × %s, in whatever unit", number(p.CellWidth), number(p.CellHeight))})
		return append(facts, fact{"extent", fmt.Sprintf("x %s to %s, y %s to %s", number(p.Bounds[0]), number(p.Bounds[2]), number(p.Bounds[1]), number(p.Bounds[3]))})
	}
	facts = append(facts, fact{"CRS", p.CRS}, fact{"kind", p.Kind + ": " + crsMeaning[p.Kind]},
		fact{"cell size", fmt.Sprintf("%s × %s %s", number(p.CellWidth), number(p.CellHeight), p.CellUnit)})
	if p.GroundWidth > 0 {
		facts = append(facts, fact{"on the ground", fmt.Sprintf("%.3f m west to east × %.3f m south to north, in the middle of the raster", p.GroundWidth, p.GroundHeight)})
	}
	if p.MeanArea > 0 {
		text := fmt.Sprintf("%s m² on average (%s to %s)", group(p.MeanArea, 3), group(p.LeastArea, 3), group(p.GreatestArea, 3))
		if (p.GreatestArea-p.LeastArea)/p.MeanArea < 1e-9 {
			text = group(p.MeanArea, 3) + " m² everywhere"
		}
		facts = append(facts, fact{"true cell area", text})
		if p.NominalArea > 0 {
			facts = append(facts, fact{"nominal area", fmt.Sprintf("%s m²: a count × nominal area is off by %s %%", group(p.NominalArea, 3), signed(p.CountError, 4))})
		}
	}
	facts = append(facts, fact{"extent", fmt.Sprintf("x %s to %s, y %s to %s", number(p.Bounds[0]), number(p.Bounds[2]), number(p.Bounds[1]), number(p.Bounds[3]))})
	if d := p.DegreesBounds; !p.shared && d != [4]float64{} {
		facts = append(facts, fact{"in degrees", fmt.Sprintf("%.5f to %.5f east, %.5f to %.5f north", d[0], d[2], d[1], d[3])})
	}
	return facts
}

func (p *rasterReport) paint(c *canvas) {
	paintFacts(c, p.facts())
	if s := p.Measurements; s != nil {
		c.line()
		c.line(c.dim("measurements: "), fmt.Sprintf("%s to %s, %s on average over %s cells; %s cells are nodata",
			number(s.Least), number(s.Greatest), number(s.Mean), group(float64(s.Cells), 0), group(float64(s.NoData), 0)))
	}
	if p.Values != nil {
		paintValues(c, p.Values, p.header.Grid.CRS != nil)
	}
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
	m, ok := g.CRS.Metric(g.Point(float64(g.Width)/2, float64(g.Height)/2))
	return math.Sqrt(m.XX) * g.DX, math.Sqrt(m.YY) * math.Abs(g.DY), ok
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
			if v == 0 { // on no ground
				continue
			}
			least, most = math.Min(least, v), math.Max(most, v)
			mean += v
			n++
		}
	}
	return least, mean / n, most, n > 0
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
	total := 0.0 // of those on ground
	for _, e := range z.Extents {
		total += e.CellCount()
	}
	r.notes(place.Notes)
	if legend == nil {
		var codes []float64
		for _, v := range z.Values {
			codes = append(codes, t.Number(0, 0, v[0]))
		}
		legend = cover.LegendOfValues(codes, h.Palette)
		for i := range legend.Classes {
			legend.Classes[i].Name = ""
		}
	}
	var out []valueLine
	for i, v := range z.Values {
		value := t.Number(0, 0, v[0])
		m, _ := coder.Code(value)
		l := valueLine{Value: value, Kind: m.Kind.String(), Cells: z.Extents[i].CellCount()}
		if v[0] == tally.Missing {
			if l.Value = math.MaxFloat64; h.NoData != nil && !math.IsNaN(*h.NoData) { // JSON has no NaN
				l.Value = *h.NoData
			}
		}
		l.Pct = l.Cells / total * 100
		if placed {
			l.Area = z.Extents[i].Area(t.Unit) / 1e4
		}
		if class, ok := legend.Find(m.Code); ok && m.Kind == cover.Classified {
			l.Name, l.color = class.Name, class.Color
			l.Color = class.Color.String()
		}
		out = append(out, l)
	}
	return out, nil
}

// plane stands in for a missing CRS where only cells are counted: an equal-area one.
var plane = earth.NewProjected(0, "a plane", &earth.CRS{Datum: earth.Datum{Name: "none"}, Ellipsoid: earth.WGS84},
	earth.NewCylindricalEqualArea(earth.WGS84, 0, 0, 0, 0))

// valueText writes a value of a table of values.
func valueText(v float64) string {
	if v == math.MaxFloat64 {
		return "NaN"
	}
	return fmt.Sprint(v)
}

func paintValues(c *canvas, values []valueLine, placed bool) {
	c.line()
	name := 10
	for _, v := range values {
		name = max(name, runewidth.StringWidth(v.Name))
	}
	wide := 16
	for _, v := range values {
		wide = max(wide, len(group(v.Area, 1))+2)
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
		row := right(valueText(v.Value), 12) + "  " + key + " " + left(label, name) + right(group(v.Cells, 0), 16)
		if placed {
			row += right(group(v.Area, 1), wide)
		}
		row += right(group(v.Pct, 2), 9)
		if c.color && v.Kind != "nodata" {
			p := part{share: v.Pct / 100, color: v.color, plain: v.Kind != "class"}
			row += "  " + c.bar([]part{p}, max(10, min(40, c.width-runewidth.StringWidth(row)-2)))
		}
		c.line(row)
	}
}

// sortedKeys are the keys of a count, the most frequent first.
func sortedKeys(m map[float64]int64) []float64 {
	var out []float64
	for v := range m {
		out = append(out, v)
	}
	slices.SortFunc(out, func(a, b float64) int {
		if m[a] != m[b] {
			return int(m[b] - m[a])
		}
		if a < b {
			return -1
		}
		return 1
	})
	return out
}
