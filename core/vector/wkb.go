package vector

import (
	"fmt"

	"github.com/peterstace/simplefeatures/geom"
)

// FromWKB reads well-known binary, as GeoPackage and GeoParquet have it. Heights and measures are left out.
func FromWKB(b []byte) (Geometry, error) {
	g, err := geom.UnmarshalWKB(b, geom.NoValidate{})
	if err != nil {
		return Geometry{}, fmt.Errorf("its geometry is damaged (%w)", err)
	}
	return fromGeom(g), nil
}

// FromWKT reads well-known text.
func FromWKT(text string) (Geometry, error) {
	g, err := geom.UnmarshalWKT(text, geom.NoValidate{})
	if err != nil {
		return Geometry{}, err
	}
	return fromGeom(g), nil
}

func fromGeom(g geom.Geometry) Geometry {
	out := Geometry{Type: g.Type().String()}
	out.add(g)
	return out
}

func (o *Geometry) add(g geom.Geometry) {
	switch g.Type() {
	case geom.TypePolygon:
		if p := g.MustAsPolygon(); !p.IsEmpty() {
			o.Polygons = append(o.Polygons, polygonOf(p))
		}
	case geom.TypeMultiPolygon:
		m := g.MustAsMultiPolygon()
		for i := range m.NumPolygons() {
			o.add(m.PolygonN(i).AsGeometry())
		}
	case geom.TypePoint:
		if xy, ok := g.MustAsPoint().XY(); ok {
			o.Points = append(o.Points, Point{xy.X, xy.Y})
		}
	case geom.TypeMultiPoint:
		m := g.MustAsMultiPoint()
		for i := range m.NumPoints() {
			o.add(m.PointN(i).AsGeometry())
		}
	case geom.TypeGeometryCollection:
		c := g.MustAsGeometryCollection()
		for i := range c.NumGeometries() {
			o.add(c.GeometryN(i))
		}
	}
}

func polygonOf(p geom.Polygon) Polygon {
	out := Polygon{ringOf(p.ExteriorRing())}
	for i := range p.NumInteriorRings() {
		out = append(out, ringOf(p.InteriorRingN(i)))
	}
	return out
}

// ringOf takes the points of a closed line but the last, which repeats the first.
func ringOf(l geom.LineString) Ring {
	c := l.Coordinates()
	n := c.Length()
	r := make(Ring, 0, n)
	for i := range n {
		xy := c.GetXY(i)
		r = append(r, Point{xy.X, xy.Y})
	}
	if n > 1 && r[0] == r[n-1] {
		r = r[:n-1]
	}
	return r
}

// Geom gives polygons as a geometry of the library, closed, and not checked.
func (p Polygon) Geom() geom.Polygon {
	var rings []geom.LineString
	for _, r := range p {
		flat := make([]float64, 0, 2*len(r)+2)
		for i := range len(r) + 1 {
			q := r[i%len(r)]
			flat = append(flat, q[0], q[1])
		}
		rings = append(rings, geom.NewLineString(geom.NewSequence(flat, geom.DimXY)))
	}
	return geom.NewPolygon(rings)
}

// Geom gives the polygons as one geometry of the library: a polygon, or a multipolygon when many or when several is
// wanted.
func (g *Geometry) Geom(many bool) geom.Geometry {
	if len(g.Polygons) == 0 && len(g.Points) > 0 {
		var points []geom.Point
		for _, p := range g.Points {
			points = append(points, geom.XY{X: p[0], Y: p[1]}.AsPoint())
		}
		if len(points) == 1 && !many {
			return points[0].AsGeometry()
		}
		return geom.NewMultiPoint(points).AsGeometry()
	}
	var list []geom.Polygon
	for _, p := range g.Polygons {
		list = append(list, p.Geom())
	}
	if len(list) == 1 && !many {
		return list[0].AsGeometry()
	}
	return geom.NewMultiPolygon(list).AsGeometry()
}

// FromGeom takes the polygons of a geometry of the library.
func FromGeom(g geom.Geometry) Geometry { return fromGeom(g) }
