package reference

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"slices"
	"testing"

	"github.com/peterstace/simplefeatures/geom"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
)

// cell is what a raster holds in a place.
type cell struct {
	v       float64
	missing bool
}

// image is a raster, whole.
type image struct {
	grid   raster.Grid
	typ    raster.CellType
	nodata *float64
	stored [][]float64 // by row
	masked [][]bool    // nil for no mask
	bits   bool        // the mask has a bit for each cell, instead of being a band of transparency
}

func (m *image) at(col, row int) cell {
	v := m.stored[row][col]
	return cell{v, v != v || m.nodata != nil && v == *m.nodata || m.masked != nil && m.masked[row][col]}
}

// write writes the raster as an uncompressed TIFF of one strip, by code of its own.
func (m *image) write(t *testing.T, path string) {
	t.Helper()
	g := m.grid
	var strip bytes.Buffer
	put := func(b *bytes.Buffer, v float64) {
		var x any
		switch m.typ {
		case raster.Uint8:
			x = uint8(v)
		case raster.Int8:
			x = int8(v)
		case raster.Uint16:
			x = uint16(v)
		case raster.Int16:
			x = int16(v)
		case raster.Uint32:
			x = uint32(v)
		case raster.Int32:
			x = int32(v)
		case raster.Float32:
			x = float32(v)
		default:
			x = v
		}
		binary.Write(b, binary.LittleEndian, x)
	}
	alpha := m.masked != nil && !m.bits
	var mask []byte
	for r := range g.Height {
		line := make([]byte, (g.Width+7)/8)
		for c := range g.Width {
			put(&strip, m.stored[r][c])
			clear := m.masked != nil && m.masked[r][c]
			if alpha {
				put(&strip, map[bool]float64{true: 0, false: 1}[clear])
			}
			if !clear {
				line[c/8] |= 128 >> (c % 8)
			}
		}
		mask = append(mask, line...)
	}
	bits := uint16(m.typ.Bytes() * 8)
	format := map[bool]uint16{true: 3, false: 1}[m.typ.Floating()]
	if least, _ := m.typ.Range(); !m.typ.Floating() && least < 0 {
		format = 2
	}
	short := func(v ...uint16) field {
		var b bytes.Buffer
		binary.Write(&b, binary.LittleEndian, v)
		return field{3, len(v), b.Bytes()}
	}
	double := func(v ...float64) field {
		var b bytes.Buffer
		binary.Write(&b, binary.LittleEndian, v)
		return field{12, len(v), b.Bytes()}
	}
	text := func(s string) field { return field{2, len(s) + 1, append([]byte(s), 0)} }
	model := []uint16{1, 1, 0, 2, 1024, 0, 1, 1, 3072, 0, 1, uint16(g.CRS.Code)}
	if g.CRS.Geographic() {
		model = []uint16{1, 1, 0, 2, 1024, 0, 1, 2, 2048, 0, 1, uint16(g.CRS.Code)}
	}
	first := map[uint16]field{256: short(uint16(g.Width)), 257: short(uint16(g.Height)), 258: short(bits), 259: short(1), 262: short(1), 277: short(1),
		278: short(uint16(g.Height)), 284: short(1), 339: short(format), 33550: double(g.DX, -g.DY, 0), 33922: double(0, 0, 0, g.X0, g.Y0, 0), 34735: short(model...)}
	if g.DY > 0 {
		delete(first, 33550)
		delete(first, 33922)
		first[34264] = double(g.DX, 0, 0, g.X0, 0, g.DY, 0, g.Y0, 0, 0, 0, 0, 0, 0, 0, 1)
	}
	if alpha {
		first[258], first[277], first[338], first[339] = short(bits, bits), short(2), short(2), short(format, format)
	}
	if m.nodata != nil {
		first[42113] = text(fmt.Sprint(*m.nodata))
	}
	dirs := []map[uint16]field{first}
	strips := [][]byte{strip.Bytes()}
	if m.masked != nil && m.bits {
		dirs = append(dirs, map[uint16]field{254: short(4), 256: short(uint16(g.Width)), 257: short(uint16(g.Height)), 258: short(1), 259: short(1), 262: short(4), 277: short(1), 278: short(uint16(g.Height))})
		strips = append(strips, mask)
	}
	require.NoError(t, os.WriteFile(path, tiff(dirs, strips), 0o644))
}

