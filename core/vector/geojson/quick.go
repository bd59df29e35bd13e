package geojson

import (
	"bytes"
	"strconv"
	"unicode/utf8"
)

// Features of the usual form are read here without the JSON library, which takes several times as long for their few members: type, id,
// properties of texts without escapes, numbers, true, false and null, and a geometry of type and coordinates, each member once. Of anything
// else quick says that it is not its business, and the library reads the feature from its beginning, or says what is wrong with it.

// quickReader follows the text of a feature.
type quickReader struct {
	text []byte
	at   int
}

// peek is the next character that is no white space, 0 at the end.
func (q *quickReader) peek() byte {
	for ; q.at < len(q.text); q.at++ {
		switch c := q.text[q.at]; c {
		case ' ', '\t', '\n', '\r':
		default:
			return c
		}
	}
	return 0
}

// take passes over a character if it is the next one.
func (q *quickReader) take(c byte) bool {
	if q.peek() != c {
		return false
	}
	q.at++
	return true
}

// word reads a text without escapes.
func (q *quickReader) word() ([]byte, bool) {
	if !q.take('"') {
		return nil, false
	}
	from, ascii := q.at, true
	for ; q.at < len(q.text); q.at++ {
		switch c := q.text[q.at]; {
		case c == '"':
			word := q.text[from:q.at]
			q.at++
			return word, ascii || utf8.Valid(word)
		case c == '\\' || c < ' ':
			return nil, false
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	return nil, false
}

// literal reads true, false or null.
func (q *quickReader) literal(word string) bool {
	if !bytes.HasPrefix(q.text[q.at:], []byte(word)) {
		return false
	}
	q.at += len(word)
	return true
}

// number reads a number as JSON writes it.
func (q *quickReader) number() ([]byte, bool) {
	from := q.at
	digits := func() bool {
		begin := q.at
		for q.at < len(q.text) && q.text[q.at] >= '0' && q.text[q.at] <= '9' {
			q.at++
		}
		return q.at > begin
	}
	is := func(c byte) bool { return q.at < len(q.text) && q.text[q.at] == c }
	if is('-') {
		q.at++
	}
	zero := is('0')
	if begin := q.at; !digits() || zero && q.at > begin+1 {
		return nil, false
	}
	if is('.') {
		if q.at++; !digits() {
			return nil, false
		}
	}
	if is('e') || is('E') {
		if q.at++; is('+') || is('-') {
			q.at++
		}
		if !digits() {
			return nil, false
		}
	}
	return q.text[from:q.at], true
}

// members calls f with the name of each member of an object, whose value f reads. It is false when f is, or when the text is
// something else.
func (q *quickReader) members(f func(name []byte) bool) bool {
	if !q.take('{') {
		return false
	}
	if q.take('}') {
		return true
	}
	for {
		name, ok := q.word()
		if !ok || !q.take(':') || !f(name) {
			return false
		}
		if q.take('}') {
			return true
		}
		if !q.take(',') {
			return false
		}
	}
}

// quick reads a feature of the usual form into f, and is false when it is not one; f is then in no particular state.
func (r *reader) quick(f *parsedFeature, text []byte) bool {
	q := quickReader{text: text}
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
	ok := q.members(func(name []byte) bool {
		switch string(name) {
		case "type":
			word, ok := q.word()
			return ok && string(word) == "Feature" && once(seenType)
		case "id":
			word, ok := q.word()
			if !ok && isNumber(q.peek()) {
				word, ok = q.number()
			}
			f.id = string(word)
			return ok && once(seenID)
		case "properties":
			if q.peek() == 'n' {
				return q.literal("null") && once(seenProperties)
			}
			return once(seenProperties) && q.members(func(name []byte) bool { return r.quickProperty(f, &q, name) })
		case "geometry":
			if q.peek() == 'n' {
				return q.literal("null") && once(seenGeometry)
			}
			return once(seenGeometry) && r.quickShape(f, &q)
		}
		return false
	})
	return ok && q.peek() == 0 && q.at == len(text)
}

// mostQuick is how many properties a feature may have to be read quickly: each is compared with all before it.
const mostQuick = 48

func (r *reader) quickProperty(f *parsedFeature, q *quickReader, name []byte) bool {
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
	switch c := q.peek(); {
	case c == '"':
		word, ok := q.word()
		if !ok {
			return false
		}
		p.value = string(word)
	case isNumber(c):
		text, ok := q.number()
		if !ok {
			return false
		}
		if v, err := strconv.ParseInt(string(text), 10, 64); err == nil {
			p.value = v
		} else if v, err := strconv.ParseFloat(string(text), 64); err == nil {
			p.value = v
		} else {
			return false
		}
	case c == 't':
		p.value = true
		if !q.literal("true") {
			return false
		}
	case c == 'f':
		p.value = false
		if !q.literal("false") {
			return false
		}
	case c == 'n':
		if !q.literal("null") {
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

func (r *reader) quickShape(f *parsedFeature, q *quickReader) bool {
	kind, coordinates := false, false
	return q.members(func(name []byte) bool {
		switch string(name) {
		case "type":
			word, ok := q.word()
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
			if coordinates || q.peek() != '[' {
				return false
			}
			coordinates = true
			s := &r.scanner
			s.text, s.at = q.text, q.at
			var err error
			f.coordinates, err = s.list(0)
			q.at = s.at
			return err == nil
		}
		return false
	})
}
