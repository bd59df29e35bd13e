// Package tally measures: it reads every tile that a zone touches once and adds up, exactly,
// how much true ground each value (or pair of values) holds in each zone.
//
// The way of the data: [Measure] divides the grid into bands of tiles; a band's zones are cut
// into spans when the first worker comes to it (band.go); a worker then decodes a tile and its
// kernel (kernel.go) adds it up by runs; the workers' sums are integers (sum.go), so that the
// result does not depend on who added what when.
package tally

import (
	"context"
	"errors"
	"fmt"
	"math"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// Request is a measuring job.
type Request struct {
	// Layers are rasters on the same cells.
	Layers []raster.Source
	// Groups are the layers whose combinations of values are wanted; nil for one group of all. One, two or three layers are counted as values, more as sequences.
	Groups    [][]int
	Zones     *zone.Set
	Placement *zone.Placement // of Zones on the grid of the layers
	Centres   bool            // edges by cell centres instead of exact shares
	Threads   int             // 0 takes all processors
	Values    int             // how many different values a layer may have; 0 is 65,536
	// Sets are the sets that Zones consists of, one after another, nil for one: zones of different sets may share ground.
	Sets []Set
	Part Part // which part of the job is done; the zero value is all of it
	// Progress, when not nil, is called from time to time with how many of the tiles that zones touch
	// are done. Calls come from several goroutines.
	Progress func(done, total int)
}

// Set is a set of zones among those of a request.
type Set struct {
	First   int   // its first zone; it ends where the next set begins
	Centres bool  // edges by cell centres, whatever the request has
	Groups  []int // the groups of layers that are wanted, in rising order; nil for all
}

// Slot numbers the values of a layer: Missing, then the others in rising order. See [Tally.Number].
type Slot int32

// Missing is the slot of cells without data, whatever the layer has for them.
const Missing Slot = 0

// Value is what the layers of a group hold in a cell: the slots of one value, two or three; the others are Missing. For a group of more layers the first
// is the place of their slots in [Tally.Sequences]. See [Tally.Slots].
type Value [3]Slot

// Zone is what was measured in a zone: the extent of each value, by value.
type Zone struct {
	Values  []Value
	Extents []Extent
}

// Tally is the outcome of a job.
type Tally struct {
	Quantum float64  // m² in one unit of the extents
	Zones   []Zone   // of the first group, in the order of Request.Zones
	Groups  [][]Zone // of each group
	// Numbers are the values of each layer by slot, that of Missing being NaN; there may be some that do not occur.
	Numbers [][]float64
	Members [][]int // the layers of each group
	// Sequences are, for each group of more than three layers, the sequences of slots that its values number, in order; nil for others.
	Sequences [][][]Slot
	Tiles     int // windows that were read
	// Overlaps are the pairs of zones of one set that share whole cells, by their numbers in order; each zone counts such
	// cells in full. ManyOverlaps are the sets in which there are more than a thousand, which are not listed.
	Overlaps     [][2]int
	ManyOverlaps []int
}

// Number is the value that a slot of the k-th layer of a group stands for, NaN for Missing.
func (t *Tally) Number(group, k int, s Slot) float64 { return t.Numbers[t.Members[group][k]][s] }

// Whole makes the one zone of a job without zones: the ground within the border of the grid.
func Whole(g raster.Grid) (*zone.Set, *zone.Placement, error) {
	w, south, e, n := g.Bounds()
	ring := zone.Ring{{w, south}, {e, south}, {e, n}, {w, n}}
	set := &zone.Set{Source: "the whole raster", CRS: g.CRS, Zones: []zone.Zone{{ID: "all", Name: "whole raster", Features: 1, Polygons: []zone.Polygon{{ring}}}}}
	p, err := set.Place(g)
	if err != nil {
		return nil, nil, err
	}
	if len(p.Outlines[0].Rings) == 0 {
		return nil, nil, fmt.Errorf("the raster lies where %v is not defined: check that the CRS is the right one", g.CRS)
	}
	return set, p, nil
}

// Measure does the job. Layers that do not lie on the grid of the placement are an error, and so is an outline that
// turns out to cover ground more than once.
func Measure(ctx context.Context, req Request) (*Tally, error) {
	g := req.Placement.Grid
	if err := req.check(); err != nil {
		return nil, err
	}
	areas, err := raster.NewAreas(g)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", req.Layers[0].Header().Name, err)
	}
	p := newPass(req, areas)
	workers := make([]*worker, req.threads())
	err = p.run(ctx, func(i int) func(*zone.Cutter, *band, int) error {
		workers[i] = newWorker(p)
		return workers[i].tile
	})
	if err != nil {
		return nil, err
	}
	for _, w := range workers {
		w.settle()
	}
	if z := p.overlap.Load(); z != nil {
		x, y := g.Point(float64(z.cell[0])+0.5, float64(z.cell[1])+0.5)
		return nil, fmt.Errorf("%s: zone %s: its outline covers the ground at x %.8g, y %.8g of the raster more than once: mend the outline, because its area is uncertain",
			req.Zones.Source, req.Zones.Zones[z.zone].ID, x, y)
	}
	numbers := p.number(workers)
	for n, l := range req.Layers {
		if most := max(maxValues, req.Values); len(numbers[n])-1 > most {
			return nil, tooMany(l.Header().Name, most)
		}
	}
	return p.gather(workers, numbers), nil
}

