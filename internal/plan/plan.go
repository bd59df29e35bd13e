// Package plan reads plans: files that state a whole job, so that it can be checked, done again, and understood later.
//
// A plan names a legend, zones, layers, epochs, checks and outputs. [Read] turns it into [Step]s, each of which is a command with all of its
// options, in the order in which they can be done; what a plan leaves out is filled in from its other sections. A plan thus makes what its
// commands make one by one. Keys of a plan are the names of options (package option), so a plan knows of each option what the command
// line knows.
//
// [Store] keeps what is costly to measure in the cache folder of a plan, and [Counter] measures what several steps ask for in one pass.
// [Record] is what a run leaves beside its outputs.
package plan

import (
	"bytes"
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
)

// Version is the version of the format of plans that this program reads.
const Version = 1

// Command is a command that a plan can make outputs with.
type Command struct {
	Name string
	New  func() any // a pointer to its options, with their defaults
}

// Defaults are the options that a plan states once for all of its steps.
type Defaults struct {
	job.ClassOptions   `group:"classes"`
	Crosswalk          string `opt:"crosswalk" group:"classes" in:"crosswalk" help:"CSV <FILE> that turns values into classes, in epochs without one of their own"`
	job.RasterOptions  `group:"rasters"`
	job.OverrideOption `group:"rasters"`
	job.FlowsOption    `group:"classes"`
	Edges              string `opt:"edges" group:"zones" choose:"split,centre" help:"<split> gives each zone its exact share of the cells that its outline cuts; centre gives it the cells whose centres it holds"`
	Digits             int    `opt:"digits" group:"output" default:"-1" least:"-1" most:"15" help:"<decimals> of numbers in files; -1 is full precision"`
}

// ZoneSetOptions describe a set of zones.
type ZoneSetOptions struct {
	job.ZoneOptions
	job.WithinOptions
	Merge string   `opt:"merge" help:"<FIELD> by whose values features are united into zones"`
	Sum   []string `opt:"sum" help:"<FIELD> of numbers to add up where features are united"`
	Keep  []string `opt:"keep" help:"<FIELD> of which to keep the first value where features are united"`
}

// EpochOptions describe the cover of an epoch.
type EpochOptions struct {
	Cover     []string `opt:"cover" in:"cover" help:"the <RASTER> of the epoch, or a layer of the plan; several are one raster"`
	Crosswalk string   `opt:"crosswalk" in:"crosswalk" help:"CSV <FILE> that turns its values into classes"`
	NoData    []string `opt:"nodata" help:"<VALUE> that means no data in it"`
}

// FindOptions find epochs by a pattern.
type FindOptions struct {
	Find      string   `opt:"find" in:"cover" help:"<PATTERN> with {date}: the files of one date are an epoch"`
	Cover     []string `opt:"cover" in:"cover" help:"the <LAYER> of the plan that is the cover of each epoch, instead of the files"`
	Crosswalk string   `opt:"crosswalk" in:"crosswalk" help:"CSV <FILE> that turns the values into classes"`
	NoData    []string `opt:"nodata" help:"<VALUE> that means no data"`
}

// CheckSection says which checks are made.
type CheckSection struct {
	job.CheckOptions
	job.CheckAllOption
	Strict bool `opt:"strict" help:"a run ends with status 3 when a check falls short or there is a warning"`
}

// BookSection names the book that outputs are posted to.
type BookSection struct {
	Book      string `opt:"book" in:"-" help:"<BOOK> that outputs with an account are posted to: a file, which is made if need be, or postgres://…"`
	Author    string `opt:"author" help:"<WHO> writes to the book; without it $VERDEX_AUTHOR, or the user of the system"`
	Note      string `opt:"note" help:"<TEXT> about the postings"`
	Supersede bool   `opt:"supersede" help:"supersede other content of the same account, epoch and zone set, which stays in the history"`
}

// CacheSection says where and how much is kept between runs.
type CacheSection struct {
	Folder string `opt:"folder" help:"<FOLDER> for what is kept between runs; without it a hidden one beside the plan"`
	Limit  int    `opt:"limit" default:"1024" least:"0" help:"<MEGABYTES> that may be kept"`
}

// layerKinds are the ways to derive a layer: the key that names what it is made from, and the options.
var layerKinds = []struct {
	key  string
	file bool // the key's value is a file
	new  func() any
}{
	{"expr", false, func() any { return new(job.ExpressionOptions) }},
	{"slope", true, func() any { return new(job.SlopeOptions) }},
	{"composite", true, func() any { return new(job.CompositeOptions) }},
	{"rules", true, func() any { return new(job.RulesOptions) }},
}

