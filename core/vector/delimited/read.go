// Package delimited reads tables in text (CSV) whose rows are features: with a column of well-known text, or with
// columns of longitude and latitude for points.
package delimited

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// Names that columns of outlines and of coordinates go by, in lower case.
var (
	outlineNames   = []string{"wkt", "geometry", "geom", "the_geom", "outline", "shape"}
	longitudeNames = []string{"longitude", "lon", "long", "lng"}
	latitudeNames  = []string{"latitude", "lat"}
	xNames         = []string{"x", "easting", "x_coord"}
	yNames         = []string{"y", "northing", "y_coord"}
)

// Read reads a table. Columns are separated by commas, semicolons or tabs.
func Read(from files.System, path string) (*vector.Layer, error) {
	data, notes, err := text.Read(from, path)
	if err != nil {
		return nil, err
	}
	return parse(path, data, notes)
}

// Parse reads the text of a table; source is its name in messages.
func Parse(source string, data []byte) (*vector.Layer, error) {
	plain, notes, err := text.From(source, data)
	if err != nil {
		return nil, err
	}
	return parse(source, plain, notes)
}

func parse(source string, data []byte, notes []string) (*vector.Layer, error) {
	t, err := text.Parse(data, text.Options{Even: true})
	if err != nil {
		return nil, fmt.Errorf("%s: %w", source, err)
	}
	l := &vector.Layer{Source: source, Notes: notes}
	outline, lon, lat := find(t.Head, outlineNames), find(t.Head, longitudeNames), find(t.Head, latitudeNames)
	plane := lon < 0 || lat < 0 // coordinates in a CRS that the table does not state
	if plane {
		lon, lat = find(t.Head, xNames), find(t.Head, yNames)
	}
	if outline < 0 && (lon < 0 || lat < 0) {
		return nil, fmt.Errorf("%s: it has no column of outlines (%s) and none of longitude and latitude or of x and y: name the column with WKT so (columns: %s)", source, strings.Join(outlineNames, ", "), strings.Join(t.Head, ", "))
	}
	for i, row := range t.Rows {
		g, code, err := geometry(row, outline, lon, lat, plane)
		if err == nil && code != 0 {
			err = stateCRS(l, code)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", source, t.Lines[i], err)
		}
		l.Features = append(l.Features, vector.Feature{Geometry: g})
	}
	columns(t, l, outline)
	if l.CRS == nil {
		settleCRS(l)
	}
	return l, nil
}

// FromTable makes features without a geometry of a table; source is its name in messages.
func FromTable(source string, t *text.Table) *vector.Layer {
	l := &vector.Layer{Source: source, Features: make([]vector.Feature, len(t.Rows))}
	columns(t, l, -1)
	if t.Numbers != nil {
		l.Settle()
	}
	return l
}

// columns gives the features of a layer the values of all columns but one.
func columns(t *text.Table, l *vector.Layer, but int) {
	for i, n := range t.Head {
		if i == but {
			continue
		}
		l.Fields = append(l.Fields, vector.Field{Name: n})
		addColumn(l, t, i)
		if t.HasCommas(i) {
			l.Notes = append(l.Notes, fmt.Sprintf("%s: the numbers of the column %s have decimal commas in a table whose cells commas separate, so they are read as texts: write them with points", l.Source, n))
		}
	}
}

// stateCRS takes the CRS that a row states, which is that of all.
func stateCRS(l *vector.Layer, code int) error {
	if l.CRS != nil && l.CRS.Code == code {
		return nil
	}
	if l.CRS != nil {
		return fmt.Errorf("it is in EPSG:%d, but rows before it in EPSG:%d", code, l.CRS.Code)
	}
	var err error
	l.CRS, err = earth.Lookup(code)
	return err
}

func find(head, names []string) int {
	return slices.IndexFunc(head, func(h string) bool { return slices.Contains(names, strings.ToLower(strings.TrimSpace(h))) })
}

