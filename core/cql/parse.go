package cql

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/verdex-land/verdex/core/decimal"
)

type tokenKind uint8

const (
	tokEnd tokenKind = iota
	tokNumber
	tokText
	tokName   // quoted names too
	tokWord   // a keyword, in capitals
	tokSymbol // punctuation and operators
)

type token struct {
	kind tokenKind
	text string
	num  float64
	at   int
}

// keywords of CQL2 that cannot be names unless they are in double quotes.
var keywords = map[string]bool{"AND": true, "OR": true, "NOT": true, "BETWEEN": true, "IN": true, "LIKE": true, "IS": true, "NULL": true,
	"TRUE": true, "FALSE": true, "CASEI": true, "ACCENTI": true, "DIV": true, "DATE": true, "TIMESTAMP": true, "INTERVAL": true}

// maxDepth bounds nesting, so that no text can exhaust the stack.
const maxDepth = 200

type parser struct {
	text   string
	tokens []token
	i      int
}

func (p *parser) now() token { return p.tokens[p.i] }

func (p *parser) wrong(t token, what string) error {
	name := fmt.Sprintf("%q", t.text)
	if t.kind == tokEnd {
		name = "the end"
	}
	return &SyntaxError{p.text, t.at, name + " " + what}
}

// scan cuts the text into tokens.
func (p *parser) scan() error {
	if len(p.text) > 1<<16 {
		return &SyntaxError{p.text[:80], 0, "an expression of more than 65,536 characters is not read"}
	}
	if !utf8.ValidString(p.text) {
		return &SyntaxError{strings.ToValidUTF8(p.text, "?"), 0, "the expression is not valid UTF-8"}
	}
	add := func(kind tokenKind, text string, at int) {
		p.tokens = append(p.tokens, token{kind: kind, text: text, at: at})
	}
	for i := 0; i < len(p.text); {
		c, size := utf8.DecodeRuneInString(p.text[i:])
		rest := p.text[i:]
		switch {
		case unicode.IsSpace(c):
			i += size
		case c == '\'' || c == '"':
			value, n, ok := quoted(rest, byte(c))
			if !ok {
				return &SyntaxError{p.text, i, "the quote that begins here does not end"}
			}
			kind := tokText
			if c == '"' {
				kind = tokName
			}
			add(kind, value, i)
			i += n
		case c >= '0' && c <= '9' || c == '.' && len(rest) > 1 && rest[1] >= '0' && rest[1] <= '9':
			n := numberLength(rest)
			v, err := strconv.ParseFloat(rest[:n], 64)
			if err != nil || math.IsInf(v, 0) {
				return &SyntaxError{p.text, i, fmt.Sprintf("%q is not a number", rest[:n])}
			}
			p.tokens = append(p.tokens, token{tokNumber, rest[:n], v, i})
			i += n
		case unicode.IsLetter(c) || c == '_':
			n := strings.IndexFunc(rest, func(r rune) bool {
				return !unicode.IsLetter(r) && !unicode.IsDigit(r) && r != '_' && r != '.' && r != ':'
			})
			if n < 0 {
				n = len(rest)
			}
			if word := strings.ToUpper(rest[:n]); keywords[word] {
				add(tokWord, word, i)
			} else {
				add(tokName, rest[:n], i)
			}
			i += n
		default:
			n := size
			if len(rest) > 1 && (rest[:2] == "<>" || rest[:2] == "<=" || rest[:2] == ">=") {
				n = 2
			} else if !strings.ContainsRune("()+-*/%^=<>,", c) {
				hint := "is not part of the language"
				if c == '!' {
					hint = "is not part of the language: write <> for not equal"
				}
				return &SyntaxError{p.text, i, fmt.Sprintf("%q %s", rest[:n], hint)}
			}
			add(tokSymbol, rest[:n], i)
			i += n
		}
	}
	add(tokEnd, "", len(p.text))
	return nil
}

// quoted reads a text in quotes, which are doubled within it, and its length.
func quoted(s string, quote byte) (string, int, bool) {
	var b strings.Builder
	for i := 1; i < len(s); i++ {
		if s[i] != quote {
			b.WriteByte(s[i])
			continue
		}
		if i+1 < len(s) && s[i+1] == quote {
			b.WriteByte(quote)
			i++
			continue
		}
		return b.String(), i + 1, true
	}
	return "", 0, false
}

