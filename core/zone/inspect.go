package zone

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/peterstace/simplefeatures/rtree"

	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// Field describes what an attribute of the features holds.
type Field struct {
	Name     string `json:"name"`
	Kind     string `json:"kind"`
	Values   int    `json:"values"` // features that have one
	Distinct int    `json:"distinct"`
	Example  string `json:"example"`
	ID       bool   `json:"could_be_id"` // every feature has one, and those that share it are few enough to be pieces of one place
}

// Describe reports what the fields of a layer hold.
func Describe(l *vector.Layer) []Field {
	out := make([]Field, len(l.Fields))
	for i, f := range l.Fields {
		d := Field{Name: f.Name, Kind: f.Kind.String()}
		distinct := map[any]bool{}
		for k := range l.Features {
			v := l.Features[k].Values[i]
			if v == nil || v == "" {
				continue
			}
			if d.Values == 0 {
				d.Example = f.Text(v)
			}
			d.Values++
			distinct[v] = true
		}
		d.Distinct = len(distinct)
		d.ID = d.Values == len(l.Features) && (f.Kind == vector.Text || f.Kind == vector.Integer) && (d.Distinct == d.Values || d.Distinct > 1 && d.Distinct*4 >= d.Values)
		out[i] = d
	}
	return out
}

// Inspection is what is to be known of the outlines of a layer before they are measured.
type Inspection struct {
	Kinds    map[string]int // features by kind of geometry
	Pieces   int
	Vertices int
	Areas    []float64 // true area of each feature in m²; NaN where it cannot be shown
	Problems []string
	Checked  bool // whether overlaps and gaps were looked for
}

const (
	shown        = 5       // examples of each kind of problem
	mostVertices = 300_000 // beyond, overlaps and gaps are not looked for
	mostPairs    = 1000    // pairs of outlines that overlap; no more are looked for
	sliver       = 1e-6    // part of the smaller outline that two may share by rounding
)

// Inspect looks for empty, unsound, repeated and overlapping outlines, and for gaps between them.
func Inspect(l *vector.Layer) *Inspection {
	in := &Inspection{Kinds: map[string]int{}, Areas: make([]float64, len(l.Features))}
	var finder crossingFinder
	var empty, unsound, repeated, outside []string
	seen := map[string]int{}
	for i := range l.Features {
		g := &l.Features[i].Geometry
		kind := g.Type
		if g.Empty() && (kind == "" || strings.Contains(kind, "Polygon")) {
			kind = "none"
			empty = append(empty, fmt.Sprint(i+1))
		}
		in.Kinds[kind]++
		in.Pieces += len(g.Polygons)
		for _, p := range g.Polygons {
			for _, r := range p {
				in.Vertices += len(r)
			}
			if found := finder.find(clean(p), 0); len(found) > 0 {
				unsound = append(unsound, fmt.Sprintf("%d at %s", i+1, place(found[0].at)))
			}
		}
		if in.Areas[i] = trueArea(l, g); l.CRS != nil && math.IsNaN(in.Areas[i]) {
			outside = append(outside, fmt.Sprint(i+1))
		}
		if key := fmt.Sprint(g.Polygons); len(g.Polygons) > 0 {
			if first, again := seen[key]; again {
				repeated = append(repeated, fmt.Sprintf("%d and %d", first+1, i+1))
			} else {
				seen[key] = i
			}
		}
	}
	in.report("feature has no outline and is left out of a measure", "features have no outline and are left out of a measure", empty)
	in.report("outline crosses itself; a measure refuses it if its area is uncertain; feature", "outlines cross themselves; a measure refuses those whose area is uncertain; features", unsound)
	in.report("outline occurs twice, and both count unless they share an id; features", "outlines occur twice, and each counts unless they share an id; features", repeated)
	in.report("outline reaches ground where the CRS is not defined: is it the right CRS? feature", "outlines reach ground where the CRS is not defined: is it the right CRS? features", outside)
	if in.Checked = in.Vertices <= mostVertices && len(unsound) == 0; in.Checked {
		in.neighbours(l)
	}
	return in
}

