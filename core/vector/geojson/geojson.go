// Package geojson reads and writes GeoJSON (RFC 7946) and GeoJSON text sequences (RFC 8142).
//
// Coordinates, nearly all of such a file, are read by a scanner of their own (scanner.go), features on several
// threads; everything else by a JSON library.
package geojson

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/vector"
)

// Read reads a file: a feature collection, a feature, a bare geometry, or a sequence of features, each on a line
// or behind a record separator. The crs member of the 2008 format is honoured; without it coordinates are longitude
// and latitude on WGS 84.
func Read(from files.System, path string) (*vector.Layer, error) {
	data, err := from.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, data)
}

// Parse reads the text of a file; source is its name in messages.
func Parse(source string, data []byte) (*vector.Layer, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, fmt.Errorf("%s: it is empty", source)
	}
	g := &geoJSON{fieldAt: map[string]int{}}
	read := g.top
	if isSequence(data) {
		read = g.sequence
	}
	if err := read(data); err != nil {
		return nil, fmt.Errorf("%s: it is not GeoJSON with features (%w)", source, plain(err))
	}
	l := &vector.Layer{Source: source, Fields: g.fields, Features: g.features}
	for i := range l.Features { // features before a field's first appearance lack its place
		if f := &l.Features[i]; len(f.Values) < len(l.Fields) {
			f.Values = append(f.Values, make([]any, len(l.Fields)-len(f.Values))...)
		}
	}
	l.Settle()
	var err error
	if g.crs == "" {
		l.CRS, err = earth.Lookup(4326)
	} else {
		l.CRS, err = earth.ParseCRS(g.crs)
	}
	if err != nil {
		l.CRSProblem = err.Error()
	}
	return l, nil
}

// isSequence reports whether a text is one JSON object behind another: the first does not hold the last.
func isSequence(data []byte) bool {
	if data[0] == 0x1e {
		return true
	}
	line, rest, more := bytes.Cut(bytes.TrimLeft(data, " \t\r\n"), []byte("\n"))
	line = bytes.TrimRight(line, " \t\r,")
	return more && len(line) > 2 && line[0] == '{' && line[len(line)-1] == '}' && bytes.HasPrefix(bytes.TrimLeft(rest, " \t\r\n"), []byte("{")) && jsontext.Value(line).IsValid()
}

// plain shortens the errors of the JSON library.
func plain(err error) error {
	var s *jsontext.SyntacticError
	if errors.As(err, &s) {
		what := strings.TrimPrefix(s.Err.Error(), "jsontext: ")
		if errors.Is(err, io.ErrUnexpectedEOF) {
			what = "it ends too early"
		}
		return fmt.Errorf("at byte %d: %s", s.ByteOffset, what)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return errors.New("it ends too early")
	}
	return err
}

type geoJSON struct {
	features []vector.Feature
	fields   []vector.Field // in the order of their first appearance
	fieldAt  map[string]int
	crs      string
}

// members calls f for each member of an object; f must consume the value.
func members(d *jsontext.Decoder, f func(name string) error) error {
	t, err := d.ReadToken()
	if err != nil {
		return err
	}
	if t.Kind() != '{' {
		return fmt.Errorf("an object is expected, but there is %s", describeKind(t.Kind()))
	}
	for d.PeekKind() != '}' {
		t, err := d.ReadToken()
		if err != nil {
			return err
		}
		if err := f(t.String()); err != nil {
			return err
		}
	}
	_, err = d.ReadToken()
	return err
}

func describeKind(k jsontext.Kind) string {
	switch k {
	case '[':
		return "a list"
	case '"':
		return "a text"
	case '0':
		return "a number"
	case '{':
		return "an object"
	}
	return "nothing of use"
}

// top reads the outermost object. The list of features, nearly all of the file, is divided by
// counting brackets, and each feature is read and checked by featureParser; what stands before and
// after the list is read here.
func (g *geoJSON) top(data []byte) error {
	var kind string
	var single []byte
	p := newFeatureParser()
	rest := data
	var err error
	for rest != nil && err == nil {
		text := rest
		rest = nil
		d := jsontext.NewDecoder(bytes.NewBuffer(text))
		err = members(d, func(name string) error {
			switch {
			case name == "type" && d.PeekKind() == '"':
				t, err := d.ReadToken()
				kind = t.String()
				return err
			case name == "features" && d.PeekKind() == '[':
				at, err := divide(text, int(d.InputOffset()), p.add)
				if err != nil {
					return err
				}
				rest = append([]byte("{"), bytes.TrimLeft(text[at:], " \t\r\n,")...)
				return errDivided
			case name == "crs":
				v, err := d.ReadValue()
				if err != nil {
					return err
				}
				return g.readCRS(v)
			}
			v, err := d.ReadValue()
			if err == nil {
				if single != nil {
					single = append(single, ',')
				}
				quoted, _ := jsontext.AppendQuote(nil, name)
				single = append(append(append(single, quoted...), ':'), v...)
			}
			return err
		})
		if errors.Is(err, errDivided) {
			err = nil
		} else if err == nil {
			if _, after := d.ReadToken(); !errors.Is(after, io.EOF) {
				err = errors.New("something follows its end")
			}
		}
	}
	if err == nil {
		switch kind {
		case "FeatureCollection":
		case "Feature":
			p.add(append(append([]byte("{"), single...), '}'))
		case "Polygon", "MultiPolygon", "Point", "MultiPoint":
			p.add(fmt.Appendf(nil, `{"geometry":{"type":%q,%s}}`, kind, single))
		case "":
			err = errors.New(`it has no "type"`)
		default:
			err = fmt.Errorf("it is a %s, but features are needed", kind)
		}
	}
	return g.take(p.finish(), err)
}

