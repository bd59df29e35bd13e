package job

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/extent"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/view"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// Explanation says what one number is made of: the extent of a class in a zone, or of a transition between two classes. Areas are in the
// unit that it names, those of cells in m².
type Explanation struct {
	Epoch     string `json:"epoch,omitempty"`      // of an extent, or the later one of a transition
	FromEpoch string `json:"from_epoch,omitempty"` // the earlier one of a transition
	ZoneID    string `json:"zone_id"`
	ZoneName  string `json:"zone_name,omitempty"`
	ClassCode string `json:"class_code"`
	ClassName string `json:"class_name"`
	FromCode  string `json:"from_code,omitempty"` // of a transition; the class above is what became of it
	FromName  string `json:"from_name,omitempty"`

	Unit            string  `json:"unit"`
	Area            float64 `json:"area"`
	ZoneArea        float64 `json:"zone_area"`
	PctOfZone       float64 `json:"pct_of_zone"`
	PctOfClassified float64 `json:"pct_of_classified,omitempty"` // of an extent
	PctOfOpening    float64 `json:"pct_of_opening,omitempty"`    // of a transition

	Cells         float64 `json:"cells"`       // cut cells by their share
	WholeCells    int64   `json:"whole_cells"` // that the zone holds whole
	CutCells      int64   `json:"cut_cells"`   // that its outline cuts
	CutShare      float64 `json:"cut_share"`   // of those, in cells
	LeastCell     float64 `json:"least_cell_m2"`
	MeanCell      float64 `json:"mean_cell_m2"`
	GreatestCell  float64 `json:"greatest_cell_m2"`
	NominalCell   float64 `json:"nominal_cell_m2,omitempty"` // 0 in degrees
	Nominal       float64 `json:"nominal_area,omitempty"`
	Edges         string  `json:"edges"`
	OtherEdges    string  `json:"other_edges"`
	OtherEdgeArea float64 `json:"area_by_other_edges"`

	Sources []SourceShare `json:"sources"`
	Rasters []string      `json:"rasters"` // as they were named
	Blocks  int           `json:"blocks_read"`
	Of      int           `json:"blocks_of_raster"`
	BlockW  int           `json:"block_width"`
	BlockH  int           `json:"block_height"`

	Others []OtherArea `json:"others"` // the same at other epochs, or between others; filled in by whoever knows them
}

// SourceShare is the part that one source value, or one line of a crosswalk, has in a number.
type SourceShare struct {
	Value     string  `json:"value,omitempty"`      // "" where a line has many
	FromValue string  `json:"from_value,omitempty"` // of the earlier epoch of a transition
	Crosswalk string  `json:"crosswalk,omitempty"`
	Line      int     `json:"line,omitempty"` // in the file; 0 for none
	LineFrom  string  `json:"line_from,omitempty"`
	Note      string  `json:"note,omitempty"`
	Cells     float64 `json:"cells"`
	Area      float64 `json:"area"`
	Pct       float64 `json:"pct"`
}

// OtherArea is an area at another epoch.
type OtherArea struct {
	Epoch     string  `json:"epoch"`
	FromEpoch string  `json:"from_epoch,omitempty"`
	Area      float64 `json:"area"`
}

