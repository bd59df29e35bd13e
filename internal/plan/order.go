package plan

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	vectors "github.com/verdex-land/verdex/core/vector/open"
)

// reads are the files that a step reads, without the part of a file that is named behind #.
func (s *Step) reads() (out []string) {
	for _, o := range option.Of(s.Options) {
		if o.Input == "" {
			continue
		}
		for _, text := range o.Texts(s.Options) {
			if _, rest, ok := strings.Cut(text, "="); ok {
				if _, err := os.Stat(text); err != nil {
					text = rest
				}
			}
			path, _ := vectors.Split(text)
			path, _ = rasters.Split(path)
			out = append(out, path)
		}
	}
	return out
}

// Names reports whether a file is the plan, or one that the plan reads.
func (p *Plan) Names(path string) bool {
	if SamePath(path, p.Path) {
		return true
	}
	for _, s := range p.Steps {
		for _, r := range s.reads() {
			if found, err := filepath.Glob(r); SamePath(r, path) || err == nil && slices.ContainsFunc(found, func(f string) bool { return SamePath(f, path) }) {
				return true
			}
		}
	}
	line, _ := p.Locate(path) // what layers and zones are made of
	return line > 0 && !slices.ContainsFunc(p.Steps, func(s *Step) bool {
		return slices.ContainsFunc(s.Writes(), func(w string) bool { return SamePath(w, path) })
	})
}

// link finds which steps read what others write.
func (p *Plan) link() {
	writer := map[string][]int{}
	for i, s := range p.Steps {
		for _, w := range s.Writes() {
			path, _ := vectors.SplitOutput(w)
			writer[filepath.Clean(path)] = append(writer[filepath.Clean(path)], i)
		}
		if b := s.Posts(); b != "" {
			writer[filepath.Clean(b)] = append(writer[filepath.Clean(b)], i)
		}
	}
	for i, s := range p.Steps {
		for _, r := range s.reads() {
			for _, k := range writer[filepath.Clean(r)] {
				if k != i && r != s.Posts() && !slices.Contains(s.Needs, k) {
					s.Needs = append(s.Needs, k)
				}
			}
		}
		slices.Sort(s.Needs)
	}
}

// distinct refuses outputs of which two would be one file, or that lie in the cache folder.
func (p *Plan) distinct() {
	by := map[string]*Step{}
	for _, s := range p.Steps {
		for _, o := range option.Of(s.Options) {
			if o.Output == "" {
				continue
			}
			for _, path := range o.Texts(s.Options) {
				n := s.where[o.Name]
				if n == nil {
					n = s.at
				}
				full, err := filepath.Abs(path)
				if err != nil {
					full = filepath.Clean(path)
				}
				if !s.Hidden && p.inCache(full) {
					p.wrong(n, "%s lies in the cache folder, which is emptied at will: choose another place", path)
				}
				if other := by[full]; other != nil {
					hint := "choose two names"
					switch {
					case other.Output != s.Output:
					case other.Zones != s.Zones:
						hint = "put {zones} into the name"
					case other.Epoch != s.Epoch:
						hint = "put {epoch} into the name"
					}
					p.wrong(n, "%s would be written by two steps, %s and %s: %s", path, other.Name, s.Name, hint)
					return
				}
				by[full] = s
			}
		}
	}
}

// recordApart refuses a record that is the file of something else.
func (p *Plan) recordApart() {
	wrong := func(what string) {
		p.wrong(p.recordAt, "%s is also %s: choose another place for the record", p.Record, what)
	}
	full, _ := filepath.Abs(p.Record)
	switch {
	case p.recordAt == nil:
		return
	case SamePath(p.Record, p.Path):
		wrong("the plan itself")
	case p.Book != "" && SamePath(p.Record, p.Book):
		wrong("the book")
	case p.inCache(full):
		wrong("in the cache folder, which is emptied at will")
	}
	for _, s := range p.Steps {
		for _, w := range s.Writes() {
			if SamePath(p.Record, w) || SamePath(p.Record, w+"-metadata.json") {
				wrong("what the output " + s.Name + " writes")
				return
			}
		}
		if slices.ContainsFunc(s.reads(), func(r string) bool { return SamePath(r, p.Record) }) {
			wrong("read by the output " + s.Name)
			return
		}
	}
}

