package patch

import (
	"encoding/binary"
	"slices"

	"github.com/verdex-land/verdex/core/spill"
)

// point is a lattice point: column and row.
type point = [2]int32

// rope is a list of points that grows at both ends and takes in others at either end, however long they are. Its
// middle lies in pieces in a [spill.Store]; only a few hundred points at each end are at hand.
type rope struct {
	n           int64
	first, last *piece
	front       []point // the last of them is the first of the rope
	back        []point
}

type piece struct {
	at   int64
	n    int
	next *piece
}

// ropePiece is how many points make a piece. 24 bytes of memory for a piece keep 4 KiB of points.
var ropePiece = 512

// ropes is the place where ropes keep their pieces.
type ropes struct {
	store spill.Store
	buf   []byte
}

// push adds a point behind the last.
func (s *ropes) push(r *rope, p point) error {
	r.n++
	r.back = append(r.back, p)
	return s.settle(r)
}

// settle keeps the points at the back of a rope once they are many.
func (s *ropes) settle(r *rope) error {
	if len(r.back) < ropePiece {
		return nil
	}
	c, err := s.keep(r.back)
	if err != nil {
		return err
	}
	r.back = r.back[:0]
	r.append(c, c)
	return nil
}

// unshift adds a point before the first.
func (s *ropes) unshift(r *rope, p point) error {
	r.n++
	if r.first == nil && len(r.front) == 0 && len(r.back) < 16 { // it is short: all may be at its back
		r.back = slices.Insert(r.back, 0, p)
		return nil
	}
	r.front = append(r.front, p)
	if len(r.front) < ropePiece {
		return nil
	}
	slices.Reverse(r.front)
	c, err := s.keep(r.front)
	if err != nil {
		return err
	}
	r.front = r.front[:0]
	c.next, r.first = r.first, c
	if r.last == nil {
		r.last = c
	}
	return nil
}

func (r *rope) append(first, last *piece) {
	if r.last == nil {
		r.first = first
	} else {
		r.last.next = first
	}
	r.last = last
}

// join adds b behind a, and leaves b empty.
func (s *ropes) join(a, b *rope) error {
	switch {
	case b.first == nil:
		a.n += b.n
		for i := len(b.front) - 1; i >= 0; i-- {
			a.back = append(a.back, b.front[i])
		}
		a.back = append(a.back, b.back...)
		b.clear()
		return s.settle(a)
	case a.first == nil: // a is short: it goes before b, which then takes a's place
		for i := len(a.back) - 1; i >= 0; i-- {
			if err := s.unshift(b, a.back[i]); err != nil {
				return err
			}
		}
		for _, p := range a.front {
			if err := s.unshift(b, p); err != nil {
				return err
			}
		}
		a.clear()
		*a, *b = *b, *a
		return nil
	}
	slices.Reverse(b.front)
	if middle := append(a.back, b.front...); len(middle) > 0 {
		c, err := s.keep(middle)
		if err != nil {
			return err
		}
		a.append(c, c)
	}
	a.append(b.first, b.last)
	a.n += b.n
	a.back = append(a.back[:0], b.back...)
	b.clear()
	return nil
}

func (r *rope) clear() { *r = rope{front: r.front[:0], back: r.back[:0]} }

// keep stores points as a piece.
func (s *ropes) keep(points []point) (*piece, error) {
	s.buf = s.buf[:0]
	for _, p := range points {
		s.buf = binary.LittleEndian.AppendUint32(s.buf, uint32(p[0]))
		s.buf = binary.LittleEndian.AppendUint32(s.buf, uint32(p[1]))
	}
	at, err := s.store.Add(s.buf)
	return &piece{at: at, n: len(points)}, err
}

// reader goes through the points of a rope.
type reader struct {
	s      *ropes
	front  []point
	next   *piece
	back   []point
	points []point // read and not given yet
	room   []point
	buf    []byte
}

func (s *ropes) read(r *rope) *reader {
	return &reader{s: s, front: r.front, next: r.first, back: r.back}
}

// get gives the next point; ok is false at the end.
func (r *reader) get() (p point, ok bool, err error) {
	for len(r.points) == 0 {
		switch {
		case len(r.front) > 0:
			p = r.front[len(r.front)-1]
			r.front = r.front[:len(r.front)-1]
			return p, true, nil
		case r.next != nil:
			if err := r.load(); err != nil {
				return p, false, err
			}
		case len(r.back) > 0:
			r.points, r.back = r.back, nil
		default:
			return p, false, nil
		}
	}
	p = r.points[0]
	r.points = r.points[1:]
	return p, true, nil
}

func (r *reader) load() error {
	c := r.next
	r.next = c.next
	r.buf = slices.Grow(r.buf[:0], c.n*8)[:c.n*8]
	if err := r.s.store.Get(c.at, r.buf); err != nil {
		return err
	}
	r.room = r.room[:0]
	for b := r.buf; len(b) > 0; b = b[8:] {
		r.room = append(r.room, point{int32(binary.LittleEndian.Uint32(b)), int32(binary.LittleEndian.Uint32(b[4:]))})
	}
	r.points = r.room
	return nil
}
