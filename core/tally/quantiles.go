package tally

import (
	"context"
	"math"
	"math/big"

	"github.com/verdex-land/verdex/core/raster/view"

	"github.com/verdex-land/verdex/core/raster"
)

// Fixed is the area as a whole number of 1/zone.WholeCell of the unit of areas, exactly.
func (e Extent) Fixed() *big.Int { return e.Total.big() }

func (s Sum) big() *big.Int {
	v := new(big.Int).Lsh(big.NewInt(s.hi), 64)
	return v.Add(v, new(big.Int).SetUint64(s.lo))
}

// target is a quantile that is being narrowed down: its value has the leading bits prefix.
type target struct {
	zone   int
	share  int
	prefix uint64
	below  *big.Int // area of the values below all with the prefix
	need   *big.Int // area that is to be reached, times 100
	found  bool     // whether the zone has any area
}

// Quantiles finds, for each zone and each share in percent, the least value of a layer of measurements such that at
// least that part of the area has it or less. It is exact however many values there are, in memory that does not
// depend on them: values are ordered numbers of 64 bits, of which each reading of the raster settles some more,
// first sixteen and then eight at a time.
func Quantiles(ctx context.Context, req Request, shares []int) ([][]float64, error) {
	var out [][]float64
	all, placed := *req.Zones, *req.Placement
	for from := 0; from < len(all.Zones); from += zonesAtOnce {
		to := min(from+zonesAtOnce, len(all.Zones))
		set, place := all, placed
		set.Zones, place.Outlines = all.Zones[from:to], placed.Outlines[from:to]
		req.Zones, req.Placement = &set, &place
		some, err := quantiles(ctx, req, shares)
		if err != nil {
			return nil, err
		}
		out = append(out, some...)
	}
	return out, nil
}

// zonesAtOnce is of how many zones quantiles are found in one go. Each zone remembers the values that occur in it, of which there are as many as
// cells in the worst case.
const zonesAtOnce = 4096

func quantiles(ctx context.Context, req Request, shares []int) ([][]float64, error) {
	var targets []*target
	for z := range req.Zones.Zones {
		for _, s := range shares {
			targets = append(targets, &target{zone: z, share: s, below: new(big.Int)})
		}
	}
	width := uint(64)
	if req.Layers[0].Header().Type == raster.Float32 {
		width = 32
	}
	for done, step := uint(0), uint(16); done < width; done, step = done+step, 8 {
		if err := narrow(ctx, req, targets, width, done, step); err != nil {
			return nil, err
		}
	}
	out := make([][]float64, len(req.Zones.Zones))
	for _, t := range targets {
		v := math.NaN()
		if t.found {
			v = fromOrdered(t.prefix, width)
		}
		out[t.zone] = append(out[t.zone], v)
	}
	return out, nil
}

// narrow settles the next bits of all targets, after the done first ones.
func narrow(ctx context.Context, req Request, targets []*target, width, done, step uint) error {
	groups := map[uint64]int{}
	for _, t := range targets {
		if _, known := groups[t.prefix]; !known && (t.found || done == 0) {
			groups[t.prefix] = len(groups)
		}
	}
	src := req.Layers[0]
	h := src.Header()
	none := -1.0
	view := view.Map(src, raster.Header{Name: src.Header().Name, Type: raster.Float64, NoData: &none}, func(v float64) (float64, error) {
		if h.Missing(v) || math.IsInf(v, 0) {
			return none, nil
		}
		k := ordered(v, width)
		g, wanted := groups[k>>(width-done)]
		if done == 0 {
			g, wanted = 0, true
		}
		if !wanted {
			return none, nil
		}
		return float64(g<<step | int(k>>(width-done-step)&(1<<step-1))), nil
	})
	next := req
	next.Layers = []raster.Source{view}
	next.Values = len(groups)<<step + 1
	t, err := Measure(ctx, next)
	if err != nil {
		return err
	}
	for _, q := range targets {
		if done > 0 && !q.found {
			continue
		}
		q.settle(t, groups[q.prefix], done == 0, step)
	}
	return nil
}

// settle finds the next bits of a target in what was measured in its zone.
func (q *target) settle(t *Tally, group int, first bool, step uint) {
	z := &t.Zones[q.zone]
	if first {
		total := new(big.Int)
		for i, v := range z.Values {
			if v[0] != Missing {
				total.Add(total, z.Extents[i].Fixed())
			}
		}
		q.found = total.Sign() > 0
		q.need = total.Mul(total, big.NewInt(int64(q.share)))
	}
	if !q.found {
		return
	}
	reached := new(big.Int).Set(q.below)
	for i, v := range z.Values { // they come in order
		if v[0] == Missing || int(t.Numbers[0][v[0]])>>step != group {
			continue
		}
		code := int(t.Numbers[0][v[0]])
		before := new(big.Int).Set(reached)
		reached.Add(reached, z.Extents[i].Fixed())
		if new(big.Int).Mul(reached, big.NewInt(100)).Cmp(q.need) >= 0 {
			q.prefix, q.below = q.prefix<<step|uint64(code&(1<<step-1)), before
			return
		}
	}
}

// ordered turns a number into an integer of 32 or 64 bits that sorts as it does.
func ordered(v float64, width uint) uint64 {
	if v == 0 {
		v = 0 // one zero
	}
	if width == 32 {
		u := math.Float32bits(float32(v))
		if u>>31 == 1 {
			return uint64(^u)
		}
		return uint64(u | 1<<31)
	}
	u := math.Float64bits(v)
	if u>>63 == 1 {
		return ^u
	}
	return u | 1<<63
}

func fromOrdered(k uint64, width uint) float64 {
	if width == 32 {
		u := uint32(k)
		if u>>31 == 1 {
			return float64(math.Float32frombits(u &^ (1 << 31)))
		}
		return float64(math.Float32frombits(^u))
	}
	if k>>63 == 1 {
		return math.Float64frombits(k &^ (1 << 63))
	}
	return math.Float64frombits(^k)
}
