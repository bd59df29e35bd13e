package change

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/check"
	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/internal/sampletest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/tally"
	"github.com/verdex-land/verdex/core/zone"
)

// epochsOf makes n random rasters of which each is much like the one before, and compares them.
func epochsOf(t *testing.T, seed uint64, n int) (*Changes, []*raster.Memory, *zone.Set, *zone.Placement) {
	t.Helper()
	rasters, set, place := covers(t, seed, n)
	in := inputOf(t, rasters, set, place)
	ch, err := Compare(in, area.Units[0])
	require.NoError(t, err)
	return ch, rasters, set, place
}

func covers(t *testing.T, seed uint64, n int) ([]*raster.Memory, *zone.Set, *zone.Placement) {
	t.Helper()
	a, _, set, place := sampletest.World(t, seed)
	rng := rand.New(rand.NewPCG(seed, 7))
	rasters := []*raster.Memory{a}
	for len(rasters) < n {
		last := rasters[len(rasters)-1]
		next := raster.NewMemory(fmt.Sprint(len(rasters)), last.Header().Grid, raster.Uint8, 64, 16)
		var cells raster.Cells
		require.NoError(t, last.NewReader().Read(raster.Window{Width: 120, Height: 90}, &cells))
		for r := range 90 {
			for c := range 120 {
				v := cells.At(c, r)
				if rng.IntN(3) == 0 {
					v = []float64{1, 2, 3, 255, 77}[rng.IntN(5)]
				}
				next.Set(c, r, v)
			}
		}
		rasters = append(rasters, next)
	}
	return rasters, set, place
}

// inputOf measures rasters, with their histories.
func inputOf(t *testing.T, rasters []*raster.Memory, set *zone.Set, place *zone.Placement) Input {
	t.Helper()
	coder := &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}
	in := Input{Zones: set, Placement: place}
	var layers []raster.Source
	for i, r := range rasters {
		in.Epochs, in.Rasters, in.Coders = append(in.Epochs, fmt.Sprint(2000+4*i)), append(in.Rasters, ""), append(in.Coders, coder)
		layers = append(layers, r)
	}
	var err error
	in.Tally, err = tally.Measure(context.Background(), tally.Request{Layers: layers, Groups: Groups(len(rasters), true), Zones: set, Placement: place})
	require.NoError(t, err)
	return in
}

// On random rasters: opening + additions - reductions = closing and persistence + reductions =
// opening, to the last unit; the epochs' own tallies agree with rows and columns; quantity, exchange and shift sum to
// gain and loss.
func TestChangeIdentitiesAreExact(t *testing.T) {
	for seed := range uint64(20) {
		n := 2 + int(seed)%4
		ch, rasters, set, place := epochsOf(t, seed, n)
		pairs := n - 1
		if n > 2 {
			pairs++
		}
		require.Len(t, ch.Pairs, pairs)
		for k, p := range ch.Pairs {
			first, second := k, k+1
			if p.Whole {
				first, second = 0, n-1
			}
			assert.Equal(t, float64(4*(second-first)), p.Years)
			var own [2]*tally.Tally
			for e, i := range []int{first, second} {
				var err error
				own[e], err = tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{rasters[i]}, Zones: set, Placement: place})
				require.NoError(t, err)
			}
			for i := range p.Zones {
				z := &p.Zones[i]
				var gains, losses tally.Extent
				for k, bal := range p.Balances(z) {
					got := bal.Opening
					got.Add(bal.Additions)
					assert.True(t, got.Minus(bal.Reductions).Same(bal.Closing))
					gains.Add(bal.Additions)
					losses.Add(bal.Reductions)
					stayed := tally.Extent{}
					var sums [2]tally.Extent
					for _, x := range z.Transitions {
						for e, at := range []int32{x.From, x.To} {
							if int(at) == k {
								sums[e].Add(x.Extent)
							}
						}
						if int(x.From) == k && x.From == x.To {
							stayed = x.Extent
						}
					}
					stayed.Add(bal.Reductions)
					assert.True(t, stayed.Same(bal.Opening))
					for e := range own {
						for n, v := range own[e].Zones[i].Values {
							if own[e].Number(0, 0, v[0]) == float64(bal.Class.Code) {
								assert.True(t, sums[e].Same(own[e].Zones[i].Extents[n]), "class %d at epoch %d", bal.Class.Code, e)
							}
						}
					}
				}
				assert.True(t, gains.Same(losses))
				assert.InEpsilon(t, z.Area, z.Outside+z.OnlyFirst+z.OnlySecond+z.Neither+z.Mapped, 1e-9)
				assert.Positive(t, z.OnlyFirst)

				classes, whole := p.Parts(z)
				var d tally.Sum
				for _, x := range classes {
					got := x.Quantity
					got.Add(x.Exchange)
					got.Add(x.Shift)
					want := x.Gain
					want.Add(x.Loss)
					assert.Equal(t, want, got, x.Class.Name)
					for _, part := range []tally.Sum{x.Quantity, x.Exchange, x.Shift} {
						assert.False(t, part.Less(tally.Sum{}), x.Class.Name)
					}
					d.Add(want)
				}
				assert.InEpsilon(t, z.Changed, whole.QuantityArea+whole.ExchangeArea+whole.ShiftArea, 1e-12)
				assert.Equal(t, gains.Total, whole.Gain)
			}
		}
		for _, c := range ch.Check(check.Defaults)[:2] {
			assert.Equal(t, check.Holds, c.Outcome, "%s: %s", c.Name, c.Text)
		}
	}
}

