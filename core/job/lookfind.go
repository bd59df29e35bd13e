package job

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
)

// command is a remedy that is a command on a raster.
func command(name, arg string, options ...fault.Remedy) *Remedy {
	return &Remedy{Command: name, Args: []string{arg}, Options: options}
}

func (r *RasterLook) add(remedy *Remedy, format string, args ...any) {
	r.Findings = append(r.Findings, Finding{fmt.Sprintf(format, args...), remedy})
}

// find notes what will go wrong with a raster, each with its remedy.
func (r *RasterLook) find(legend *cover.Legend, legendPath string, values bool) {
	h := r.Header
	if h.CellsProblem != "" {
		r.add(nil, "%s", h.CellsProblem)
	}
	if h.Unplaced {
		r.add(nil, "%s", h.CRSProblem)
	} else if h.Grid.CRS == nil {
		r.add(command("look", r.Name, fault.Remedy{Option: "crs", Value: "EPSG:<number>"}), "%s", h.CRSProblem)
	}
	r.findNoData()
	if g := h.Grid; g.CRS != nil {
		width, height := g.DX, math.Abs(g.DY)
		switch {
		case g.CRS.Geographic():
			r.add(command("measure", r.Name), "its cells are in degrees and cover %s to %s m²: a count of cells says nothing about area; measure takes the true area of each",
				text.Number(r.LeastArea, 1), text.Number(r.GreatestArea, 1))
		case math.Abs(width/height-1) > 0.01:
			r.add(command("measure", r.Name), "its cells are oblong, %s × %s %s: a count times one side squared is wrong; measure takes the true area of each",
				plain(width), plain(height), text.Plural(g.CRS.UnitName))
		}
	}
	if !values {
		r.findMeasurements()
	}
	if legend != nil && r.Values != nil {
		r.findLegend(legend, legendPath)
	}
}

// plain writes a number with up to ten digits.
func plain(v float64) string { return strings.TrimSuffix(fmt.Sprintf("%.10g", v), ".0") }

// findNoData looks for values that mean no data and are not declared.
func (r *RasterLook) findNoData() {
	h := r.Header
	suspect, where := r.background()
	if slices.ContainsFunc(r.Values, func(v ValueLine) bool { return v.Value == suspect && v.Class.Name != "" }) {
		suspect = math.NaN() // the legend says that it is a class
	}
	declared := h.NoData != nil
	if declared && suspect == *h.NoData {
		suspect = math.NaN()
	}
	remedy := func(v float64) *Remedy {
		c := command("look", r.Name, fault.Remedy{Option: "nodata", Value: plain(v)})
		c.When, c.Then = "if "+plain(v)+" means no data", "and the same option with measure"
		return c
	}
	if !math.IsNaN(suspect) && !declared {
		r.add(remedy(suspect), "no nodata value is declared, but %s %s", plain(suspect), where)
		return
	}
	looks := r.lookAlikes(suspect)
	switch {
	case declared && len(looks) > 0:
		c := command("mosaic", r.Name, fault.Remedy{Option: "nodata", Value: plain(looks[0])}, fault.Remedy{Option: "out", Value: "one.tif"})
		c.When, c.Then = "if both mean no data", "makes "+plain(looks[0])+" nodata; a crosswalk puts the other there"
		r.add(c, "nodata is declared as %s, but %s %s like it, too", plain(*h.NoData), join(looks), verb(len(looks), "looks", "look"))
	case len(looks) > 1:
		r.add(remedy(looks[0]), "two values look like nodata, and none is declared: %s", join(looks))
	case len(looks) == 1:
		r.add(remedy(looks[0]), "no nodata value is declared, but %s occurs, which often stands for it", plain(looks[0]))
	case declared && !math.IsNaN(suspect):
		r.add(remedy(suspect), "nodata is declared as %s, but %s %s", plain(*h.NoData), plain(suspect), where)
	}
}

