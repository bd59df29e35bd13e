package cli

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
)

// find notes what will go wrong with a raster, each with its remedy.
func (p *rasterReport) find(legend *cover.Legend, legendPath string, values bool) {
	h := p.header
	add := func(remedy, format string, args ...any) {
		p.Findings = append(p.Findings, finding{fmt.Sprintf(format, args...), remedy})
	}
	if h.CellsProblem != "" {
		add("", "%s", h.CellsProblem)
	}
	if h.Unplaced {
		add("", "%s", h.CRSProblem)
	} else if h.Grid.CRS == nil {
		add(fmt.Sprintf("verdex look %s --crs EPSG:<number>", p.File), "%s", h.CRSProblem)
	}
	p.findNoData(add)
	if h.Grid.CRS != nil {
		ratio := p.CellWidth / p.CellHeight
		switch {
		case h.Grid.CRS.Geographic():
			add(fmt.Sprintf("verdex measure %s", p.File), "its cells are in degrees and cover %s to %s m²: a count of cells says nothing about area; measure takes the true area of each",
				group(p.LeastArea, 1), group(p.GreatestArea, 1))
		case math.Abs(ratio-1) > 0.01:
			add(fmt.Sprintf("verdex measure %s", p.File), "its cells are oblong, %s × %s %s: a count × one side squared is wrong; measure takes the true area of each",
				number(p.CellWidth), number(p.CellHeight), p.CellUnit)
		}
	}
	if !values {
		p.findMeasurements(add)
	}
	if legend != nil {
		p.findLegend(legend, legendPath, add)
	}
}

type adder func(remedy, format string, args ...any)

// findNoData looks for values that mean no data and are not declared.
func (p *rasterReport) findNoData(add adder) {
	h := p.header
	suspect, where := p.background()
	declared := h.NoData != nil
	if declared && suspect == *h.NoData {
		suspect = math.NaN()
	}
	remedy := func(v float64) string {
		return fmt.Sprintf("if %s means no data: verdex look %s --nodata %s, and the same option with measure", number(v), p.File, number(v))
	}
	if !math.IsNaN(suspect) && !declared {
		add(remedy(suspect), "no nodata value is declared, but %s %s", number(suspect), where)
		return
	}
	// Of the values that occur, those that are used for no data.
	var looks []float64
	for _, v := range p.Values {
		if v.Value == suspect || v.Kind != "nodata" && v.Name == "" && looksLikeNoData(h.Type, v.Value) {
			looks = append(looks, v.Value)
		}
	}
	if p.Measurements != nil {
		for _, v := range []float64{p.Measurements.Least, p.Measurements.Greatest} {
			if looksLikeNoData(h.Type, v) {
				looks = append(looks, v)
			}
		}
	}
	switch {
	case declared && len(looks) > 0:
		add(fmt.Sprintf("if both mean no data: verdex mosaic %s --nodata %s --out one.tif makes %s nodata; put the other there with a crosswalk", p.File, number(looks[0]), number(looks[0])),
			"nodata is declared as %s, but %s looks like it too", number(*h.NoData), list(looks))
	case len(looks) > 1:
		add(remedy(looks[0]), "two values look like nodata, and none is declared: %s", list(looks))
	case len(looks) == 1:
		add(remedy(looks[0]), "no nodata value is declared, but %s occurs, which often stands for it", number(looks[0]))
	case declared && !math.IsNaN(suspect):
		add(remedy(suspect), "nodata is declared as %s, but %s %s", number(*h.NoData), number(suspect), where)
	}
}

// background is a value that lies along the border as no class would, and where: in all corners, nearly all
// along, or along a fifth of the border and there at least three times as often as elsewhere. NaN when there is
// none.
func (p *rasterReport) background() (float64, string) {
	if keys := sortedKeys(p.corners); len(keys) == 1 && keys[0] != math.MaxFloat64 {
		return keys[0], "fills all corners"
	}
	keys := sortedKeys(p.border)
	if len(keys) == 0 || keys[0] == math.MaxFloat64 {
		return math.NaN(), ""
	}
	var cells int64
	for _, n := range p.border {
		cells += n
	}
	for _, v := range keys[:min(2, len(keys))] {
		share := float64(p.border[v]) / float64(cells) * 100
		overall := 100.0
		for _, line := range p.Values {
			if line.Value == v {
				overall = line.Pct
			}
		}
		if share >= 90 || share >= 20 && share >= 3*overall && (v == 0 || looksLikeNoData(p.header.Type, v)) {
			return v, fmt.Sprintf("fills %.0f %% of the border", share)
		}
	}
	return math.NaN(), ""
}

