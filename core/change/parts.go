package change

import (
	"math"

	"github.com/verdex-land/verdex/core/area"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/tally"
)

// Parts are the components of difference of a class in a zone, of Pontius and Santacruz, "Quantity, exchange, and shift
// components of difference in a square contingency table", International Journal of Remote Sensing 35 (2014).
// With C the matrix of areas, from rows to columns, and for class j
//
//	gain_j = Σᵢ C_ij − C_jj,  loss_j = Σᵢ C_ji − C_jj
//	quantity_j = |gain_j − loss_j|
//	exchange_j = 2·Σ_{i≠j} min(C_ij, C_ji)
//	shift_j    = gain_j + loss_j − quantity_j − exchange_j
//
// All are exact, so that quantity + exchange + shift = gain + loss to the last unit. Each of the three of the whole zone
// is half the sum over classes, because every change is a gain of one class and a loss of another; they sum to
// the ground that changed.
type Parts struct {
	Class                     cover.Class
	Gain, Loss                tally.Sum // in units of the tally's areas / zone.WholeCell
	Quantity, Exchange, Shift tally.Sum // of a whole zone: twice what they are
	// In the unit of the change.
	GainArea, LossArea, NetArea           float64
	QuantityArea, ExchangeArea, ShiftArea float64
}

// Parts gives the components of each class and of the whole zone.
func (c *Change) Parts(z *ZoneChange) (classes []Parts, whole Parts) {
	n := len(c.Legend.Classes)
	classes = make([]Parts, n)
	moved := map[[2]int32]tally.Sum{}
	for _, t := range z.Transitions {
		if int(t.From) >= n || int(t.To) >= n || t.From == t.To {
			continue
		}
		a := t.Extent.Total
		moved[[2]int32{t.From, t.To}] = a
		classes[t.From].Loss.Add(a)
		classes[t.To].Gain.Add(a)
	}
	for k, there := range moved {
		back := moved[[2]int32{k[1], k[0]}]
		least := there
		if back.Less(there) {
			least = back
		}
		classes[k[0]].Exchange.Add(least) // of both directions: twice for each of the two classes
		classes[k[1]].Exchange.Add(least)
	}
	for k := range classes {
		p := &classes[k]
		p.Class = c.Legend.Classes[k]
		if p.Quantity = p.Gain.Minus(p.Loss); p.Quantity.Less(tally.Sum{}) {
			p.Quantity = p.Loss.Minus(p.Gain)
		}
		p.Shift = p.Gain
		p.Shift.Add(p.Loss)
		p.Shift = p.Shift.Minus(p.Quantity).Minus(p.Exchange)
		c.measure(p)
		whole.Gain.Add(p.Gain)
		whole.Loss.Add(p.Loss)
		whole.Quantity.Add(p.Quantity)
		whole.Exchange.Add(p.Exchange)
		whole.Shift.Add(p.Shift)
	}
	c.measure(&whole)
	whole.QuantityArea, whole.ExchangeArea, whole.ShiftArea = whole.QuantityArea/2, whole.ExchangeArea/2, whole.ShiftArea/2
	return classes, whole
}

func (c *Change) measure(p *Parts) {
	area := func(s tally.Sum) float64 { return s.Area(c.quantum) / c.Unit.M2 }
	p.GainArea, p.LossArea, p.NetArea = area(p.Gain), area(p.Loss), area(p.Gain.Minus(p.Loss))
	p.QuantityArea, p.ExchangeArea, p.ShiftArea = area(p.Quantity), area(p.Exchange), area(p.Shift)
}

