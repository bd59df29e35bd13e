package patch

import (
	"cmp"
	"math"
	"slices"
)

// edge is a stretch of the border of a patch, from one corner to the next, with the patch on its right-hand side when
// rows count downwards.
type edge struct{ from, to point }

// top is the row in which an edge begins, from above.
func (e edge) top() int32 { return min(e.from[1], e.to[1]) }

// direction is that of an edge, in unit steps.
func direction(e edge) point {
	return point{int32(cmp.Compare(e.to[0], e.from[0])), int32(cmp.Compare(e.to[1], e.from[1]))}
}

// tracer links the edges of one connected piece to rings, in the order of their rows: only lines that go on below
// the row at hand are open, at most one for each column, and what lies behind their ends waits in ropes.
//
// Where two cells of the piece touch at a corner, four edges meet. The piece is connected elsewhere too, so that the
// rings through that corner are two; of the two ways to link the edges, the one that goes from cell to cell keeps
// them apart. No ring then meets itself, and two rings meet at no more than one point.
type tracer struct {
	ropes    *ropes
	reversed bool
	waiting  map[int32][]end // by row: ends of lines that go down to it
	ends     []end           // in the row at hand
	order    []uint64        // room for their columns, each with its number
	spare    []*line
	row      int32
	shells   int
	shell    rope
	holes    rope // headers and points
}

// line is a part of a ring: the points at which its edges begin.
type line struct {
	points     rope
	area       int64 // twice what it adds to the area
	head, tail *tip
}

// tip is one end of a line. It stays when lines are joined.
type tip struct{ line *line }

// end is a tip at a place.
type end struct {
	column   int32
	arriving bool  // the line ends here; else it begins here
	towards  point // the direction of its edge, in unit steps
	tip      *tip
}

// trace appends the rings of the edges to out: a header and the points of the shell, then those of each hole.
func (t *tracer) trace(edges *rope, out *rope) error {
	t.row, t.shells = -1, 0
	if t.waiting == nil {
		t.waiting = map[int32][]end{}
	}
	next, err := t.ropes.byRow(edges)
	if err != nil {
		return err
	}
	for {
		e, ok, err := next()
		if err != nil {
			return err
		}
		if !ok {
			break
		}
		if row := e.top(); row != t.row {
			if err := t.link(); err != nil {
				return err
			}
			t.row = row
			t.ends = append(t.ends[:0], t.waiting[row]...)
			delete(t.waiting, row)
		}
		if err := t.add(e); err != nil {
			return err
		}
	}
	if err := t.link(); err != nil {
		return err
	}
	t.ends = t.ends[:0]
	if len(t.waiting) > 0 || t.shells != 1 {
		return errOpen
	}
	if err := t.ropes.join(out, &t.shell); err != nil {
		return err
	}
	return t.ropes.join(out, &t.holes)
}

// add begins a line with an edge.
func (t *tracer) add(e edge) error {
	if t.reversed {
		e.from, e.to = e.to, e.from
	}
	l := t.line()
	l.area = int64(e.from[0])*int64(e.to[1]) - int64(e.to[0])*int64(e.from[1])
	if err := t.ropes.push(&l.points, e.from); err != nil {
		return err
	}
	towards := direction(e)
	t.place(e.from, end{e.from[0], false, towards, l.head})
	t.place(e.to, end{e.to[0], true, towards, l.tail})
	return nil
}

func (t *tracer) place(p point, e end) {
	if p[1] == t.row {
		t.ends = append(t.ends, e)
	} else {
		t.waiting[p[1]] = append(t.waiting[p[1]], e)
	}
}

func (t *tracer) line() *line {
	if n := len(t.spare); n > 0 {
		l := t.spare[n-1]
		t.spare = t.spare[:n-1]
		return l
	}
	l := &line{head: new(tip), tail: new(tip)}
	l.head.line, l.tail.line = l, l
	return l
}

// link joins the lines that meet in the row at hand.
func (t *tracer) link() error {
	t.order = t.order[:0]
	for i, e := range t.ends {
		t.order = append(t.order, uint64(e.column)<<32|uint64(i))
	}
	slices.Sort(t.order)
	for list := t.order; len(list) > 0; {
		n := 1
		for n < len(list) && list[n]>>32 == list[0]>>32 {
			n++
		}
		var in, out [2]end
		arriving, leaving := 0, 0
		for _, i := range list[:min(n, 4)] {
			e := &t.ends[uint32(i)]
			if e.arriving && arriving < 2 {
				in[arriving] = *e
				arriving++
			} else if !e.arriving && leaving < 2 {
				out[leaving] = *e
				leaving++
			}
		}
		list = list[n:]
		if arriving != leaving || arriving+leaving != n {
			return errOpen
		}
		if n == 4 && turnsRight(in[0].towards, out[0].towards) != t.reversed {
			out[0], out[1] = out[1], out[0]
		}
		for i := range arriving {
			if err := t.join(in[i].tip, out[i].tip); err != nil {
				return err
			}
		}
	}
	return nil
}

