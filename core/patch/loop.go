package patch

import (
	"errors"
	"iter"
	"slices"
	"sync"
)

// linker links edges that are in memory to rings, those that a [tracer] makes of them, several times as fast: the edges are sorted by where they begin
// and by where they end, so that what goes on from each is known, and followed around.
//
// A ring begins where the tracer closes it: at the last of its corners, row by row. From the greatest corner downwards, the first edge that no ring has
// yet is such a beginning.
type linker struct {
	edges      []edge
	begin, end []place // by corner: edges that begin there, inverted once a ring has them, and edges that end there
	room       []place
	next       []int32 // by edge: the number in begin of the edge that goes on from it
	rings      []linked
}

// place is a corner, row first, with the number of an edge.
type place struct {
	key  uint64
	edge int32
}

// linked is a ring: its first edge, by number in begin, and how many it has.
type linked struct {
	first int32
	n     int64
	shell bool
}

var linkers = sync.Pool{New: func() any { return new(linker) }}

func key(p point) uint64 { return uint64(uint32(p[1]))<<32 | uint64(uint32(p[0])) }

// link finds the rings of edges: a shell and its holes, which stay in rings until the next call.
func (l *linker) link(edges []edge, reversed bool) error {
	l.edges = edges
	l.begin, l.end, l.next = l.begin[:0], l.end[:0], slices.Grow(l.next[:0], len(edges))[:len(edges)]
	for i, e := range edges {
		if reversed {
			e.from, e.to = e.to, e.from
		}
		l.begin, l.end = append(l.begin, place{key(e.from), int32(i)}), append(l.end, place{key(e.to), int32(i)})
	}
	l.sort(&l.begin)
	l.sort(&l.end)
	// At each corner one edge ends and one begins, or two and two.
	for i := 0; i < len(edges); {
		n := 1
		for i+n < len(edges) && l.begin[i+n].key == l.begin[i].key {
			n++
		}
		if n > 2 || l.end[i].key != l.begin[i].key || l.end[i+n-1].key != l.begin[i].key {
			return errOpen
		}
		first, second := int32(i), int32(i+1)
		if n == 2 && turnsRight(l.towards(l.end[i], reversed), l.towards(l.begin[i], reversed)) != reversed {
			first, second = second, first
		}
		l.next[l.end[i].edge] = first
		if n == 2 {
			l.next[l.end[i+1].edge] = second
		}
		i += n
	}
	l.rings = l.rings[:0]
	shells := 0
	for i := len(edges) - 1; i >= 0; i-- {
		if l.begin[i].edge < 0 {
			continue
		}
		r := linked{first: int32(i)}
		area := int64(0)
		for k := int32(i); l.begin[k].edge >= 0; {
			e := edges[l.begin[k].edge]
			on := l.next[l.begin[k].edge]
			l.begin[k].edge = ^l.begin[k].edge
			area += int64(e.from[0])*int64(e.to[1]) - int64(e.to[0])*int64(e.from[1])
			r.n++
			k = on
		}
		// The edges are those of a border that runs clockwise around a shell where rows count downwards, whichever way it is wanted.
		if r.shell = area > 0; r.shell {
			shells++
		}
		l.rings = append(l.rings, r)
	}
	if shells != 1 {
		return errOpen
	}
	slices.Reverse(l.rings)
	for i, r := range l.rings {
		if r.shell {
			copy(l.rings[1:i+1], l.rings[:i])
			l.rings[0] = r
			break
		}
	}
	return nil
}

var errOpen = errors.New("an unforeseen fault: the border of a patch does not close")

// towards is the direction of the edge at a place, in unit steps.
func (l *linker) towards(p place, reversed bool) point {
	e := l.edges[p.edge]
	if reversed {
		e.from, e.to = e.to, e.from
	}
	return direction(e)
}

// points are the corners of a ring.
func (l *linker) points(r linked, reversed bool) iter.Seq[point] {
	return func(yield func(point) bool) {
		k := r.first
		for range r.n {
			e := ^l.begin[k].edge
			p := l.edges[e].from
			if reversed {
				p = l.edges[e].to
			}
			if !yield(p) {
				return
			}
			k = l.next[e]
		}
	}
}

// few places are sorted by insertion.
const few = 48

// sort sorts places by their corners.
func (l *linker) sort(list *[]place) {
	s := *list
	if len(s) <= few {
		for i := 1; i < len(s); i++ {
			p, j := s[i], i
			for ; j > 0 && s[j-1].key > p.key; j-- {
				s[j] = s[j-1]
			}
			s[j] = p
		}
		return
	}
	// By bytes of the key from the lowest on, but for those that are the same in all.
	var differ uint64
	for _, p := range s {
		differ |= p.key ^ s[0].key
	}
	room := slices.Grow(l.room[:0], len(s))[:len(s)]
	for shift := 0; shift < 64; shift += 8 {
		if differ>>shift&255 == 0 {
			continue
		}
		var at [257]int
		for _, p := range s {
			at[p.key>>shift&255+1]++
		}
		for i := range 256 {
			at[i+1] += at[i]
		}
		for _, p := range s {
			b := p.key >> shift & 255
			room[at[b]] = p
			at[b]++
		}
		s, room = room, s
	}
	*list, l.room = s, room
}