// ExplainExtent says what the extent of a class in a zone is made of. The zone is named by its id or its name, "" for the only one; the class by its
// code or its name.
func ExplainExtent(ctx context.Context, env Env, o MeasureOptions, zoneID, class string) (*Explanation, *Report, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, nil, err
	}
	t, err := w.readTerms(o.ClassOptions)
	if err != nil {
		return nil, nil, err
	}
	if len(o.Covers) == 1 && isPolygonCover(o.Covers[0], o.ClassField) {
		return nil, nil, fault.Misusef("", "", "%s is a cover of polygons, of which there are no cells to explain", o.Covers[0])
	}
	l, err := w.openLayer(&o, &t)
	if err != nil {
		return nil, nil, err
	}
	defer l.Close()
	set, place, err := w.readZones(o.ZoneOptions, l.source.Header().Grid)
	if err != nil {
		return nil, nil, err
	}
	one, at, err := oneZone(set, place, zoneID)
	if err != nil && o.Within != "" { // perhaps it is a larger unit
		units := ZoneOptions{Zones: o.Within, SelectionOptions: SelectionOptions{ZoneID: o.WithinID, ZoneName: o.WithinName}, Edges: o.Edges}
		if larger, place, e := w.readZones(units, l.source.Header().Grid); e == nil {
			if a, b, e := oneZone(larger, place, zoneID); e == nil {
				one, at, err = a, b, nil
			}
		}
	}
	if err != nil {
		return nil, nil, err
	}
	x := &Explanation{Epoch: o.Epoch, ZoneID: one.Zones[0].ID, ZoneName: one.Zones[0].Name, Unit: t.unit.Name, Edges: o.Edges, Rasters: o.Covers}
	request := w.request(one, at, zonesKey(at), []raster.Source{l.source}, []string{w.ownKey(0)})
	request.Centres = o.centres()
	other := request
	other.Centres = !other.Centres
	x.OtherEdges = map[bool]string{true: "centre", false: "split"}[other.Centres]
	requests := []tally.Keyed{request, other}
	lines := l.walk != nil && l.walk.HasIntervals()
	if lines { // the lines of the crosswalk are counted instead of the values
		coder := (&cover.Coder{Legend: t.legend, Crosswalk: l.walk, NoData: l.plain.Header().NoData}).In(l.plain.Header().Type)
		of := w.request(one, at, request.ZonesKey, []raster.Source{linesOf(l.plain, coder)}, []string{w.ownKey(1)})
		of.Centres = request.Centres
		requests = append(requests, of)
	}
	tallies, errs := tally.Together(ctx, requests)
	for _, err := range errs {
		if err != nil {
			return nil, nil, w.explainGap(err, l.plain, &t, l.walk)
		}
	}
	compose := func(n int) (*extent.Composition, error) {
		comp, err := extent.Compose(extent.Input{Epoch: o.Epoch, Raster: l.name, Tally: tallies[n], Zones: one, Placement: at, Palette: l.palette, Centres: requests[n].Centres, Coder: l.coder}, t.unit)
		return comp, w.explainGap(err, l.plain, &t, l.walk)
	}
	comp, err := compose(0)
	if err != nil {
		return nil, nil, err
	}
	byOther, err := compose(1)
	if err != nil {
		return nil, nil, err
	}
	row, err := rowOf(comp, class)
	if err != nil {
		return nil, nil, err
	}
	x.ClassCode, x.ClassName, x.Area, x.PctOfZone, x.PctOfClassified, x.Cells = row.Code, row.Name, row.Area, row.PctOfZone, row.PctOfClassified, row.Cells
	x.ZoneArea = comp.Zones[0].Area
	if comp.HasNominal {
		x.NominalCell, _ = at.Grid.NominalCellArea()
		x.Nominal = row.NominalArea
	}
	if r, err := rowOf(byOther, class); err == nil {
		x.OtherEdgeArea = r.Area
	}
	wanted := func(v float64) bool {
		m, ok := l.coder.Code(v)
		return ok && kindAndCode(m, l.coder.Shown(), row)
	}
	x.sources(tallies, lines, l, wanted, t.unit.M2)
	if err := x.cells(ctx, l.source, at, o.centres(), wanted); err != nil {
		return nil, nil, err
	}
	if math.Abs(float64(x.WholeCells)+x.CutShare-x.Cells) > 1e-6*math.Max(1, x.Cells) {
		return nil, nil, fmt.Errorf("%s: counted cell by cell, %s holds %.6f cells of the class, and measured %.6f: please report this", l.name, x.ZoneID, float64(x.WholeCells)+x.CutShare, x.Cells)
	}
	if x.Cells > 0 {
		x.MeanCell = x.Area * t.unit.M2 / x.Cells
	}
	return x, report, nil
}

