package vector

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"

	"github.com/peterstace/simplefeatures/geom"
)

// FromWKB reads well-known binary, as GeoPackage and GeoParquet have it: ISO 13249-3 with heights and measures, which are
// left out, and the older marks of these in the upper bits of the type. No count in it is believed before as
// many bytes have been seen; the library's reader takes the memory first.
func FromWKB(b []byte) (Geometry, error) {
	r := wkbReader{b: b}
	var g Geometry
	t, err := r.geometry(&g, 0)
	g.Type = t
	return g, err
}

type wkbReader struct {
	b     []byte
	order binary.ByteOrder
	size  int // of a position
}

var errWKB = errors.New("its geometry is damaged: it counts more than it holds")

// wkbTypes are the names of the kinds, from 1 on.
var wkbTypes = [...]string{"", "Point", "LineString", "Polygon", "MultiPoint", "MultiLineString", "MultiPolygon", "GeometryCollection"}

// geometry reads one geometry, which may hold others, and adds its points or polygons.
func (r *wkbReader) geometry(g *Geometry, depth int) (string, error) {
	if len(r.b) < 5 {
		return "", errWKB
	}
	switch r.b[0] {
	case 0:
		r.order = binary.BigEndian
	case 1:
		r.order = binary.LittleEndian
	default:
		return "", errors.New("its geometry is damaged: it states no order of bytes")
	}
	code := r.order.Uint32(r.b[1:])
	r.b = r.b[5:]
	r.size = 16
	if code&0xe0000000 != 0 { // marks of heights, measures and a CRS number
		if code&0x80000000 != 0 {
			r.size += 8
		}
		if code&0x40000000 != 0 {
			r.size += 8
		}
		if code&0x20000000 != 0 {
			if len(r.b) < 4 {
				return "", errWKB
			}
			r.b = r.b[4:]
		}
		code &= 0x1fffffff
	} else {
		r.size += [...]int{0, 8, 8, 16}[min(code/1000, 3)]
		code %= 1000
	}
	if code < 1 || int(code) >= len(wkbTypes) {
		return "", fmt.Errorf("its geometry is of a kind (%d) that is not read", code)
	}
	name := wkbTypes[code]
	switch code {
	case 1:
		if len(r.b) < r.size {
			return name, errWKB
		}
		if p := r.point(); !math.IsNaN(p[0]) { // an empty point
			g.Points = append(g.Points, p)
		}
		return name, nil
	case 2:
		_, err := r.points()
		return name, err
	case 3:
		n, err := r.count(4)
		var p Polygon
		for ; n > 0 && err == nil; n-- {
			var ring Ring
			if ring, err = r.points(); len(ring) > 1 && ring[0] == ring[len(ring)-1] {
				ring = ring[:len(ring)-1]
			}
			if len(p) == 0 || len(ring) > 0 { // a hole without points is none
				p = append(p, ring)
			}
		}
		if len(p) > 0 && len(p[0]) > 0 {
			g.Polygons = append(g.Polygons, p)
		}
		return name, err
	}
	if depth > 8 {
		return name, errors.New("its geometry is nested too deep")
	}
	n, err := r.count(5)
	for ; n > 0 && err == nil; n-- {
		_, err = r.geometry(g, depth+1)
	}
	return name, err
}

// count reads how many things of at least so many bytes follow.
func (r *wkbReader) count(least int) (int, error) {
	if len(r.b) < 4 {
		return 0, errWKB
	}
	n := uint64(r.order.Uint32(r.b))
	if r.b = r.b[4:]; n*uint64(least) > uint64(len(r.b)) {
		return 0, errWKB
	}
	return int(n), nil
}

func (r *wkbReader) points() (Ring, error) {
	n, err := r.count(r.size)
	if err != nil {
		return nil, err
	}
	out := make(Ring, n)
	for i := range out {
		out[i] = r.point()
	}
	return out, nil
}

func (r *wkbReader) point() Point {
	p := Point{math.Float64frombits(r.order.Uint64(r.b)), math.Float64frombits(r.order.Uint64(r.b[8:]))}
	r.b = r.b[r.size:]
	return p
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
