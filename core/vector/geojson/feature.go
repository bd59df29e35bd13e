package geojson

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"

	"github.com/go-json-experiment/json/jsontext"

	"github.com/verdex-land/verdex/core/vector"
)

// featureParser reads features on several threads while the file is still being divided into
// them; their order stays.
type featureParser struct {
	work  chan []parsedFeature
	batch []parsedFeature
	done  [][]parsedFeature
	wg    sync.WaitGroup
}

// inBatch is how many features a thread takes at a time.
const inBatch = 64

type parsedFeature struct {
	id          string
	properties  []property
	geometry    vector.Geometry
	coordinates coordinates // while it is being read
	raw         jsontext.Value
	err         error
}

type property struct {
	name  string
	value any
}

func newFeatureParser() *featureParser {
	p := &featureParser{work: make(chan []parsedFeature, 16)}
	for range runtime.GOMAXPROCS(0) {
		p.wg.Go(func() {
			r := reader{}
			for batch := range p.work {
				for i := range batch {
					f := &batch[i]
					f.err = r.read(f, f.raw)
					f.raw = nil
				}
			}
		})
	}
	return p
}

func (p *featureParser) add(v jsontext.Value) {
	if len(p.batch) == cap(p.batch) {
		p.send()
		p.batch = make([]parsedFeature, 0, inBatch)
	}
	p.batch = append(p.batch, parsedFeature{raw: v})
}

func (p *featureParser) send() {
	if len(p.batch) > 0 {
		p.done = append(p.done, p.batch)
		p.work <- p.batch
	}
}

func (p *featureParser) finish() [][]parsedFeature {
	p.send()
	close(p.work)
	p.wg.Wait()
	return p.done
}

// reader reads one feature after another, and keeps its room between them.
type reader struct {
	json    jsontext.Decoder
	scanner scanner
	names   []string // of properties, by their place in the last feature
	kind    string   // of the last geometry
}

// read reads a feature: quickly, if it is of the usual form (quick.go).
func (r *reader) read(f *parsedFeature, v jsontext.Value) error {
	if r.quick(f, v) {
		return f.assemble()
	}
	*f = parsedFeature{raw: f.raw}
	return r.slow(f, v)
}

// slow reads a feature of any form. Its coordinates are read by a scanner of their own, after which the reading of
// members goes on behind them.
func (r *reader) slow(f *parsedFeature, v jsontext.Value) (err error) {
	d := &r.json
	for rest := []byte(v); rest != nil; {
		text := rest
		rest = nil
		d.Reset(bytes.NewBuffer(text))
		if d.PeekKind() != '{' {
			return fmt.Errorf("an object is expected, but there is %s", describeKind(d.PeekKind()))
		}
		err = members(d, func(name string) error {
			switch {
			case name == "type" && d.PeekKind() == '"':
				t, err := d.ReadToken()
				if err == nil && t.String() != "Feature" {
					err = fmt.Errorf("it is a %s where a Feature belongs", t.String())
				}
				return err
			case name == "id" && (d.PeekKind() == '"' || d.PeekKind() == '0'):
				t, err := d.ReadToken()
				f.id = t.String()
				return err
			case name == "properties" && d.PeekKind() == '{':
				return members(d, func(name string) error { return f.property(d, name) })
			case name == "geometry" && d.PeekKind() == '{':
				at, err := r.shape(f, text)
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
		return err
	}
	return f.assemble()
}

func (f *parsedFeature) property(d *jsontext.Decoder, name string) error {
	v, err := d.ReadValue()
	if err != nil {
		return err
	}
	p := property{name: name}
	switch v.Kind() {
	case '"':
		b, err := jsontext.AppendUnquote(nil, v)
		if err != nil {
			return err
		}
		p.value = string(b)
	case '0':
		n, err := vector.ParseNumber(string(v))
		if err != nil {
			return err
		}
		p.value = n
	case 't', 'f':
		p.value = v.Kind() == 't'
	case 'n':
	default: // nested values are kept as text
		p.value = string(v)
	}
	for i := range f.properties { // of two with one name the last holds
		if f.properties[i].name == name {
			f.properties[i] = p
			return nil
		}
	}
	f.properties = append(f.properties, p)
	return nil
}

// shape reads the members of a geometry up to its coordinates, and returns where in the text they
// end, with errDivided; or all members when it has none, or none left.
func (r *reader) shape(f *parsedFeature, text []byte) (at int, err error) {
	d := &r.json
	err = members(d, func(name string) error {
		switch {
		case name == "type" && d.PeekKind() == '"':
			t, err := d.ReadToken()
			f.geometry.Type = t.String()
			return err
		case name == "coordinates" && d.PeekKind() == '[':
			if f.coordinates.depth != 0 {
				return errors.New("it has coordinates twice")
			}
			from := int(d.InputOffset())
			s := &r.scanner
			s.text, s.at = text, from+bytes.IndexByte(text[from:], '[')
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

// assemble makes polygons or points of the coordinates.
func (f *parsedFeature) assemble() error {
	c, g := f.coordinates, &f.geometry
	f.coordinates = coordinates{}
	wrong := func() error { return fmt.Errorf("its coordinates are not those of a %s", g.Type) }
	switch {
	case c.depth == 0:
	case g.Type == "Polygon" && c.depth == 3:
		g.Polygons = []vector.Polygon{c.polygon}
	case g.Type == "MultiPolygon" && c.depth == 4:
		g.Polygons = c.multi
	case g.Type == "Point" && c.depth == 1:
		g.Points = []vector.Point{c.point}
	case g.Type == "MultiPoint" && c.depth == 2:
		g.Points = c.ring
	case g.Type == "Polygon" || g.Type == "MultiPolygon" || g.Type == "Point" || g.Type == "MultiPoint":
		return wrong()
	}
	for _, p := range g.Polygons { // the last position repeats the first
		for i, r := range p {
			if n := len(r); n > 1 && r[0] == r[n-1] {
				p[i] = r[:n-1]
			}
		}
	}
	return nil
}