// kindAndCode reports whether a meaning is that of a row.
func kindAndCode(m cover.Meaning, legend *cover.Legend, row *extent.Row) bool {
	if m.Kind != row.Kind {
		return false
	}
	if m.Kind != cover.Classified {
		return m.Kind == cover.NoData || cover.ValueText(m.Value) == row.Code
	}
	if class, ok := legend.Find(m.Code); ok {
		return class.ID() == row.Code
	}
	return fmt.Sprint(m.Code) == row.Code
}

// oneZone picks a zone by its id or its name.
func oneZone(set *zone.Set, place *zone.Placement, id string) (*zone.Set, *zone.Placement, error) {
	k := slices.IndexFunc(set.Zones, func(z zone.Zone) bool { return z.ID == id })
	if k < 0 {
		k = slices.IndexFunc(set.Zones, func(z zone.Zone) bool { return z.Name == id && id != "" })
	}
	if k < 0 && id == "" && len(set.Zones) == 1 {
		k = 0
	}
	if k < 0 {
		var ids []string
		for _, z := range set.Zones {
			label := z.ID
			if z.Name != "" && z.Name != z.ID {
				label += " " + z.Name
			}
			ids = append(ids, label)
		}
		return nil, nil, fault.Misusef("zone", id, "is none of the zones of %s (%s)", set.Source, text.List(ids, 20))
	}
	one, at := *set, *place
	one.Zones, at.Outlines = set.Zones[k:k+1], place.Outlines[k:k+1]
	if len(at.Outlines[0].Rings) == 0 {
		return nil, nil, fault.Errorf("%s: the zone %s lies wholly outside the raster", set.Source, id)
	}
	return &one, &at, nil
}

// rowOf finds the row of a class, or of ground of no class (nodata).
func rowOf(comp *extent.Composition, class string) (*extent.Row, error) {
	rows := comp.Zones[0].Rows()
	var names []string
	for i, r := range rows {
		if r.Code != "" && r.Code == class || r.Name == class || r.Kind == cover.NoData && strings.EqualFold(class, "nodata") {
			return &rows[i], nil
		}
		if r.Kind == cover.Classified {
			names = append(names, strings.TrimSpace(r.Code+" "+r.Name))
		}
	}
	return nil, fault.Misusef("class", class, "is none of the classes (%s)", text.List(names, 20))
}

// sources finds the values, or the lines of the crosswalk, that a number is made of.
func (x *Explanation) sources(tallies []*tally.Tally, lines bool, l *measured, wanted func(float64) bool, unit float64) {
	t := tallies[0]
	if lines {
		t = tallies[2]
	}
	total := tally.Extent{}
	var of []tally.Extent
	for i, v := range t.Zones[0].Values {
		s := SourceShare{}
		e := t.Zones[0].Extents[i]
		number := t.Number(0, 0, v[0])
		switch {
		case lines:
			if v[0] == tally.Missing || int(number) < 1 || int(number) > len(l.walk.Lines) {
				continue
			}
			line := l.walk.Lines[int(number)-1]
			value := float64(line.To.Code)
			if line.To.NoData || line.To.Keep || !wanted(value) {
				continue
			}
			s.Crosswalk, s.Line, s.LineFrom, s.Note = l.walk.Source, line.Number, line.From, line.Note
		default:
			if v[0] == tally.Missing {
				number = math.NaN()
				if h := l.source.Header(); h.NoData != nil {
					number = *h.NoData
				}
			}
			if !wanted(number) {
				continue
			}
			s.Value = cover.ValueText(number)
			if v[0] == tally.Missing {
				s.Value = "nodata"
			}
			if l.walk != nil {
				if k, _ := l.coder.LineOf(number); k >= 0 {
					line := l.walk.Lines[k]
					s.Crosswalk, s.Line, s.LineFrom, s.Note = l.walk.Source, line.Number, line.From, line.Note
				}
			}
		}
		s.Cells, s.Area = e.CellCount(), e.Area(t.Quantum)/unit
		total.Add(e)
		of = append(of, e)
		x.Sources = append(x.Sources, s)
	}
	for i := range x.Sources {
		if a := total.Area(t.Quantum); a > 0 {
			x.Sources[i].Pct = of[i].Area(t.Quantum) / a * 100
		}
	}
	slices.SortStableFunc(x.Sources, func(a, b SourceShare) int { return cmp.Compare(b.Area, a.Area) })
}