// stayHere refuses files outside of the working folder that a plan of a server would write: nobody has looked at it before.
func (p *Plan) stayHere() {
	if !files.IsURL(p.Path) {
		return
	}
	local := func(n *node, path string) {
		if path != "" && !filepath.IsLocal(path) && !files.IsURL(path) {
			p.wrong(n, "%s lies outside of the working folder, and a plan of a server writes below it only: choose a path below it, or save the plan to a file first", path)
		}
	}
	local(p.root, p.CacheDir)
	local(p.root, p.Book)
	if p.recordAt != nil {
		local(p.recordAt, p.Record)
	}
	for _, s := range p.Steps {
		for _, path := range append(s.Writes(), s.Posts()) {
			if path != p.Book {
				local(s.at, path)
			}
		}
	}
}

// inCache reports whether a file lies in the cache folder.
func (p *Plan) inCache(path string) bool {
	dir, err := filepath.Abs(p.CacheDir)
	if err != nil {
		return false
	}
	rel, err := filepath.Rel(dir, path)
	return err == nil && filepath.IsLocal(rel)
}

// order puts the steps in an order in which each comes after those that it needs, and otherwise in that of the plan.
func (p *Plan) order() {
	var out []*Step
	at := map[int]int{}
	for len(out) < len(p.Steps) {
		before := len(out)
		for i, s := range p.Steps {
			if _, done := at[i]; done || slices.ContainsFunc(s.Needs, func(k int) bool { _, ok := at[k]; return !ok }) {
				continue
			}
			at[i] = len(out)
			out = append(out, s)
		}
		if len(out) == before {
			for i, s := range p.Steps {
				if _, done := at[i]; !done {
					p.wrong(s.at, "the output %s reads what is made of it", s.Name)
					return
				}
			}
		}
	}
	for _, s := range out {
		for i, k := range s.Needs {
			s.Needs[i] = at[k]
		}
		slices.Sort(s.Needs)
	}
	p.Steps = out
}

// Select keeps the steps that are asked for: those of an output or a step by its name, and those of an epoch, with what they need. An empty text
// asks for all.
func (p *Plan) Select(only, epoch string) error {
	wanted := make([]bool, len(p.Steps))
	var names []string
	found := false
	for i, s := range p.Steps {
		if !s.Hidden && !slices.Contains(names, s.Output) {
			names = append(names, s.Output)
		}
		if (only == "" || s.Output == only || s.Name == only) && (epoch == "" || s.Epoch == epoch || s.Epoch == "" && s.uses(epoch)) && !s.Hidden {
			wanted[i], found = true, true
		}
	}
	switch {
	case epoch != "" && !slices.Contains(p.labels(), epoch):
		return fmt.Errorf("%s is not an epoch of %s: %s", epoch, p.Path, instead(epoch, p.labels()))
	case !found && only != "":
		return fmt.Errorf("%s is not a step of %s: %s", only, p.Path, instead(only, names))
	case !found:
		return fmt.Errorf("no step of %s is about the epoch %s", p.Path, epoch)
	}
	for i := len(p.Steps) - 1; i >= 0; i-- {
		if wanted[i] {
			for _, k := range p.Steps[i].Needs {
				wanted[k] = true
			}
		}
	}
	at := map[int]int{}
	var out []*Step
	for i, s := range p.Steps {
		if wanted[i] {
			at[i] = len(out)
			out = append(out, s)
		}
	}
	for _, s := range out {
		var needs []int
		for _, k := range s.Needs {
			needs = append(needs, at[k])
		}
		s.Needs = needs
	}
	p.Steps = out
	return nil
}

// uses reports whether a step compares an epoch with others.
func (s *Step) uses(epoch string) bool {
	return slices.ContainsFunc(given[[]string](s.Options, "epoch"), func(text string) bool { return strings.HasPrefix(text, epoch+"=") })
}
