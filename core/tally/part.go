package tally

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spread"
)

// Part is one of several parts of a job, which can be measured apart and added up by [Gather]: the I-th of N, from 1. The zero value is the whole.
type Part struct{ I, N int }

// ParsePart reads a part from a text such as 3/64, or 2+1/64, as it comes of schedulers that count from 0.
func ParsePart(text string) (p Part, err error) {
	var rest string
	if index, of, ok := strings.Cut(text, "+1/"); ok {
		if i, err := strconv.Atoi(index); err == nil && strconv.Itoa(i) == index && i >= 0 && i < 1<<20 {
			text = fmt.Sprintf("%d/%s", i+1, of)
		}
	}
	if n, _ := fmt.Sscanf(text, "%d/%d%s", &p.I, &p.N, &rest); n != 2 || p.I < 1 || p.N < p.I || p.N > 1<<20 || text != p.String() {
		return Part{}, fmt.Errorf("%q is not a part, such as 3/64: the third of 64", text)
	}
	return p, nil
}

func (p Part) String() string { return fmt.Sprintf("%d/%d", p.I, p.N) }

// share is which windows of a pass a part has: those from one number to another. All parts together have every window once; they have about the same number of bytes to decode, in windows that zones
// may touch.
func (p *pass) share() (from, to int64) {
	total := int64(len(p.bands) * p.across)
	if p.req.Part.N <= 1 {
		return 0, total
	}
	ends := make([]int64, 0, total) // the sums of weights up to each window
	sum := int64(0)
	touched := make([]bool, p.across)
	for _, b := range p.bands {
		clear(touched)
		mark := func(z int) {
			o := &p.req.Placement.Outlines[z]
			for w := p.windowOf(int32(o.ColFrom)); w <= p.windowOf(int32(o.ColTo-1)); w++ {
				touched[w] = true
			}
		}
		for _, z := range b.zones {
			mark(z)
		}
		for w := range p.across {
			if len(b.alone[w]) > 0 {
				touched[w] = true
			}
			if touched[w] {
				for _, l := range p.req.Layers {
					sum += raster.Weight(l, b.window(w))
				}
			}
			ends = append(ends, sum)
		}
	}
	at := func(i int) int64 { // the first window that lies behind the i-th of n equal shares
		if i == p.req.Part.N {
			return total
		}
		limit := sum / int64(p.req.Part.N) * int64(i)
		k, _ := slices.BinarySearchFunc(ends, limit, func(end, limit int64) int {
			if end <= limit {
				return -1
			}
			return 1
		})
		return int64(k)
	}
	if p.req.Part.I == 1 {
		return 0, at(1)
	}
	return at(p.req.Part.I - 1), at(p.req.Part.I)
}

// Gather adds up the tallies of all parts of one request: it is the same as that of the whole, but for values that do not occur. sets are those of the request, and most is how many values a layer may have, as in
// [Request].
func Gather(parts []*Tally, sets []Set, most int, names []string) (*Tally, error) {
	if len(parts) == 0 {
		return nil, fmt.Errorf("there are no parts to add up")
	}
	first := parts[0]
	out := &Tally{Quantum: first.Quantum, Members: first.Members}
	slots := make([][][]Slot, len(parts)) // by part, layer and slot of the part: the slot of the sum
	for i, t := range parts {
		if t.Quantum != first.Quantum || len(t.Groups) != len(first.Groups) || len(t.Numbers) != len(first.Numbers) || !slices.EqualFunc(t.Members, first.Members, slices.Equal[[]int]) {
			return nil, fmt.Errorf("the parts are not of one job")
		}
		for g := range t.Groups {
			if len(t.Groups[g]) != len(first.Groups[g]) {
				return nil, fmt.Errorf("the parts are not of one job")
			}
		}
		slots[i] = make([][]Slot, len(t.Numbers))
		out.Tiles += t.Tiles
	}
	for n := range first.Numbers {
		var all []float64
		for _, t := range parts {
			all = append(all, t.Numbers[n][1:]...)
		}
		slices.Sort(all)
		all = slices.Compact(all)
		if limit := max(maxValues, most); len(all) > limit {
			return nil, tooMany(names[n], limit)
		}
		out.Numbers = append(out.Numbers, append([]float64{nan}, all...))
		for i, t := range parts {
			slots[i][n] = make([]Slot, len(t.Numbers[n]))
			for k, v := range t.Numbers[n][1:] {
				at, _ := slices.BinarySearch(all, v)
				slots[i][n][k+1] = Slot(at + 1)
			}
		}
	}
	for g, members := range first.Members {
		all, numbers := joinSequences(parts, g, slots)
		zones := make([]Zone, len(first.Groups[g]))
		spread.Over(len(zones), func() func(int) {
			var found []foundValue
			return func(z int) {
				found = found[:0]
				for i, t := range parts {
					one := &t.Groups[g][z]
					for k, v := range one.Values {
						if numbers != nil {
							v[0] = numbers[i][v[0]]
						} else {
							for m, layer := range members {
								v[m] = slots[i][layer][v[m]]
							}
						}
						found = append(found, foundValue{v, one.Extents[k]})
					}
				}
				zones[z] = added(found)
			}
		})
		out.Groups, out.Sequences = append(out.Groups, zones), append(out.Sequences, all)
	}
	out.Zones = out.Groups[0]
	out.Overlaps, out.ManyOverlaps = sumOverlaps(parts, (&Request{Sets: sets}).sets())
	return out, nil
}

// joinSequences numbers the sequences of all parts in a group of more than three layers: numbers is by part and its number the number in the whole. slots are by part, layer and
// slot of the part the slot of the whole. For other groups it is nil.
func joinSequences(parts []*Tally, group int, slots [][][]Slot) (all [][]Slot, numbers [][]Slot) {
	members := parts[0].Members[group]
	if len(members) <= len(Value{}) {
		return nil, nil
	}
	lists := make([][][]Slot, len(parts))
	for i, t := range parts {
		for _, s := range t.Sequences[group] {
			list := make([]Slot, len(s))
			for k, layer := range members {
				list[k] = slots[i][layer][s[k]]
			}
			lists[i] = append(lists[i], list)
		}
	}
	return numberSequences(lists...)
}

// sumOverlaps joins the pairs of zones that parts have found to share ground.
func sumOverlaps(parts []*Tally, sets []Set) (pairs [][2]int, many []int) {
	p := &pass{sets: sets}
	full, count := make([]bool, len(sets)), make([]int, len(sets))
	for _, t := range parts {
		for _, s := range t.ManyOverlaps {
			if s < len(full) {
				full[s] = true
			}
		}
		pairs = append(pairs, t.Overlaps...)
	}
	slices.SortFunc(pairs, func(a, b [2]int) int { return cmp.Or(a[0]-b[0], a[1]-b[1]) })
	pairs = slices.Compact(pairs)
	for _, pair := range pairs {
		count[p.setOf(pair[0])]++
	}
	for i := range full {
		if full[i] || count[i] > mostOverlaps {
			full[i], many = true, append(many, i)
		}
	}
	pairs = slices.DeleteFunc(pairs, func(pair [2]int) bool { return full[p.setOf(pair[0])] })
	if len(pairs) == 0 {
		pairs = nil
	}
	return pairs, many
}
