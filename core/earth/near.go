package earth

import (
	"math"
	"sync"
	"sync/atomic"
)

// near maps points close to where f maps them, by polynomials of degree 4 in both coordinates over squares. A polynomial goes through what f gives at 5 × 5 Chebyshev
// nodes of its square; where it misses f by more than a part of bound at other points, f itself is taken. Over 8 km on the ground projections and
// their inverses differ from such a polynomial by about (4 km / radius of the Earth)⁵ / 1920, less than rounding.
type near struct {
	f           func([2]float64) ([2]float64, bool)
	size, bound float64
	squares     sync.Map // squareKey → *square
	kept        atomic.Int64
}

// mostSquares is how many squares are kept at most, 16 MiB of them: then they are made anew, as lines that follow rows of cells do not come back soon.
const mostSquares = 1 << 15

type squareKey [2]int32

// square has the coefficients of the powers of both coordinates, from -1 to 1 over it, of both coordinates of the image.
type square struct {
	ok     bool
	middle [2]float64       // the image of its middle, beside which the polynomials are small and keep their digits
	coefs  [2][5][5]float64 // the second index is the power of y, the third that of x
}

// spare is how much closer to f a polynomial has to be where it is compared than it is taken to be anywhere.
const spare = 5

// nodes5 are the Chebyshev nodes, and powers5[i] the coefficients of the polynomial that is 1 at the i-th of them and 0 at the others.
var nodes5, powers5 = func() (x [5]float64, c [5][5]float64) {
	for i := range x {
		x[i] = math.Sin(math.Pi * float64(i-2) / 5)
	}
	for i := range x {
		p := [5]float64{1}
		for j := range x {
			if j == i {
				continue
			}
			for k := 4; k >= 0; k-- { // times (t - x[j]) / (x[i] - x[j])
				p[k] *= -x[j]
				if k > 0 {
					p[k] += p[k-1]
				}
				p[k] /= x[i] - x[j]
			}
		}
		c[i] = p
	}
	return x, c
}()

func (n *near) square(k squareKey) *square {
	if s, ok := n.squares.Load(k); ok {
		return s.(*square)
	}
	s := n.fit(k)
	if n.kept.Add(1)%mostSquares == 0 {
		n.squares.Clear()
	}
	got, _ := n.squares.LoadOrStore(k, s)
	return got.(*square)
}

// fit makes the polynomials of a square.
func (n *near) fit(k squareKey) *square {
	s := new(square)
	at := func(u, v float64) ([2]float64, bool) {
		return n.f([2]float64{(float64(k[0]) + (u+1)/2) * n.size, (float64(k[1]) + (v+1)/2) * n.size})
	}
	var ok bool
	if s.middle, ok = at(0, 0); !ok {
		return s
	}
	for i, u := range nodes5 {
		for j, v := range nodes5 {
			image, ok := at(u, v)
			if !ok {
				return s
			}
			for d := range 2 {
				for a, x := range powers5[i] {
					for b, y := range powers5[j] {
						s.coefs[d][b][a] += (image[d] - s.middle[d]) * x * y
					}
				}
			}
		}
	}
	for _, u := range [5]float64{-1, -0.8, 0.3, 0.77, 1} {
		for _, v := range [5]float64{-1, -0.77, -0.3, 0.8, 1} {
			want, ok := at(u, v)
			if got := s.at(u, v); !ok || !(math.Abs(got[0]-want[0])*spare <= n.bound) || !(math.Abs(got[1]-want[1])*spare <= n.bound) {
				return s
			}
		}
	}
	s.ok = true
	return s
}

// at is the image of a place of the square, by Horner's rule.
func (s *square) at(u, v float64) (image [2]float64) {
	for d := range 2 {
		sum := 0.0
		for j := 4; j >= 0; j-- {
			c := &s.coefs[d][j]
			sum = sum*v + ((((c[4]*u+c[3])*u+c[2])*u+c[1])*u + c[0])
		}
		image[d] = s.middle[d] + sum
	}
	return image
}

// mapper is a near for one goroutine, with the square that it used last.
type mapper struct {
	*near
	key  squareKey
	last *square
}

func (m *mapper) to(p [2]float64) ([2]float64, bool) {
	x, y := p[0]/m.size, p[1]/m.size
	fx, fy := math.Floor(x), math.Floor(y)
	if !(math.Abs(fx) < 1e9 && math.Abs(fy) < 1e9) {
		return m.f(p)
	}
	k := squareKey{int32(fx), int32(fy)}
	if m.last == nil || m.key != k {
		m.key, m.last = k, m.square(k)
	}
	if !m.last.ok {
		return m.f(p)
	}
	return m.last.at(2*(x-fx)-1, 2*(y-fy)-1), true
}

// certainly is how far from a whole number a coordinate may lie, in rounded digits, for all that is near it to round to the same.
const certainly = 0.499

// Rounding makes tracers that are right to a rounded digit.
type Rounding struct {
	near *near
	tol  Tolerance
	unit float64
}

// NewRounding prepares tracers of lines, as [NewTracer] makes them of f, whose points are the same once each coordinate is divided by unit and rounded to a whole
// number; what is beyond it may differ. They take about a tenth of the time. size is the side of the squares, in units of the source, in which
// f is approximated, 0 for nowhere. tol must have a Bend.
func NewRounding(f func([2]float64) ([2]float64, bool), tol Tolerance, unit, size float64) *Rounding {
	return &Rounding{near: &near{f: f, size: size, bound: unit * (0.5 - certainly)}, tol: tol, unit: unit}
}

// Tracer makes a tracer, for one goroutine.
func (r *Rounding) Tracer() *RoundedTracer {
	f := r.near.f
	if r.near.size > 0 {
		f = (&mapper{near: r.near}).to
	}
	return &RoundedTracer{exact: NewTracer(r.near.f, r.tol), near: NewTracer(f, r.tol), unit: r.unit}
}

// RoundedTracer traces lines point by point, as a [Tracer].
type RoundedTracer struct {
	exact, near *Tracer
	unit        float64
	room        [][2]float64
}

// Begin begins another line.
func (t *RoundedTracer) Begin() { t.near.Begin() }

// To is [Tracer.To].
func (t *RoundedTracer) To(out [][2]float64, q [2]float64) ([][2]float64, bool) {
	begun, last, n := t.near.begun, t.near.last, len(out)
	traced, ok := t.near.To(out, q)
	if ok && t.near.predicted && t.certain(traced[n:]) {
		return traced, true
	}
	t.exact.Begin()
	if begun {
		if t.room, ok = t.exact.To(t.room[:0], last); !ok {
			return out, false
		}
	}
	return t.exact.To(traced[:n], q)
}

// certain reports whether no coordinate lies so near the middle between two rounded numbers that what it may be off by matters.
func (t *RoundedTracer) certain(points [][2]float64) bool {
	for _, p := range points {
		for _, v := range p {
			v /= t.unit
			if !(math.Abs(v-math.Round(v)) < certainly) {
				return false
			}
		}
	}
	return true
}