// cells counts the cells of a number one by one, finds the least and the greatest of them, and which blocks hold the zone.
func (x *Explanation) cells(ctx context.Context, s raster.Source, place *zone.Placement, centres bool, wanted func(float64) bool) error {
	g := place.Grid
	areas, err := raster.NewAreas(g)
	if err != nil {
		return err
	}
	o := &place.Outlines[0]
	cutter := &zone.Cutter{Width: g.Width, Down: place.Down, Centres: centres, Moments: areas.Vary == raster.ByCell}
	x.BlockW, x.BlockH = s.BlockSize()
	x.BlockW, x.BlockH = min(x.BlockW, g.Width), min(x.BlockH, g.Height)
	x.Of = ((g.Width + x.BlockW - 1) / x.BlockW) * ((g.Height + x.BlockH - 1) / x.BlockH)
	_, step := raster.WorkSize(s)
	x.LeastCell = math.Inf(1)
	reader := s.NewReader()
	c := &cellCount{x: x, areas: areas, blocks: map[[2]int]bool{}, col: o.ColFrom, is: remembered(wanted)}
	for v := range c.bytes {
		c.bytes[v] = s.Header().Type == raster.Uint8 && wanted(float64(v))
	}
	for row := o.RowFrom / step * step; row < o.RowTo; row += step {
		if err := ctx.Err(); err != nil {
			return err
		}
		from, to := max(row, o.RowFrom), min(row+step, o.RowTo)
		spans := cutter.Cut(o, 0, from, to)
		if err := reader.Read(raster.Window{Col: c.col, Row: from, Width: o.ColTo - c.col, Height: to - from}, &c.cells); err != nil {
			return err
		}
		for r := from; r < to; r++ {
			full, edge := spans.Row(r)
			if err := c.row(full, edge, r, r-from); err != nil {
				return err
			}
		}
		spans.Free()
	}
	x.CutShare = math.Ldexp(float64(c.share), -40)
	x.Blocks = len(c.blocks)
	if x.WholeCells+x.CutCells == 0 {
		x.LeastCell = 0
	}
	return nil
}

// cellCount counts the cells of a number one by one.
type cellCount struct {
	x      *Explanation
	areas  *raster.Areas
	cells  raster.Cells // of some rows, from column col on
	col    int
	is     func(v float64) bool
	bytes  [256]bool // the same for cells of bytes, of which there may be many
	share  int64     // of cut cells
	blocks map[[2]int]bool
}

// wanted reports whether a cell is one of those that are counted; at is its row in cells.
func (c *cellCount) wanted(col, at int) bool {
	if c.cells.Type == raster.Uint8 {
		return c.bytes[c.cells.U8[at*c.cells.Stride+col-c.col]]
	}
	return c.is(c.cells.At(col-c.col, at))
}

// row counts the cells of a row of the grid, which is the row at of those at hand.
func (c *cellCount) row(full []zone.Range, edge []zone.EdgeCell, row, at int) error {
	x := c.x
	first, last := -1, -1
	note := func(col int) {
		if first < 0 {
			first = col
		}
		last = col
	}
	touch := func(col int) { c.blocks[[2]int{col / x.BlockW, row / x.BlockH}] = true }
	for _, r := range full {
		for col := int(r.From); col < int(r.To); col++ {
			if c.wanted(col, at) {
				x.WholeCells++
				note(col)
			}
		}
		for col := int(r.From); col < int(r.To); col += x.BlockW {
			touch(col)
		}
		if r.To > r.From {
			touch(int(r.To) - 1)
		}
	}
	for _, e := range edge {
		if touch(int(e.Col)); c.wanted(int(e.Col), at) {
			x.CutCells++
			c.share += e.Share
			note(int(e.Col))
		}
	}
	if first < 0 {
		return nil
	}
	for _, col := range []int{min(first, last), (first + last) / 2, max(first, last)} { // areas vary smoothly along a row
		a, err := c.areas.Cell(col, row)
		if err != nil {
			return err
		}
		x.LeastCell, x.GreatestCell = math.Min(x.LeastCell, a), math.Max(x.GreatestCell, a)
	}
	return nil
}