func numberLength(s string) int {
	n := 0
	for n < len(s) && (s[n] >= '0' && s[n] <= '9' || s[n] == '.') {
		n++
	}
	if n < len(s) && (s[n] == 'e' || s[n] == 'E') {
		k := n + 1
		if k < len(s) && (s[k] == '+' || s[k] == '-') {
			k++
		}
		if k < len(s) && s[k] >= '0' && s[k] <= '9' {
			for n = k; n < len(s) && s[n] >= '0' && s[n] <= '9'; n++ {
			}
		}
	}
	return n
}

// word takes a keyword when it comes next.
func (p *parser) word(w string) bool {
	if t := p.now(); t.kind == tokWord && t.text == w {
		p.i++
		return true
	}
	return false
}

func (p *parser) symbol(s string) bool {
	if t := p.now(); t.kind == tokSymbol && t.text == s {
		p.i++
		return true
	}
	return false
}

func (p *parser) need(s string) error {
	if p.symbol(s) {
		return nil
	}
	return p.wrong(p.now(), fmt.Sprintf("stands where %q is needed", s))
}

func (p *parser) deep(depth int) error {
	if depth > maxDepth {
		return &SyntaxError{p.text, p.now().at, "it is nested too deep"}
	}
	return nil
}

func (p *parser) or(depth int) (*node, error) {
	return p.chain(depth, "OR", opOr, p.and)
}

func (p *parser) and(depth int) (*node, error) {
	return p.chain(depth, "AND", opAnd, p.not)
}

func (p *parser) chain(depth int, word string, o op, next func(int) (*node, error)) (*node, error) {
	if err := p.deep(depth); err != nil {
		return nil, err
	}
	n, err := next(depth + 1)
	for err == nil {
		at := p.now().at
		if !p.word(word) {
			break
		}
		var m *node
		if m, err = next(depth + 1); err == nil {
			n = &node{op: o, at: at, args: []*node{n, m}}
		}
	}
	return n, err
}

func (p *parser) not(depth int) (*node, error) {
	if err := p.deep(depth); err != nil {
		return nil, err
	}
	at := p.now().at
	if p.word("NOT") {
		n, err := p.not(depth + 1)
		return &node{op: opNot, at: at, args: []*node{n}}, err
	}
	return p.comparison(depth + 1)
}

var comparisons = map[string]op{"=": opEq, "<>": opNe, "<": opLt, "<=": opLe, ">": opGt, ">=": opGe}

func (p *parser) comparison(depth int) (*node, error) {
	n, err := p.sum(depth)
	if err != nil {
		return nil, err
	}
	t := p.now()
	if o, ok := comparisons[t.text]; ok && t.kind == tokSymbol {
		p.i++
		m, err := p.sum(depth)
		return &node{op: o, at: t.at, args: []*node{n, m}}, err
	}
	if p.word("IS") {
		negated := p.word("NOT")
		if !p.word("NULL") {
			return nil, p.wrong(p.now(), "stands where NULL is needed")
		}
		return p.negate(negated, &node{op: opNull, at: t.at, args: []*node{n}}), nil
	}
	negated := p.word("NOT")
	switch {
	case p.word("BETWEEN"):
		low, err := p.sum(depth)
		if err != nil {
			return nil, err
		}
		if !p.word("AND") {
			return nil, p.wrong(p.now(), "stands where AND is needed, as in BETWEEN 1 AND 5")
		}
		high, err := p.sum(depth)
		return p.negate(negated, &node{op: opBetween, at: t.at, args: []*node{n, low, high}}), err
	case p.word("IN"):
		if err := p.need("("); err != nil {
			return nil, err
		}
		in := &node{op: opIn, at: t.at, args: []*node{n}}
		for {
			m, err := p.sum(depth)
			if err != nil {
				return nil, err
			}
			in.args = append(in.args, m)
			if !p.symbol(",") {
				break
			}
		}
		return p.negate(negated, in), p.need(")")
	case p.word("LIKE"):
		m, err := p.sum(depth)
		return p.negate(negated, &node{op: opLike, at: t.at, args: []*node{n, m}}), err
	case negated:
		return nil, p.wrong(p.now(), "stands where BETWEEN, IN or LIKE is needed")
	}
	return n, nil
}

func (p *parser) negate(negated bool, n *node) *node {
	if !negated {
		return n
	}
	return &node{op: opNot, at: n.at, args: []*node{n}}
}

func (p *parser) sum(depth int) (*node, error) {
	return p.arithmetic(depth, map[string]op{"+": opAdd, "-": opSub}, p.product)
}

func (p *parser) product(depth int) (*node, error) {
	return p.arithmetic(depth, map[string]op{"*": opMul, "/": opDiv, "%": opMod, "DIV": opIntDiv}, p.unary)
}

