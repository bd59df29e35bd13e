// Package text reads text files that people and other programs have written, tables among them: in UTF-8 or UTF-16 with or without
// a mark of the byte order, or in Windows-1252; with commas, semicolons or tabs between cells; with decimal points or, where commas
// do not separate cells, decimal commas.
package text

import (
	"bytes"
	"errors"
	"fmt"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"

	"github.com/verdex-land/verdex/core/files"
)

// Read reads a text file and returns it in UTF-8 without a mark, and notes on what had to be assumed.
func Read(from files.System, path string) (data []byte, notes []string, err error) {
	data, err = from.ReadFile(path)
	if err != nil {
		return nil, nil, err
	}
	return From(path, data)
}

// From is Read for what is in memory; source is its name in notes and errors.
func From(source string, data []byte) (plain []byte, notes []string, err error) {
	plain, assumed, err := Decode(data)
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", source, err)
	}
	if assumed != "" {
		notes = append(notes, source+": "+assumed)
	}
	return plain, notes, nil
}

// Decode returns a text in UTF-8 without a mark of the byte order. assumed says which encoding was taken where nothing in the text states one and it
// is not UTF-8; "" otherwise.
func Decode(data []byte) (plain []byte, assumed string, err error) {
	switch {
	case bytes.HasPrefix(data, []byte("\xef\xbb\xbf")):
		data = data[3:]
		if !utf8.Valid(data) {
			return nil, "", errors.New("it says that it is UTF-8, but some of its bytes are not: save it as UTF-8 again")
		}
	case bytes.HasPrefix(data, []byte("\xff\xfe")), bytes.HasPrefix(data, []byte("\xfe\xff")):
		if len(data)%2 != 0 {
			return nil, "", errors.New("it says that it is UTF-16, but has an odd number of bytes: save it as UTF-8")
		}
		if data, err = unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder().Bytes(data); err != nil {
			return nil, "", fmt.Errorf("it is not UTF-16, as it says (%w): save it as UTF-8", err)
		}
		if bytes.ContainsRune(data, utf8.RuneError) {
			return nil, "", errors.New("it says that it is UTF-16, but some of it is not: save it as UTF-8")
		}
	case !utf8.Valid(data):
		if bytes.IndexByte(data, 0) >= 0 {
			break
		}
		if data, err = charmap.Windows1252.NewDecoder().Bytes(data); err != nil || bytes.ContainsRune(data, utf8.RuneError) {
			return nil, "", errors.New("it is neither UTF-8 nor Windows-1252: save it as UTF-8")
		}
		assumed = "it is not UTF-8, and was read as Windows-1252: save it as UTF-8 if names look wrong"
	}
	if bytes.IndexByte(data, 0) >= 0 {
		return nil, "", errors.New("it is not a text, for it has zero bytes: save it as UTF-8")
	}
	return data, assumed, nil
}
