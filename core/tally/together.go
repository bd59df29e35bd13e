package tally

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/spread"
	"github.com/verdex-land/verdex/core/zone"
)

// Keyed is a request whose layers and zones have keys: what has the same key in two requests is the same.
type Keyed struct {
	Request
	LayerKeys []string // by layer
	ZonesKey  string   // of the zones with their placement and their sets
	Beside    []string // keys of layers that its own layers are computed from: it is done in the pass in which these are read
}

// Together does requests in as few passes as possible: those that share a layer are done in one pass, which reads each tile once. It returns
// a tally for each request, the same as [Measure] returns for it but for the number of tiles, and for values that do not occur; or an
// error. Threads, Progress and Part are those of the first request.
func Together(ctx context.Context, reqs []Keyed) ([]*Tally, []error) {
	out, errs := make([]*Tally, len(reqs)), make([]error, len(reqs))
	for _, members := range connected(reqs) {
		if len(members) > 1 {
			j := joined{zones: map[string]int{}, layers: map[string]int{}}
			j.req.Threads, j.req.Progress, j.req.Part = reqs[0].Threads, reqs[0].Progress, reqs[0].Part
			for _, i := range members {
				j.add(&reqs[i])
			}
			if t, err := Measure(ctx, j.request()); err == nil {
				for k, i := range members {
					out[i] = j.part(t, k)
				}
				continue
			}
			// Which of them fails, and why, shows when each is done by itself.
		}
		for _, i := range members {
			r := reqs[i].Request
			r.Threads, r.Progress, r.Part = reqs[0].Threads, reqs[0].Progress, reqs[0].Part
			out[i], errs[i] = Measure(ctx, r)
		}
	}
	return out, errs
}

// connected groups requests that share layers, directly or by others.
func connected(reqs []Keyed) (out [][]int) {
	of := map[string]int{} // by layer: the group
	for i := range reqs {
		g := reqs[i].Placement.Grid
		grid := fmt.Sprintf("%d %d %x %x %x %x %v ", g.Width, g.Height, g.X0, g.Y0, g.DX, g.DY, g.CRS)
		at := len(out)
		out = append(out, []int{i})
		for _, key := range append(slices.Clone(reqs[i].LayerKeys), reqs[i].Beside...) {
			other, known := of[grid+key]
			if known && other != at { // both become one
				low, high := min(at, other), max(at, other)
				out[low] = append(out[low], out[high]...)
				out[high] = nil
				for k, v := range of {
					if v == high {
						of[k] = low
					}
				}
				at = low
			}
			of[grid+key] = at
		}
	}
	out = slices.DeleteFunc(out, func(members []int) bool { return members == nil })
	for _, members := range out {
		slices.Sort(members)
	}
	return out
}

// joined is several requests as one.
type joined struct {
	req    Request
	layers map[string]int // by key
	groups [][]int
	blocks []zoneBlock
	zones  map[string]int // by key: the block
	parts  []joinedPart
}

// zoneBlock is the zones of one request or more.
type zoneBlock struct {
	zones    *zone.Set
	place    *zone.Placement
	sets     []Set
	first    int // its first zone
	firstSet int
	wanted   [][]int // groups of layers
}

// joinedPart is one of the requests.
type joinedPart struct {
	block  int
	layers []int   // by layer of the request
	groups [][]int // in its own numbers
}