func (p *parser) arithmetic(depth int, ops map[string]op, next func(int) (*node, error)) (*node, error) {
	if err := p.deep(depth); err != nil {
		return nil, err
	}
	n, err := next(depth + 1)
	for err == nil {
		t := p.now()
		o, ok := ops[t.text]
		if !ok || t.kind != tokSymbol && t.kind != tokWord {
			break
		}
		p.i++
		var m *node
		if m, err = next(depth + 1); err == nil {
			n = &node{op: o, at: t.at, args: []*node{n, m}}
		}
	}
	return n, err
}

func (p *parser) unary(depth int) (*node, error) {
	if err := p.deep(depth); err != nil {
		return nil, err
	}
	at := p.now().at
	if p.symbol("-") {
		n, err := p.unary(depth + 1)
		if err == nil && n.op == opNumber {
			return &node{op: opNumber, at: at, num: -n.num, whole: -n.whole}, nil
		}
		return &node{op: opNeg, at: at, args: []*node{n}}, err
	}
	if p.symbol("+") {
		return p.unary(depth + 1)
	}
	n, err := p.primary(depth + 1)
	if err != nil {
		return nil, err
	}
	if t := p.now(); p.symbol("^") {
		m, err := p.unary(depth + 1)
		return &node{op: opPow, at: t.at, args: []*node{n, m}}, err
	}
	return n, nil
}

func (p *parser) primary(depth int) (*node, error) {
	if err := p.deep(depth); err != nil {
		return nil, err
	}
	t := p.now()
	p.i++
	switch {
	case t.kind == tokNumber:
		n := &node{op: opNumber, at: t.at, num: t.num}
		if math.Abs(t.num) >= decimal.Exact {
			if whole, err := strconv.ParseInt(t.text, 10, 64); err == nil {
				n.whole = whole
			}
		}
		return n, nil
	case t.kind == tokText:
		return &node{op: opText, at: t.at, text: t.text}, nil
	case t.kind == tokWord && (t.text == "TRUE" || t.text == "FALSE"):
		n := &node{op: opTruth, at: t.at}
		if t.text == "TRUE" {
			n.num = 1
		}
		return n, nil
	case t.kind == tokWord && t.text == "CASEI":
		if err := p.need("("); err != nil {
			return nil, err
		}
		n, err := p.sum(depth)
		if err != nil {
			return nil, err
		}
		return &node{op: opCasei, at: t.at, args: []*node{n}}, p.need(")")
	case t.kind == tokWord && (t.text == "ACCENTI" || t.text == "DATE" || t.text == "TIMESTAMP" || t.text == "INTERVAL"):
		return nil, p.wrong(t, "is part of CQL2 that is not supported")
	case t.kind == tokName:
		if next := p.now(); next.kind == tokSymbol && next.text == "(" {
			return nil, p.wrong(t, "is a function, and no function but CASEI is supported")
		}
		return &node{op: opName, at: t.at, text: t.text}, nil
	case t.kind == tokSymbol && t.text == "(":
		n, err := p.or(depth)
		if err != nil {
			return nil, err
		}
		return n, p.need(")")
	}
	p.i--
	return nil, p.wrong(t, "stands where a name, a number, a text or a bracket is needed")
}

// check settles the kinds of all nodes, from the leaves on.
func (p *parser) check(n *node) error {
	for _, a := range n.args {
		if err := p.check(a); err != nil {
			return err
		}
	}
	want := func(k Kind, args ...*node) error {
		for _, a := range args {
			if a.kind != k && a.kind != Any {
				return &SyntaxError{p.text, a.at, fmt.Sprintf("this is %v where %v is needed", a.kind, k)}
			}
		}
		return nil
	}
	alike := func(args ...*node) error {
		kind := Any
		for _, a := range args {
			if a.kind == Any {
				continue
			}
			if kind != Any && a.kind != kind {
				return &SyntaxError{p.text, a.at, fmt.Sprintf("this is %v, which is compared with %v", a.kind, kind)}
			}
			kind = a.kind
		}
		return nil
	}
	n.kind = Truth
	switch n.op {
	case opNumber:
		n.kind = Number
	case opText:
		n.kind = Text
	case opTruth:
	case opName:
		n.kind = Any
	case opAdd, opSub, opMul, opDiv, opMod, opIntDiv, opPow, opNeg:
		n.kind = Number
		return want(Number, n.args...)
	case opAnd, opOr, opNot:
		return want(Truth, n.args...)
	case opLike:
		return want(Text, n.args...)
	case opCasei:
		n.kind = Text
		return want(Text, n.args...)
	case opNull:
	default:
		return alike(n.args...)
	}
	return nil
}
