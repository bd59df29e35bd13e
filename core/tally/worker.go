package tally

import (
	"math/bits"
	"slices"

	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/zone"
)

// worker adds up tiles.
type worker struct {
	pass    *pass
	layers  []*layer
	groups  []group
	sharing sharing
}

// group is what a worker knows of a group of layers.
type group struct {
	kernel *kernel
	zones  []*totals // by zone; nil while it has none
	room   room
	held   int // the zone whose cells the kernel holds, from one window to the next; -1 where it holds none
	// What all of the window at hand holds, once a zone has counted it, for zones of other sets that hold all of it too.
	counted bool
	slots   []int32
	extents []Extent
}

func newWorker(p *pass) *worker {
	w := &worker{pass: p}
	for _, s := range p.req.Layers {
		w.layers = append(w.layers, newLayer(s, max(maxValues, p.req.Values)))
	}
	for _, members := range p.req.groups() {
		var layers []*layer
		for _, n := range members {
			layers = append(layers, w.layers[n])
		}
		k := newKernel(layers, p.areas)
		k.holds = len(p.sets) == 1 // with more, what a window holds of one may serve another
		w.groups = append(w.groups, group{kernel: k, zones: make([]*totals, len(p.req.Zones.Zones)), held: -1})
	}
	w.sharing.starts(p)
	return w
}

// totals are the extents of one zone, by slot of the worker's kernel.
type totals struct {
	slots   []int32
	extents []Extent
	at      map[int32]int32 // place of a slot, when there are many
}

// fewSlots are looked through one after another; a legend has no more.
const fewSlots = 48

// index makes the places of slots, when there are many.
func (t *totals) index() {
	if len(t.slots) < fewSlots {
		return
	}
	t.at = make(map[int32]int32, 2*len(t.slots))
	for i, s := range t.slots {
		t.at[s] = int32(i)
	}
}

// find is the place of a slot, which is made when there is none.
func (t *totals) find(s int32) int {
	if t.at == nil {
		if i := slices.Index(t.slots, s); i >= 0 {
			return i
		}
		t.index()
	} else if i, ok := t.at[s]; ok {
		return int(i)
	}
	i := len(t.slots)
	t.slots, t.extents = append(t.slots, s), append(t.extents, Extent{})
	if t.at != nil {
		t.at[s] = int32(i)
	}
	return i
}

// tile reads one window and adds it up for each zone that touches it.
func (w *worker) tile(c *zone.Cutter, b *band, col int) error {
	win := b.window(col)
	loaded := false
	load := func() error {
		if loaded {
			return nil
		}
		loaded = true
		w.pass.read.Add(1)
		if err := w.load(win); err != nil {
			return err
		}
		w.sharing.begin(win, w.layers[0].cells.Stride, b, col, w.pass.pieces)
		return nil
	}
	for _, t := range b.spans[col] {
		if err := w.spans(win, b, t, load); err != nil {
			return err
		}
	}
	for _, z := range b.alone[col] {
		if done, err := w.pieces(c, win, b, z, load); err != nil {
			return err
		} else if done {
			continue
		}
		t, ok := b.touch(c, col, z)
		if ok {
			if err := w.spans(win, b, t, load); err != nil {
				return err
			}
		}
		t.spans.Free()
	}
	w.sharing.finish(c)
	return nil
}

// spans adds up a zone that is described as spans.
func (w *worker) spans(win raster.Window, b *band, t touch, load func() error) error {
	if err := load(); err != nil {
		return err
	}
	wanted := w.pass.sets[w.pass.setOf(t.spans.Zone)].Groups
	sharing := &w.sharing // the first group marks what zones share
	all := len(w.pass.sets) > 1 && t.holdsAll(win)
	for i := range w.groups {
		if wanted != nil && !slices.Contains(wanted, i) {
			continue
		}
		g := &w.groups[i]
		if all && g.counted {
			g.again()
			if sharing != nil && sharing.band != nil {
				for row := win.Row; row < win.Row+win.Height; row++ {
					sharing.mark(t.spans.Zone, row, []zone.Range{{From: int32(win.Col), To: int32(win.Col + win.Width)}})
				}
			}
			sharing = nil
		} else {
			g.kernel.sharing, sharing = sharing, nil
			if g.held != t.spans.Zone {
				g.settle()
			}
			if err := g.kernel.window(win, t, b.segments, b.from); err != nil {
				return err
			}
			if all {
				g.remember()
			}
		}
		if g.kernel.held != nil {
			g.held = t.spans.Zone
			continue
		}
		g.take(t.spans.Zone)
		g.held = -1
	}
	return nil
}

// settle takes what the kernel holds of a zone.
func (g *group) settle() {
	if g.held < 0 {
		return
	}
	g.kernel.flush(g.kernel.held, false)
	g.kernel.takeWhole()
	g.take(g.held)
	g.held = -1
}

// settle takes what is held of zones, after the last window.
func (w *worker) settle() {
	for i := range w.groups {
		w.groups[i].settle()
	}
}