// looksLikeNoData reports whether a value is one that programs use for no data.
func looksLikeNoData(t raster.CellType, v float64) bool {
	switch t {
	case raster.Uint8:
		return v == 255
	case raster.Int8:
		return v == -128
	case raster.Uint16:
		return v == 65535
	case raster.Uint32:
		return v == math.MaxUint32
	}
	return v == -9999 || v == -99999 || v == -32768 || v == -32767 || v == math.MinInt32 || math.Abs(v) >= 1e20
}

func list(values []float64) string {
	var out []string
	for _, v := range values {
		out = append(out, number(v))
	}
	return strings.Join(out, " and ")
}

// findMeasurements points out cells that are no categories.
func (p *rasterReport) findMeasurements(add adder) {
	remedy := fmt.Sprintf("verdex look %s --measurements tells their least, mean and greatest", p.File)
	fractions := 0
	for _, v := range p.Values {
		if v.Value != math.Trunc(v.Value) {
			fractions++
		}
	}
	switch {
	case p.Measurements != nil:
		add(remedy, "it has more than 65,536 different values: these are measurements, not classes, and measure refuses them")
	case fractions > 0:
		add(remedy, "%d of its %d values are fractions, so they are measurements and not classes; measure will call them unlisted", fractions, len(p.Values))
	case p.header.Type.Floating() && p.Values == nil && p.header.CellsProblem == "":
		add(fmt.Sprintf("verdex look %s, without --quick, tells", p.File), "its cells are floating-point numbers, which are seldom classes")
	case p.header.Type.Floating():
		add("", "its cells are floating-point numbers, but all are whole, so they can be classes")
	case len(p.Values) > 256:
		add(remedy, "it has %s different values, many for classes: are they measurements?", group(float64(len(p.Values)), 0))
	}
}

// findLegend compares the values that occur with a legend.
func (p *rasterReport) findLegend(legend *cover.Legend, path string, add adder) {
	if p.Values == nil {
		return
	}
	var missing []string
	occurs := map[float64]bool{}
	cells := 0.0
	for _, v := range p.Values {
		occurs[v.Value] = true
		if v.Kind == "unlisted" {
			missing = append(missing, valueText(v.Value))
			cells += v.Cells
		}
	}
	if len(missing) > 0 {
		add(fmt.Sprintf("add lines for them to %s, or put them into its classes: verdex measure %s --legend %s --crosswalk codes.csv", path, p.File, path),
			"%d value(s) are not in the legend (%s), with %s cells; measure shows them as unlisted", len(missing), shown(missing, 12), group(cells, 0))
	}
	var idle []string
	for _, c := range legend.Classes {
		if !occurs[float64(c.Code)] {
			idle = append(idle, fmt.Sprintf("%d %s", c.Code, c.Name))
		}
	}
	if len(idle) > 0 {
		add("if the raster has other codes, put them into these classes: verdex measure "+p.File+" --legend "+path+" --crosswalk codes.csv",
			"%d class(es) of the legend do not occur: %s", len(idle), shown(idle, 8))
	}
}

func shown(items []string, most int) string {
	if len(items) > most {
		return strings.Join(items[:most], ", ") + fmt.Sprintf(" and %d more", len(items)-most)
	}
	return strings.Join(items, ", ")
}

// pair is how two rasters go together.
type pair struct {
	First    string    `json:"first"`
	Second   string    `json:"second"`
	Facts    []fact    `json:"facts"`
	OneGrid  bool      `json:"one_grid"`
	Findings []finding `json:"warnings"`
}

// comparePairs compares each raster with the first.
func comparePairs(reports []*rasterReport) []*pair {
	var out []*pair
	for _, b := range reports[1:] {
		out = append(out, compareGrids(reports[0], b))
	}
	return out
}