// ZoneSet is a set of zones of a plan.
type ZoneSet struct {
	Name string
	at   *node
	set  section
}

// Layer is a raster of a plan: a file under another name, or one that is derived.
type Layer struct {
	Name string // with the epoch behind it, where there is one for each
	File string // "" for a derived one
	Kind string // "expr", "slope", "composite", "rules"
	at   *node
	make any // the options of its job
}

// Epoch is an epoch of a plan.
type Epoch struct {
	Label string
	Date  string // as it stands in the names of its files
	Cover []string
	at    *node
	set   section
}

// Plan is a plan.
type Plan struct {
	Path, Dir               string // of the file, and of the folder that it writes to
	From                    files.System
	Title, Contact, Licence string
	Text                    []byte
	Zones                   []*ZoneSet
	Layers                  []*Layer
	Epochs                  []*Epoch
	Steps                   []*Step
	Book                    string // "" for none
	Record                  string // where the record of a run goes
	CacheDir                string
	CacheLimit              int64
	Strict                  bool

	root      *node
	recordAt  *node // nil where the plan does not state it
	defaults  section
	checks    section
	book      section
	commands  []Command
	problems  Problems
	perEpoch  map[string]bool // layers that there is one of for each epoch
	templates map[string]*node
}

// section is what a mapping states: a node for each option.
type section map[string]*node

// Read reads the plan at path, with the commands that there are. The error is of the type [Problems] when the plan is wrong.
func Read(from files.System, path string, commands []Command) (*Plan, error) {
	data, err := readFile(from, path)
	if err != nil {
		return nil, err
	}
	return Parse(from, path, data, commands)
}

// Parse reads a plan from its text; files are named relative to the folder of path.
func Parse(from files.System, path string, data []byte, commands []Command) (*Plan, error) {
	data = bytes.TrimPrefix(data, []byte("\xef\xbb\xbf")) // a byte order mark, which some editors write
	root, problems := parse(path, data)
	if len(problems) > 0 {
		return nil, problems.sorted()
	}
	for _, n := range root.withSecrets() {
		problems = append(problems, Problem{Path: path, Line: n.at.line, Column: n.at.column, Text: "the address holds a password, a token or a signature, and a plan is passed on: leave it out here, and give it for the host in VERDEX_CREDENTIALS or in .netrc"})
	}
	if len(problems) > 0 {
		return nil, problems.sorted()
	}
	p := &Plan{From: from, Path: path, Dir: folderOf(path), Text: data, root: root, commands: commands, perEpoch: map[string]bool{}}
	p.read()
	if len(p.problems) == 0 {
		p.expand()
	}
	if len(p.problems) > 0 {
		return p, p.problems.sorted()
	}
	return p, nil
}

// folderOf is the folder that files are named from which a plan writes: its own, or where it is read from a URL the one that the program works in.
func folderOf(path string) string {
	if files.IsURL(path) {
		return "."
	}
	return filepath.Dir(path)
}

// wrong notes a problem at a value.
func (p *Plan) wrong(n *node, format string, args ...any) {
	at := n.at
	if n.kind == empty && n.keyAt.line > 0 || n.kind == mapping && n.keyAt.line > 0 {
		at = n.keyAt
	}
	p.wrongAt(at, format, args...)
}

// wrongKey notes a problem at the key of a pair.
func (p *Plan) wrongKey(n *node, format string, args ...any) { p.wrongAt(n.keyAt, format, args...) }

func (p *Plan) wrongAt(at place, format string, args ...any) {
	p.problems = append(p.problems, Problem{Path: p.Path, Line: at.line, Column: at.column, Text: fmt.Sprintf(format, args...)})
}

// sections are the keys of a plan besides the options of [Defaults].
var sections = []string{"plan", "title", "contact", "licence", "zones", "layers", "epochs", "checks", "book", "outputs", "record", "cache"}