// remember keeps what the kernel has counted in all of the window.
func (g *group) remember() {
	k := g.kernel
	g.counted, g.slots, g.extents = true, g.slots[:0], g.extents[:0]
	for i, m := range k.present {
		for ; m != 0; m &= m - 1 {
			s := i<<6 + bits.TrailingZeros64(m)
			g.slots, g.extents = append(g.slots, int32(s)), append(g.extents, k.extents[s])
		}
	}
}

// again lets the kernel have counted the same once more.
func (g *group) again() {
	k := g.kernel
	for i, s := range g.slots {
		k.present[s>>6] |= 1 << (s & 63)
		k.extents[s] = g.extents[i]
	}
}

// pieces adds up a zone that can be described as pieces; done is false where it cannot.
func (w *worker) pieces(c *zone.Cutter, win raster.Window, b *band, z int, load func() error) (done bool, err error) {
	if !w.pass.pieces || w.pass.centres(z) {
		return false, nil
	}
	k := w.groups[0].kernel
	o := &w.pass.req.Placement.Outlines[z]
	p, ok := c.Pieces(o, win, k.stride)
	if !ok || p.Empty() {
		return ok, nil
	}
	if err := load(); err != nil {
		return false, err
	}
	if stride := w.layers[0].cells.Stride; k.stride != stride { // known once a window is read
		k.stride = stride
		p, _ = c.Pieces(o, win, stride)
	}
	k.sharing = &w.sharing
	if err := k.pieces(z, p); err != nil {
		return false, err
	}
	w.groups[0].takeBytes(z, b.segments[0].A)
	return true, nil
}

// load reads a window of all layers.
func (w *worker) load(win raster.Window) error {
	for _, l := range w.layers {
		if err := l.reader.Read(win, &l.cells); err != nil {
			return err
		}
	}
	for i := range w.groups {
		w.groups[i].kernel.begin(win)
		w.groups[i].counted = false
	}
	return nil
}

// begin begins the totals of a zone, with room for n slots.
func (g *group) begin(z, n int) *totals {
	g.zones[z] = g.room.totals(n)
	return g.zones[z]
}

// take moves the kernel's extents to the totals of a zone.
func (g *group) take(z int) {
	k := g.kernel
	t := g.zones[z]
	if t == nil {
		n := 0
		for _, m := range k.present {
			n += bits.OnesCount64(m)
		}
		t = g.begin(z, n)
		for i, m := range k.present {
			k.present[i] = 0
			for ; m != 0; m &= m - 1 {
				s := i<<6 + bits.TrailingZeros64(m)
				t.slots, t.extents = append(t.slots, int32(s)), append(t.extents, k.extents[s])
				k.extents[s] = Extent{}
			}
		}
		t.index()
		return
	}
	for i, m := range k.present {
		k.present[i] = 0
		for ; m != 0; m &= m - 1 {
			s := int32(i<<6 + bits.TrailingZeros64(m))
			t.extents[t.find(s)].Add(k.extents[s])
			k.extents[s] = Extent{}
		}
	}
}

// takeBytes moves what the kernel has added up of a zone's pieces to the totals of the zone; a is the area of a cell.
func (g *group) takeBytes(z int, a int64) {
	k := g.kernel
	acc, shares := (*[256]uint64)(k.acc), (*[256]int64)(k.shares)
	k.seen = 0
	var slots [256]uint8
	var sums [256]int64
	n := 0
	for from := 0; from < 256; from += 4 {
		whole, cut := (*[4]uint64)(acc[from:]), (*[4]int64)(shares[from:])
		if whole[0]|whole[1]|whole[2]|whole[3]|uint64(cut[0]|cut[1]|cut[2]|cut[3]) == 0 {
			continue
		}
		for i := range 4 {
			if sum := int64(whole[i])<<shareBits + cut[i]; sum != 0 {
				slots[n], sums[n] = uint8(from+i), sum
				n++
			}
			whole[i], cut[i] = 0, 0
		}
	}
	t := g.zones[z]
	if t == nil {
		t = g.begin(z, n)
		for i, s := range slots[:n] {
			t.slots, t.extents = append(t.slots, int32(s)), append(t.extents, Extent{})
			t.extents[i].alike(sums[i], a)
		}
		t.index()
		return
	}
	for i, s := range slots[:n] {
		t.extents[t.find(int32(s))].alike(sums[i], a)
	}
}

// room is where the totals of zones are put: many at a time, because there may be a hundred thousand zones.
type room struct {
	all     []totals
	slots   []int32
	extents []Extent
}

// totals are new ones, with room for n slots.
func (r *room) totals(n int) *totals {
	const many = 1 << 10
	if len(r.all) == 0 {
		r.all = make([]totals, many)
	}
	if len(r.slots) < n {
		r.slots, r.extents = make([]int32, max(n, 8*many)), make([]Extent, max(n, 8*many))
	}
	t := &r.all[0]
	t.slots, t.extents = r.slots[:0:n], r.extents[:0:n]
	r.all, r.slots, r.extents = r.all[1:], r.slots[n:], r.extents[n:]
	return t
}