// field is an entry of a TIFF directory.
type field struct {
	kind, count int
	data        []byte
}

// tiff puts directories with a strip each into a file.
func tiff(dirs []map[uint16]field, strips [][]byte) []byte {
	out := []byte{'I', 'I', 42, 0, 0, 0, 0, 0}
	le := binary.LittleEndian
	next := 4
	for i, d := range dirs {
		long := func(v int) field { return field{4, 1, le.AppendUint32(nil, uint32(v))} }
		d[273], d[279] = long(len(out)), long(len(strips[i]))
		out = append(out, strips[i]...)
		var tags []int
		at := map[int]int{}
		for tag, f := range d {
			tags = append(tags, int(tag))
			if len(f.data) > 4 {
				for len(out)%8 != 0 {
					out = append(out, 0)
				}
				at[int(tag)] = len(out)
				out = append(out, f.data...)
			}
		}
		slices.Sort(tags)
		for len(out)%2 != 0 {
			out = append(out, 0)
		}
		le.PutUint32(out[next:], uint32(len(out)))
		out = le.AppendUint16(out, uint16(len(tags)))
		for _, tag := range tags {
			f := d[uint16(tag)]
			out = le.AppendUint16(le.AppendUint16(out, uint16(tag)), uint16(f.kind))
			out = le.AppendUint32(out, uint32(f.count))
			if a, ok := at[tag]; ok {
				out = le.AppendUint32(out, uint32(a))
			} else {
				out = append(out, append(slices.Clone(f.data), 0, 0, 0, 0)[:4]...)
			}
		}
		next = len(out)
		out = append(out, 0, 0, 0, 0)
	}
	return out
}

// outline is a polygon: a shell and perhaps a hole, in the CRS it is given in.
type outline [][][2]float64

// area is the ground of polygons whose edges are straight in a CRS, by the line integral around them.
func area(t *testing.T, crs *earth.CRS, polygons ...outline) (sum float64) {
	t.Helper()
	for _, p := range polygons {
		for k, r := range p {
			a, ok := crs.OutlineArea(r)
			require.True(t, ok)
			if a = math.Abs(a); k > 0 {
				a = -a
			}
			sum += a
		}
	}
	return sum
}

// dense puts many points on the edges of polygons and carries them to a grid's CRS.
func dense(p outline, g raster.Grid) (outline, bool) {
	const n = 300
	u := g.CRS.Definition.Base.Unit
	var out outline
	for _, r := range p {
		var ring [][2]float64
		for i, a := range r {
			b := r[(i+1)%len(r)]
			for k := range n {
				s := float64(k) / n
				x, y, ok := g.CRS.FromGeographic((a[0]+s*(b[0]-a[0]))*u+g.CRS.Meridian, (a[1]+s*(b[1]-a[1]))*u)
				if !ok {
					return nil, false
				}
				ring = append(ring, [2]float64{x, y})
			}
		}
		out = append(out, ring)
	}
	return out, true
}

func polygon(p outline) geom.Polygon {
	var rings []geom.LineString
	for _, r := range p {
		var flat []float64
		for _, q := range append(slices.Clone(r), r[0]) {
			flat = append(flat, q[0], q[1])
		}
		rings = append(rings, geom.NewLineString(geom.NewSequence(flat, geom.DimXY)))
	}
	return geom.NewPolygon(rings)
}

