package plan

import (
	"cmp"
	"fmt"
	"os"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/internal/remote"
)

// node is a value in the file: a text, a list, a mapping or nothing.
type node struct {
	kind      kind
	key       string // where it is the value of a pair
	keyAt     place  // of the key
	text      string // of a scalar, as it is written
	items     []*node
	at        place
	quoted    bool // a text in quotes, which is never a number
	malformed bool // reported already
}

type kind int

const (
	empty kind = iota
	scalar
	list
	mapping
)

func (k kind) String() string {
	return [...]string{"nothing", "a value", "a list", "a mapping"}[k]
}

// place is where something stands in a file; lines and columns count from 1.
type place struct{ line, column int }

// Problem is something that is wrong with a plan, or with what it names.
type Problem struct {
	Path         string // of the plan
	Line, Column int    // 0 where it is about the plan as a whole
	Text         string // what is wrong and what to do
	Warning      bool   // the plan can be run
}

// String is the problem with its place, as compilers write it.
func (p Problem) String() string {
	if p.Line == 0 {
		return p.Path + ": " + p.Text
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.Path, p.Line, p.Column, p.Text)
}

// Problems are all that are wrong, in the order of the file.
type Problems []Problem

// Error lists them, one on each line.
func (p Problems) Error() string {
	var lines []string
	for _, one := range p {
		lines = append(lines, one.String())
	}
	return strings.Join(lines, "\n")
}

// sorted puts problems in the order of the file, each once.
func (p Problems) sorted() Problems {
	slices.SortStableFunc(p, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.Line, b.Line), cmp.Compare(a.Column, b.Column))
	})
	return slices.CompactFunc(p, func(a, b Problem) bool { return a == b })
}

// Bounds on what is read as a plan, so that no file makes the reader run out of memory or stack.
const (
	mostBytes  = 1 << 18
	mostNested = 24
	mostColumn = 4096
)

// parse reads the text of a plan. What is wrong with the text as YAML is one problem.
func parse(path string, data []byte) (*node, Problems) {
	wrong := func(line, column int, format string, args ...any) Problems {
		return Problems{{Path: path, Line: line, Column: column, Text: fmt.Sprintf(format, args...)}}
	}
	if len(data) > mostBytes {
		return nil, wrong(0, 0, "it is larger than 256 KiB, which no plan is: is it the right file?")
	}
	if !utf8.Valid(data) {
		return nil, wrong(0, 0, "it is not UTF-8: save it with that encoding")
	}
	if line, column := tooDeep(data); line > 0 {
		return nil, wrong(line, column, "it is nested more deeply than any plan is: check the brackets and indentation")
	}
	file, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var e yaml.Error
		if yamlError(err, &e) && e.GetToken() != nil {
			at := e.GetToken().Position
			return nil, wrong(at.Line, at.Column, "it is not valid YAML here: %s", e.GetMessage())
		}
		return nil, wrong(0, 0, "it is not valid YAML: %s", strings.SplitN(err.Error(), "\n", 2)[0])
	}
	var body ast.Node
	for _, d := range file.Docs {
		if d.Body == nil {
			continue
		}
		if body != nil {
			at := d.Body.GetToken().Position
			return nil, wrong(at.Line, at.Column, "a second document begins here: a plan is one")
		}
		body = d.Body
	}
	if body == nil {
		return nil, wrong(0, 0, "it is empty: verdex plan new FOLDER writes a plan to begin with")
	}
	r := &nodeReader{path: path}
	root := r.node(body, 0)
	if len(r.problems) == 0 && root.kind != mapping {
		return nil, wrong(root.at.line, root.at.column, "a plan is a mapping, such as \"legend: legend.csv\", and this is %v", root.kind)
	}
	return root, r.problems
}

func yamlError(err error, to *yaml.Error) bool {
	for err != nil {
		if e, ok := err.(yaml.Error); ok {
			*to = e
			return true
		}
		u, ok := err.(interface{ Unwrap() error })
		if !ok {
			return false
		}
		err = u.Unwrap()
	}
	return false
}

// tooDeep finds where brackets, indentation or lines go beyond what a plan has. It knows nothing of quotes, so it may count brackets in
// texts; there are never so many.
func tooDeep(data []byte) (line, column int) {
	line, depth := 1, 0
	for i, start := 0, 0; i < len(data); i++ {
		switch data[i] {
		case '\n':
			line, start = line+1, i+1
			continue
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		}
		if depth > 4*mostNested || i-start >= mostColumn {
			return line, i - start + 1
		}
	}
	return 0, 0
}

type nodeReader struct {
	path     string
	problems Problems
}

func (r *nodeReader) wrong(t *token.Token, format string, args ...any) *node {
	at := position(t)
	r.problems = append(r.problems, Problem{Path: r.path, Line: at.line, Column: at.column, Text: fmt.Sprintf(format, args...)})
	return &node{at: at, malformed: true}
}

func position(t *token.Token) place {
	if t == nil || t.Position == nil {
		return place{}
	}
	return place{t.Position.Line, t.Position.Column}
}

