// Package delimited reads tables in text (CSV) whose rows are features: with a column of well-known text, or with
// columns of longitude and latitude for points.
package delimited

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/vector"
)

// Names that columns of outlines and of coordinates go by, in lower case.
var (
	outlineNames   = []string{"wkt", "geometry", "geom", "the_geom", "outline", "shape"}
	longitudeNames = []string{"longitude", "lon", "long", "lng"}
	latitudeNames  = []string{"latitude", "lat"}
)

// Read reads a table. Columns are separated by commas, semicolons or tabs.
func Read(path string) (*vector.Layer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	return Parse(path, data)
}

// Parse reads the text of a table; source is its name in messages.
func Parse(source string, data []byte) (*vector.Layer, error) {
	t, err := parse(source, data)
	if err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: source}
	outline, lon, lat := find(t.head, outlineNames), find(t.head, longitudeNames), find(t.head, latitudeNames)
	if outline < 0 && (lon < 0 || lat < 0) {
		return nil, fmt.Errorf("%s: it has no column of outlines (%s) and none of longitude and latitude: name the column with WKT so (columns: %s)", source, strings.Join(outlineNames, ", "), strings.Join(t.head, ", "))
	}
	for i, row := range t.rows {
		g, code, err := geometry(row, outline, lon, lat)
		if err == nil && code != 0 {
			err = stateCRS(l, code)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", source, t.lines[i], err)
		}
		l.Features = append(l.Features, vector.Feature{Geometry: g})
	}
	t.columns(l, outline)
	if l.CRS == nil {
		settleCRS(l)
	}
	return l, nil
}

// ReadTable reads a table whose rows have no place: features without a geometry.
func ReadTable(path string) (*vector.Layer, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	t, err := parse(path, data)
	if err != nil {
		return nil, err
	}
	l := &vector.Layer{Source: path, Features: make([]vector.Feature, len(t.rows))}
	t.columns(l, -1)
	return l, nil
}

// text is a table as it stands in the file.
type text struct {
	head  []string
	rows  [][]string
	lines []int // of the file, by row
}

func parse(source string, data []byte) (*text, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(data) {
		return nil, fmt.Errorf("%s: it is not UTF-8: save it with that encoding", source)
	}
	r := csv.NewReader(bytes.NewReader(data))
	r.Comma = separator(data)
	r.FieldsPerRecord = 0
	t := &text{}
	var err error
	if t.head, err = r.Read(); err != nil {
		return nil, fmt.Errorf("%s: it is no table with a line of names: %w", source, csvError(err))
	}
	for i := range t.head {
		t.head[i] = strings.TrimSpace(t.head[i])
	}
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return t, nil
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", source, csvError(err))
		}
		line, _ := r.FieldPos(0)
		t.rows, t.lines = append(t.rows, row), append(t.lines, line)
	}
}

// columns gives the features of a layer the values of all columns but one.
func (t *text) columns(l *vector.Layer, but int) {
	for i, n := range t.head {
		if i != but {
			l.Fields = append(l.Fields, vector.Field{Name: n})
			addColumn(l, t.rows, i)
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

func csvError(err error) error {
	var p *csv.ParseError
	if errors.As(err, &p) && errors.Is(p.Err, csv.ErrFieldCount) {
		return fmt.Errorf("line %d has another number of cells than the line of names", p.Line)
	}
	if errors.Is(err, io.EOF) {
		return errors.New("it is empty")
	}
	return err
}

// separator is the one of comma, semicolon and tab that the first line has most of.
func separator(data []byte) rune {
	line, _, _ := bytes.Cut(data, []byte("\n"))
	best := ','
	for _, c := range ";\t" {
		if bytes.Count(line, []byte(string(c))) > bytes.Count(line, []byte(string(best))) {
			best = c
		}
	}
	return best
}

func find(head, names []string) int {
	return slices.IndexFunc(head, func(h string) bool { return slices.Contains(names, strings.ToLower(strings.TrimSpace(h))) })
}

// geometry reads that of a row, and the EPSG code that it may state before it: SRID=3035;POLYGON(…).
func geometry(row []string, outline, lon, lat int) (g vector.Geometry, code int, err error) {
	if outline < 0 {
		x, err1 := strconv.ParseFloat(strings.TrimSpace(row[lon]), 64)
		y, err2 := strconv.ParseFloat(strings.TrimSpace(row[lat]), 64)
		if err1 != nil || err2 != nil || !(math.Abs(x) <= 540 && math.Abs(y) <= 90) {
			return g, 0, fmt.Errorf("%q, %q are no longitude and latitude in degrees", row[lon], row[lat])
		}
		return vector.Geometry{Type: "Point", Points: []vector.Point{{x, y}}}, 4326, nil
	}
	text := strings.TrimSpace(row[outline])
	if text == "" {
		return g, 0, nil
	}
	if head, rest, ok := strings.Cut(text, ";"); ok && strings.HasPrefix(strings.ToUpper(head), "SRID=") {
		if code, err = strconv.Atoi(head[5:]); err != nil {
			return g, 0, fmt.Errorf("%q is no number of a CRS", head)
		}
		text = rest
	}
	if g, err = vector.FromWKT(text); err != nil {
		if len(text) > 40 {
			text = text[:40] + "…"
		}
		return g, 0, fmt.Errorf("%q is not WKT that is understood (%w)", text, err)
	}
	return g, code, nil
}

// addColumn adds the values of a column: whole numbers when all are, numbers, or texts. A number that begins with a
// zero, as codes do, keeps a column text.
func addColumn(l *vector.Layer, rows [][]string, i int) {
	kind := vector.Integer
	for _, row := range rows {
		text := row[i]
		if text == "" {
			continue
		}
		digits := strings.TrimPrefix(text, "-")
		if len(digits) > 1 && digits[0] == '0' && digits[1] != '.' {
			kind = vector.Text
		} else if _, err := strconv.ParseInt(text, 10, 64); err != nil && kind == vector.Integer {
			kind = vector.Real
		}
		if kind == vector.Real {
			if v, err := strconv.ParseFloat(text, 64); err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
				kind = vector.Text
			}
		}
		if kind == vector.Text {
			break
		}
	}
	l.Fields[len(l.Fields)-1].Kind = kind
	for k, row := range rows {
		var v any
		switch text := row[i]; {
		case text == "":
		case kind == vector.Integer:
			v, _ = strconv.ParseInt(text, 10, 64)
		case kind == vector.Real:
			v, _ = strconv.ParseFloat(text, 64)
		default:
			v = text
		}
		l.Features[k].Values = append(l.Features[k].Values, v)
	}
}

// settleCRS takes coordinates for longitude and latitude on WGS 84 where they can be such.
func settleCRS(l *vector.Layer) {
	for _, f := range l.Features {
		for _, p := range f.Geometry.Polygons {
			if b := vector.Box(p[0]); len(p[0]) > 0 && (b[0] < -360 || b[2] > 360 || b[1] < -90 || b[3] > 90) {
				l.CRSProblem = "it does not say its CRS, and its coordinates are no degrees"
				return
			}
		}
	}
	l.CRS, _ = earth.Lookup(4326) // the registry has it
	l.CRSAssumed = true
	l.Notes = append(l.Notes, l.Source+": it does not say its CRS; its coordinates are taken for longitude and latitude on WGS 84")
}