func (j *joined) add(r *Keyed) {
	p := joinedPart{groups: r.groups()}
	for i, key := range r.LayerKeys {
		n, known := j.layers[key]
		if !known {
			n = len(j.req.Layers)
			j.layers[key] = n
			j.req.Layers = append(j.req.Layers, r.Layers[i])
		} else if raster.KeepsAll(r.Layers[i]) && !raster.KeepsAll(j.req.Layers[n]) { // others read its blocks, too
			j.req.Layers[n] = r.Layers[i]
		}
		p.layers = append(p.layers, n)
	}
	j.req.Values = max(j.req.Values, r.Values)
	var centres strings.Builder
	for _, s := range r.sets() {
		fmt.Fprint(&centres, s.First, s.Centres, " ")
	}
	key := r.ZonesKey + " " + centres.String()
	at, known := j.zones[key]
	if !known {
		at = len(j.blocks)
		j.zones[key] = at
		j.blocks = append(j.blocks, zoneBlock{zones: r.Zones, place: r.Placement, sets: r.sets()})
	}
	p.block = at
	for _, g := range p.groups {
		j.blocks[at].wanted = append(j.blocks[at].wanted, p.mapped(g))
	}
	j.parts = append(j.parts, p)
}

// mapped is a group of layers in the numbers of the joined request.
func (p *joinedPart) mapped(group []int) (out []int) {
	for _, k := range group {
		out = append(out, p.layers[k])
	}
	return out
}

// holds reports whether all of a group is in another one.
func holds(all, group []int) bool {
	return !slices.ContainsFunc(group, func(n int) bool { return !slices.Contains(all, n) })
}

// request is all of them as one. Of groups that are in others only these are measured: sums of the parts of ground are exact.
func (j *joined) request() Request {
	var all [][]int
	for _, b := range j.blocks {
		all = append(all, b.wanted...)
	}
	slices.SortStableFunc(all, func(a, b []int) int { return len(b) - len(a) })
	for _, g := range all {
		if !slices.ContainsFunc(j.groups, func(other []int) bool { return holds(other, g) }) {
			j.groups = append(j.groups, g)
		}
	}
	j.req.Groups = j.groups
	zones, place := *j.blocks[0].zones, *j.blocks[0].place
	zones.Zones, place.Outlines = nil, nil
	for i := range j.blocks {
		b := &j.blocks[i]
		b.first, b.firstSet = len(zones.Zones), len(j.req.Sets)
		var wanted []int
		for g, group := range j.groups {
			if slices.ContainsFunc(b.wanted, func(w []int) bool { return j.from(w) == g && holds(group, w) }) {
				wanted = append(wanted, g)
			}
		}
		for _, s := range b.sets {
			j.req.Sets = append(j.req.Sets, Set{First: b.first + s.First, Centres: s.Centres, Groups: wanted})
		}
		zones.Zones = append(zones.Zones, b.zones.Zones...)
		place.Outlines = append(place.Outlines, b.place.Outlines...)
	}
	j.req.Zones, j.req.Placement = &zones, &place
	return j.req
}

// from is the group that is measured from which another one is taken: itself, or the first that holds it.
func (j *joined) from(group []int) int {
	if k := slices.IndexFunc(j.groups, func(g []int) bool { return slices.Equal(g, group) }); k >= 0 {
		return k
	}
	return slices.IndexFunc(j.groups, func(g []int) bool { return holds(g, group) })
}

// part is the tally of the k-th request.
func (j *joined) part(t *Tally, k int) *Tally {
	p := &j.parts[k]
	b := &j.blocks[p.block]
	n := len(b.zones.Zones)
	out := &Tally{Quantum: t.Quantum, Members: p.groups, Tiles: t.Tiles}
	for _, l := range p.layers {
		out.Numbers = append(out.Numbers, t.Numbers[l])
	}
	for _, own := range p.groups {
		group := p.mapped(own)
		g := j.from(group)
		zones := t.Groups[g][b.first : b.first+n : b.first+n]
		var sequences [][]Slot
		if slices.Equal(j.groups[g], group) {
			sequences = t.Sequences[g]
		} else {
			var at []int
			for _, l := range group {
				at = append(at, slices.Index(j.groups[g], l))
			}
			zones, sequences = t.project(g, zones, at)
		}
		out.Groups, out.Sequences = append(out.Groups, zones), append(out.Sequences, sequences)
	}
	out.Zones = out.Groups[0]
	for _, pair := range t.Overlaps {
		if pair[0] >= b.first && pair[1] < b.first+n {
			out.Overlaps = append(out.Overlaps, [2]int{pair[0] - b.first, pair[1] - b.first})
		}
	}
	for _, s := range t.ManyOverlaps {
		if s >= b.firstSet && s < b.firstSet+len(b.sets) {
			out.ManyOverlaps = append(out.ManyOverlaps, s-b.firstSet)
		}
	}
	return out
}

