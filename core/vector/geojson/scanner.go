package geojson

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math/bits"
	"strconv"

	"github.com/verdex-land/verdex/core/vector"
)

// coordinates are nested lists of depth 1 (a position) to 4 (a multipolygon); 0 is empty.
type coordinates struct {
	depth   int
	point   vector.Point
	ring    vector.Ring
	polygon vector.Polygon
	multi   []vector.Polygon
}

// scanner reads lists of numbers from JSON text. Coordinates are nearly all of a file of zones, and
// token by token they take most of the time of reading it.
type scanner struct {
	text []byte
	at   int
	ring vector.Ring // scratch
	// How many digits the last short number had before and behind its point, at most seven each; before is 0 if it was another one.
	before, behind int
	room           []vector.Point // for rings, many at a time
}

// keep copies a ring that has been read.
func (s *scanner) keep(r vector.Ring) vector.Ring {
	n := len(r)
	if len(s.room) < n {
		s.room = make([]vector.Point, max(n, 1<<10))
	}
	out := s.room[:n:n]
	s.room = s.room[n:]
	copy(out, r)
	return out
}

// peek is the next character that is no white space, 0 at the end.
func (s *scanner) peek() byte {
	for ; s.at < len(s.text); s.at++ {
		switch c := s.text[s.at]; c {
		case ' ', '\t', '\n', '\r':
		default:
			return c
		}
	}
	return 0
}

// more reads what stands behind an element: a comma before another one, or the closing bracket.
func (s *scanner) more() (bool, error) {
	switch c := s.peek(); c {
	case ',':
		s.at++
		if s.peek() == ']' {
			return false, errors.New("a list of coordinates ends with a comma")
		}
		return true, nil
	case ']':
		s.at++
		return false, nil
	case 0:
		return false, io.ErrUnexpectedEOF
	default:
		return false, fmt.Errorf("a list of coordinates holds something else at %q", c)
	}
}

func isNumber(c byte) bool { return c == '-' || c >= '0' && c <= '9' }

// powers are the powers of ten that float64 holds exactly.
var powers = [...]float64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15}

// short reads a decimal of up to 15 digits without exponent, the rule for coordinates: digits and
// power of ten are then exact, and one division rounds once (Clinger 1990). It reports false
// for other numbers. A number with as many digits as the last one is read eight characters at a time, which takes a seventh less of the
// time of reading a file; others are read sooner one by one.
func (s *scanner) short() (float64, bool) {
	text, i := s.text, s.at
	negative := text[i] == '-'
	if negative {
		i++
	}
	// Neighbours mostly have as many digits before and behind the point. Where that is so the next number can be begun
	// before this one is made.
	if f := i + s.before + 1; s.before > 0 && f+8 <= len(text) && text[f-1] == '.' {
		p, k := eight(text[i:])
		q, l := eight(text[f:])
		if k == s.before && l == s.behind && (text[f+s.behind] == ',' || text[f+s.behind] == ']') {
			s.at = f + s.behind
			v := float64(p*whole[s.behind]+q) / powers[s.behind]
			if negative {
				v = -v
			}
			return v, true
		}
	}
	var digits uint64
	n, point := 0, -1
	for ; i < len(text); i++ {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			digits = digits*10 + uint64(c-'0')
			if n++; n > 15 {
				return 0, false
			}
			continue
		case c == '.' && point < 0:
			point = n
			continue
		}
		break // out of the loop
	}
	return s.finish(i, digits, n, point, negative)
}

// eight reads up to eight digits at the beginning of a text of at least as many characters: the number, and how many they are (by three
// multiplications, each of which joins neighbours: Lemire, 2022, "Number parsing at a gigabyte per second").
func eight(text []byte) (v uint64, k int) {
	t := binary.LittleEndian.Uint64(text) ^ 0x3030303030303030 // digits become 0 to 9
	k = bits.TrailingZeros64(((t+0x7676767676767676)|t)&0x8080808080808080) >> 3
	t <<= uint(8-k) * 8 // zeros ahead
	t = t & 0x0f0f0f0f0f0f0f0f * 2561 >> 8
	t = t & 0x00ff00ff00ff00ff * 6553601 >> 16
	return t & 0x0000ffff0000ffff * 42949672960001 >> 32, k
}

// whole are the powers of ten that take up to eight digits.
var whole = [9]uint64{1, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8}