// clean leaves out repeated points, between which edges cross nothing.
func clean(p vector.Polygon) vector.Polygon {
	out := make(vector.Polygon, len(p))
	for i, r := range p {
		out[i] = slices.CompactFunc(slices.Clone(r), func(a, b vector.Point) bool { return a == b })
	}
	return out
}

// report adds a problem with the places where it is, in words for one and for many.
func (in *Inspection) report(one, many string, places []string) {
	if n := len(places); n == 1 {
		in.Problems = append(in.Problems, fmt.Sprintf("1 %s: %s", one, places[0]))
	} else if n > 1 {
		in.Problems = append(in.Problems, fmt.Sprintf("%d %s: %s", n, many, text.List(places, shown)))
	}
}

// neighbours looks for ground that two outlines share, and for gaps that outlines enclose.
func (in *Inspection) neighbours(l *vector.Layer) {
	var shapes []geom.Geometry
	var of []int
	var items []rtree.BulkItem
	for i := range l.Features {
		g := &l.Features[i].Geometry
		if len(g.Polygons) == 0 {
			continue
		}
		shape, err := vector.Shape(g)
		box, ok := shape.Envelope().AsBox()
		if err != nil || !ok {
			continue
		}
		items = append(items, rtree.BulkItem{Box: box, RecordID: len(shapes)})
		shapes, of = append(shapes, shape), append(of, i)
	}
	tree := rtree.BulkLoad(items)
	type pair struct {
		a, b int
		area float64
	}
	var pairs []pair
	for i, s := range shapes {
		box, _ := s.Envelope().AsBox()
		_ = tree.RangeSearch(box, func(j int) error { // the function gives no error
			if j <= i || len(pairs) > mostPairs {
				return nil
			}
			both, err := vector.Intersection(s, shapes[j])
			if err != nil || both.Area() <= sliver*math.Min(s.Area(), shapes[j].Area()) {
				return nil
			}
			g := vector.FromGeom(both)
			pairs = append(pairs, pair{of[i], of[j], trueArea(l, &g)})
			return nil
		})
	}
	slices.SortStableFunc(pairs, func(a, b pair) int { return cmp.Compare(b.area, a.area) })
	var texts []string
	for _, p := range pairs {
		texts = append(texts, fmt.Sprintf("%d and %d (%s)", p.a+1, p.b+1, hectares(p.area)))
	}
	if len(pairs) > mostPairs {
		in.Problems = append(in.Problems, fmt.Sprintf("more than %d pairs of outlines overlap, and ground that two share counts in both; no more pairs and no gaps were looked for; features: %s", mostPairs, text.List(texts[:mostPairs], shown)))
		return
	}
	in.report("pair of outlines overlaps, and ground that two share counts in both; features", "pairs of outlines overlap, and ground that two share counts in both; features", texts)
	if len(shapes) < 3 {
		return
	}
	u, err := vector.Union(shapes)
	if err != nil {
		return
	}
	all := vector.FromGeom(u)
	var gaps []float64
	var places []vector.Ring
	for _, p := range all.Polygons {
		for _, hole := range p[1:] {
			g := vector.Geometry{Polygons: []vector.Polygon{{hole}}}
			gaps, places = append(gaps, trueArea(l, &g)), append(places, hole)
		}
	}
	order := make([]int, len(gaps))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(gaps[b], gaps[a]) })
	texts = nil
	for _, i := range order {
		texts = append(texts, fmt.Sprintf("%s at %s", hectares(gaps[i]), place(places[i][0])))
	}
	in.report("gap lies between the outlines", "gaps lie between the outlines", texts)
}

func trueArea(l *vector.Layer, g *vector.Geometry) float64 {
	a, ok := vector.Area(l.CRS, g)
	if !ok {
		return math.NaN()
	}
	return a
}

func hectares(m2 float64) string {
	switch ha := m2 / 1e4; {
	case m2 < 100:
		return fmt.Sprintf("%.2g m²", m2)
	case ha >= 100:
		return fmt.Sprintf("%.0f ha", ha)
	default:
		return fmt.Sprintf("%.3g ha", ha)
	}
}
