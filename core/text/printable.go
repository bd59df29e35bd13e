package text

import (
	"bytes"
	"strings"
)

// Printable is a letter as it may be shown: control characters, which a terminal obeys, and those that turn the direction of what follows, which make a text
// look like another one, are replaced by U+FFFD. Tabs and ends of lines stay.
func Printable(r rune) rune {
	switch {
	case r == '\n' || r == '\t' || r == '\r':
		return r
	case r < ' ' || r >= 0x7f && r < 0xa0, r == '\u061c', r >= '\u200e' && r <= '\u200f', r >= '\u2028' && r <= '\u202e', r >= '\u2066' && r <= '\u2069':
		return '\ufffd'
	}
	return r
}

// PrintableText is a text of which each letter is [Printable].
func PrintableText(s string) string { return strings.Map(Printable, s) }

// PrintableBytes is a page or a drawing of which each letter is [Printable].
func PrintableBytes(b []byte) []byte { return bytes.Map(Printable, b) }