// Intensity is how fast ground changed, beside the uniform rate that it would have if the change were spread evenly:
// the intensity analysis of Aldwaik and Pontius, "Intensity analysis to unify measurements of size and stationarity of land
// changes by interval, category, and transition", Landscape and Urban Planning 106 (2012). With Y the years of the interval, the
// levels are
//
//	interval    changed / mapped / Y                      beside the same over all intervals
//	gain of j   gain_j / closing_j / Y                    beside changed / mapped / Y
//	loss of i   loss_i / opening_i / Y                    beside changed / mapped / Y
//	i to j      C_ij / opening_i / Y                      beside gain_j / Σ_{i≠j} opening_i / Y    (where the gains of j come from)
//	            C_ij / closing_j / Y                      beside loss_i / Σ_{j≠i} closing_j / Y    (where the losses of i go to)
//
// in percent a year, or in percent of the interval where the labels are not dates.
type Intensity struct {
	Level     string // interval, gain, loss, transition or, of what losses become, transition-loss
	From, To  int32  // places in the legend; -1 where there is none
	Yearly    float64
	Percent   float64 // the intensity
	Uniform   float64
	Stands    string // fast or slow; active or dormant; targeted or avoided; even
	PerPeriod bool   // not by year
}

// Intensities gives those of a zone: of the interval first. uniform is the rate of all intervals of the zone.
func (c *Change) Intensities(z *ZoneChange, uniform float64) []Intensity {
	y, period := c.Years, math.IsNaN(c.Years)
	if period {
		y = 1
	}
	stands := func(v, u float64, more, less string) string {
		switch {
		case math.Abs(v-u) <= 1e-12*math.Max(v, u):
			return "even"
		case v > u:
			return more
		}
		return less
	}
	s := z.Rate(c.Years)
	out := []Intensity{{"interval", -1, -1, z.Changed / y, s, uniform, stands(s, uniform, "fast", "slow"), period}}
	balances := c.Balances(z)
	opening, closing := 0.0, 0.0
	for k, b := range balances {
		opening, closing = opening+b.OpeningArea, closing+b.ClosingArea
		if b.ClosingArea > 0 {
			v := b.AdditionsArea / b.ClosingArea / y * 100
			out = append(out, Intensity{"gain", -1, int32(k), b.AdditionsArea / y, v, s, stands(v, s, "active", "dormant"), period})
		}
		if b.OpeningArea > 0 {
			v := b.ReductionsArea / b.OpeningArea / y * 100
			out = append(out, Intensity{"loss", int32(k), -1, b.ReductionsArea / y, v, s, stands(v, s, "active", "dormant"), period})
		}
	}
	moved := map[[2]int32]float64{}
	for _, t := range z.Transitions {
		moved[[2]int32{t.From, t.To}] = c.Area(t.Extent)
	}
	for to, b := range balances { // also from classes that gave nothing: they are avoided
		if b.Additions.IsZero() {
			continue
		}
		u := b.AdditionsArea / (opening - b.OpeningArea) / y * 100
		for from, a := range balances {
			if from != to && a.OpeningArea > 0 {
				area := moved[[2]int32{int32(from), int32(to)}]
				v := area / a.OpeningArea / y * 100
				out = append(out, Intensity{"transition", int32(from), int32(to), area / y, v, u, stands(v, u, "targeted", "avoided"), period})
			}
		}
	}
	for from, a := range balances { // also to classes that took nothing
		if a.Reductions.IsZero() {
			continue
		}
		u := a.ReductionsArea / (closing - a.ClosingArea) / y * 100
		for to, b := range balances {
			if from != to && b.ClosingArea > 0 {
				area := moved[[2]int32{int32(from), int32(to)}]
				v := area / b.ClosingArea / y * 100
				out = append(out, Intensity{"transition-loss", int32(from), int32(to), area / y, v, u, stands(v, u, "targeted", "avoided"), period})
			}
		}
	}
	return out
}

// Rate is the share of the ground that both epochs map that changed, in percent a year, or of the period where years is NaN.
func (z *ZoneChange) Rate(years float64) float64 {
	if math.IsNaN(years) {
		years = 1
	}
	return area.Percent(z.Changed, z.Mapped) / years
}

// UniformRate is the rate of a zone over several intervals: all that changed, by the ground mapped and the time.
func UniformRate(pairs []*Change, zone int) float64 {
	changed, time := 0.0, 0.0
	for _, c := range pairs {
		if c.Whole {
			continue
		}
		y := c.Years
		if math.IsNaN(y) {
			y = 1
		}
		changed += area.Percent(c.Zones[zone].Changed, c.Zones[zone].Mapped)
		time += y
	}
	if time == 0 {
		return 0
	}
	return changed / time
}
