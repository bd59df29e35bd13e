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
	ring vector.Ring    // scratch
	last [2]digits      // of the short numbers of the last position
	room []vector.Point // for rings, many at a time
}

// digits are how many digits a number has before and behind its point, at most seven each; before is 0 if there are more, or no point.
type digits struct{ before, behind int }

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

// usual reads the number at text[i] if it has so many digits, as the same number of neighbouring positions mostly has; end is 0 if it has not.
// It is read eight characters at a time, which takes a third less than one by one. Exact for the reason that short is.
func (d digits) usual(text []byte, i int) (v float64, end int) {
	negative := text[i] == '-'
	if negative {
		i++
	}
	f := i + d.before + 1
	if d.before == 0 || f+8 > len(text) || text[f-1] != '.' {
		return 0, 0
	}
	p, k := eight(text[i:])
	q, l := eight(text[f:])
	if k != d.before || l != d.behind {
		return 0, 0
	}
	if end = f + d.behind; text[end] != ',' && text[end] != ']' {
		return 0, 0
	}
	if v = float64(p*whole[d.behind]+q) / powers[d.behind]; negative {
		v = -v
	}
	return v, end
}

// short reads a decimal of up to 15 digits without exponent, the rule for coordinates: digits and
// power of ten are then exact, and one division rounds once (Clinger 1990). It reports false
// for other numbers. What digits it had is kept as those of the last number k of a position.
func (s *scanner) short(k int) (float64, bool) {
	text, i := s.text, s.at
	negative := text[i] == '-'
	if negative {
		i++
	}
	var all uint64
	n, point := 0, -1
	for ; i < len(text); i++ {
		switch c := text[i]; {
		case c >= '0' && c <= '9':
			all = all*10 + uint64(c-'0')
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
	if n == 0 || point == 0 || point == n || i < len(text) && (text[i] == 'e' || text[i] == 'E') {
		return 0, false // no number of JSON, left to the library to refuse; or one with an exponent
	}
	v := float64(all)
	s.last[k] = digits{}
	if point >= 0 {
		v /= powers[n-point]
		if point < 8 && n-point < 8 { // both at most seven, so that the character behind them is looked at with them
			s.last[k] = digits{point, n - point}
		}
	}
	if negative {
		v = -v
	}
	s.at = i
	return v, true
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

// number reads number k of a position.
func (s *scanner) number(k int) (float64, error) {
	k = min(k, len(s.last)-1)
	if v, end := s.last[k].usual(s.text, s.at); end > 0 {
		s.at = end
		return v, nil
	}
	if v, ok := s.short(k); ok {
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
		return 0, fmt.Errorf("the coordinate %s is not a number that can be used", s.text[from:s.at])
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
	text, at, r := s.text, s.at, s.ring[:0]
	defer func() { s.ring = r }()
	for {
		from := at
		var p vector.Point
		for k := range p {
			if at++; at >= len(text) || !isNumber(text[at]) {
				s.at = from
				return r
			}
			v, end := s.last[k].usual(text, at)
			if end == 0 {
				s.at = at
				var ok bool
				if v, ok = s.short(k); !ok {
					s.at = from
					return r
				}
				end = s.at
			}
			if end >= len(text) || text[end] != ",]"[k] {
				s.at = from
				return r
			}
			p[k], at = v, end
		}
		if at += 2; at >= len(text) || text[at-1] != ']' && (text[at-1] != ',' || text[at] != '[') {
			s.at = from
			return r
		}
		r = append(r, p)
		if text[at-1] == ']' {
			s.at = at
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
		v, err := s.number(n)
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
