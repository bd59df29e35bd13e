// Package cql is the condition language of Verdex: the text encoding of OGC CQL2 (OGC 21-065r2), as far as
// conditions on attributes and arithmetic on layers need it.
//
//	district = 'North' AND area_km2 > 5
//	cover IN (41, 42) AND slope > 25
//	(nir - red) / (nir + red)
//
// What is taken: the literals of numbers, text and truth, names (in double quotes where they hold other
// characters), the comparisons = <> < > <= >=, AND, OR, NOT, BETWEEN, IN, LIKE, IS NULL, CASEI, and the arithmetic
// + - * / % div ^. Spatial, temporal and array functions are refused with their place.
//
// [Parse] makes an [Expr] and checks its kinds. [Expr.Holds] evaluates it for one set of attributes;
// [Expr.Compile] makes a [Program] that works on blocks of numbers. Logic is that of SQL, with three values:
// what compares with null is neither true nor false.
package cql

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// Kind is what an expression yields.
type Kind uint8

// The kinds. Any is that of a name whose values are known only when it is evaluated.
const (
	Any Kind = iota
	Number
	Text
	Truth
)

// String names the kind as messages do, with its article.
func (k Kind) String() string { return [...]string{"a value", "a number", "a text", "a condition"}[k] }

// SyntaxError says what is wrong with an expression, and where.
type SyntaxError struct {
	Text string
	At   int // byte offset
	What string
}

// Error gives the fault and the text with its place marked.
func (e *SyntaxError) Error() string {
	at := min(e.At, len(e.Text))
	line := strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, e.Text)
	return fmt.Sprintf("%s (character %d):\n  %s\n  %s^", e.What, utf8.RuneCountInString(e.Text[:at])+1, line, strings.Repeat(" ", utf8.RuneCountInString(e.Text[:at])))
}

// op is what a node does.
type op uint8

const (
	opNumber op = iota
	opText
	opTruth
	opName
	opAdd
	opSub
	opMul
	opDiv
	opMod
	opIntDiv
	opPow
	opNeg
	opEq
	opNe
	opLt
	opLe
	opGt
	opGe
	opAnd
	opOr
	opNot
	opBetween // value, low, high
	opIn      // value, items…
	opLike    // value, pattern
	opNull    // value IS NULL
	opCasei
)

type node struct {
	op    op
	at    int
	num   float64
	whole int64  // num, where float64 may not hold it; 0 otherwise
	text  string // of a text or a name
	args  []*node
	kind  Kind
}

// Expr is a parsed expression.
type Expr struct {
	Text string
	root *node
}

// Kind is what the expression yields.
func (e *Expr) Kind() Kind { return e.root.kind }

// Names are the names that the expression uses, each once, in the order in which they come.
func (e *Expr) Names() (out []string) {
	e.root.walk(func(n *node) {
		if n.op == opName && !slices.Contains(out, n.text) {
			out = append(out, n.text)
		}
	})
	return out
}

// Arithmetic are the names that take part in arithmetic.
func (e *Expr) Arithmetic() (out []string) {
	e.root.walk(func(n *node) {
		if n.op >= opAdd && n.op <= opNeg {
			n.walk(func(m *node) {
				if m.op == opName && !slices.Contains(out, m.text) {
					out = append(out, m.text)
				}
			})
		}
	})
	return out
}

func (n *node) walk(f func(*node)) {
	f(n)
	for _, a := range n.args {
		a.walk(f)
	}
}

// Known refuses names that are not among those given, with their place and a suggestion.
func (e *Expr) Known(names []string, what string) error {
	var wrong *node
	e.root.walk(func(n *node) {
		if wrong == nil && n.op == opName && !slices.Contains(names, n.text) {
			wrong = n
		}
	})
	if wrong == nil {
		return nil
	}
	hint := ""
	for _, n := range names {
		if strings.EqualFold(n, wrong.text) {
			hint = fmt.Sprintf("; did you mean %q?", n)
		}
	}
	return &SyntaxError{e.Text, wrong.at, fmt.Sprintf("there is no %s %q (there are: %s%s)", what, wrong.text, strings.Join(names, ", "), hint)}
}

// Parse reads an expression of any kind.
func Parse(text string) (*Expr, error) {
	p := &parser{text: text}
	if err := p.scan(); err != nil {
		return nil, err
	}
	if p.now().kind == tokEnd {
		return nil, &SyntaxError{text, 0, "there is nothing to evaluate"}
	}
	n, err := p.or(0)
	if err != nil {
		return nil, err
	}
	if t := p.now(); t.kind != tokEnd {
		return nil, p.wrong(t, "is not expected here")
	}
	if err := p.check(n); err != nil {
		return nil, err
	}
	return &Expr{text, n}, nil
}

// ParseCondition reads an expression that is true or false.
func ParseCondition(text string) (*Expr, error) { return parseKind(text, Truth) }

// ParseNumber reads an expression that yields a number.
func ParseNumber(text string) (*Expr, error) { return parseKind(text, Number) }

func parseKind(text string, want Kind) (*Expr, error) {
	e, err := Parse(text)
	if err != nil {
		return nil, err
	}
	if e.root.kind != want && e.root.kind != Any {
		return nil, &SyntaxError{text, e.root.at, fmt.Sprintf("this is %v, but %v is needed", e.root.kind, want)}
	}
	return e, nil
}
