// Package kml reads outlines and points from KML (OGC 07-147): placemarks with their names and extended data. Coordinates are longitude and latitude on WGS 84;
// heights are left out. What is drawn but is no place, such as links to other files, is noted and not followed.
package kml

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector"
)

// Read reads a file.
func Read(from files.System, path string) (*vector.Layer, error) {
	data, err := from.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// Is reports whether the first bytes of a file are those of KML.
func Is(head []byte) bool {
	head = bytes.TrimLeft(bytes.TrimPrefix(head, []byte("\xef\xbb\xbf")), " \t\r\n")
	return bytes.HasPrefix(head, []byte("<")) && bytes.Contains(head, []byte("<kml"))
}

// mostDeep is how deep elements may be nested.
const mostDeep = 1000

// reader reads a file.
type reader struct {
	*xml.Decoder
	layer  *vector.Layer
	fields map[string]int
	links  int
}

// Parse reads the text of a file; source is its name in messages.
func Parse(source string, data []byte) (*vector.Layer, error) {
	wgs84, err := earth.Lookup(4326)
	if err != nil {
		return nil, err
	}
	r := &reader{Decoder: xml.NewDecoder(bytes.NewReader(data)), layer: &vector.Layer{Source: source, CRS: wgs84}, fields: map[string]int{}}
	r.CharsetReader = func(label string, in io.Reader) (io.Reader, error) {
		e, err := htmlindex.Get(label)
		if err != nil {
			return nil, fmt.Errorf("its encoding %q is not known", label)
		}
		return e.NewDecoder().Reader(in), nil
	}
	r.field("name")
	found := false
	depth := 0
	for {
		t, err := r.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("%s: it is not well-formed (%v): export it again", source, err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth > mostDeep {
				return nil, fmt.Errorf("%s: its elements are nested too deep", source)
			}
			switch t.Name.Local {
			case "kml":
				found = true
			case "Placemark":
				depth--
				if err := r.placemark(t); err != nil {
					line, _ := r.InputPos()
					return nil, fmt.Errorf("%s: line %d: %w", source, line, err)
				}
			case "NetworkLink":
				r.links++
			}
		case xml.EndElement:
			depth--
		}
	}
	if !found {
		return nil, fmt.Errorf("%s: it is not KML: it has no kml element", source)
	}
	if r.links > 0 {
		r.layer.Notes = append(r.layer.Notes, fmt.Sprintf("%s: %s to other files, which are not followed", source, text.Count(r.links, "link")))
	}
	for i := range r.layer.Features { // fields may have come later
		f := &r.layer.Features[i]
		for len(f.Values) < len(r.layer.Fields) {
			f.Values = append(f.Values, nil)
		}
	}
	return r.layer, nil
}

// field is the place of a field.
func (r *reader) field(name string) int {
	i, ok := r.fields[name]
	if !ok {
		i = len(r.layer.Fields)
		r.fields[name] = i
		r.layer.Fields = append(r.layer.Fields, vector.Field{Name: name})
	}
	return i
}

// placemark reads a placemark.
func (r *reader) placemark(start xml.StartElement) error {
	f := vector.Feature{}
	for _, a := range start.Attr {
		if a.Name.Local == "id" {
			f.ID = a.Value
		}
	}
	set := func(name, value string) {
		i := r.field(name)
		for len(f.Values) <= i {
			f.Values = append(f.Values, nil)
		}
		f.Values[i] = strings.TrimSpace(value)
	}
	data := "" // the name of a value of extended data
	var polygon vector.Polygon
	inner := false
	path := []string{"Placemark"}
	for len(path) > 0 {
		t, err := r.Token()
		if err != nil {
			return errors.New("it ends inside a placemark")
		}
		switch t := t.(type) {
		case xml.EndElement:
			switch t.Name.Local {
			case "Polygon":
				if len(polygon) > 0 {
					f.Geometry.Polygons = append(f.Geometry.Polygons, polygon)
				}
				polygon = nil
			case "innerBoundaryIs":
				inner = false
			}
			path = path[:len(path)-1]
		case xml.StartElement:
			if path = append(path, t.Name.Local); len(path) > mostDeep {
				return errors.New("its elements are nested too deep")
			}
			parent := path[len(path)-2]
			switch t.Name.Local {
			case "name", "description":
				if parent != "Placemark" {
					continue
				}
			case "Data", "SimpleData":
				data = attribute(t, "name")
				if t.Name.Local == "Data" {
					continue
				}
			case "value", "coordinates":
			case "innerBoundaryIs":
				inner = true
				continue
			case "Polygon", "Point", "LineString", "LinearRing", "MultiGeometry", "Model":
				if f.Geometry.Type == "" || f.Geometry.Type == "MultiGeometry" && t.Name.Local != "LinearRing" {
					f.Geometry.Type = t.Name.Local
				}
				continue
			default:
				continue
			}
			var value string
			if err := r.DecodeElement(&value, &t); err != nil {
				return errors.New("it ends inside a placemark")
			}
			path = path[:len(path)-1]
			switch {
			case t.Name.Local == "name" || t.Name.Local == "description":
				set(t.Name.Local, value)
			case t.Name.Local == "coordinates":
				points, err := coordinates(value)
				if err != nil {
					return err
				}
				switch {
				case slices.Contains(path, "Polygon"):
					if len(points) > 1 && points[0] == points[len(points)-1] {
						points = points[:len(points)-1]
					}
					if inner && len(polygon) == 0 {
						return errors.New("a polygon has an inner boundary before its outer one")
					}
					polygon = append(polygon, points)
				case parent == "Point":
					f.Geometry.Points = append(f.Geometry.Points, points...)
				}
			case data != "":
				set(data, value)
			}
		}
	}
	if len(f.Geometry.Polygons) > 1 {
		f.Geometry.Type = "MultiPolygon"
	}
	r.layer.Features = append(r.layer.Features, f)
	return nil
}

func attribute(t xml.StartElement, name string) string {
	for _, a := range t.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// coordinates reads "12.4,58.2,0 12.5,58.2,0".
func coordinates(text string) (out []vector.Point, err error) {
	for _, tuple := range strings.Fields(text) {
		parts := strings.Split(tuple, ",")
		if len(parts) < 2 || len(parts) > 3 {
			return nil, fmt.Errorf("%.40q is not a position, which is written as 12.4,58.2", tuple)
		}
		var p vector.Point
		for k := range p {
			if p[k], err = decimal.Parse(parts[k]); err != nil {
				return nil, fmt.Errorf("%.40q is not a position, which is written as 12.4,58.2", tuple)
			}
		}
		out = append(out, p)
	}
	return out, nil
}