// check refuses layers that do not lie on the grid that zones are placed on.
func (r *Request) check() error {
	if len(r.Layers) == 0 {
		return errors.New("there is no raster to measure")
	}
	for _, l := range r.Layers {
		h := l.Header()
		if err := r.Placement.Grid.Aligned(h.Grid); err != nil {
			return fmt.Errorf("%s does not lie on the grid that is measured (%w)", h.Name, err)
		}
	}
	return nil
}

// number numbers the values that the workers have met, by layer: it gives each slot of theirs its slot in the tally.
func (p *pass) number(workers []*worker) [][]float64 {
	numbers := make([][]float64, len(p.req.Layers))
	for n, l := range p.req.Layers {
		h := l.Header()
		var all []float64
		for _, w := range workers {
			for _, v := range w.layers[n].values {
				if !h.Missing(v) {
					all = append(all, v+0) // one zero
				}
			}
		}
		slices.Sort(all)
		all = slices.Compact(all)
		numbers[n] = append([]float64{nan}, all...)
		for _, w := range workers {
			layer := w.layers[n]
			layer.slots = make([]Slot, len(layer.values))
			for i, v := range layer.values {
				if !h.Missing(v) {
					k, _ := slices.BinarySearch(all, v+0)
					layer.slots[i] = Slot(k + 1)
				}
			}
		}
	}
	return numbers
}

// errTooMany is the error of a raster with too many values.
type errTooMany struct{ error }

// IsTooMany reports whether an error says that a raster has too many values for categories.
func IsTooMany(err error) bool {
	var e errTooMany
	return errors.As(err, &e)
}

func tooMany(name string, most int) error {
	return errTooMany{fmt.Errorf("%s: it has more than %d different values, so it holds measurements and not classes: put them into classes first", name, most)}
}

type pass struct {
	req     Request
	sets    []Set
	areas   *raster.Areas
	cols    []int32 // where windows begin, and behind them the width
	across  int
	pieces  bool    // zones in few windows are described as pieces
	bandsOf []int32 // by zone, then: how many bands it lies in
	bands   []*band // those that zones touch
	from    int64   // the first window of the part that is done, of all in the bands
	to      int64   // and behind its last
	next    atomic.Int64
	read    atomic.Int64
	done    atomic.Int64
	overlap atomic.Pointer[overlapAt]
}

type overlapAt struct {
	zone int
	cell [2]int
}

func newPass(req Request, areas *raster.Areas) *pass {
	g := req.Placement.Grid
	p := &pass{req: req, sets: req.sets(), areas: areas}
	cols, rows := p.tiling()
	for _, c := range cols {
		p.cols = append(p.cols, int32(c))
	}
	p.cols = append(p.cols, int32(g.Width))
	p.across = len(cols)
	p.pieces = areas.Vary == raster.Uniform && len(req.Layers) == 1 && req.Layers[0].Header().Type.Bytes() == 1
	p.bandsOf = make([]int32, len(req.Placement.Outlines))
	byRow := make([][]int, len(rows))
	rows = append(rows, g.Height)
	p.pieces = p.pieces && widest(p.cols)*widest(rows) <= mostPieced // the cells and shares of a class are to fit into an int64
	for i, o := range req.Placement.Outlines {
		if len(o.Rings) == 0 || o.RowFrom >= o.RowTo || o.ColFrom >= o.ColTo {
			continue
		}
		first, found := slices.BinarySearch(rows, o.RowFrom)
		if !found {
			first--
		}
		for b := first; b < len(byRow) && rows[b] < o.RowTo; b++ {
			byRow[b] = append(byRow[b], i)
			p.bandsOf[i]++
		}
	}
	for b, zones := range byRow {
		if len(zones) > 0 {
			p.bands = append(p.bands, newBand(p, rows[b], rows[b+1], zones))
		}
	}
	p.from, p.to = p.share()
	for i, b := range p.bands {
		begin := int64(i * p.across)
		first, last := max(p.from-begin, 0), min(p.to-begin, int64(p.across))
		if first < last {
			b.begin(int(first), int(last))
		}
	}
	p.next.Store(p.from)
	return p
}

