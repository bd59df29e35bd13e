package zone

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strconv"
	"strings"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/fault"
)

// ReadGeoJSON reads the zones of a GeoJSON file (RFC 7946): a feature collection, a feature or
// a bare polygon. The crs member of the 2008 format is honoured; without it coordinates are
// longitude and latitude on WGS 84. crs, when not nil, overrides both.
func ReadGeoJSON(path string, crs *earth.CRS, sel Selection) (*Set, error) {
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	return ParseGeoJSON(path, data, crs, sel)
}

// ParseGeoJSON reads zones from the text of a GeoJSON file; source is its name in messages.
func ParseGeoJSON(source string, data []byte, crs *earth.CRS, sel Selection) (*Set, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))
	if len(bytes.TrimSpace(data)) == 0 {
		return nil, fmt.Errorf("%s: it is empty, so there is nothing to report on", source)
	}
	g := &geoJSON{fieldAt: map[string]bool{}}
	if err := g.top(data); err != nil {
		return nil, fmt.Errorf("%s: it is not GeoJSON with zones (%w)", source, plain(err))
	}
	if crs == nil {
		var err error
		if g.crs == "" {
			crs, err = earth.Lookup(4326)
		} else {
			crs, err = earth.ParseCRS(g.crs)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", source, err)
		}
	}
	return gather(source, crs, g.features, g.fields, sel)
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
	features []feature
	fields   []string // in the order of their first appearance
	fieldAt  map[string]bool
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
		case "Polygon", "MultiPolygon":
			p.add(fmt.Appendf(nil, `{"geometry":{"type":%q,%s}}`, kind, single))
		case "":
			err = errors.New(`it has no "type"`)
		default:
			err = fmt.Errorf("it is a %s, but zones are polygons", kind)
		}
	}
	done := p.finish()
	if err != nil {
		return err
	}
	g.features = make([]feature, 0, len(done))
	for i, f := range done {
		if f.err != nil {
			return fmt.Errorf("feature %d: %w", i+1, plain(f.err))
		}
		g.features = append(g.features, f.feature)
		for _, name := range f.order {
			if !g.fieldAt[name] {
				g.fieldAt[name] = true
				g.fields = append(g.fields, name)
			}
		}
	}
	return nil
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
			// Within a feature only quotes and brackets matter; the rest, nearly all, is passed over.
			for !structural[c] {
				if at++; at == len(text) {
					return at, io.ErrUnexpectedEOF
				}
				c = text[at]
			}
			switch c {
			case '"':
				for at++; at < len(text) && text[at] != '"'; at++ {
					if text[at] == '\\' {
						at++
					}
				}
			case '{', '[':
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
var structural = [256]bool{'"': true, '{': true, '}': true, '[': true, ']': true}

// featureParser reads features on several threads while the file is still being divided into
// them; their order stays.
type featureParser struct {
	work chan *parsedFeature
	done []*parsedFeature
	wg   sync.WaitGroup
}

type parsedFeature struct {
	feature
	raw   jsontext.Value
	order []string // names of the properties as they come
	err   error
}

func newFeatureParser() *featureParser {
	p := &featureParser{work: make(chan *parsedFeature, 64)}
	for range runtime.GOMAXPROCS(0) {
		p.wg.Go(func() {
			for f := range p.work {
				f.order, f.err = f.read(f.raw)
				f.raw = nil
			}
		})
	}
	return p
}

func (p *featureParser) add(v jsontext.Value) {
	f := &parsedFeature{raw: v}
	p.done = append(p.done, f)
	p.work <- f
}

func (p *featureParser) finish() []*parsedFeature {
	close(p.work)
	p.wg.Wait()
	return p.done
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

// read reads a feature. Its coordinates are read by a scanner of their own, after which the reading of
// members goes on behind them.
func (f *feature) read(v jsontext.Value) (order []string, err error) {
	f.attributes, f.texts = Attributes{}, map[string]string{}
	for rest := []byte(v); rest != nil; {
		text := rest
		rest = nil
		d := jsontext.NewDecoder(bytes.NewBuffer(text))
		if d.PeekKind() != '{' {
			return nil, fmt.Errorf("an object is expected, but there is %s", describeKind(d.PeekKind()))
		}
		err = members(d, func(name string) error {
			switch {
			case name == "id" && (d.PeekKind() == '"' || d.PeekKind() == '0'):
				t, err := d.ReadToken()
				f.id = t.String()
				return err
			case name == "properties" && d.PeekKind() == '{':
				return members(d, func(name string) error {
					order = append(order, name)
					return f.property(d, name)
				})
			case name == "geometry" && d.PeekKind() == '{':
				at, err := f.geometry(d, text)
				if errors.Is(err, errDivided) {
					rest = append([]byte(`{"geometry":{`), bytes.TrimLeft(text[at:], " \t\r\n,")...)
				}
				return err
			}
			return d.SkipValue()
		})
		if errors.Is(err, errDivided) {
			err = nil
			continue
		}
		if err == nil {
			if _, after := d.ReadToken(); !errors.Is(after, io.EOF) {
				err = errors.New("something follows its end")
			}
		}
	}
	if err != nil {
		return nil, err
	}
	return order, f.assemble()
}

func (f *feature) property(d *jsontext.Decoder, name string) error {
	v, err := d.ReadValue()
	if err != nil {
		return err
	}
	switch v.Kind() {
	case '"':
		b, err := jsontext.AppendUnquote(nil, v)
		if err != nil {
			return err
		}
		f.attributes[name], f.texts[name] = string(b), string(b)
	case '0':
		n, err := strconv.ParseFloat(string(v), 64)
		if err != nil {
			return err
		}
		f.attributes[name], f.texts[name] = n, string(v)
	case 't', 'f':
		f.attributes[name], f.texts[name] = v.Kind() == 't', string(v)
	case 'n':
		f.attributes[name] = nil
	default: // nested values are kept as text
		f.attributes[name], f.texts[name] = string(v), string(v)
	}
	return nil
}

// geometry reads the members of a geometry up to its coordinates, and returns where in the text they
// end, with errDivided; or all members when it has none, or none left.
func (f *feature) geometry(d *jsontext.Decoder, text []byte) (at int, err error) {
	err = members(d, func(name string) error {
		switch {
		case name == "type" && d.PeekKind() == '"':
			t, err := d.ReadToken()
			f.kind = t.String()
			return err
		case name == "coordinates" && d.PeekKind() == '[':
			if f.coordinates.depth != 0 {
				return errors.New("it has coordinates twice")
			}
			from := int(d.InputOffset())
			s := scanner{text: text, at: from + bytes.IndexByte(text[from:], '[')}
			var err error
			if f.coordinates, err = s.list(0); err != nil {
				return err
			}
			at = s.at
			return errDivided
		}
		return d.SkipValue()
	})
	return at, err
}

// assemble makes polygons of the coordinates.
func (f *feature) assemble() error {
	c := f.coordinates
	f.coordinates = coordinates{}
	switch f.kind {
	case "Polygon":
		if c.depth == 3 {
			f.polygons = []Polygon{c.polygon}
		} else if c.depth != 0 {
			return errors.New("its coordinates are not those of a Polygon")
		}
	case "MultiPolygon":
		if c.depth == 4 {
			f.polygons = c.multi
		} else if c.depth != 0 {
			return errors.New("its coordinates are not those of a MultiPolygon")
		}
	}
	return nil
}
