package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/output"
)

// This file knows which options and arguments of each command name files that are read and which name files that are
// written. A command's files are recorded and checked before its work begins, and what it writes is committed when it
// has ended without an error.

// inputFlags are the options that name files which are read, and what these are.
var inputFlags = []struct{ flag, role string }{
	{"zones", "zones"}, {"zone-names", "names of zones"}, {"within", "larger units"}, {"legend", "legend"}, {"crosswalk", "crosswalk"}, {"rules", "rules"},
	{"flows", "flows"}, {"control", "control totals"}, {"cover", "cover"}, {"areas", "areas"}, {"per-class", "cover"}, {"from-list", "list of rasters"},
	{"layer", "layer"}, {"to", "place to clip to"}, {"like", "grid"}, {"crs", "CRS"}, {"zones-crs", "CRS of the zones"}, {"post", ""},
}

// outputFlagNames are the options that name what is written.
var outputFlagNames = []string{"out", "attach", "map", "checks", "legend-out", "out-dir", "package"}

// arguments says what the arguments of a command are: rasters, features, tables, or a book and what follows it. A command that is
// missing here takes no files.
var arguments = map[string]string{
	"look": "input", "mosaic": "cover", "clip": "cover", "align": "cover", "reclassify": "cover", "patches": "cover", "measure": "cover",
	"summarise": "values", "derive slope": "elevation", "derive composite": "scene",
	"zones pick": "features", "zones merge": "features", "zones buffer": "features", "zones grid": "area",
	"attach": "table", "account extent": "table", "account composition": "table", "account matrix": "table", "account flows": "table",
	"account series": "table", "account accuracy": "samples",
	"book post": "table", "book list": "book", "book show": "book", "book posting": "book", "book history": "book", "book diff": "book",
	"book verify": "book", "book void": "book", "book export": "book", "book import": "book", "book merge": "book",
}

// commandFiles are the files of a running command.
type commandFiles struct {
	*output.Job
	post      func() error
	after     []func() error
	committed bool
}

type filesKey struct{}

type temporariesKey struct{}

// filesOf are the files of the command that runs.
func filesOf(ctx context.Context) *commandFiles { return ctx.Value(filesKey{}).(*commandFiles) }

// then has something done when all that the command writes is in its place: results are shown and notes made only then.
func then(ctx context.Context, do func() error) {
	f := filesOf(ctx)
	f.after = append(f.after, do)
}

// noteThen makes a note when all is written.
func noteThen(ctx context.Context, r *reporter, text string) {
	then(ctx, func() error { r.note(text); return nil })
}

// withFiles runs a command's action between the check of its files and the commit of what it has written.
func withFiles(action cli.ActionFunc) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		temporaries, ok := ctx.Value(temporariesKey{}).(*output.Temporaries)
		if !ok {
			temporaries = &output.Temporaries{}
		}
		f := &commandFiles{Job: output.New(ctx, temporaries)}
		defer f.Discard()
		for _, in := range inputsOf(c) {
			f.Read(in)
		}
		if err := claimOutputs(f, c); err != nil {
			return err
		}
		outcome := action(context.WithValue(ctx, filesKey{}, f), c)
		if outcome != nil && !errors.Is(outcome, errStrict) {
			return outcome
		}
		if err := f.commit(); err != nil {
			return err
		}
		return outcome
	}
}

// commit puts everything that the command has staged in its place, enters its posting, and does what waits for that. A command calls it
// before it shows its results; it is called for all others when they have ended.
func commit(ctx context.Context) error { return filesOf(ctx).commit() }

func (f *commandFiles) commit() error {
	if f.committed {
		return nil
	}
	f.committed = true
	if err := f.Commit(f.post); err != nil {
		return err
	}
	for _, do := range f.after {
		if err := do(); err != nil {
			return err
		}
	}
	return nil
}

// inputsOf are the files that the options and arguments of a command name. What is no file (a box, a circle, an address)
// is left out by [output.Job.Read].
func inputsOf(c *cli.Command) (out []output.Input) {
	add := func(role, text string) {
		for _, path := range filesNamed(text) {
			base := strings.TrimSuffix(path, filepath.Ext(path))
			for _, p := range append([]string{path}, beside(path, base)...) {
				out = append(out, output.Input{Role: role, Path: p})
			}
		}
	}
	name := commandName(c)
	args, role := c.Args().Slice(), arguments[name]
	if first, _, _ := strings.Cut(name, " "); first == "book" && len(args) > 0 {
		add("", args[0])
		args = args[1:]
	}
	if role != "" {
		for _, a := range args {
			add(role, a)
		}
	}
	if name == "change" {
		for _, e := range c.StringSlice("epoch") {
			label, path, _ := strings.Cut(e, "=")
			add("cover "+label, path)
		}
	}
	for _, f := range inputFlags {
		for _, v := range append(c.StringSlice(f.flag), c.String(f.flag)) {
			if v = valueOf(v); v == "" {
				continue
			}
			add(f.role, v)
			if f.flag == "from-list" {
				list, _ := listed(v) // reading it for the work reports what is wrong
				for _, path := range list {
					add("cover", path)
				}
			}
		}
	}
	return out
}

// commandName is the name of a command without that of the program, such as "book post".
func commandName(c *cli.Command) string {
	name := c.FullName() // within demo, that stands before it
	return name[strings.LastIndex(name, "verdex ")+len("verdex "):]
}

// valueOf is the file of LABEL=FILE, or of FILE.
func valueOf(text string) string {
	if _, err := os.Stat(text); err != nil {
		if _, rest, ok := strings.Cut(text, "="); ok {
			return rest
		}
	}
	return text
}

