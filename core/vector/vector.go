// Package vector holds layers of features: outlines or points with attributes, as files of zones have them.
//
// Each format has a folder of its own, which reads a file to a [Layer] or writes one; folder open finds which
// format a file has. What zones become of features is for package zone.
package vector

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
)

// Point is a position in CRS coordinates: x and y, or longitude and latitude.
type Point = [2]float64

// Ring is a closed outline; its last point joins its first and is not repeated.
type Ring []Point

// Polygon is a shell followed by its holes.
type Polygon []Ring

// Geometry is what a feature covers. Lines are not kept, only that they are such.
type Geometry struct {
	Type     string // Polygon, MultiPolygon, Point, LineString and so on; "" when there is none
	Polygons []Polygon
	Points   []Point
}

// Empty reports whether there is no ground and no point.
func (g *Geometry) Empty() bool { return len(g.Polygons) == 0 && len(g.Points) == 0 }

// Field is an attribute of a layer.
type Field struct {
	Name string
	Kind Kind
	Form Form // of texts that are dates or times
	// Decimals is how many decimals all numbers of a Real field have in a file that stores them exactly; 0 where they are plain
	// floating-point numbers.
	Decimals int
}

// Form is what texts of a field are, where the file says so.
type Form uint8

// The forms of texts.
const (
	Plain    Form = iota
	Date          // 2020-06-30
	DateTime      // 2020-06-30T12:00:00Z
)

// AllDates reports whether all values of a field are dates or times, as its form says.
func (l *Layer) AllDates(i int) bool {
	for k := range l.Features {
		if v := l.Features[k].Values[i]; v != nil {
			if _, err := ParseTime(v); err != nil {
				return false
			}
		}
	}
	return true
}

// ParseTime reads a value that is a date, or a date and a time.
func ParseTime(v any) (time.Time, error) {
	text, _ := v.(string)
	if t, err := time.Parse(time.DateOnly, text); err == nil {
		return t, nil
	}
	return time.Parse(time.RFC3339Nano, text)
}

// Kind is what the values of a field are.
type Kind uint8

// The kinds of fields. Dates and times are texts, in the form of ISO 8601.
const (
	Text Kind = iota
	Integer
	Real
	Boolean
)

// String names the kind as messages do.
func (k Kind) String() string { return [...]string{"text", "whole number", "number", "true/false"}[k] }

// Feature is one feature. Values has one for each field of the layer: nil, string, int64, float64 or bool.
type Feature struct {
	ID       string // the file's own identifier, when it has one
	Values   []any
	Geometry Geometry
}

// NoteAssumedCRS ends the note of a layer whose CRS was taken from its coordinates.
const NoteAssumedCRS = "it does not state its CRS, so its coordinates are taken as longitude and latitude on WGS 84"

// Layer is what a file, or one layer of it, holds.
type Layer struct {
	Source     string // the file, for messages
	Name       string // of the layer, where a file has several
	CRS        *earth.CRS
	CRSProblem string // why CRS is nil
	CRSAssumed bool   // nothing states CRS, and it was taken from the coordinates
	Fields     []Field
	Features   []Feature
	Notes      []string // for the user: what was assumed
	Fine       bool     // of features so small that formats which round positions keep three more decimals
	Plain      bool     // a table: no feature has a geometry, and none is written; it needs no CRS
}

// Field is the index of a field, -1 when there is none of that name.
func (l *Layer) Field(name string) int {
	for i, f := range l.Fields {
		if f.Name == name {
			return i
		}
	}
	return -1
}

// FieldNames are the names of the fields.
func (l *Layer) FieldNames() []string {
	out := make([]string, len(l.Fields))
	for i, f := range l.Fields {
		out[i] = f.Name
	}
	return out
}

// Area is the area of polygons on the ellipsoid of a CRS in m²; ok is false where the CRS is not defined, or nil.
func Area(crs *earth.CRS, g *Geometry) (m2 float64, ok bool) {
	if crs == nil {
		return 0, false
	}
	for _, p := range g.Polygons {
		for k, r := range p {
			if len(r) < 3 {
				continue
			}
			a, ok := crs.OutlineArea(r)
			if !ok {
				return 0, false
			}
			if a = math.Abs(a); k > 0 {
				a = -a
			}
			m2 += a
		}
	}
	return m2, true
}

// TextOf is a value as text, "" for nil. Numbers have as many digits as it takes to tell them apart.
func TextOf(v any) string {
	switch t := v.(type) {
	case string:
		return t
	case int64:
		return strconv.FormatInt(t, 10)
	case float64:
		if a := math.Abs(t); a != 0 && (a < 1e-6 || a >= 1e21) {
			return strconv.FormatFloat(t, 'g', -1, 64)
		}
		return strconv.FormatFloat(t, 'f', -1, 64)
	case bool:
		return strconv.FormatBool(t)
	}
	return ""
}

