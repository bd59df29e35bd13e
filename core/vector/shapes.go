package vector

import (
	"cmp"
	"fmt"
	"slices"

	"github.com/peterstace/simplefeatures/geom"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/planar"
)

// Union unites geometries, two at a time: the library's union of many at once takes them for one geometry, and leaves a hole of one of them open where
// another lies over it. Neighbours are united first, then what they have become: each edge takes part in as many
// unions as there are doublings, where one union after another would take the whole each time. One that has more points than all others comes last.
func Union(list []geom.Geometry) (geom.Geometry, error) {
	type boxed struct {
		g      geom.Geometry
		centre geom.XY
		points int
	}
	var all []boxed
	for _, g := range list {
		if c, ok := g.Envelope().Center().XY(); ok {
			all = append(all, boxed{g, c, g.DumpCoordinates().Length()})
		}
	}
	var unite func(part []boxed, byX bool) (geom.Geometry, error)
	unite = func(part []boxed, byX bool) (geom.Geometry, error) {
		switch len(part) {
		case 0:
			return geom.Geometry{}, nil
		case 1:
			return part[0].g, nil
		}
		middle, points, largest := len(part)/2, 0, 0
		for i, b := range part {
			points += b.points
			if b.points > part[largest].points {
				largest = i
			}
		}
		if 2*part[largest].points > points {
			part[0], part[largest] = part[largest], part[0]
			middle = 1
		} else {
			slices.SortFunc(part, func(a, b boxed) int {
				if byX {
					return cmp.Compare(a.centre.X, b.centre.X)
				}
				return cmp.Compare(a.centre.Y, b.centre.Y)
			})
		}
		a, err := unite(part[:middle], !byX)
		if err != nil {
			return a, err
		}
		b, err := unite(part[middle:], !byX)
		if err != nil {
			return b, err
		}
		return unionOf(a, b)
	}
	u, err := unite(all, true)
	if err == nil {
		return u, nil
	}
	u = geom.Geometry{}
	for _, g := range list { // slivers can trip the union of two large ones
		var again error
		if u, again = unionOf(u, g); again != nil {
			return u, err
		}
	}
	return u, nil
}

// Shape is the ground of the polygons as one geometry of the library, sound, so that it can be laid over others. Pieces that share ground or edges are united. A polygon that is not sound is an error.
func Shape(g *Geometry) (geom.Geometry, error) {
	shape := g.Geom(true)
	err := Sound(shape)
	if err == nil {
		return shape, nil
	}
	var pieces []geom.Geometry
	for _, p := range g.Polygons {
		some, err := Pieces(p)
		if err != nil {
			return shape, err
		}
		pieces = append(pieces, some...)
	}
	if shape, err = Union(pieces); err != nil {
		return shape, fmt.Errorf("its pieces cannot be united (%w)", err)
	}
	return shape, nil
}

// Pieces is a polygon as sound geometries: one, or several where a ring touches itself in corners, as outlines of cells that meet in a corner do.
func Pieces(p Polygon) ([]geom.Geometry, error) {
	whole := p.Geom().AsGeometry()
	err := Sound(whole)
	if err == nil {
		return []geom.Geometry{whole}, nil
	}
	var rings []Ring
	for k, r := range p {
		if (planar.Area(r) > 0) == (k == 0) { // shells run clockwise where rings are nested
			r = reversed(r)
		}
		rings = append(rings, loops(r)...)
	}
	shells, orphans := nest(rings)
	if len(orphans) > 0 || len(shells) == 0 {
		return nil, err
	}
	var out []geom.Geometry
	for _, s := range shells {
		g := s.polygon.Geom().AsGeometry()
		if Sound(g) != nil {
			return nil, err
		}
		out = append(out, g)
	}
	return out, nil
}

// loops are the parts of a ring between corners through which it runs again. Those without ground are left out.
func loops(r Ring) (out []Ring) {
	var path Ring
	at := map[Point]int{}
	for _, q := range append(slices.Clone(r), r[0]) {
		k, again := at[q]
		if !again {
			at[q] = len(path)
			path = append(path, q)
			continue
		}
		if len(path)-k > 2 {
			out = append(out, slices.Clone(path[k:]))
		}
		for _, gone := range path[k+1:] {
			delete(at, gone)
		}
		path = path[:k+1]
	}
	return out
}

// Sound returns what is wrong with a geometry, nil for nothing.
func Sound(g geom.Geometry) (err error) {
	defer caught(&err)
	return g.Validate()
}

// Intersection is the ground that two sound geometries share.
func Intersection(a, b geom.Geometry) (both geom.Geometry, err error) {
	defer caught(&err)
	return geom.Intersection(a, b)
}

// unionOf is the ground of two sound geometries.
func unionOf(a, b geom.Geometry) (u geom.Geometry, err error) {
	defer caught(&err)
	return geom.Union(a, b)
}

// caught makes an error of a panic of the geometry library, which some outlines bring about whose corners lie nearly on edges of others.
func caught(err *error) {
	if r := recover(); r != nil {
		*err = fmt.Errorf("the outlines are too nearly on one another: %v", r)
	}
}

// ShapeAround is the shape of polygons in a CRS, with the longitudes that [Around] gives them.
func ShapeAround(crs *earth.CRS, g *Geometry) (geom.Geometry, error) {
	around, err := Around(crs, g)
	if err != nil {
		return geom.Geometry{}, err
	}
	return Shape(around)
}
