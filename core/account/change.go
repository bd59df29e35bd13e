package account

import (
	"fmt"
	"math"
	"strconv"
	"time"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// ChangeInput is a tally of the pairs of values of two epochs.
type ChangeInput struct {
	Epochs    [2]string
	Rasters   [2]string
	Coders    [2]*cover.Coder
	Tally     *tally.Tally
	Zones     *zone.Set
	Placement *zone.Placement
	Palette   []raster.Color
}

// Transition is what moved from one class to another in a zone.
type Transition struct {
	From, To     string // codes; "" for ground that the epoch does not map
	FromName     string
	ToName       string
	Extent       tally.Extent
	Area         float64
	PctOfZone    float64
	PctOfOpening float64 // of the class it came from, on ground that both epochs map
	Mapped       bool    // both epochs map it
	FromAt, ToAt int     // places of the classes in the legend, when mapped
}

// Balance is the summary of one class in a zone, on the ground that both epochs map.
type Balance struct {
	Class                                   cover.Class
	Opening, Additions, Reductions, Closing tally.Extent // exact: opening + additions - reductions = closing
	OpeningArea, AdditionsArea              float64
	ReductionsArea, NetArea, ClosingArea    float64
	PctChange, PctPerYear                   float64 // NaN where they have no meaning
}

// ZoneChange is what changed in a zone.
type ZoneChange struct {
	ID, Name    string
	Area        float64
	Transitions []Transition
	Balances    []Balance
	OnlyFirst   float64 // ground that only the first epoch maps
	OnlySecond  float64
	Neither     float64
	Outside     float64
	Changed     float64 // ground that both map and that changed its class
	Mapped      float64 // ground that both map
}

// Change is what changed in all zones between two epochs.
type Change struct {
	Epochs [2]string
	Unit   Unit
	Legend *cover.Legend
	Years  float64 // between the epochs, NaN when the labels are not years or dates
	Zones  []ZoneChange
}

const notMapped = "not mapped"

// Compare makes the change between two epochs.
func Compare(in ChangeInput, unit Unit) (*Change, error) {
	var meanings [2]map[float64]cover.Meaning
	both := map[float64]cover.Meaning{}
	for n := range 2 {
		m, err := decode(in.Coders[n], in.Rasters[n], in.Tally, n)
		if err != nil {
			return nil, err
		}
		meanings[n] = m
		for _, what := range m {
			if what.Kind == cover.Classified {
				both[float64(what.Code)] = what
			}
		}
	}
	c := &Change{Epochs: in.Epochs, Unit: unit, Legend: in.Coders[0].Shown(), Years: years(in.Epochs[0], in.Epochs[1])}
	if c.Legend == nil {
		c.Legend = legendOf(both, in.Palette)
	}
	if c.Years <= 0 {
		return nil, fmt.Errorf("the epochs %s and %s are not in the order of time: give the earlier one first", in.Epochs[0], in.Epochs[1])
	}
	for i := range in.Tally.Zones {
		c.Zones = append(c.Zones, c.zone(in, i, meanings))
	}
	return c, nil
}

func (c *Change) zone(in ChangeInput, i int, meanings [2]map[float64]cover.Meaning) ZoneChange {
	o, z := in.Placement.Outlines[i], in.Tally.Zones[i]
	n := len(c.Legend.Classes)
	at := map[int]int{}
	for k, class := range c.Legend.Classes {
		at[class.Code] = k
	}
	place := func(m cover.Meaning) int { // n stands for not mapped
		if m.Kind != cover.Classified {
			return n
		}
		return at[m.Code]
	}
	area := func(e tally.Extent) float64 { return e.Area(in.Tally.Unit) / c.Unit.M2 }
	cells := make([]tally.Extent, (n+1)*(n+1))
	for k, v := range z.Values {
		a, b := place(meanings[0][v[0]]), place(meanings[1][v[1]])
		cells[a*(n+1)+b].Add(z.Extents[k])
	}
	out := ZoneChange{ID: in.Zones.Zones[i].ID, Name: in.Zones.Zones[i].Name, Area: o.Area / c.Unit.M2, Outside: o.Outside / c.Unit.M2}
	out.Balances = make([]Balance, n)
	var mapped, changed tally.Extent
	for k := range n {
		b := &out.Balances[k]
		b.Class = c.Legend.Classes[k]
		for j := range n {
			b.Opening.Add(cells[k*(n+1)+j])
			b.Closing.Add(cells[j*(n+1)+k])
			if j != k {
				b.Reductions.Add(cells[k*(n+1)+j])
				b.Additions.Add(cells[j*(n+1)+k])
			}
		}
		mapped.Add(b.Opening)
		changed.Add(b.Reductions)
		b.OpeningArea, b.AdditionsArea = area(b.Opening), area(b.Additions)
		b.ReductionsArea, b.ClosingArea = area(b.Reductions), area(b.Closing)
		b.NetArea = area(b.Closing.Minus(b.Opening))
		b.PctChange, b.PctPerYear = math.NaN(), math.NaN()
		if b.OpeningArea > 0 {
			b.PctChange = b.NetArea / b.OpeningArea * 100
			b.PctPerYear = b.PctChange / c.Years
		}
	}
	out.Mapped, out.Changed = area(mapped), area(changed)
	var only [3]tally.Extent
	for a := range n + 1 {
		for b := range n + 1 {
			e := cells[a*(n+1)+b]
			if e.IsZero() {
				continue
			}
			t := Transition{Extent: e, Area: area(e), Mapped: a < n && b < n, FromName: notMapped, ToName: notMapped, FromAt: a, ToAt: b, PctOfOpening: math.NaN()}
			t.PctOfZone = percent(t.Area, out.Area)
			if a < n {
				t.From, t.FromName = strconv.Itoa(c.Legend.Classes[a].Code), c.Legend.Classes[a].Name
			}
			if b < n {
				t.To, t.ToName = strconv.Itoa(c.Legend.Classes[b].Code), c.Legend.Classes[b].Name
			}
			switch {
			case t.Mapped:
				t.PctOfOpening = percent(t.Area, out.Balances[a].OpeningArea)
			case a < n:
				only[0].Add(e)
			case b < n:
				only[1].Add(e)
			default:
				only[2].Add(e)
			}
			out.Transitions = append(out.Transitions, t)
		}
	}
	out.OnlyFirst, out.OnlySecond, out.Neither = area(only[0]), area(only[1]), area(only[2])
	return out
}

// years is the time between two labels that are years or dates, NaN for other labels.
func years(a, b string) float64 {
	x, ok1 := when(a)
	y, ok2 := when(b)
	if !ok1 || !ok2 {
		return math.NaN()
	}
	return y - x
}

// when is the position of a label in time, in years.
func when(label string) (float64, bool) {
	if y, err := strconv.Atoi(label); err == nil && len(label) == 4 {
		return float64(y), true
	}
	for _, layout := range []string{"2006-01-02", "2006-01"} {
		if t, err := time.Parse(layout, label); err == nil {
			start := time.Date(t.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
			return float64(t.Year()) + t.Sub(start).Hours()/24/365.2425, true
		}
	}
	return 0, false
}
