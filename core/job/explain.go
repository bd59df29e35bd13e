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
	FromValue string  `json:"from_value,omitempty"` // of the earlier epoch of a transition; there both may be "class 3", what a crosswalk with intervals made of many
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
	if len(o.Covers) == 1 && w.isPolygonCover(o.Covers[0], o.ClassField) {
		return nil, nil, fault.Misusef("", "", "%s is a cover of polygons, of which there are no cells to explain", o.Covers[0])
	}
	w.about(o.Epoch, &o.ZoneOptions)
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
	request := w.request(one, at, w.zonesKey(at), []raster.Source{l.source}, []string{w.ownKey(0)})
	request.Centres = o.centres()
	other := request
	other.Centres = !other.Centres
	x.OtherEdges = map[bool]string{true: "centre", false: "split"}[other.Centres]
	requests := []tally.Keyed{request, other}
	lines := l.walk != nil && l.walk.HasIntervals()
	if lines { // the lines of the crosswalk are counted instead of the values
		of := w.request(one, at, request.ZonesKey, []raster.Source{linesOf(l.plain, t.plainCoder(l.plain, l.walk))}, []string{w.ownKey(1)})
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
	// In the plane a cut cell has another share than on the ground, the more so the larger it is; what was measured is that on the ground.
	planar := x.CutShare
	if x.CutShare = x.Cells - float64(x.WholeCells); math.Abs(x.CutShare-planar) > 1e-6*math.Max(1, x.Cells)+0.02*float64(x.CutCells) {
		return nil, nil, fmt.Errorf("%s: counted cell by cell, %s holds %.6f cells of the class, and measured %.6f: was the file changed meanwhile?", l.name, x.ZoneID, float64(x.WholeCells)+planar, x.Cells)
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
	k := 0
	if id != "" || len(set.Zones) != 1 {
		var err error
		if k, err = cover.FindZone(NamedZones(set), id, set.Source); err != nil {
			return nil, nil, err
		}
	}
	one, at := *set, *place
	one.Zones, at.Outlines = set.Zones[k:k+1], place.Outlines[k:k+1]
	if len(at.Outlines[0].Rings) == 0 {
		return nil, nil, fault.Errorf("%s: the zone %s lies wholly outside the raster", set.Source, id)
	}
	return &one, &at, nil
}

// NamedZones are the zones of a set by id and name.
func NamedZones(set *zone.Set) []cover.Named {
	out := make([]cover.Named, len(set.Zones))
	for i, z := range set.Zones {
		out[i] = cover.Named{ID: z.ID, Name: z.Name}
	}
	return out
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

// linesOf is a view of which line of a crosswalk, from 1 on, each cell of a raster falls under; 0 for none.
func linesOf(s raster.Source, coder *cover.Coder) raster.Source {
	return view.Map(s, raster.Header{Name: s.Header().Name, Type: raster.Uint16, Bands: 1}, func(v float64) (float64, error) {
		line, _ := coder.LineOf(v)
		return float64(line + 1), nil
	})
}