// regrouped adds up what zones hold by other values.
func regrouped(zones []Zone, value func(v *Value) Value) []Zone {
	out := make([]Zone, len(zones))
	spread.Over(len(zones), func() func(int) {
		var found []foundValue
		return func(i int) {
			found = found[:0]
			for k := range zones[i].Values {
				found = append(found, foundValue{value(&zones[i].Values[k]), zones[i].Extents[k]})
			}
			out[i] = added(found)
		}
	})
	return out
}

// added is the zone of values of which some may come several times.
func added(found []foundValue) (z Zone) {
	slices.SortFunc(found, func(a, b foundValue) int { return slices.Compare(a.value[:], b.value[:]) })
	for _, f := range found {
		if last := len(z.Values) - 1; last >= 0 && z.Values[last] == f.value {
			z.Extents[last].Add(f.extent)
			continue
		}
		z.Values, z.Extents = append(z.Values, f.value), append(z.Extents, f.extent)
	}
	return z
}

// Split divides a request into one for each group of layers.
func Split(r Keyed) (out []Keyed) {
	for _, g := range r.groups() {
		one := r
		one.Layers, one.LayerKeys, one.Groups = nil, nil, nil
		for _, n := range g {
			one.Layers, one.LayerKeys = append(one.Layers, r.Layers[n]), append(one.LayerKeys, r.LayerKeys[n])
		}
		out = append(out, one)
	}
	return out
}

// Join makes the tally of a request of those of its groups, as [Split] divides it.
func Join(r Keyed, parts []*Tally) *Tally {
	groups := r.groups()
	out := &Tally{Quantum: parts[0].Quantum, Members: groups, Numbers: make([][]float64, len(r.Layers)), Overlaps: parts[0].Overlaps, ManyOverlaps: parts[0].ManyOverlaps}
	for n := range r.Layers {
		var all []float64
		for g, members := range groups {
			if k := slices.Index(members, n); k >= 0 {
				all = append(all, parts[g].Numbers[k][1:]...)
			}
		}
		slices.Sort(all)
		out.Numbers[n] = append([]float64{nan}, slices.Compact(all)...)
	}
	for g, members := range groups {
		p := parts[g]
		out.Tiles = max(out.Tiles, p.Tiles)
		slots := make([][]Slot, len(members)) // by layer of the group and its slot: the slot in the whole
		same := true
		for k, n := range members {
			slots[k] = make([]Slot, len(p.Numbers[k]))
			for s := 1; s < len(slots[k]); s++ {
				at, _ := slices.BinarySearch(out.Numbers[n][1:], p.Numbers[k][s])
				slots[k][s] = Slot(at + 1)
				same = same && at+1 == s
			}
		}
		zones := p.Groups[0]
		var sequences [][]Slot
		if len(members) > len(Value{}) {
			for _, s := range p.Sequences[0] {
				list := slices.Clone(s)
				for k := range list {
					list[k] = slots[k][list[k]]
				}
				sequences = append(sequences, list) // in order, as those of the part are
			}
		} else if !same {
			zones = make([]Zone, len(p.Groups[0]))
			for i, z := range p.Groups[0] {
				values := slices.Clone(z.Values)
				for j := range values {
					for k := range members {
						values[j][k] = slots[k][values[j][k]]
					}
				}
				zones[i] = Zone{values, z.Extents}
			}
		}
		out.Groups, out.Sequences = append(out.Groups, zones), append(out.Sequences, sequences)
	}
	out.Zones = out.Groups[0]
	return out
}