func compareGrids(a, b *rasterReport) *pair {
	p := &pair{First: a.File, Second: b.File}
	g, h := a.header.Grid, b.header.Grid
	tell := func(key, format string, args ...any) {
		p.Facts = append(p.Facts, fact{key, fmt.Sprintf(format, args...)})
	}
	align := fmt.Sprintf("verdex align %s --like %s --out aligned.tif", b.File, a.File)
	if g.CRS == nil || h.CRS == nil {
		tell("CRS", "unknown for one of them")
		p.Findings = append(p.Findings, finding{What: fmt.Sprintf("%s and %s cannot be compared: one of them has no CRS", a.File, b.File)})
		return p
	}
	sameCRS := g.CRS.Same(h.CRS)
	if !sameCRS {
		tell("CRS", "differs: %v against %v", g.CRS, h.CRS)
		tell("together", "change refuses them, or moves cells to the nearest with --resample nearest")
		p.Findings = append(p.Findings, finding{fmt.Sprintf("%s and %s are in different CRSs, so their cells cannot be compared one by one", a.File, b.File), align})
		return p
	}
	tell("CRS", "the same")
	if math.Abs(g.DX-h.DX)/g.DX > 1e-9 || math.Abs((g.DY-h.DY)/g.DY) > 1e-9 {
		tell("cell size", "differs: %s × %s against %s × %s %s", number(g.DX), number(math.Abs(g.DY)), number(h.DX), number(math.Abs(h.DY)), a.CellUnit)
	} else {
		tell("cell size", "the same")
	}
	col, row := g.Cell(h.X0, h.Y0)
	fc, fr := math.Abs(col-math.Round(col)), math.Abs(row-math.Round(row))
	sizes := math.Abs(g.DX-h.DX)/g.DX*float64(h.Width) < 0.01 && math.Abs((g.DY-h.DY)/g.DY)*float64(h.Height) < 0.01
	if sizes {
		if fc < 1e-6 && fr < 1e-6 {
			tell("offset", "%+d columns and %+d rows, whole cells", int(math.Round(col)), int(math.Round(row)))
		} else {
			tell("offset", "%+.3f columns and %+.3f rows: %.3f of a cell off", col, row, math.Max(fc, fr))
		}
	}
	w, s := math.Max(a.Bounds[0], b.Bounds[0]), math.Max(a.Bounds[1], b.Bounds[1])
	e, n := math.Min(a.Bounds[2], b.Bounds[2]), math.Min(a.Bounds[3], b.Bounds[3])
	common := math.Max(0, e-w) * math.Max(0, n-s)
	share := func(r *rasterReport) float64 {
		return common / ((r.Bounds[2] - r.Bounds[0]) * (r.Bounds[3] - r.Bounds[1])) * 100
	}
	if a.Bounds == b.Bounds {
		tell("extent", "the same")
	} else {
		tell("extent", "they share %.1f %% of the first and %.1f %% of the second", share(a), share(b))
	}
	if a.Type != b.Type {
		tell("cells", "%s against %s", a.Type, b.Type)
	}
	nodata := func(r *rasterReport) string {
		if r.header.NoData == nil {
			return "none"
		}
		return fmt.Sprint(*r.header.NoData)
	}
	if nodata(a) != nodata(b) {
		tell("nodata", "%s against %s: each keeps its own", nodata(a), nodata(b))
	}
	switch off := math.Max(fc, fr); {
	case !sizes:
		tell("together", "change refuses them, or moves cells to the nearest with --resample nearest")
		p.Findings = append(p.Findings, finding{fmt.Sprintf("%s and %s have cells of different size", a.File, b.File), align})
	case off < 0.01:
		p.OneGrid = true
		tell("together", "measured cell by cell, nothing is resampled; ground that one of them does not cover is told apart")
	default:
		tell("together", "change refuses them, or moves cells by %.2f of one with --resample nearest", off)
		p.Findings = append(p.Findings, finding{fmt.Sprintf("the cells of %s lie %.2f of a cell off those of %s", b.File, off, a.File), align})
	}
	return p
}

func (p *pair) paint(c *canvas) {
	c.line()
	c.line(c.bold(fmt.Sprintf("%s beside %s", p.Second, p.First)))
	paintFacts(c, p.Facts)
}