// squares compares small rasters of 1 ha cells, given as rows of codes, in one zone.
func squares(t *testing.T, labels []string, rows ...[]int) *Changes {
	t.Helper()
	_, _, _, placed := sampletest.World(t, 1)
	g := placed.Grid
	g.CRS, g.Width, g.Height, g.DX, g.DY = sampletest.MustCRS(t, 3035), len(rows[0]), 1, 100, -100
	g.X0, g.Y0 = 4321000, 3210000
	set, place, err := tally.Whole(g)
	require.NoError(t, err)
	coder := &cover.Coder{Legend: sampletest.Legend(t), NoData: &sampletest.NoData}
	in := Input{Epochs: labels, Zones: set, Placement: place}
	var layers []raster.Source
	for _, row := range rows {
		m := raster.NewMemory("m", g, raster.Uint8, len(row), 1)
		for c, v := range row {
			m.Set(c, 0, float64(v))
		}
		layers = append(layers, m)
		in.Rasters, in.Coders = append(in.Rasters, "m"), append(in.Coders, coder)
	}
	in.Tally, err = tally.Measure(context.Background(), tally.Request{Layers: layers, Groups: Groups(len(rows), true), Zones: set, Placement: place})
	require.NoError(t, err)
	ch, err := Compare(in, area.Units[0])
	require.NoError(t, err)
	return ch
}

// A matrix worked by hand: from 1 to 2 three cells, from 2 to 1 one, from 2 to 3 two, from 3 to 1 one, and persistence.
// Pairs 1-2 and 2-1 exchange one cell each way; the cycle 1→2→3→1 is one cell of shift each; what is left is quantity.
func TestPartsByHand(t *testing.T) {
	ch := squares(t, []string{"2000", "2010"},
		[]int{1, 1, 1, 1, 2, 2, 2, 2, 3, 3},
		[]int{1, 2, 2, 2, 1, 3, 3, 2, 1, 3})
	classes, whole := ch.Pairs[0].Parts(&ch.Pairs[0].Zones[0])
	want := [][5]float64{ // gain, loss, quantity, exchange, shift
		{2, 3, 1, 2, 2},
		{3, 3, 0, 2, 4},
		{2, 1, 1, 0, 2},
		{0, 0, 0, 0, 0},
	}
	for i, w := range want {
		p := classes[i]
		got := [5]float64{p.GainArea, p.LossArea, p.QuantityArea, p.ExchangeArea, p.ShiftArea}
		assert.InDeltaSlice(t, w[:], got[:], 1e-9, p.Class.Name)
	}
	assert.InDelta(t, 1, whole.QuantityArea, 1e-9)
	assert.InDelta(t, 2, whole.ExchangeArea, 1e-9)
	assert.InDelta(t, 4, whole.ShiftArea, 1e-9)
	assert.InDelta(t, 7, ch.Pairs[0].Zones[0].Changed, 1e-9)
}