// verb is a verb in the singular or plural.
func verb(n int, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// lookAlikes are the values that occur and are used for no data, or are suspect.
func (r *RasterLook) lookAlikes(suspect float64) (out []float64) {
	for _, v := range r.Values {
		if v.Value == suspect || v.Kind != cover.NoData && v.Class.Name == "" && looksLikeNoData(r.Header.Type, v.Value) {
			out = append(out, v.Value)
		}
	}
	if r.Measurements != nil {
		for _, v := range []float64{r.Measurements.Least, r.Measurements.Greatest} {
			if looksLikeNoData(r.Header.Type, v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// background is a value that lies along the border as no class would, and where: in all corners, nearly all
// along, or along a fifth of the border and there at least three times as often as elsewhere. NaN when there is
// none.
func (r *RasterLook) background() (float64, string) {
	if keys := sortedKeys(r.corners); len(keys) == 1 && keys[0] != math.MaxFloat64 {
		return keys[0], "fills all corners"
	}
	keys := sortedKeys(r.border)
	if len(keys) == 0 || keys[0] == math.MaxFloat64 {
		return math.NaN(), ""
	}
	var cells int64
	for _, n := range r.border {
		cells += n
	}
	for _, v := range keys[:min(2, len(keys))] {
		share := float64(r.border[v]) / float64(cells) * 100
		overall := 100.0
		for _, line := range r.Values {
			if line.Value == v {
				overall = line.Pct
			}
		}
		if share >= 90 || share >= 20 && share >= 3*overall && (v == 0 || looksLikeNoData(r.Header.Type, v)) {
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

func join(values []float64) string {
	var out []string
	for _, v := range values {
		out = append(out, plain(v))
	}
	return strings.Join(out, " and ")
}

// findMeasurements points out cells that are no categories.
func (r *RasterLook) findMeasurements() {
	remedy := command("look", r.Name, fault.Remedy{Option: "measurements"})
	remedy.Then = "shows their minimum, mean and maximum"
	fractions := 0
	for _, v := range r.Values {
		if !v.Missing && v.Value != math.Trunc(v.Value) {
			fractions++
		}
	}
	floating := r.Header.Type.Floating()
	switch {
	case r.Measurements != nil:
		r.add(remedy, "it has more than 65,536 different values: these are measurements, not classes, and measure refuses them")
	case fractions > 0:
		r.add(remedy, "%d of its %s %s, so they are measurements and not classes; measure would report them as unlisted", fractions, text.Count(len(r.Values), "value"), verb(fractions, "is a fraction", "are fractions"))
	case floating && r.Values == nil && r.Header.CellsProblem == "":
		c := command("look", r.Name)
		c.Then = "reads them all and shows whether they are"
		r.add(c, "its cells are floating-point numbers, which are seldom classes")
	case floating:
		r.add(nil, "its cells are floating-point numbers, but all are whole, so they can be classes")
	case len(r.Values) > 256:
		r.add(remedy, "it has %s different values, many for classes: are they measurements?", text.Number(float64(len(r.Values)), 0))
	}
}

// findLegend compares the values that occur with a legend.
func (r *RasterLook) findLegend(legend *cover.Legend, path string) {
	var missing []string
	occurs := map[float64]bool{}
	cells := 0.0
	for _, v := range r.Values {
		occurs[v.Value] = true
		if v.Kind == cover.Unlisted {
			missing = append(missing, plain(v.Value))
			cells += v.Cells
		}
	}
	crosswalk := func(when string) *Remedy {
		c := command("measure", r.Name, fault.Remedy{Option: "legend", Value: path}, fault.Remedy{Option: "crosswalk", Value: "codes.csv"})
		c.When = when
		return c
	}
	if n := len(missing); n > 0 {
		r.add(crosswalk("add lines for them to "+path+", or put them into its classes"), "%s %s not in the legend (%s), with %s; measure shows them as unlisted",
			text.Count(n, "value"), verb(n, "is", "are"), text.List(missing, 12), text.Count(int(cells), "cell"))
	}
	var idle []string
	for _, c := range legend.Classes {
		if !occurs[float64(c.Code)] {
			idle = append(idle, fmt.Sprintf("%d %s", c.Code, c.Name))
		}
	}
	if n := len(idle); n > 0 {
		r.add(crosswalk("if the raster has other codes, put them into these classes"), "%s of the legend %s not occur: %s",
			text.Count(n, "class"), verb(n, "does", "do"), text.List(idle, 8))
	}
}

// Fact is one thing that a look found.
type Fact struct{ Key, Value string }

// GridPair is how two rasters go together.
type GridPair struct {
	First, Second string
	Facts         []Fact
	OneGrid       bool // their cells lie on each other
	Findings      []Finding
}

func (p *GridPair) fact(key, format string, args ...any) {
	p.Facts = append(p.Facts, Fact{key, fmt.Sprintf(format, args...)})
}

func (p *GridPair) find(remedy *Remedy, format string, args ...any) {
	p.Findings = append(p.Findings, Finding{fmt.Sprintf(format, args...), remedy})
}

const refused = "change refuses them, unless it may move cells"

// compareGrids compares the grids of two rasters.
func compareGrids(a, b *RasterLook) *GridPair {
	p := &GridPair{First: a.Name, Second: b.Name}
	g, h := a.Header.Grid, b.Header.Grid
	align := command("align", b.Name, fault.Remedy{Option: "grid", Value: a.Name}, fault.Remedy{Option: "out", Value: "aligned.tif"})
	if g.CRS == nil || h.CRS == nil {
		p.fact("CRS", "unknown for one of them")
		p.find(nil, "%s and %s cannot be compared: one of them has no CRS", a.Name, b.Name)
		return p
	}
	if !g.CRS.Same(h.CRS) {
		p.fact("CRS", "differs: %v and %v", g.CRS, h.CRS)
		p.fact("together", refused)
		p.find(align, "%s and %s are in different CRSs, so their cells cannot be compared one by one", a.Name, b.Name)
		return p
	}
	p.fact("CRS", "the same")
	if math.Abs(g.DX-h.DX)/g.DX > 1e-9 || math.Abs((g.DY-h.DY)/g.DY) > 1e-9 {
		p.fact("cell size", "differs: %s × %s and %s × %s %s", plain(g.DX), plain(math.Abs(g.DY)), plain(h.DX), plain(math.Abs(h.DY)), text.Plural(g.CRS.UnitName))
	} else {
		p.fact("cell size", "the same")
	}
	col, row := g.Cell(h.X0, h.Y0)
	fc, fr := math.Abs(col-math.Round(col)), math.Abs(row-math.Round(row))
	sizes := math.Abs(g.DX-h.DX)/g.DX*float64(h.Width) < 0.01 && math.Abs((g.DY-h.DY)/g.DY)*float64(h.Height) < 0.01
	if sizes {
		if fc < 1e-6 && fr < 1e-6 {
			p.fact("offset", "%+d columns and %+d rows, whole cells", int(math.Round(col)), int(math.Round(row)))
		} else {
			p.fact("offset", "%+.3f columns and %+.3f rows: %.3f of a cell off", col, row, math.Max(fc, fr))
		}
	}
	p.compareExtents(a, b)
	switch off := math.Max(fc, fr); {
	case !sizes:
		p.fact("together", refused)
		p.find(align, "%s and %s have cells of different size", a.Name, b.Name)
	case off < 0.01:
		p.OneGrid = true
		p.fact("together", "measured cell by cell, nothing is resampled; ground that one of them does not cover is shown apart")
	default:
		p.fact("together", "change refuses them, unless it may move cells by %.2f of one", off)
		p.find(align, "the cells of %s lie %.2f of a cell off those of %s", b.Name, off, a.Name)
	}
	return p
}

// compareExtents compares where two rasters of one CRS lie, and what their cells are.
func (p *GridPair) compareExtents(a, b *RasterLook) {
	west, south := math.Max(a.Bounds[0], b.Bounds[0]), math.Max(a.Bounds[1], b.Bounds[1])
	east, north := math.Min(a.Bounds[2], b.Bounds[2]), math.Min(a.Bounds[3], b.Bounds[3])
	common := math.Max(0, east-west) * math.Max(0, north-south)
	share := func(r *RasterLook) float64 {
		return common / ((r.Bounds[2] - r.Bounds[0]) * (r.Bounds[3] - r.Bounds[1])) * 100
	}
	if a.Bounds == b.Bounds {
		p.fact("extent", "the same")
	} else {
		p.fact("extent", "they share %.1f %% of the first and %.1f %% of the second", share(a), share(b))
	}
	if a.Header.Type != b.Header.Type {
		p.fact("cells", "%s and %s", a.Header.Type, b.Header.Type)
	}
	nodata := func(r *RasterLook) string {
		if r.Header.NoData == nil {
			return "none"
		}
		return fmt.Sprint(*r.Header.NoData)
	}
	if nodata(a) != nodata(b) {
		p.fact("nodata", "%s and %s: each keeps its own", nodata(a), nodata(b))
	}
}
