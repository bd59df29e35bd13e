package cli

import (
	_ "embed"
	"errors"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// codesText has a line for each message of docs/messages.md: its code and its text, in which what varies is … or a stand-in such as N.
//
//go:embed codes.tsv
var codesText string

// messageCode is the code of a message, and what tells the message.
type messageCode struct {
	code string
	is   *regexp.Regexp
	size int // of what does not vary
}

// varying is what differs from one message to another of the same kind.
var varying = regexp.MustCompile(`…|\b[A-Z]\b|"[^"]*"|\d[\d.,]*`)

// messageCodes are those of codesText, the longest text first, for it says most.
var messageCodes = sync.OnceValue(func() (out []messageCode) {
	for line := range strings.Lines(codesText) {
		code, text, _ := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		size := 0
		var pattern []string
		for _, piece := range varying.Split(text, -1) {
			if piece = strings.TrimSpace(piece); piece != "" {
				pattern = append(pattern, regexp.QuoteMeta(piece))
				size += len(piece)
			}
		}
		out = append(out, messageCode{code, regexp.MustCompile(`(?s)` + strings.Join(pattern, `.*`)), size})
	}
	slices.SortStableFunc(out, func(a, b messageCode) int { return b.size - a.size })
	return out
})

// codeOf is the code of a message, or another where the documents do not explain it.
func codeOf(message, other string) string {
	for _, m := range messageCodes() {
		if m.is.MatchString(message) {
			return m.code
		}
	}
	return other
}

// errorCode is the code of an error.
func errorCode(err error, message string) string {
	switch {
	case errors.Is(err, errStrict):
		return "check"
	case isMisuse(err):
		return codeOf(message, "usage")
	}
	return codeOf(message, "failed")
}
