package cli

import (
	"encoding/json"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/table"
)

// inputFile is a file that a command reads, and as what.
type inputFile struct{ role, path string }

// inputFlags are the options that name files which are read, and what these are.
var inputFlags = []struct{ flag, role string }{
	{"zones", "zones"}, {"zone-names", "names of zones"}, {"within", "larger units"}, {"legend", "legend"}, {"crosswalk", "crosswalk"}, {"rules", "rules"},
	{"flows", "flows"}, {"control", "control totals"}, {"cover", "cover"}, {"areas", "areas"}, {"per-class", "cover"}, {"from-list", "list of rasters"},
}

// inputFiles are the files that a command reads, each once. What is no file (a box, a circle, an address) is left away: it stands
// among the parameters.
func inputFiles(c *cli.Command) (out []inputFile) {
	seen := map[string]bool{}
	add := func(role, path string) {
		path, _ = vectors.Split(path)
		path, _ = bandOf(path)
		base := strings.TrimSuffix(path, filepath.Ext(path))
		for _, p := range append([]string{path}, beside(path, base)...) {
			if info, err := os.Stat(p); err == nil && info.Mode().IsRegular() && !seen[p] {
				seen[p] = true
				out = append(out, inputFile{role, p})
			}
		}
	}
	rasters := func(role string, args []string) {
		paths, err := rasterPaths(c, args)
		if err != nil {
			return // opening them has told it
		}
		for _, p := range paths {
			add(role, p)
		}
	}
	value := func(text string) string { // of LABEL=FILE
		if _, err := os.Stat(text); err != nil {
			if _, rest, ok := strings.Cut(text, "="); ok {
				return rest
			}
		}
		return text
	}
	switch c.Name {
	case "change":
		for _, e := range c.StringSlice("epoch") {
			label, path, _ := strings.Cut(e, "=")
			rasters("cover "+label, []string{path})
		}
	case "measure", "summarise":
		rasters("cover", c.Args().Slice())
	case "post":
		for _, a := range c.Args().Tail() { // the first is the book
			add("table", a)
		}
	case "import":
		for _, a := range c.Args().Tail() {
			add("book", a)
		}
	default:
		for _, a := range c.Args().Slice() {
			add("table", a)
		}
	}
	for _, l := range c.StringSlice("layer") {
		add("layer", value(l))
	}
	for _, f := range inputFlags {
		for _, v := range append(c.StringSlice(f.flag), c.String(f.flag)) {
			add(f.role, value(v))
		}
	}
	return out
}

// beside are the files beside one that are read with it: the parts of a shapefile, and the CRS of an ASCII grid.
func beside(path, base string) []string {
	switch strings.ToLower(filepath.Ext(path)) {
	case ".shp":
		return []string{base + ".dbf", base + ".shx", base + ".prj", base + ".cpg"}
	case ".asc":
		return []string{base + ".prj"}
	}
	return nil
}

// parameters are the command and its options as JSON, without passwords.
func parameters(c *cli.Command) string {
	options := map[string]any{}
	for _, f := range c.FlagNames() {
		if f == "quiet" || f == "log-json" || f == "threads" || f == "force" || f == "out" || f == "format" {
			continue
		}
		switch v := c.Value(f).(type) {
		case string:
			options[f] = book.NameOf(v)
		default:
			options[f] = v
		}
	}
	arguments := []string{}
	for _, a := range c.Args().Slice() {
		arguments = append(arguments, book.NameOf(a))
	}
	name := c.FullName() // within demo, that stands before it
	name = name[strings.LastIndex(name, "verdex ")+len("verdex "):]
	text, err := json.Marshal(struct {
		Command   string         `json:"command"`
		Arguments []string       `json:"arguments"`
		Options   map[string]any `json:"options"`
	}{name, arguments, options})
	if err != nil { // of texts and numbers
		panic(err)
	}
	return string(text)
}

// authorOf is who posts: --author, $VERDEX_AUTHOR, or the user of the system.
func authorOf(c *cli.Command) string {
	if a := strings.TrimSpace(c.String("author")); a != "" {
		return a
	}
	if a := strings.TrimSpace(os.Getenv("VERDEX_AUTHOR")); a != "" {
		return a
	}
	if u, err := user.Current(); err == nil {
		if u.Name != "" && u.Name != u.Username {
			return u.Name + " (" + u.Username + ")"
		}
		return u.Username
	}
	return "unknown"
}

// provenanceSheet tells what a workbook was made from.
func provenanceSheet(c *cli.Command) *table.Sheet {
	s := &table.Sheet{Name: "Provenance", FreezeRows: 1}
	head := table.Style{Head: true}
	s.Add(table.Text("what", head), table.Text("value", head), table.Text("size in bytes", head), table.Text("last changed (UTC)", head))
	line := func(what, value string) { s.Add(table.Text(what, table.Style{}), table.Text(value, table.Style{})) }
	line("program", "verdex "+c.Root().Version)
	line("command", parameters(c))
	line("areas", "true areas on the ellipsoid of the CRS; cells that an outline cuts count by their share")
	for _, in := range inputFiles(c) {
		full, err := filepath.Abs(in.path)
		info, err2 := os.Stat(in.path)
		if err != nil || err2 != nil {
			continue
		}
		s.Add(table.Text(in.role, table.Style{}), table.Text(full, table.Style{}), table.Cell{Value: int(info.Size())}, table.Text(info.ModTime().UTC().Format(time.DateTime), table.Style{}))
	}
	return s
}