// sequence reads one feature behind another.
func (g *geoJSON) sequence(data []byte) error {
	p := newFeatureParser()
	var err error
	for len(data) > 0 && err == nil {
		separator := byte('\n')
		if data[0] == 0x1e {
			data, separator = data[1:], 0x1e
		}
		at := bytes.IndexByte(data, separator)
		text := data
		if data = nil; at >= 0 {
			if text, data = text[:at], text[at:]; separator == '\n' {
				data = data[1:]
			}
		}
		if text = bytes.TrimSpace(text); len(text) > 0 {
			p.add(text)
		}
	}
	return g.take(p.finish(), err)
}

// take keeps the features that have been read.
func (g *geoJSON) take(done [][]parsedFeature, err error) error {
	if err != nil {
		return err
	}
	n := 0
	for _, batch := range done {
		n += len(batch)
	}
	g.features = make([]vector.Feature, 0, n)
	var room []any // for the values of many features
	for _, batch := range done {
		for i := range batch {
			f := &batch[i]
			if f.err != nil {
				return fmt.Errorf("feature %d: %w", len(g.features)+1, plain(f.err))
			}
			most := max(len(g.fields), len(f.properties))
			if len(room) < most {
				room = make([]any, max(most, most*min(n-len(g.features), 1024)))
			}
			out := vector.Feature{ID: f.id, Geometry: f.geometry, Values: room[:len(g.fields):most]}
			room = room[most:]
			for i, p := range f.properties {
				k := i
				if i >= len(g.fields) || g.fields[i].Name != p.name {
					k = g.field(p.name)
				}
				for k >= len(out.Values) {
					out.Values = append(out.Values, nil)
				}
				out.Values[k] = p.value
			}
			g.features = append(g.features, out)
		}
	}
	return nil
}

// field is the place of a field, which is made when there is none.
func (g *geoJSON) field(name string) int {
	k, ok := g.fieldAt[name]
	if !ok {
		k = len(g.fields)
		g.fieldAt[name] = k
		g.fields = append(g.fields, vector.Field{Name: name})
	}
	return k
}

// errDivided ends the reading of members where the list of features was.
var errDivided = errors.New("divided")

// divide gives each object of the list that begins at or after text[at] to add, and returns where the
// list has ended. It follows strings and counts brackets; whether what lies between is sound is
// for the reader of the object to say.
func divide(text []byte, at int, add func(jsontext.Value)) (int, error) {
	at += bytes.IndexByte(text[at:], '[') + 1
	depth, from := 0, 0
	comma, object := true, false // whether an object may begin here, and whether one must
	for ; at < len(text); at++ {
		c := text[at]
		if depth > 0 {
			// Within a feature only quotes and braces matter; the rest, nearly all, is passed over.
			if at += nextStructural(text[at:]); at == len(text) {
				return at, io.ErrUnexpectedEOF
			}
			switch text[at] {
			case '"':
				for at++; at < len(text) && text[at] != '"'; at++ {
					if text[at] == '\\' {
						at++
					}
				}
			case '{':
				depth++
			default:
				if depth--; depth == 0 {
					add(text[from : at+1])
				}
			}
			continue
		}
		switch {
		case c == ' ' || c == '\t' || c == '\r' || c == '\n':
		case c == '{' && comma:
			from, depth, comma, object = at, 1, false, false
		case c == ',' && !comma:
			comma, object = true, true
		case c == ']' && !object:
			return at + 1, nil
		default:
			return at, fmt.Errorf("at byte %d: the list of features holds %q where a feature, a comma or its end belongs", at, c)
		}
	}
	return at, io.ErrUnexpectedEOF
}

// structural are the characters that divide follows.
var structural = [256]bool{'"': true, '{': true, '}': true}

// nextStructural is where the next of those characters stands; the length of the text when there is none. Where none is
// near, in coordinates, each is looked for by itself, many characters at a time.
func nextStructural(text []byte) int {
	const near = 24
	for i, c := range text[:min(near, len(text))] {
		if structural[c] {
			return i
		}
	}
	for _, c := range []byte{'}', '"', '{'} {
		if i := bytes.IndexByte(text, c); i >= 0 {
			text = text[:i]
		}
	}
	return len(text)
}

// readCRS reads the crs member of the format of 2008.
func (g *geoJSON) readCRS(v jsontext.Value) error {
	if v.Kind() == 'n' {
		return nil
	}
	d := jsontext.NewDecoder(bytes.NewReader(v))
	return members(d, func(name string) error {
		if name != "properties" {
			return d.SkipValue()
		}
		return members(d, func(name string) error {
			if name != "name" || d.PeekKind() != '"' {
				return d.SkipValue()
			}
			t, err := d.ReadToken()
			g.crs = t.String()
			return err
		})
	})
}