// filesNamed are the files that an argument names: FILE, FILE#LAYER, FILE@BAND or a pattern.
func filesNamed(text string) []string {
	path, _ := vectors.Split(text)
	path, _ = bandOf(path)
	if _, err := os.Stat(path); err == nil {
		return []string{path}
	}
	if strings.Contains(text, "{date}") {
		scenes, _ := dated(text)
		var out []string
		for _, s := range scenes {
			out = append(out, s.paths...)
		}
		return out
	}
	found, _ := filepath.Glob(path)
	return found
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

// claimOutputs declares what a command is to write, before it does any work.
func claimOutputs(f *commandFiles, c *cli.Command) error {
	rules := output.Rules{Replace: c.Bool("force"), Book: book.IsBook}
	for _, flag := range outputFlagNames {
		path := c.String(flag)
		if path == "" {
			continue
		}
		var err error
		switch kind := outputKind(c, flag); kind {
		case "table":
			err = claimTable(f, c, flag, rules)
		case "raster":
			if err = checkEnding(path, flag); err == nil {
				err = f.Claim(path, rules)
			}
			if err == nil && flag == "map" {
				err = f.Claim(legendBeside(path), rules)
			}
		case "features":
			err = claimFeatures(f, path, rules)
		case "rasters":
			err = claimRasters(f, c, path, rules)
		case "package":
			r := rules
			r.Folder = true
			r.Known = func(path string) error {
				if !isPackage(path) {
					return fmt.Errorf("%s: it exists and is no package, so --force does not replace it: choose another name", path)
				}
				return nil
			}
			err = f.Claim(path, r)
		default:
			err = f.Claim(path, rules)
		}
		if conflict := new(output.ConflictError); errors.As(err, &conflict) {
			return usageError{err}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// outputKind is what an option that names an output makes a command write there.
func outputKind(c *cli.Command, flag string) string {
	switch {
	case flag == "attach":
		return "features"
	case flag == "map":
		return "raster"
	case flag == "checks":
		return "table"
	case flag == "legend-out":
		return "legend"
	case flag == "out-dir":
		return "rasters"
	case flag == "package":
		return "package"
	case has(c, "compress"):
		return "raster"
	case c.Name == "patches":
		return "patches"
	case has(c, "format") && !(c.Name == "export" && c.String("zones") != ""):
		return "table"
	}
	return "features"
}

// has reports whether a command has an option.
func has(c *cli.Command, name string) bool {
	return slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), name) })
}

// checkEnding refuses a name for a raster that does not end like one.
func checkEnding(path, flag string) error {
	if ext := strings.ToLower(filepath.Ext(path)); ext != ".tif" && ext != ".tiff" {
		return usage("--%s %s: rasters are written as GeoTIFF: give the file the ending .tif", flag, path)
	}
	return nil
}

// claimTable declares a table, with the description of a CSV beside it.
func claimTable(f *commandFiles, c *cli.Command, flag string, rules output.Rules) error {
	o, err := destinationOf(c, flag)
	if err != nil {
		return err
	}
	if o.format == "gpkg" {
		path, layer := vectors.SplitOutput(o.path)
		return claimGeoPackage(f, path, layer, rules)
	}
	if err := f.Claim(o.path, rules); err != nil {
		return err
	}
	if o.hasMetadata() {
		return f.Claim(o.path+metadataEnding, rules)
	}
	return nil
}

// claimFeatures declares a file of features, which for a shapefile are several.
func claimFeatures(f *commandFiles, where string, rules output.Rules) error {
	path, layer := vectors.SplitOutput(where)
	if err := vectors.CanWrite(path); err != nil {
		return usageError{err}
	}
	switch strings.ToLower(filepath.Ext(path)) {
	case ".gpkg":
		return claimGeoPackage(f, path, layer, rules)
	case ".shp":
		rules.Seeks = true
	}
	if err := f.Claim(path, rules); err != nil {
		return err
	}
	for _, part := range vectors.PartsOf(path) {
		if part == path {
			continue
		}
		if err := f.Claim(part, rules); err != nil {
			return fmt.Errorf("%w (it would be a part of %s)", err, path)
		}
	}
	return nil
}

// claimGeoPackage declares a layer of a GeoPackage. In a file that exists its other layers stay, and a new layer replaces nothing.
func claimGeoPackage(f *commandFiles, path, layer string, rules output.Rules) error {
	rules.Seeks, rules.Keeps = true, true
	if there := geopackage.Contents(path); layer != "" && len(there) > 0 && !geopackage.Has(there, layer) {
		rules.Replace = true
	}
	return f.Claim(path, rules)
}

// claimRasters declares the rasters that go into the folder of --out-dir, which is made if need be.
func claimRasters(f *commandFiles, c *cli.Command, dir string, rules output.Rules) error {
	paths, err := coverPaths(c)
	if err != nil || c.Bool("check") {
		return err
	}
	if err := f.Folder(dir); err != nil {
		return err
	}
	outs := intoFolder(dir, paths)
	for i, out := range outs {
		if k := slices.Index(outs, out); k < i {
			return usage("%s and %s have one name and would be written to one file: write them one by one with --out", paths[k], paths[i])
		}
		if err := f.Claim(out, rules); err != nil {
			return err
		}
	}
	return nil
}

// intoFolder are the names under which rasters go into a folder.
func intoFolder(dir string, paths []string) (out []string) {
	for _, p := range paths {
		file, _ := bandOf(p)
		base := filepath.Base(file)
		out = append(out, filepath.Join(dir, strings.TrimSuffix(base, filepath.Ext(base))+".tif"))
	}
	return out
}

// writeFile stages a file that the command has declared.
func writeFile(ctx context.Context, path string, fill func(io.Writer) error) error {
	return filesOf(ctx).Write(path, fill)
}
