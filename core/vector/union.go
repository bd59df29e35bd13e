package vector

import (
	"cmp"
	"slices"

	"github.com/peterstace/simplefeatures/geom"
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
		return geom.Union(a, b)
	}
	u, err := unite(all, true)
	if err == nil {
		return u, nil
	}
	u = geom.Geometry{}
	for _, g := range list { // slivers can trip the union of two large ones
		var again error
		if u, again = geom.Union(u, g); again != nil {
			return u, err
		}
	}
	return u, nil
}