// node turns a node of the library into one of ours.
func (r *nodeReader) node(n ast.Node, depth int) *node {
	if depth > mostNested {
		return r.wrong(n.GetToken(), "it is nested more deeply than any plan is: check the indentation")
	}
	at := position(n.GetToken())
	switch v := n.(type) {
	case *ast.NullNode:
		return &node{at: at}
	case *ast.StringNode:
		quoted := v.Token.Type == token.SingleQuoteType || v.Token.Type == token.DoubleQuoteType
		return &node{kind: scalar, text: v.Value, at: at, quoted: quoted}
	case *ast.LiteralNode:
		return &node{kind: scalar, text: strings.TrimRight(v.Value.Value, "\n"), at: at, quoted: true}
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode:
		return &node{kind: scalar, text: n.GetToken().Value, at: at}
	case *ast.SequenceNode:
		out := &node{kind: list, at: at}
		for _, item := range v.Values {
			out.items = append(out.items, r.node(item, depth+1))
		}
		return out
	case *ast.MappingNode:
		return r.pairs(v.Values, at, depth)
	case *ast.MappingValueNode:
		return r.pairs([]*ast.MappingValueNode{v}, position(v.Key.GetToken()), depth)
	case *ast.AnchorNode, *ast.AliasNode:
		return r.wrong(n.GetToken(), "anchors and aliases have no place in a plan: write the value itself")
	case *ast.TagNode:
		return r.wrong(n.GetToken(), "tags have no place in a plan: write the value alone")
	}
	return r.wrong(n.GetToken(), "this has no place in a plan")
}

func (r *nodeReader) pairs(pairs []*ast.MappingValueNode, at place, depth int) *node {
	out := &node{kind: mapping, at: at}
	seen := map[string]place{}
	for _, p := range pairs {
		t := p.Key.GetToken()
		switch p.Key.(type) {
		case *ast.StringNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode:
		default:
			r.wrong(t, "this has no place as a key in a plan")
			continue
		}
		value := r.node(p.Value, depth+1)
		value.key, value.keyAt = t.Value, position(t)
		if first, twice := seen[value.key]; twice {
			r.wrong(t, "%s stands here for the second time, after line %d: give it once", value.key, first.line)
			continue
		}
		seen[value.key] = value.keyAt
		out.items = append(out.items, value)
	}
	return out
}

// get returns the value of a key of a mapping, nil for none.
func (n *node) get(key string) *node {
	if n == nil || n.kind != mapping {
		return nil
	}
	for _, item := range n.items {
		if item.key == key {
			return item
		}
	}
	return nil
}

// scalars are the texts of a value or of a list of them; pairs become KEY=VALUE. ok is false for what is deeper.
func (n *node) scalars() (out []string, ok bool) {
	switch n.kind {
	case empty:
		return nil, true
	case scalar:
		return []string{n.text}, true
	}
	for _, item := range n.items {
		switch {
		case item.kind == scalar && n.kind == list:
			out = append(out, item.text)
		case item.kind == scalar:
			out = append(out, item.key+"="+item.text)
		case item.kind == list && n.kind == mapping: // several under one name
			for _, of := range item.items {
				if of.kind != scalar {
					return nil, false
				}
				out = append(out, item.key+"="+of.text)
			}
		default:
			return nil, false
		}
	}
	return out, true
}

// contains reports whether a text occurs in a value or below it.
func (n *node) contains(s string) bool {
	return n != nil && (strings.Contains(n.text, s) || slices.ContainsFunc(n.items, func(item *node) bool { return item.contains(s) }))
}

// instead suggests what was meant.
func instead(word string, among []string) string {
	if near := text.Nearest(word, among); near != "" {
		return "did you mean " + near + "?"
	}
	return "choose one of " + strings.Join(among, ", ")
}

// readFile reads a file that may be a plan.
func readFile(from files.System, path string) ([]byte, error) {
	if files.IsURL(path) {
		f, err := from.Open(path)
		if err != nil {
			return nil, err
		}
		size := f.Size()
		f.Close()
		if size > mostBytes {
			return nil, tooLarge(path)
		}
		return from.ReadFile(path)
	}
	info, err := os.Stat(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	if !info.Mode().IsRegular() {
		return nil, fmt.Errorf("%s: it is not a file: name the plan itself", path)
	}
	if info.Size() > mostBytes {
		return nil, tooLarge(path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	return data, nil
}

func tooLarge(path string) error {
	return Problems{{Path: path, Text: "it is larger than 256 KiB, which no plan is: is it the right file?"}}
}

// withSecrets are the values with an address that holds a secret.
func (n *node) withSecrets() (out []*node) {
	if n == nil {
		return nil
	}
	if n.kind == scalar {
		for i, part := range strings.FieldsFunc(n.text, func(r rune) bool { return r == ' ' }) {
			if label, rest, ok := strings.Cut(part, "="); ok && !files.IsURL(part) && !strings.Contains(label, ":") {
				part = rest
			}
			if i < 64 && remote.HasSecret(part) {
				return []*node{n}
			}
		}
	}
	for _, item := range n.items {
		out = append(out, item.withSecrets()...)
	}
	return out
}