// geometry reads that of a row, and the EPSG code that it may state before it: SRID=3035;POLYGON(…).
func geometry(row []string, outline, lon, lat int, plane bool) (g vector.Geometry, code int, err error) {
	if outline < 0 {
		x, err1 := decimal.Finite(row[lon])
		y, err2 := decimal.Finite(row[lat])
		if plane {
			if err1 != nil || err2 != nil {
				return g, 0, fmt.Errorf("%q, %q are not coordinates", row[lon], row[lat])
			}
			return vector.Geometry{Type: "Point", Points: []vector.Point{{x, y}}}, 0, nil
		}
		if err1 != nil || err2 != nil || !(math.Abs(x) <= 540 && math.Abs(y) <= 90) {
			return g, 0, fmt.Errorf("%q, %q are not a longitude and a latitude in degrees", row[lon], row[lat])
		}
		return vector.Geometry{Type: "Point", Points: []vector.Point{{x, y}}}, 4326, nil
	}
	wkt := strings.TrimSpace(row[outline])
	if wkt == "" {
		return g, 0, nil
	}
	if head, rest, ok := strings.Cut(wkt, ";"); ok && strings.HasPrefix(strings.ToUpper(head), "SRID=") {
		if code, err = strconv.Atoi(head[5:]); err != nil {
			return g, 0, fmt.Errorf("%q is not a number of a CRS", head)
		}
		wkt = rest
	}
	if g, err = vector.FromWKT(wkt); err != nil {
		if len(wkt) > 40 {
			wkt = wkt[:40] + "…"
		}
		return g, 0, fmt.Errorf("%q is not valid WKT (%w)", wkt, err)
	}
	return g, code, nil
}

// addColumn adds the values of a column: what the file states that it has, or else what its cells are.
func addColumn(l *vector.Layer, t *text.Table, i int) {
	field, of := &l.Fields[len(l.Fields)-1], decimal.Column{}
	stated := t.Texts[field.Name] || t.Numbers[field.Name]
	if !stated {
		of = decimal.Of(t.Column(i))
		field.Kind, field.Decimals = [...]vector.Kind{decimal.Text: vector.Text, decimal.Whole: vector.Integer, decimal.Real: vector.Real}[of.Kind], of.Decimals
	}
	if of.Doubtful != "" {
		l.Notes = append(l.Notes, fmt.Sprintf("%s: the column %s is read as text, so that %s stays as it is written: for numbers, write plain decimals such as 0.5, all with as many places as they need or all with the same", l.Source, field.Name, of.Doubtful))
	}
	for k, row := range t.Rows {
		var v any
		switch cell := row[i]; {
		case cell == "":
		case field.Kind == vector.Integer:
			v, _ = strconv.ParseInt(cell, 10, 64)
		case field.Kind == vector.Real:
			v, _ = decimal.Parse(cell)
		case t.Numbers[field.Name] && !t.Texts[field.Name]:
			var err error
			if v, err = vector.ParseNumber(cell); err != nil {
				v = cell
			}
		default:
			v = cell
		}
		l.Features[k].Values = append(l.Features[k].Values, v)
	}
}

// settleCRS takes coordinates for longitude and latitude on WGS 84 where they can be such.
func settleCRS(l *vector.Layer) {
	degrees := func(r vector.Ring) bool {
		b := vector.Box(r)
		return len(r) == 0 || b[0] >= -360 && b[2] <= 360 && b[1] >= -90 && b[3] <= 90
	}
	for _, f := range l.Features {
		all := degrees(f.Geometry.Points)
		for _, p := range f.Geometry.Polygons {
			all = all && degrees(p[0])
		}
		if !all {
			l.CRSProblem = "it does not say its CRS, and its coordinates are not in degrees"
			return
		}
	}
	l.CRS, _ = earth.Lookup(4326) // the registry has it
	l.CRSAssumed = true
	l.Notes = append(l.Notes, l.Source+": "+vector.NoteAssumedCRS)
}
