package geojson

import (
	"io"
	"math"
	"slices"
	"strconv"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/verdex-land/verdex/core/planar"
	"github.com/verdex-land/verdex/core/vector"
)

// Write writes a layer, which is in longitude and latitude on WGS 84, as a feature collection; lines writes each
// feature on a line of its own instead, as a text sequence without record separators.
func Write(w io.Writer, l *vector.Layer, lines bool) error {
	names := make([][]byte, len(l.Fields))
	for i, f := range l.Fields {
		names[i], _ = jsontext.AppendQuote(nil, f.Name) // what is no UTF-8 is replaced
	}
	decimals := Decimals
	if l.Fine {
		decimals += 3
	}
	var b []byte
	if !lines {
		b = append(b, `{"type":"FeatureCollection","features":[`...)
	}
	for i := range l.Features {
		f := &l.Features[i]
		switch {
		case lines && i > 0:
			b = append(b, '\n')
		case i > 0:
			b = append(b, ",\n"...)
		case !lines:
			b = append(b, '\n')
		}
		b = append(b, `{"type":"Feature",`...)
		if f.ID != "" {
			b = append(b, `"id":`...)
			b, _ = jsontext.AppendQuote(b, f.ID)
			b = append(b, ',')
		}
		b = append(b, `"properties":{`...)
		for k, v := range f.Values {
			if k > 0 {
				b = append(b, ',')
			}
			b = append(append(b, names[k]...), ':')
			b = appendValue(b, l.Fields[k], v)
		}
		b = append(b, `},"geometry":`...)
		b = appendGeometry(b, &f.Geometry, decimals)
		b = append(b, '}')
		if len(b) > 1<<16 {
			if _, err := w.Write(b); err != nil {
				return err
			}
			b = b[:0]
		}
	}
	if b = append(b, '\n'); !lines {
		b = append(b, "]}\n"...)
	}
	_, err := w.Write(b)
	return err
}

func appendValue(b []byte, f vector.Field, v any) []byte {
	switch t := v.(type) {
	case string:
		b, _ = jsontext.AppendQuote(b, t)
		return b
	case float64:
		if math.IsNaN(t) || math.IsInf(t, 0) {
			return append(b, "null"...)
		}
		return append(b, f.Text(t)...)
	case int64, bool:
		return append(b, vector.TextOf(t)...)
	}
	return append(b, "null"...)
}

func appendGeometry(b []byte, g *vector.Geometry, decimals int) []byte {
	switch {
	case len(g.Polygons) == 1:
		b = append(b, `{"type":"Polygon","coordinates":`...)
		b = appendPolygon(b, g.Polygons[0], decimals)
	case len(g.Polygons) > 1:
		b = append(b, `{"type":"MultiPolygon","coordinates":[`...)
		for i, p := range g.Polygons {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendPolygon(b, p, decimals)
		}
		b = append(b, ']')
	case len(g.Points) == 1:
		b = append(b, `{"type":"Point","coordinates":`...)
		b = appendPosition(b, g.Points[0], decimals)
	case len(g.Points) > 1:
		b = append(b, `{"type":"MultiPoint","coordinates":[`...)
		for i, p := range g.Points {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendPosition(b, p, decimals)
		}
		b = append(b, ']')
	default:
		return append(b, "null"...)
	}
	return append(b, '}')
}

// appendPolygon writes a shell counter-clockwise and holes clockwise, as the standard asks.
func appendPolygon(b []byte, p vector.Polygon, decimals int) []byte {
	b = append(b, '[')
	for k, r := range p {
		if k > 0 {
			b = append(b, ',')
		}
		if (planar.Area(r) < 0) == (k == 0) {
			r = slices.Clone(r)
			slices.Reverse(r)
		}
		b = append(b, '[')
		for i := range len(r) + 1 {
			if i > 0 {
				b = append(b, ',')
			}
			b = appendPosition(b, r[i%len(r)], decimals)
		}
		b = append(b, ']')
	}
	return append(b, ']')
}

// Decimals is how many decimals of a degree are written: a tenth of a millimetre.
const Decimals = 9

// AppendPosition writes a longitude and a latitude in degrees with [Decimals]. There are
// many, and strconv takes five times as long.
func AppendPosition(b []byte, p vector.Point) []byte { return appendPosition(b, p, Decimals) }

func appendPosition(b []byte, p vector.Point, decimals int) []byte {
	b = append(b, '[')
	b = appendDegrees(b, p[0], decimals)
	b = append(b, ',')
	b = appendDegrees(b, p[1], decimals)
	return append(b, ']')
}

// appendDegrees writes an angle with up to twelve decimals.
func appendDegrees(b []byte, v float64, decimals int) []byte {
	one := int64(math.Pow10(decimals))
	n := int64(math.Round(v * float64(one)))
	if n < 0 {
		b, n = append(b, '-'), -n
	}
	b = append(strconv.AppendInt(b, n/one, 10), ".000000000000"[:decimals+1]...)
	digits := n % one
	for i := len(b) - 1; digits > 0; i-- {
		b[i] += byte(digits % 10)
		digits /= 10
	}
	return b
}
