package text

import (
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
)

// Guard makes a text safe in a CSV that a spreadsheet may open: one that begins with =, +, -, @, a tab or a carriage return would be taken
// for a formula, and gets an apostrophe before it, unless it is a number. Unguard takes it away again; all
// our readers do.
func Guard(text string) string {
	if dangerous(strings.TrimLeft(text, "'")) {
		if _, err := decimal.Parse(text); err != nil {
			return "'" + text
		}
	}
	return text
}

// Unguard is the text that Guard was given.
func Unguard(text string) string {
	if rest, ok := strings.CutPrefix(text, "'"); ok && dangerous(strings.TrimLeft(rest, "'")) {
		return rest
	}
	return text
}

func dangerous(text string) bool {
	return text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0]))
}
