package earth

import "math"

// Tolerance says when the image of a straight edge is close enough to its polyline.
type Tolerance struct {
	Longest  float64 // an edge longer than this, in units of the source, is always halved
	Absolute float64 // greatest distance from the chord, in units of the image
	Relative float64 // greatest distance from the chord, as a share of the chord's length
	Straight float64 // a rise of no more than this, in units of the image, is left out
	Bend     *Bend   // predicts the rise of short edges; nil maps their middles
}

// TraceRing maps a closed ring (the last point joins the first) whose edges are straight in the
// source. The image of a straight edge is a curve; each edge becomes a polyline that stays within
// the tolerance of the curve and, with the chord, encloses the area that the curve does.
//
// An edge is halved until its middle lies within the tolerance of its chord. What is left is
// a parabola to third order, which encloses 2/3 of chord × rise; a triangle of 4/3 of the rise
// encloses the same, so the polyline goes through the point that lies 4/3 of the rise above the
// chord. What this leaves out is of fourth order in the length of the edge.
//
// The result for an edge is the same, bit for bit, in both directions, so that two zones that
// share an edge share its image. TraceRing reports false when a point cannot be mapped.
func TraceRing(ring [][2]float64, f func([2]float64) ([2]float64, bool), tol Tolerance) ([][2]float64, bool) {
	out := make([][2]float64, 0, len(ring)+len(ring)/2)
	t := NewTracer(f, tol)
	ok := true
	for _, q := range ring {
		if out, ok = t.To(out, q); !ok {
			return nil, false
		}
	}
	if out, ok = t.To(out, ring[0]); !ok {
		return nil, false
	}
	return out[:len(out)-1], true
}

// Tracer maps a line as [TraceRing] does, point by point, so that it need not be held.
type Tracer struct {
	f       func([2]float64) ([2]float64, bool)
	tol     Tolerance
	bend    bender
	begun   bool
	last    [2]float64
	lastMap [2]float64
	// predicted says that how the last edge was traced depended on its ends and the Bend alone, not on what f gives.
	predicted bool
}

// NewTracer makes a tracer of a line that is yet without points.
func NewTracer(f func([2]float64) ([2]float64, bool), tol Tolerance) *Tracer {
	return &Tracer{f: f, tol: tol, bend: bender{Bend: tol.Bend}}
}

// Begin begins another line.
func (t *Tracer) Begin() { t.begun = false }

// To goes on to a point: it appends the image of the edge from the last point to it, without that of the
// last point, to out. It is false when a point cannot be mapped.
func (t *Tracer) To(out [][2]float64, q [2]float64) ([][2]float64, bool) {
	fq, ok := t.f(q)
	if !ok {
		return out, false
	}
	t.predicted = true
	if t.begun {
		if out, ok = t.edge(out, t.last, q, t.lastMap, fq, 0); !ok {
			return out, false
		}
	}
	t.begun, t.last, t.lastMap = true, q, fq
	return append(out, fq), true
}

// edge appends the points strictly between the ends.
func (t *Tracer) edge(out [][2]float64, p, q, fp, fq [2]float64, depth int) ([][2]float64, bool) {
	if p == q {
		return out, true
	}
	chord := [2]float64{(fp[0] + fq[0]) / 2, (fp[1] + fq[1]) / 2}
	if t.tol.Bend != nil && depth == 0 {
		if r, ok := t.bend.rise(p, q); ok && math.Abs(r[0])+math.Abs(r[1]) <= t.tol.Absolute {
			if math.Abs(r[0])+math.Abs(r[1]) <= t.tol.Straight {
				return out, true
			}
			return append(out, [2]float64{chord[0] + 4./3*r[0], chord[1] + 4./3*r[1]}), true
		}
	}
	t.predicted = false
	m := [2]float64{(p[0] + q[0]) / 2, (p[1] + q[1]) / 2}
	fm, ok := t.f(m)
	if !ok {
		return out, false
	}
	rise := [2]float64{fm[0] - chord[0], fm[1] - chord[1]}
	height := math.Hypot(rise[0], rise[1])
	width := math.Hypot(fq[0]-fp[0], fq[1]-fp[1])
	near := t.tol.Absolute > 0 && height <= t.tol.Absolute || t.tol.Relative > 0 && height <= t.tol.Relative*width
	short := math.Hypot(q[0]-p[0], q[1]-p[1]) <= t.tol.Longest
	if near && short || depth >= 24 {
		if height > max(1e-12*width, t.tol.Straight) {
			out = append(out, [2]float64{chord[0] + 4./3*rise[0], chord[1] + 4./3*rise[1]})
		}
		return out, true
	}
	if out, ok = t.edge(out, p, m, fp, fm, depth+1); !ok {
		return out, false
	}
	out = append(out, fm)
	return t.edge(out, m, q, fm, fq, depth+1)
}
