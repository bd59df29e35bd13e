package geojson

import (
	"bytes"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/vector"
)

// Features of the usual form are read here without the JSON library, which takes several times as long for their few members: type, id,
// properties of texts without escapes, numbers, true, false and null, and a geometry of type and coordinates, each member once. Of anything
// else quick says that it is not its business, and the library reads the feature from its beginning, or says what is wrong with it.

// take passes over a character if it is the next one.
func (s *scanner) take(c byte) bool {
	if s.peek() != c {
		return false
	}
	s.at++
	return true
}

// word reads a text without escapes.
func (s *scanner) word() ([]byte, bool) {
	if !s.take('"') {
		return nil, false
	}
	text, ascii := s.text[s.at:], true
	for i, c := range text {
		switch {
		case c == '"':
			s.at += i + 1
			return text[:i], ascii || utf8.Valid(text[:i])
		case c == '\\' || c < ' ':
			return nil, false
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	return nil, false
}

// literal reads true, false or null.
func (s *scanner) literal(word string) bool {
	if !bytes.HasPrefix(s.text[s.at:], []byte(word)) {
		return false
	}
	s.at += len(word)
	return true
}

// numeral reads a number as JSON writes it.
func (s *scanner) numeral() ([]byte, bool) {
	from := s.at
	digits := func() bool {
		begin := s.at
		for s.at < len(s.text) && s.text[s.at] >= '0' && s.text[s.at] <= '9' {
			s.at++
		}
		return s.at > begin
	}
	is := func(c byte) bool { return s.at < len(s.text) && s.text[s.at] == c }
	if is('-') {
		s.at++
	}
	zero := is('0')
	if begin := s.at; !digits() || zero && s.at > begin+1 {
		return nil, false
	}
	if is('.') {
		if s.at++; !digits() {
			return nil, false
		}
	}
	if is('e') || is('E') {
		if s.at++; is('+') || is('-') {
			s.at++
		}
		if !digits() {
			return nil, false
		}
	}
	return s.text[from:s.at], true
}

// members calls f with the name of each member of an object, whose value f reads. It is false when f is, or when the text is
// something else.
func (s *scanner) members(f func(name []byte) bool) bool {
	if !s.take('{') {
		return false
	}
	if s.take('}') {
		return true
	}
	for {
		name, ok := s.word()
		if !ok || !s.take(':') || !f(name) {
			return false
		}
		if s.take('}') {
			return true
		}
		if !s.take(',') {
			return false
		}
	}
}

// quick reads a feature of the usual form into f, and is false when it is not one; f is then in no particular state.
func (r *reader) quick(f *parsedFeature, text []byte) bool {
	s := &r.scanner
	s.text, s.at = text, 0
	const (
		seenType = 1 << iota
		seenID
		seenProperties
		seenGeometry
	)
	seen := 0
	once := func(what int) bool {
		again := seen&what != 0
		seen |= what
		return !again
	}
	ok := s.members(func(name []byte) bool {
		switch string(name) {
		case "type":
			word, ok := s.word()
			return ok && string(word) == "Feature" && once(seenType)
		case "id":
			word, ok := s.word()
			if !ok && isNumber(s.peek()) {
				word, ok = s.numeral()
			}
			f.id = string(word)
			return ok && once(seenID)
		case "properties":
			if s.peek() == 'n' {
				return s.literal("null") && once(seenProperties)
			}
			return once(seenProperties) && s.members(func(name []byte) bool { return r.quickProperty(f, name) })
		case "geometry":
			if s.peek() == 'n' {
				return s.literal("null") && once(seenGeometry)
			}
			return once(seenGeometry) && r.quickShape(f)
		}
		return false
	})
	return ok && s.peek() == 0 && s.at == len(text)
}

// mostQuick is how many properties a feature may have to be read quickly: each is compared with all before it.
const mostQuick = 48

func (r *reader) quickProperty(f *parsedFeature, name []byte) bool {
	s := &r.scanner
	n := len(f.properties)
	if n == mostQuick {
		return false
	}
	for i := range f.properties {
		if f.properties[i].name == string(name) {
			return false
		}
	}
	// Features mostly have the names of the one before them, which then serve again.
	if n == len(r.names) {
		r.names = append(r.names, string(name))
	} else if r.names[n] != string(name) {
		r.names[n] = string(name)
	}
	p := property{name: r.names[n]}
	switch c := s.peek(); {
	case c == '"':
		word, ok := s.word()
		if !ok {
			return false
		}
		p.value = string(word)
	case isNumber(c):
		text, ok := s.numeral()
		if !ok {
			return false
		}
		v, err := vector.ParseNumber(string(text))
		if err != nil {
			return false
		}
		p.value = v
	case c == 't':
		p.value = true
		if !s.literal("true") {
			return false
		}
	case c == 'f':
		p.value = false
		if !s.literal("false") {
			return false
		}
	case c == 'n':
		if !s.literal("null") {
			return false
		}
	default:
		return false
	}
	if f.properties == nil {
		f.properties = make([]property, 0, len(r.names))
	}
	f.properties = append(f.properties, p)
	return true
}

func (r *reader) quickShape(f *parsedFeature) bool {
	s := &r.scanner
	kind, coordinates := false, false
	return s.members(func(name []byte) bool {
		switch string(name) {
		case "type":
			word, ok := s.word()
			if !ok || kind {
				return false
			}
			kind = true
			if f.geometry.Type = r.kind; string(word) != r.kind {
				r.kind = string(word)
				f.geometry.Type = r.kind
			}
			return true
		case "coordinates":
			if coordinates || s.peek() != '[' {
				return false
			}
			coordinates = true
			var err error
			f.coordinates, err = s.list(0)
			return err == nil
		}
		return false
	})
}