// Text is a value of the field as it was written, "" for nil: numbers that a file stores with a number of decimals have these.
func (f Field) Text(v any) string {
	if n, ok := v.(float64); ok && f.Decimals > 0 {
		return strconv.FormatFloat(n, 'f', f.Decimals, 64)
	}
	return TextOf(v)
}

// Cell is the value that a feature has in a field, as [Field.Text] writes it.
func (l *Layer) Cell(feature, field int) string {
	return l.Fields[field].Text(l.Features[feature].Values[field])
}

// Written makes texts of the numbers of a field that are written with a number of decimals, for a file that stores numbers as such would lose zeros at their end: an id of 1.10
// is not 1.1.
func (l *Layer) Written(field int) {
	if l.Fields[field].Decimals == 0 {
		return
	}
	for i := range l.Features {
		if v := &l.Features[i].Values[field]; *v != nil {
			*v = l.Cell(i, field)
		}
	}
	l.Fields[field].Kind, l.Fields[field].Decimals = Text, 0
}

// ParseNumber reads a number of a format that has numbers as a value of a feature: an int64 if it is whole, and a text if it is whole and no int64 holds it, for such
// numbers are ids.
func ParseNumber(text string) (any, error) {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil {
		return n, nil
	}
	v, err := decimal.Parse(text)
	if err != nil {
		return nil, err
	}
	if math.Abs(v) >= decimal.Exact && strings.Trim(text, "+-0123456789") == "" {
		return text, nil
	}
	return v, nil
}

// ID is the value of a feature in a field of ids, as it was written but for spaces around it, which nobody sees and tables lose. A number that may stand for several ids is an error.
func (l *Layer) ID(feature, field int) (string, error) {
	if f, ok := l.Features[feature].Values[field].(float64); ok && math.Abs(f) >= decimal.Exact {
		return "", fmt.Errorf("the id %v is a floating-point number so large that different ids look the same: store the ids as whole numbers or as text", f)
	}
	return strings.TrimSpace(l.Cell(feature, field)), nil
}

// Number is a value as a number; ok is false for texts, truths and nil.
func Number(v any) (n float64, ok bool) {
	switch t := v.(type) {
	case int64:
		return float64(t), true
	case float64:
		return t, true
	}
	return 0, false
}

// Settle finds the kind of each field from the values: of numbers, whole ones only when all are; of different
// kinds, text. Values are changed to that kind.
func (l *Layer) Settle() {
	for i := range l.Fields {
		var seen [4]bool
		large := false
		for _, f := range l.Features {
			switch v := f.Values[i].(type) {
			case string:
				seen[Text] = true
			case int64:
				seen[Integer] = true
				large = large || v >= decimal.Exact || v <= -decimal.Exact
			case float64:
				seen[Real] = true
			case bool:
				seen[Boolean] = true
			}
		}
		numbers := seen[Integer] || seen[Real]
		kind := Text
		switch {
		case seen[Text] || numbers && seen[Boolean] || seen[Real] && large:
		case seen[Real]:
			kind = Real
		case seen[Integer]:
			kind = Integer
		case seen[Boolean]:
			kind = Boolean
		}
		l.Fields[i].Kind = kind
		if kind != Text {
			l.Fields[i].Form = Plain
		}
		for k := range l.Features {
			v := &l.Features[k].Values[i]
			switch n := (*v).(type) {
			case nil:
			case int64:
				if kind == Real {
					*v = float64(n)
				} else if kind == Text {
					*v = TextOf(n)
				}
			default:
				if kind == Text {
					*v = l.Fields[i].Text(n)
				}
			}
		}
		if kind != Real {
			l.Fields[i].Decimals = 0
		}
	}
}

// greatest is the largest coordinate that is read: a place on the Earth has none above it in any unit that a CRS has.
const greatest = 1e10

// CheckCoordinates returns an error if an outline or a point has a coordinate that is not a number or that no place on the Earth can have.
func (l *Layer) CheckCoordinates() error {
	for i := range l.Features {
		g := &l.Features[i].Geometry
		for _, p := range g.Polygons {
			for _, ring := range p {
				if err := checkRing(ring); err != nil {
					return fmt.Errorf("feature %d: %w", i+1, err)
				}
			}
		}
		if err := checkRing(g.Points); err != nil {
			return fmt.Errorf("feature %d: %w", i+1, err)
		}
	}
	return nil
}

func checkRing(ring Ring) error {
	for _, p := range ring {
		if !(math.Abs(p[0]) <= greatest && math.Abs(p[1]) <= greatest) { // also NaN
			return fmt.Errorf("it has a point at %v, %v, which is not a place: the file is damaged, get it again", p[0], p[1])
		}
	}
	return nil
}