// polygonsOf are the polygons that a geometry holds.
func polygonsOf(g geom.Geometry) (out []outline) {
	add := func(p geom.Polygon) {
		if p.IsEmpty() {
			return
		}
		var o outline
		for i := range p.NumInteriorRings() + 1 {
			ring := p.ExteriorRing()
			if i > 0 {
				ring = p.InteriorRingN(i - 1)
			}
			var r [][2]float64
			s := ring.Coordinates()
			for k := range s.Length() - 1 {
				q := s.GetXY(k)
				r = append(r, [2]float64{q.X, q.Y})
			}
			o = append(o, r)
		}
		out = append(out, o)
	}
	switch {
	case g.IsPolygon():
		add(g.MustAsPolygon())
	case g.IsMultiPolygon():
		m := g.MustAsMultiPolygon()
		for i := range m.NumPolygons() {
			add(m.PolygonN(i))
		}
	case g.IsGeometryCollection():
		c := g.MustAsGeometryCollection()
		for i := range c.NumGeometries() {
			out = append(out, polygonsOf(c.GeometryN(i))...)
		}
	}
	return out
}

// shares are the true areas of the parts of each cell that lie in polygons of the grid's CRS, by row and column.
func shares(t *testing.T, g raster.Grid, polygons []outline) ([][]float64, error) {
	out := make([][]float64, g.Height)
	for r := range out {
		out[r] = make([]float64, g.Width)
	}
	for _, p := range polygons {
		shape := polygon(p).AsGeometry()
		if err := shape.Validate(); err != nil {
			return nil, err
		}
		sum := 0.0
		w, s, e, n := g.Bounds()
		all, err := geom.Intersection(shape, polygon(outline{{{w, s}, {e, s}, {e, n}, {w, n}}}).AsGeometry())
		if err != nil {
			return nil, err
		}
		for r := range g.Height {
			for c := range g.Width {
				x0, y0 := g.Point(float64(c), float64(r))
				x1, y1 := g.Point(float64(c+1), float64(r+1))
				both, err := geom.Intersection(shape, polygon(outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}}).AsGeometry())
				if err != nil {
					return nil, err
				}
				a := area(t, g.CRS, polygonsOf(both)...)
				out[r][c] += a
				sum += a
			}
		}
		if whole := area(t, g.CRS, polygonsOf(all)...); math.Abs(sum-whole) > 1e-9*whole {
			return nil, fmt.Errorf("the geometry library finds %g in cells and %g in all of them together", sum, whole)
		}
	}
	return out, nil
}

// centred are the whole areas of the cells whose centres lie in polygons; near says that one lies so near an outline that it
// may be taken for either.
func centred(t *testing.T, g raster.Grid, polygons []outline) (out [][]float64, near bool) {
	out = make([][]float64, g.Height)
	for r := range out {
		out[r] = make([]float64, g.Width)
		for c := range g.Width {
			x, y := g.Point(float64(c)+0.5, float64(r)+0.5)
			in := false
			for _, p := range polygons {
				for _, ring := range p {
					for i, a := range ring {
						b := ring[(i+1)%len(ring)]
						if (a[1] > y) != (b[1] > y) {
							at := a[0] + (y-a[1])/(b[1]-a[1])*(b[0]-a[0])
							near = near || math.Abs(at-x) < 2e-3*g.DX
							in = in != (x < at)
						}
					}
				}
			}
			if in {
				x0, y0 := g.Point(float64(c), float64(r))
				x1, y1 := g.Point(float64(c+1), float64(r+1))
				out[r][c] = area(t, g.CRS, outline{{{x0, y1}, {x1, y1}, {x1, y0}, {x0, y0}}})
			}
		}
	}
	return out, near
}

func openRaster(path string) (open.File, error) { return open.Raster(files.Disk, path, 1) }

func appendDouble(b []byte, v float64) []byte {
	return binary.LittleEndian.AppendUint64(b, math.Float64bits(v))
}
