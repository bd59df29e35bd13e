package plan

import (
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/option"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/text"
	vectors "github.com/verdex-land/verdex/core/vector/open"
)

// Locate is where a file is named in the plan; it is 0 where it is not.
func (p *Plan) Locate(path string) (line, column int) {
	var visit func(n *node) bool
	visit = func(n *node) bool {
		if n.kind == scalar && n.text != "" {
			text := n.text
			if _, rest, ok := strings.Cut(text, "="); ok {
				text = rest
			}
			text, _ = vectors.Split(text)
			text, _ = rasters.Split(text)
			named := p.input(text)
			if matched, err := filepath.Match(named, path); named == path || filepath.Clean(named) == filepath.Clean(path) || err == nil && matched {
				line, column = n.at.line, n.at.column
				return true
			}
			for _, e := range p.Epochs {
				if strings.ReplaceAll(named, "{epoch}", e.Date) == path {
					line, column = n.at.line, n.at.column
					return true
				}
			}
		}
		for _, item := range n.items {
			if visit(item) {
				return true
			}
		}
		return false
	}
	visit(p.root)
	return line, column
}

// ProblemOf is an error of a step as a problem of the plan, at the option or the file that it is about.
func (p *Plan) ProblemOf(s *Step, err error, optionName string) Problem {
	out := Problem{Path: p.Path, Text: Message(err)}
	if optionName != "" && s != nil && s.where[optionName] != nil {
		out.Line, out.Column = s.Place(optionName)
		return out
	}
	if s != nil {
		for _, n := range s.where { // the first value that the message quotes
			if n.kind == scalar && n.text != "" && strings.Contains(out.Text, strconv.Quote(n.text)) &&
				(out.Line == 0 || n.at.line < out.Line || n.at.line == out.Line && n.at.column < out.Column) {
				out.Line, out.Column = n.at.line, n.at.column
			}
		}
	}
	for rest, before := out.Text, ""; out.Line == 0; {
		name, after, ok := strings.Cut(rest, ": ")
		if !ok {
			break
		}
		out.Line, out.Column = p.Locate(strings.TrimSpace(before + name))
		if out.Line == 0 {
			out.Line, out.Column = p.Locate(strings.TrimSpace(name))
		}
		before, rest = before+name+": ", after
	}
	for _, word := range strings.Fields(out.Text) {
		if out.Line == 0 {
			out.Line, out.Column = p.Locate(strings.Trim(word, ":,;"))
		}
	}
	if out.Line == 0 && s != nil {
		out.Line, out.Column = s.Place("")
	}
	return out
}

// Missing finds files that the plan names and that are not there.
func (p *Plan) Missing() (out Problems) {
	made := map[string]bool{}
	for _, s := range p.Steps {
		for _, w := range s.Writes() {
			path, _ := vectors.SplitOutput(w)
			made[filepath.Clean(path)] = true
		}
	}
	missing := func(path string, n *node) {
		if path == "" || made[filepath.Clean(path)] || strings.ContainsAny(path, "*?[{") || strings.Contains(path, "://") {
			return
		}
		if _, err := os.Stat(path); !os.IsNotExist(err) {
			return
		}
		line, column := p.Locate(path)
		if line == 0 && n != nil {
			line, column = n.at.line, n.at.column
		}
		text := path + ": there is no such file"
		if near := nearFile(path); near != "" {
			text += ": did you mean " + near + "?"
		} else {
			text += ": check the path"
		}
		out = append(out, Problem{Path: p.Path, Line: line, Column: column, Text: text})
	}
	files := func(options any, n *node) {
		for _, o := range option.Of(options) {
			if o.Input == "" || o.Input == "-" {
				continue
			}
			for _, text := range o.Texts(options) {
				if label, rest, ok := strings.Cut(text, "="); ok && label != "" && o.Type.Kind().String() == "slice" {
					if _, err := os.Stat(text); err != nil {
						text = rest
					}
				}
				if p.defines(text) || isText(o, text) {
					continue
				}
				if _, err := os.Stat(text); err == nil {
					continue
				}
				path, _ := vectors.Split(text)
				path, _ = rasters.Split(path)
				if p.Book != "" && path == p.Book {
					continue
				}
				missing(path, n)
			}
		}
	}
	for _, l := range p.Layers {
		if l.File != "" {
			path, _ := rasters.Split(l.File)
			missing(path, l.at)
		} else {
			files(l.make, l.at)
		}
	}
	for _, s := range p.Steps {
		files(s.Options, s.at)
	}
	for _, z := range p.Zones {
		if n := z.set["zones"]; n != nil && n.kind == scalar {
			if o := find(new(ZoneSetOptions), "zones"); !isText(*o, n.text) {
				path, _ := vectors.Split(p.input(n.text))
				missing(path, n)
			}
		}
	}
	return out
}

// isText reports whether the value of an option that may name a file is something else.
func isText(o option.Option, text string) bool {
	switch {
	case strings.HasPrefix(o.Input, "CRS"):
		return !strings.HasSuffix(strings.ToLower(text), ".prj")
	case strings.Contains(o.Input, "zones"):
		return zoneText(text)
	case o.Name == "grid":
		return !strings.Contains(text, ".")
	}
	return false
}

// nearFile is a file in the folder of a path whose name is like it, "" for none.
func nearFile(path string) string {
	list, err := os.ReadDir(filepath.Dir(path))
	if err != nil {
		return ""
	}
	var names []string
	for _, e := range list {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	if near := text.Nearest(filepath.Base(path), names); near != "" {
		return filepath.Join(filepath.Dir(path), near)
	}
	return ""
}

// Excerpt is the line of the plan, of which at most so many letters around the column are shown, and the column in what is shown.
func (p Problem) Excerpt(text []byte, width int) (line string, column int) {
	lines := strings.Split(string(text), "\n")
	if p.Line < 1 || p.Line > len(lines) {
		return "", 0
	}
	runes := []rune(strings.TrimRight(lines[p.Line-1], "\r"))
	column = min(p.Column, len(runes)+1)
	if first := column - width/2; len(runes) > width && first > 0 {
		first = min(first, len(runes)-width)
		runes, column = runes[first:], column-first
	}
	return string(runes[:min(len(runes), width)]), column
}

// Add adds problems and puts all in the order of the file, each once.
func (p Problems) Add(more ...Problem) Problems { return append(p, more...).sorted() }
