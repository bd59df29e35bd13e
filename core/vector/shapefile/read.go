// Package shapefile reads and writes shapefiles: outlines (.shp), attributes (.dbf), their encoding (.cpg) and the CRS
// (.prj), side by side under one name. The form is that of the technical description of July 1998.
package shapefile

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"path/filepath"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// The kinds of shapes; 10 more have heights, 20 more measures.
const (
	shapeNull       = 0
	shapePoint      = 1
	shapeLine       = 3
	shapePolygon    = 5
	shapeMultiPoint = 8
	shapePatch      = 31
)

// beside finds the file that stands beside a .shp under another ending, in lower or upper case; "" when there is none.
func beside(from files.System, path, ending string) string {
	return files.FindBeside(from, path, ending, strings.ToUpper(ending))
}

// Read reads a shapefile by the path of its .shp.
func Read(from files.System, path string) (*vector.Layer, error) {
	l := &vector.Layer{Source: path}
	if err := readShapes(from, path, l); err != nil {
		return nil, err
	}
	switch prj := beside(from, path, ".prj"); prj {
	case "":
		l.CRSProblem = "no .prj file beside it states its CRS"
	default:
		text, err := from.ReadFile(prj)
		if err != nil {
			return nil, err
		}
		if l.CRS, err = earth.ParseCRS(strings.TrimSpace(string(text))); err != nil {
			l.CRSProblem = fmt.Sprintf("the CRS in %s is not understood (%v)", filepath.Base(prj), err)
		}
	}
	dbf := beside(from, path, ".dbf")
	if dbf == "" {
		l.Notes = append(l.Notes, path+": no .dbf file stands beside it, so its features have no attributes")
		return l, nil
	}
	return l, readTable(from, dbf, beside(from, path, ".cpg"), l)
}

func readShapes(from files.System, path string, l *vector.Layer) error {
	f, err := from.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := decodeShapes(bufio.NewReaderSize(io.NewSectionReader(f, 0, f.Size()), 1<<20), f.Size(), l); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// decodeShapes reads the records of a .shp of the given size.
func decodeShapes(r io.Reader, size int64, l *vector.Layer) error {
	var head [100]byte
	if _, err := io.ReadFull(r, head[:]); err != nil || binary.BigEndian.Uint32(head[:]) != 9994 {
		return errors.New("it is not a shapefile: it does not begin like one")
	}
	if stated := int64(binary.BigEndian.Uint32(head[24:])) * 2; stated > size {
		return fmt.Errorf("it says that it has %d bytes, but there are %d: it is cut off, so get a complete copy", stated, size)
	} else if stated >= 100 {
		size = stated
	}
	var content []byte
	for at := int64(100); at+8 <= size; {
		var record [8]byte
		if _, err := io.ReadFull(r, record[:]); err != nil {
			return errors.New("it ends too early")
		}
		n := int64(binary.BigEndian.Uint32(record[4:])) * 2
		at += 8 + n
		if n < 4 || at > size {
			return fmt.Errorf("record %d says that it has %d bytes, more than the file has: it is damaged", len(l.Features)+1, n)
		}
		if int64(cap(content)) < n {
			content = make([]byte, n)
		}
		content = content[:n]
		if _, err := io.ReadFull(r, content); err != nil {
			return errors.New("it ends too early")
		}
		g, err := shape(content)
		if err != nil {
			return fmt.Errorf("record %d: %w", len(l.Features)+1, err)
		}
		l.Features = append(l.Features, vector.Feature{Geometry: g})
	}
	return nil
}

// shape reads one shape.
func shape(b []byte) (g vector.Geometry, err error) {
	kind := int(binary.LittleEndian.Uint32(b))
	damaged := errors.New("its shape is damaged: it counts more than it holds")
	switch b = b[4:]; kind {
	case shapeNull:
		return g, nil
	case shapePoint, shapePoint + 10, shapePoint + 20:
		if len(b) < 16 {
			return g, damaged
		}
		return vector.Geometry{Type: "Point", Points: points(b, 1)}, nil
	case shapeMultiPoint, shapeMultiPoint + 10, shapeMultiPoint + 20:
		if len(b) < 36 || uint64(binary.LittleEndian.Uint32(b[32:]))*16 > uint64(len(b)-36) {
			return g, damaged
		}
		return vector.Geometry{Type: "MultiPoint", Points: points(b[36:], int(binary.LittleEndian.Uint32(b[32:])))}, nil
	case shapeLine, shapeLine + 10, shapeLine + 20:
		return vector.Geometry{Type: "LineString"}, nil
	case shapePatch:
		return vector.Geometry{Type: "MultiPatch"}, nil
	case shapePolygon, shapePolygon + 10, shapePolygon + 20:
	default:
		return g, fmt.Errorf("its shape is of a kind (%d) that is not known", kind)
	}
	if len(b) < 40 {
		return g, damaged
	}
	parts, count := uint64(binary.LittleEndian.Uint32(b[32:])), uint64(binary.LittleEndian.Uint32(b[36:]))
	if parts*4+count*16 > uint64(len(b)-40) {
		return g, damaged
	}
	all := points(b[40+parts*4:], int(count))
	var rings []vector.Ring
	for i := range parts {
		from, to := uint64(binary.LittleEndian.Uint32(b[40+i*4:])), count
		if i+1 < parts {
			to = uint64(binary.LittleEndian.Uint32(b[44+i*4:]))
		}
		if from > to || to > count {
			return g, damaged
		}
		r := all[from:to:to]
		if n := len(r); n > 1 && r[0] == r[n-1] {
			r = r[:n-1]
		}
		rings = append(rings, r)
	}
	g.Type = "Polygon"
	if g.Polygons = vector.Nest(rings); len(g.Polygons) > 1 {
		g.Type = "MultiPolygon"
	}
	return g, nil
}

func points(b []byte, n int) vector.Ring {
	out := make(vector.Ring, n)
	for i := range out {
		out[i] = vector.Point{math.Float64frombits(binary.LittleEndian.Uint64(b[i*16:])), math.Float64frombits(binary.LittleEndian.Uint64(b[i*16+8:]))}
	}
	return out
}