// The same matrix over ten years: 7 of 10 cells change, 7 % a year.
func TestIntensitiesByHand(t *testing.T) {
	ch := squares(t, []string{"2000", "2010"},
		[]int{1, 1, 1, 1, 2, 2, 2, 2, 3, 3},
		[]int{1, 2, 2, 2, 1, 3, 3, 2, 1, 3})
	p := ch.Pairs[0]
	list := p.Intensities(&p.Zones[0], UniformRate(ch.Pairs, 0))
	find := func(level string, from, to int32) Intensity {
		for _, x := range list {
			if x.Level == level && x.From == from && x.To == to {
				return x
			}
		}
		t.Fatalf("no %s %d %d", level, from, to)
		return Intensity{}
	}
	assert.InDelta(t, 7, find("interval", -1, -1).Percent, 1e-9)
	assert.Equal(t, "even", find("interval", -1, -1).Stands)
	gain := find("gain", -1, 2) // 2 of 3 cells of closing
	assert.InDelta(t, 100.*2/3/10, gain.Percent, 1e-9)
	assert.Equal(t, "dormant", gain.Stands)
	loss := find("loss", 0, -1) // 3 of 4 cells of opening
	assert.InDelta(t, 7.5, loss.Percent, 1e-9)
	assert.Equal(t, "active", loss.Stands)
	// Gains of class 2 come from 4 cells of class 1 and 2 of class 3: 3 of these 6 in ten years.
	x := find("transition", 0, 1)
	assert.InDelta(t, 7.5, x.Percent, 1e-9)
	assert.InDelta(t, 5, x.Uniform, 1e-9)
	assert.Equal(t, "targeted", x.Stands)
	assert.Equal(t, "avoided", find("transition", 2, 1).Stands)
	// The losses of class 1 go to 3 of the 4 cells that class 2 closes with and to none of the 3 of class 3: evenly, 3 of 7 in ten years.
	x = find("transition-loss", 0, 1)
	assert.InDelta(t, 7.5, x.Percent, 1e-9)
	assert.InDelta(t, 100.*3/7/10, x.Uniform, 1e-9)
	assert.Equal(t, "targeted", x.Stands)
	assert.Equal(t, "avoided", find("transition-loss", 0, 2).Stands)
}

// Rates are by the days between two dates, over New Year too; between two years by their difference.
func TestYearsBetweenLabels(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want float64
	}{
		{"2020-12-31", "2021-01-01", 1 / 365.2425}, {"2020-01-01", "2021-01-01", 366 / 365.2425}, {"2004", "2020", 16}, {"2019-07", "2020-07", 366 / 365.2425},
		{"2020", "2020-07-01", 182 / 365.2425}, {"2020-02-28", "2020-03-01", 2 / 365.2425}, {"2021", "2020", -1},
	} {
		assert.InDelta(t, c.want, epoch.Years(c.a, c.b), 1e-12, "%s to %s", c.a, c.b)
	}
	assert.True(t, math.IsNaN(epoch.Years("before", "2020")))
}

func TestRates(t *testing.T) {
	all, simple, compound := epoch.Rates(100, 121, 21, 2)
	assert.InDelta(t, 21, all, 1e-12)
	assert.InDelta(t, 10.5, simple, 1e-12)
	assert.InDelta(t, 10, compound, 1e-12)
	_, _, compound = epoch.Rates(100, 0, -100, 5)
	assert.InDelta(t, -100, compound, 1e-12)
	_, simple, compound = epoch.Rates(100, 121, 21, math.NaN())
	assert.True(t, math.IsNaN(simple) && math.IsNaN(compound))
	all, _, _ = epoch.Rates(0, 5, 5, 1)
	assert.True(t, math.IsNaN(all))
}