// tiling is where windows begin: as the only layer wants it, or such that a window spans whole blocks of
// every layer, as far as may be.
func (p *pass) tiling() (cols, rows []int) {
	g := p.req.Placement.Grid
	if len(p.req.Layers) == 1 {
		if cols, rows = raster.Tiling(p.req.Layers[0]); cols != nil {
			return cols, rows
		}
	}
	w, h := 1, 1
	for _, l := range p.req.Layers {
		bw, bh := raster.WorkSize(l)
		w, h = max(w, bw), max(h, bh)
	}
	return steps(g.Width, w), steps(g.Height, h)
}

// steps are 0 and every so many cells on, below n.
func steps(n, every int) (out []int) {
	for at := 0; at < n; at += every {
		out = append(out, at)
	}
	return out
}

// windowOf is the number of the window across that holds a column.
func (p *pass) windowOf(col int32) int32 {
	i, found := slices.BinarySearch(p.cols, col)
	if !found {
		i--
	}
	return int32(i)
}

func (r *Request) threads() int {
	if r.Threads > 0 {
		return r.Threads
	}
	return runtime.GOMAXPROCS(0)
}

// run starts the workers, each of which takes one window after another until there are none left or one of them
// fails. begin makes what the i-th does with a window of a band, whose zones are cut then.
func (p *pass) run(ctx context.Context, begin func(i int) func(c *zone.Cutter, b *band, col int) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	var wg sync.WaitGroup
	if raster.AheadOf(nil, p.req.Layers...) {
		for _, b := range p.bands {
			b.left.Add(1) // the scout
			b.known = make(chan struct{})
		}
		wg.Go(func() { p.scout(ctx) })
	}
	for i := range p.req.threads() {
		c := p.cutter()
		tile := begin(i)
		wg.Go(func() {
			if err := p.work(ctx, c, tile); err != nil {
				cancel(err)
			}
		})
	}
	wg.Wait()
	return context.Cause(ctx)
}

// cutter cuts zones for one goroutine.
func (p *pass) cutter() *zone.Cutter {
	return &zone.Cutter{Width: p.areas.Grid.Width, Down: p.req.Placement.Down, Moments: p.areas.Vary == raster.ByCell}
}

func (p *pass) work(ctx context.Context, c *zone.Cutter, tile func(c *zone.Cutter, b *band, col int) error) error {
	for {
		n := p.next.Add(1) - 1
		if n >= p.to {
			return nil
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		b := p.bands[n/int64(p.across)]
		if err := b.prepare(c); err != nil {
			return err
		}
		if b.known != nil { // what is announced first is fetched in fewer requests
			<-b.known
		}
		if err := tile(c, b, int(n)%p.across); err != nil {
			return err
		}
		b.release()
		if done := p.done.Add(1); p.req.Progress != nil {
			p.req.Progress(int(done), int(p.to-p.from))
		}
	}
}

// sets are the sets of zones, of which there is at least one.
func (r *Request) sets() []Set {
	if r.Sets == nil {
		return []Set{{Centres: r.Centres}}
	}
	out := slices.Clone(r.Sets)
	for i := range out {
		out[i].Centres = out[i].Centres || r.Centres
	}
	return out
}

// setOf is the number of the set of a zone.
func (p *pass) setOf(zone int) int {
	k := len(p.sets) - 1
	for k > 0 && zone < p.sets[k].First {
		k--
	}
	return k
}

// centres reports whether a cell belongs to a zone that holds its centre.
func (p *pass) centres(zone int) bool { return p.sets[p.setOf(zone)].Centres }

// groups are the layers of each group.
func (r *Request) groups() [][]int {
	if r.Groups != nil {
		return r.Groups
	}
	all := make([]int, len(r.Layers))
	for i := range all {
		all[i] = i
	}
	return [][]int{all}
}

// widest is the greatest distance between neighbours of a list.
func widest[T int | int32](list []T) (most int) {
	for i := 1; i < len(list); i++ {
		most = max(most, int(list[i]-list[i-1]))
	}
	return most
}

// mostPieced is how many cells a window may have for its zones to be described as pieces.
const mostPieced = 1 << 22

var nan = math.NaN()