// finish makes the number of n digits that ends before text[i], the point being behind the first point of them, or none if it is -1.
func (s *scanner) finish(i int, digits uint64, n, point int, negative bool) (float64, bool) {
	if n == 0 || point == 0 || point == n || i < len(s.text) && (s.text[i] == 'e' || s.text[i] == 'E') {
		return 0, false // no number of JSON, left to the library to refuse; or one with an exponent
	}
	v := float64(digits)
	s.before = 0
	if point >= 0 {
		v /= powers[n-point]
		if point < 8 && n-point < 8 { // both at most seven, so that the character behind them is looked at with them
			s.before, s.behind = point, n-point
		}
	}
	if negative {
		v = -v
	}
	s.at = i
	return v, true
}

func (s *scanner) number() (float64, error) {
	if v, ok := s.short(); ok {
		return v, nil
	}
	from := s.at
	for s.at < len(s.text) {
		c := s.text[s.at]
		if !isNumber(c) && c != '.' && c != '+' && c != 'e' && c != 'E' {
			break
		}
		s.at++
	}
	v, err := strconv.ParseFloat(string(s.text[from:s.at]), 64)
	if err != nil {
		return 0, fmt.Errorf("the coordinate %s is no number that can be used", s.text[from:s.at])
	}
	return v, nil
}

// list reads the list that begins here, at a depth of level lists.
func (s *scanner) list(level int) (c coordinates, err error) {
	if level > 4 {
		return c, errors.New("its coordinates are nested too deep")
	}
	s.at++ // the opening bracket
	if s.peek() == ']' {
		s.at++
		return c, nil
	}
	if isNumber(s.peek()) {
		c.point, err = s.position()
		c.depth = 1
		return c, err
	}
	if s.peek() == '[' { // mostly positions without white space
		if r := s.positions(); len(r) > 0 {
			c.ring, c.depth = r, 2
			if s.text[s.at-1] == ']' {
				c.ring = s.keep(r)
				return c, nil
			}
		}
	}
	defer func() {
		if c.depth == 2 {
			c.ring = s.keep(c.ring)
		}
	}()
	for more := true; more; {
		if b := s.peek(); b != '[' {
			if b == 0 {
				return c, io.ErrUnexpectedEOF
			}
			return c, fmt.Errorf("a list of coordinates holds something else at %q", b)
		}
		if err := s.element(&c, level); err != nil {
			return c, err
		}
		if more, err = s.more(); err != nil {
			return c, err
		}
	}
	return c, nil
}

// element reads a list within a list and adds it.
func (s *scanner) element(c *coordinates, level int) error {
	// Positions, the rule, are read without a call to list for each.
	if open := s.at; c.depth == 0 || c.depth == 2 {
		s.at++
		if isNumber(s.peek()) {
			p, err := s.position()
			if c.ring == nil {
				c.ring = s.ring[:0]
			}
			c.ring, c.depth = append(c.ring, p), 2
			s.ring = c.ring
			return err
		}
		s.at = open
	}
	e, err := s.list(level + 1)
	if err != nil || e.depth == 0 { // an empty list adds nothing
		return err
	}
	if c.depth != 0 && c.depth != e.depth+1 {
		return errors.New("its coordinates are nested unevenly")
	}
	c.depth = e.depth + 1
	switch e.depth {
	case 2:
		c.polygon = append(c.polygon, e.ring)
	case 3:
		c.multi = append(c.multi, e.polygon)
	default:
		return errors.New("its coordinates are nested too deep")
	}
	return nil
}

// positions reads positions of two short numbers without white space up to the end of their list, which it reads too,
// or up to where something else follows: then it stops behind a comma.
func (s *scanner) positions() vector.Ring {
	text, r := s.text, s.ring[:0]
	defer func() { s.ring = r }()
	for {
		from := s.at
		var p vector.Point
		for i := range p {
			if s.at++; s.at >= len(text) || !isNumber(text[s.at]) {
				s.at = from
				return r
			}
			v, ok := s.short()
			if end := byte(",]"[i]); !ok || s.at >= len(text) || text[s.at] != end {
				s.at = from
				return r
			}
			p[i] = v
		}
		if s.at += 2; s.at >= len(text) || text[s.at-1] != ']' && (text[s.at-1] != ',' || text[s.at] != '[') {
			s.at = from
			return r
		}
		r = append(r, p)
		if text[s.at-1] == ']' {
			return r
		}
	}
}

// position reads the numbers of a position and its closing bracket; numbers beyond two, such as
// heights, are passed over.
func (s *scanner) position() (p vector.Point, err error) {
	n := 0
	for more := true; more; n++ {
		if b := s.peek(); !isNumber(b) {
			return p, fmt.Errorf("a list of coordinates holds something else at %q", b)
		}
		v, err := s.number()
		if err != nil {
			return p, err
		}
		if n < 2 {
			p[n] = v
		}
		if more, err = s.more(); err != nil {
			return p, err
		}
	}
	if n < 2 {
		return p, errors.New("a position has one number only")
	}
	return p, nil
}