// turnsRight reports whether direction b turns clockwise from a on the screen, where rows count downwards.
func turnsRight(a, b point) bool { return a[0]*b[1]-a[1]*b[0] > 0 }

// join links the tail of a line to the head of another, or of itself.
func (t *tracer) join(tail, head *tip) error {
	a, b := tail.line, head.line
	if a == b {
		return t.close(a)
	}
	if err := t.ropes.join(&a.points, &b.points); err != nil {
		return err
	}
	a.area += b.area
	// b is spare now, with the two tips that are linked; the other two are the ends of a.
	a.tail, b.tail = b.tail, a.tail
	a.tail.line, b.tail.line = a, b
	b.area = 0
	t.spare = append(t.spare, b)
	return nil
}

// close hands over a ring.
func (t *tracer) close(l *line) error {
	to := &t.holes
	shell := l.area > 0 != t.reversed
	if shell {
		to = &t.shell
		t.shells++
	}
	for _, p := range newHeader(shell, l.points.n) {
		if err := t.ropes.push(to, p); err != nil {
			return err
		}
	}
	if err := t.ropes.join(to, &l.points); err != nil {
		return err
	}
	t.spare = append(t.spare, l)
	return nil
}

// header stands before the points of a ring: whether it is a shell, and how many they are.
type header [2]point

func newHeader(shell bool, n int64) header {
	h := header{{}, {int32(n >> 31), int32(n & (1<<31 - 1))}}
	if shell {
		h[0][0] = 1
	}
	return h
}

func (h header) shell() bool   { return h[0][0] == 1 }
func (h header) points() int64 { return int64(h[1][0])<<31 | int64(h[1][1]) }

// sortedAtOnce is how many edges are sorted in memory: 16 MiB of them.
var sortedAtOnce = 1 << 20

// byRow gives edges by their upper rows. Many of them are sorted in parts, which wait in ropes and are then merged.
func (s *ropes) byRow(edges *rope) (next func() (edge, bool, error), err error) {
	in := s.read(edges)
	var parts []*sortedPart
	var list, other []edge
	for {
		list = list[:0]
		for len(list) < sortedAtOnce {
			e, ok, err := in.edge()
			if err != nil {
				return nil, err
			}
			if !ok {
				break
			}
			list = append(list, e)
		}
		list, other = byTop(list, other)
		if len(list) < sortedAtOnce && len(parts) == 0 {
			return func() (e edge, ok bool, err error) {
				if len(list) == 0 {
					return e, false, nil
				}
				e, list = list[0], list[1:]
				return e, true, nil
			}, nil
		}
		if len(list) == 0 {
			break
		}
		part := &rope{}
		for _, e := range list {
			if err := s.push(part, e.from); err != nil {
				return nil, err
			}
			if err := s.push(part, e.to); err != nil {
				return nil, err
			}
		}
		parts = append(parts, &sortedPart{reader: s.read(part)})
	}
	return merged(parts)
}

// byTop sorts edges by the row in which they begin: into room, which it may make larger, or where they are. It gives the room that is free then, too.
func byTop(list, room []edge) (sorted, free []edge) {
	least, most := int32(math.MaxInt32), int32(0)
	for _, e := range list {
		least, most = min(least, e.top()), max(most, e.top())
	}
	if len(list) == 0 || int64(most)-int64(least) > 4*int64(len(list)) { // few edges in many rows
		slices.SortFunc(list, func(a, b edge) int { return cmp.Compare(a.top(), b.top()) })
		return list, room
	}
	at := make([]int32, most-least+2) // where the next edge of a row goes
	for _, e := range list {
		at[e.top()-least+1]++
	}
	for i := 1; i < len(at); i++ {
		at[i] += at[i-1]
	}
	room = slices.Grow(room[:0], len(list))[:len(list)]
	for _, e := range list {
		to := &at[e.top()-least]
		room[*to] = e
		*to++
	}
	return room, list
}

// edge reads an edge of a rope of their ends.
func (r *reader) edge() (e edge, ok bool, err error) {
	if e.from, ok, err = r.get(); err != nil || !ok {
		return e, false, err
	}
	e.to, ok, err = r.get()
	return e, ok, err
}

// sortedPart is a list of edges by row, and the first of it.
type sortedPart struct {
	*reader
	first edge
	ok    bool
}

func (p *sortedPart) step() (err error) {
	p.first, p.ok, err = p.edge()
	return err
}

// merged gives the edges of several sorted lists. There are few lists, and rows have many edges: the list that has
// given an edge is asked first.
func merged(parts []*sortedPart) (func() (edge, bool, error), error) {
	for _, p := range parts {
		if err := p.step(); err != nil {
			return nil, err
		}
	}
	var from *sortedPart
	var row int32
	return func() (e edge, ok bool, err error) {
		if from == nil || !from.ok || from.first.top() != row {
			from = nil
			for _, p := range parts {
				if p.ok && (from == nil || p.first.top() < from.first.top()) {
					from = p
				}
			}
			if from == nil {
				return e, false, nil
			}
			row = from.first.top()
		}
		e = from.first
		return e, true, from.step()
	}, nil
}