// remembered asks a question about each number once, but for many numbers.
func remembered(ask func(v float64) bool) func(v float64) bool {
	known := map[float64]bool{}
	return func(v float64) bool {
		answer, ok := known[v]
		if !ok {
			if answer = ask(v); v == v && len(known) < 1<<16 {
				known[v] = answer
			}
		}
		return answer
	}
}

// linesOf is a view of which line of a crosswalk, from 1 on, each cell of a raster falls under; 0 for none.
func linesOf(s raster.Source, coder *cover.Coder) raster.Source {
	return view.Map(s, raster.Header{Name: s.Header().Name, Type: raster.Uint16, Bands: 1}, func(v float64) (float64, error) {
		line, _ := coder.LineOf(v)
		return float64(line + 1), nil
	})
}

// ZoneTransition is a transition in a zone: the zone by its id or its name, the classes by their codes or names. The epochs are labels; without
// them they are the first and the last.
type ZoneTransition struct{ Zone, From, To, FromEpoch, ToEpoch string }

// ExplainTransition says what the ground is made of that was one class at an epoch and another at a later one.
func ExplainTransition(ctx context.Context, env Env, o ChangeOptions, of ZoneTransition) (*Explanation, *Report, error) {
	w, report, err := begin(ctx, env, &o, o.OverrideCRS)
	if err != nil {
		return nil, nil, err
	}
	c := &comparison{work: w, o: &o, out: &Changed{Report: report, work: w}}
	defer c.out.Close()
	if err := c.open(); err != nil {
		return nil, nil, err
	}
	epochAt := func(label string, otherwise int) (int, error) {
		if label == "" {
			return otherwise, nil
		}
		k := slices.Index(c.labels, label)
		if k < 0 {
			return 0, fault.Misusef("epoch", label, "is none of the epochs (%s)", strings.Join(c.labels, ", "))
		}
		return k, nil
	}
	a, err := epochAt(of.FromEpoch, 0)
	if err != nil {
		return nil, nil, err
	}
	b, err := epochAt(of.ToEpoch, len(c.labels)-1)
	if err != nil {
		return nil, nil, err
	}
	if a >= b {
		return nil, nil, fault.Misusef("epoch", of.ToEpoch, "is not later than %s", c.labels[a])
	}
	one, at, err := oneZone(c.in.Zones, c.in.Placement, of.Zone)
	if err != nil {
		return nil, nil, err
	}
	x := &Explanation{FromEpoch: c.labels[a], Epoch: c.labels[b], ZoneID: one.Zones[0].ID, ZoneName: one.Zones[0].Name, Unit: c.terms.unit.Name, Edges: o.Edges,
		Rasters: []string{c.in.Rasters[a], c.in.Rasters[b]}, ZoneArea: at.Outlines[0].Area / c.terms.unit.M2}
	request := w.request(one, at, zonesKey(at), []raster.Source{c.layers[a], c.layers[b]}, []string{w.ownKey(0), w.ownKey(1)})
	request.Centres = o.centres()
	other := request
	other.Centres = !other.Centres
	x.OtherEdges = map[bool]string{true: "centre", false: "split"}[other.Centres]
	tallies, errs := tally.Together(ctx, []tally.Keyed{request, other})
	for _, err := range errs {
		if err != nil {
			return nil, nil, c.explain(err)
		}
	}
	if err := x.transition(c, tallies, [2]int{a, b}, of.From, of.To); err != nil {
		return nil, nil, err
	}
	if n, ok := at.Grid.NominalCellArea(); ok {
		x.NominalCell, x.Nominal = n, x.Cells*n/c.terms.unit.M2
	}
	if x.Cells > 0 {
		x.MeanCell = x.Area * c.terms.unit.M2 / x.Cells
	}
	return x, report, nil
}