// Three epochs in which cells flip back, a class appears, and one epoch maps less.
func TestChecksOfChange(t *testing.T) {
	ch := squares(t, []string{"2000", "2005", "2010"},
		[]int{1, 1, 1, 1, 2, 2, 2, 2, 2, 2},
		[]int{2, 2, 1, 1, 2, 2, 2, 3, 255, 2},
		[]int{1, 2, 1, 1, 2, 2, 2, 3, 2, 2})
	require.Len(t, ch.Flips, 1)
	assert.InDelta(t, 1, ch.Flips[0].Back[0], 1e-9)
	assert.InDelta(t, 3, ch.Flips[0].Changed[0], 1e-9)
	got := map[string]check.Check{}
	for _, c := range ch.Check(check.Defaults) {
		got[c.Name] = c
	}
	outcomes := map[string]check.Outcome{}
	for name, c := range got {
		outcomes[name] = c.Outcome
	}
	assert.Equal(t, map[string]check.Outcome{"balance": check.Holds, "outline": check.Holds, "inside": check.Holds, "mapped": check.FallsShort, "extents": check.FallsShort,
		"pace": check.FallsShort, "vanish": check.FallsShort, "flicker": check.FallsShort, "speckle": check.NotMade, "nodata": check.Holds, "unlisted": check.Holds}, outcomes)
	assert.Contains(t, got["vanish"].Text, "Fields appears 2000–2005")
	assert.Contains(t, got["flicker"].Text, "all 33.3 % of what changed by 2005 is back by 2010")
	assert.Contains(t, got["mapped"].Text, "all 10.0 % (2000–2005)")
	assert.Contains(t, got["pace"].Text, "6.67 % a year")

	loose := check.Bounds{"nodata": 50, "mapped": 100, "extents": 100, "pace": 100, "flicker": 100}
	for _, c := range ch.Check(loose) {
		if c.Name != "vanish" && c.Name != "speckle" {
			assert.Equal(t, check.Holds, c.Outcome, c.Name)
		}
	}
	// Extents of the middle epoch, told once although two pairs have it.
	sum := 0.0
	for _, m := range ch.Extents() {
		if m.Epoch == "2005" {
			sum += m.M2
		}
	}
	assert.InDelta(t, 9e4, sum, 1e-3)
}

func TestControls(t *testing.T) {
	ch := squares(t, []string{"2000", "2010"}, []int{1, 1, 2, 2}, []int{1, 2, 2, 2})
	against := func(c check.Control) check.Check {
		return check.AgainstControls([]check.Control{c}, ch.Extents(), area.Units[0], check.Defaults)
	}
	assert.Equal(t, check.Holds, against(check.Control{Zone: "all", Class: "1", Epoch: "2000", M2: 2e4, Tolerance: 0.001}).Outcome)
	assert.Equal(t, check.FallsShort, against(check.Control{Zone: "all", Class: "1", Epoch: "", M2: 2e4, Tolerance: 0.001}).Outcome, "in 2010 it is half of that")
	assert.Equal(t, check.Holds, against(check.Control{Zone: "", Class: "", Epoch: "", M2: 4e4, Tolerance: 0.001}).Outcome)
	short := against(check.Control{Zone: "all", Class: "2", Epoch: "2010", M2: 2.5e4, Tolerance: 10})
	assert.Contains(t, short.Text, "zone all class 2 in 2010 is 3 ha, not 2.5 (+20.000 %, allowed 10 %)")
	assert.Contains(t, against(check.Control{Zone: "nowhere", Class: "2", Epoch: "2010", M2: 1, Tolerance: 1}).Text, "not among what was measured")
}

func TestYears(t *testing.T) {
	assert.Equal(t, 8.0, epoch.Years("2004", "2012"))
	assert.InDelta(t, 0.5, epoch.Years("2004-01-01", "2004-07-01"), 0.01)
	assert.True(t, math.IsNaN(epoch.Years("before", "after")))
	a, b, set, place := sampletest.World(t, 1)
	tl, err := tally.Measure(context.Background(), tally.Request{Layers: []raster.Source{a, b}, Zones: set, Placement: place})
	require.NoError(t, err)
	c := &cover.Coder{}
	_, err = Compare(Input{Epochs: []string{"2020", "2004"}, Coders: []*cover.Coder{c, c}, Tally: tl, Zones: set, Placement: place}, area.Units[0])
	assert.ErrorContains(t, err, "order of time")
}