func (p *Plan) read() {
	p.defaults = section{}
	options := new(Defaults)
	known := slices.Clone(sections)
	for _, o := range option.Of(options) {
		known = append(known, o.Name)
	}
	if v := p.root.get("plan"); v != nil && v.text != fmt.Sprint(Version) { // first, because nothing else may be right then
		if n := 0; len(v.text) < 9 {
			if _, err := fmt.Sscan(v.text, &n); err == nil && n > Version {
				p.wrong(v, "the plan is written for version %d of the format, and this program reads version %d: use a newer program", n, Version)
				return
			}
		}
		p.wrong(v, "%q is not a version of the format: write %d", v.text, Version)
		return
	}
	for _, n := range p.root.items {
		switch n.key {
		case "plan":
		case "title":
			p.Title = p.oneText(n)
		case "contact":
			p.Contact = p.oneText(n)
		case "licence":
			p.Licence = p.oneText(n)
		case "record":
			p.Record, p.recordAt = p.oneText(n), n
		case "zones", "layers", "epochs", "outputs": // below, when the rest is known
		case "checks":
			p.checks = p.section(n, new(CheckSection))
			p.Strict = p.checks["strict"] != nil && p.checks["strict"].text == "true"
		case "book":
			p.book = p.sectionOrOne(n, "book", new(BookSection))
			if b := p.book["book"]; b != nil {
				p.Book = p.file(b.text)
			} else if len(p.book) > 0 {
				p.wrong(n, "it names no book: add book: FILE")
			}
		case "cache":
			c := new(CacheSection)
			option.Fill(c)
			p.fill(c, p.sectionOrOne(n, "folder", c), nil)
			p.CacheDir, p.CacheLimit = c.Folder, int64(c.Limit)<<20
		default:
			if o := find(options, n.key); o != nil {
				p.defaults[n.key] = n
				p.set(options, *o, n, n.texts(p))
				continue
			}
			p.wrongKey(n, "%s is not a key of a plan: %s", n.key, instead(n.key, known))
		}
	}
	if p.CacheDir == "" {
		p.CacheDir = ".verdex"
	}
	p.CacheDir = p.file(p.CacheDir)
	if p.root.get("cache") == nil {
		p.CacheLimit = 1 << 30
	}
	p.readZones(p.root.get("zones"))
	p.findPerEpoch(p.root.get("layers"))
	p.readEpochs(p.root.get("epochs"))
	p.readLayers(p.root.get("layers"))
}

// oneText is a text that says something about the plan.
func (p *Plan) oneText(n *node) string {
	if n.kind != scalar {
		p.wrong(n, "%s takes a text, and this is %v", n.key, n.kind)
	}
	return n.text
}

// find is the option of a name, nil for none. The arguments of a command go by the name of their field in lower case.
func find(options any, name string) *option.Option {
	for _, o := range option.Of(options) {
		if keyOf(options, o) == name && name != SaveOption && name != PartOption {
			return &o
		}
	}
	return nil
}

// keyOf is the key under which an option stands in a plan.
func keyOf(options any, o option.Option) string {
	if o.Argument != "" {
		if o.Argument == "-" {
			return ""
		}
		return o.Field(options)
	}
	return o.Name
}

// section reads a mapping of options, whose values it checks; more are keys that it may have besides.
func (p *Plan) section(n *node, options any, more ...string) section {
	out := section{}
	if n.kind != mapping {
		if n.kind == empty {
			return out
		}
		if !n.malformed {
			p.wrong(n, "%s takes a mapping of options, and this is %v", n.key, n.kind)
		}
		return out
	}
	for _, item := range n.items {
		if slices.Contains(more, item.key) {
			out[item.key] = item
			continue
		}
		o := find(options, item.key)
		if o == nil {
			known := slices.Clone(more)
			for _, o := range option.Of(options) {
				if key := keyOf(options, o); key != "" {
					known = append(known, key)
				}
			}
			p.wrongKey(item, "%s is not an option here: %s", item.key, instead(item.key, known))
			continue
		}
		out[item.key] = item
		p.set(options, *o, item, item.texts(p))
	}
	return out
}

// sectionOrOne reads a mapping of options, or one value that is that of an option.
func (p *Plan) sectionOrOne(n *node, key string, options any, more ...string) section {
	if n.kind == scalar || n.kind == list {
		if o := find(options, key); o != nil {
			p.set(options, *o, n, n.texts(p))
		}
		return section{key: n}
	}
	return p.section(n, options, more...)
}

// texts are the texts of a value; what is deeper is a problem.
func (n *node) texts(p *Plan) []string {
	out, ok := n.scalars()
	if !ok && !n.malformed {
		p.wrong(n, "%s takes a value or a list of them, and this is deeper", n.key)
	}
	return out
}

// input is the name of a file that the plan reads. A plan that is read from a URL names its files from there.
func (p *Plan) input(path string) string {
	if files.IsURL(p.Path) && path != "" {
		if at, err := files.From(p.Path, path); err == nil {
			return at
		}
		return p.Path[:strings.LastIndexByte(p.Path, '/')+1] + url.PathEscape(path) // no address, and no file of this machine either
	}
	return p.file(path)
}

// file is the path of a file that the plan writes, or of its book and folders.
func (p *Plan) file(path string) string {
	if path == "" || p.Dir == "." || filepath.IsAbs(path) || strings.Contains(path, "://") {
		return path
	}
	return filepath.Join(p.Dir, path)
}