// transition finds the pairs of values that a transition is made of.
func (x *Explanation) transition(c *comparison, tallies []*tally.Tally, epochs [2]int, from, to string) error {
	var classes [2]cover.Class
	for i, name := range []string{from, to} {
		class, err := c.classOf(epochs[i], tallies[0], i, [2]string{"from", "to"}[i], name)
		if err != nil {
			return err
		}
		classes[i] = class
	}
	x.FromCode, x.FromName, x.ClassCode, x.ClassName = classes[0].ID(), classes[0].Name, classes[1].ID(), classes[1].Name
	unit := c.terms.unit.M2
	for n, t := range tallies {
		var sum, opening tally.Extent
		for i, v := range t.Zones[0].Values {
			is := [2]bool{}
			for k := range 2 {
				if v[k] != tally.Missing {
					m, ok := c.in.Coders[epochs[k]].Code(t.Number(0, k, v[k]))
					is[k] = ok && m.Kind == cover.Classified && m.Code == classes[k].Code
				}
			}
			e := t.Zones[0].Extents[i]
			second, ok := cover.Meaning{}, false
			if v[1] != tally.Missing {
				second, ok = c.in.Coders[epochs[1]].Code(t.Number(0, 1, v[1]))
			}
			if is[0] && ok && second.Kind == cover.Classified {
				opening.Add(e)
			}
			if !is[0] || !is[1] {
				continue
			}
			sum.Add(e)
			if n == 0 {
				s := SourceShare{FromValue: cover.ValueText(t.Number(0, 0, v[0])), Value: cover.ValueText(t.Number(0, 1, v[1])), Cells: e.CellCount(), Area: e.Area(t.Quantum) / unit}
				x.Sources = append(x.Sources, s)
			}
		}
		if n == 1 {
			x.OtherEdgeArea = sum.Area(t.Quantum) / unit
			continue
		}
		x.Area, x.Cells = sum.Area(t.Quantum)/unit, sum.CellCount()
		if x.ZoneArea > 0 {
			x.PctOfZone = x.Area / x.ZoneArea * 100
		}
		if a := opening.Area(t.Quantum) / unit; a > 0 {
			x.PctOfOpening = x.Area / a * 100
		}
		for i := range x.Sources {
			x.Sources[i].Pct = x.Sources[i].Area / math.Max(x.Area, 1e-300) * 100
		}
		x.Blocks = t.Tiles
	}
	slices.SortStableFunc(x.Sources, func(a, b SourceShare) int { return cmp.Compare(b.Area, a.Area) })
	x.BlockW, x.BlockH = raster.WorkSize(c.layers[epochs[0]])
	g := c.in.Placement.Grid
	x.BlockW, x.BlockH = min(x.BlockW, g.Width), min(x.BlockH, g.Height)
	x.Of = ((g.Width + x.BlockW - 1) / x.BlockW) * ((g.Height + x.BlockH - 1) / x.BlockH)
	return nil
}

// classOf finds a class of an epoch by its code or its name.
func (c *comparison) classOf(epoch int, t *tally.Tally, k int, option, name string) (cover.Class, error) {
	legend := c.in.Coders[epoch].Shown()
	if legend == nil {
		legend = cover.LegendOfValues(t.Numbers[k][1:], c.in.Palette)
	}
	var names []string
	for _, class := range legend.Classes {
		if class.ID() == name || class.Name == name {
			return class, nil
		}
		names = append(names, strings.TrimSpace(class.ID()+" "+class.Name))
	}
	return cover.Class{}, fault.Misusef(option, name, "is none of the classes (%s)", text.List(names, 20))
}
