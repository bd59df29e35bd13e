package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/option"
	rasters "github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/vector/geopackage"
	vectors "github.com/verdex-land/verdex/core/vector/open"
	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/draw"
	"github.com/verdex-land/verdex/internal/output"
	"github.com/verdex-land/verdex/internal/pack"
	"github.com/verdex-land/verdex/internal/remote"
)

// The options of a command say which of them name files that are read, and which name files that are written. Both are recorded and
// checked before the work begins, and what a command writes is committed when it has ended without an error.

// commandFiles are the files of a running command.
type commandFiles struct {
	*output.Job
	post      func() error
	after     []func() error
	before    func() error // what is done when all is written, but nothing is in its place
	committed bool
}

type temporariesKey struct{}

// then has something done when all that the command writes is in its place: results are shown and notes made only then.
func (f *commandFiles) then(do func() error) { f.after = append(f.after, do) }

// noteThen makes a note when all is written.
func (s *session) noteThen(text string) {
	s.then(func() error { s.Note(text); return nil })
}

// withFiles runs a command between the check of its files and the commit of what it has written.
func withFiles(ctx context.Context, c *cli.Command, options any, secrets *remote.Secrets, do func(*session) error) error {
	return withSession(ctx, c, options, secrets, func(s *session) error { return s.withFiles(do) })
}

// withSession runs a command in a session of its own.
func withSession(ctx context.Context, c *cli.Command, options any, secrets *remote.Secrets, do func(*session) error) error {
	temporaries, ok := ctx.Value(temporariesKey{}).(*output.Temporaries)
	if !ok {
		temporaries = &output.Temporaries{}
	}
	s := &session{reporter: newReporter(c), commandFiles: &commandFiles{Job: output.New(ctx, temporaries)}, ctx: ctx, name: commandName(c), options: options,
		stdout: c.Root().Writer, version: c.Root().Version, threads: c.Int("threads"), color: c.String("color")}
	if f, ok := s.stdout.(*os.File); ok && goesNowhere(f) {
		s.stdout = &lost{s: s}
	}
	s.commandFiles.Stdout = s.stdout
	disk := &streams{System: files.Disk, ctx: ctx, stdin: os.Stdin, temporary: temporaries}
	defer disk.close()
	if err := oneStream(options); err != nil {
		return err
	}
	s.remote = remote.New(ctx, remote.Options{Paths: disk, Cache: webCache(c.Bool("no-cache")), Offline: c.Bool("offline"), Secrets: secrets, Agent: "verdex/" + c.Root().Version})
	s.system = s.remote
	defer s.remote.Close()
	err := do(s)
	if f := s.remote.Fetched(); err == nil && f.Requests > 0 {
		text := fmt.Sprintf("fetched %s in %s", size(f.Bytes), text.Count(f.Requests, "request"))
		if f.Reused > 0 {
			text += ", and used " + size(f.Reused) + " of the cache"
		}
		s.Note(text)
	}
	return err
}

// webCache is where files of the web are kept between runs: in $VERDEX_CACHE_DIR, or where the system has such folders. It is nil when nothing is to be kept.
func webCache(none bool) *remote.Cache {
	if none {
		return nil
	}
	dir := os.Getenv("VERDEX_CACHE_DIR")
	if dir == "" {
		base, err := os.UserCacheDir()
		if err != nil {
			return nil
		}
		dir = filepath.Join(base, "verdex", "web")
	}
	return &remote.Cache{Dir: dir}
}

// withFiles does the work of a command between the check of its files and the commit of what it has written.
func (s *session) withFiles(do func(*session) error) error {
	defer s.Discard()
	if err := s.idle(); err != nil {
		return err
	}
	for _, in := range inputsOf(s.options) {
		s.Read(in)
	}
	if err := s.claimOutputs(); err != nil {
		return err
	}
	if err := s.savePlan(); err != nil {
		return err
	}
	outcome := do(s)
	if outcome != nil && !errors.Is(outcome, errStrict) {
		return outcome
	}
	if err := s.commit(); err != nil {
		return err
	}
	return outcome
}

// commit puts everything that the command has staged in its place, enters its posting, and does what waits for that. A command calls it
// before it shows its results; it is called for all others when they have ended.
func (f *commandFiles) commit() error {
	if f.committed {
		return nil
	}
	f.committed = true
	if f.before != nil {
		if err := f.before(); err != nil {
			return err
		}
	}
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

// inputsOf are the files that options and arguments name. What is not a file (a box, a circle, an address) is left out by
// [output.Job.Read].
func inputsOf(options any) (out []output.Input) {
	add := func(role, text string) {
		for _, path := range filesNamed(text) {
			beside := job.Beside(path)
			if files.IsURL(path) { // opening them finds out which exist
				beside = nil
			}
			for _, p := range append([]string{path}, beside...) {
				out = append(out, output.Input{Role: role, Path: p})
			}
		}
	}
	for _, o := range option.Of(options) {
		if o.Input == "" {
			continue
		}
		roles := strings.Split(o.Input, ",") // of the first argument, and of the others
		for i, text := range o.Texts(options) {
			role := roles[min(i, len(roles)-1)]
			if role == "-" {
				role = ""
			}
			value := valueIn(text)
			if label := strings.TrimSuffix(strings.TrimSuffix(text, value), "="); label != "" && o.Name == "epoch" {
				role += " " + label
			}
			if add(role, value); o.Name != "from-list" {
				continue
			}
			for _, path := range listed(value) {
				add("cover", path)
			}
		}
	}
	return out
}

// valueIn is the file of LABEL=FILE, or of FILE.
func valueIn(text string) string {
	if i := urlAt(text); i >= 0 {
		return text[i:]
	}
	if _, err := os.Stat(text); err != nil {
		if _, rest, ok := strings.Cut(text, "="); ok {
			return rest
		}
	}
	return text
}

// filesNamed are the files that an argument names: FILE, FILE#LAYER, FILE#BAND or a pattern.
func filesNamed(text string) []string {
	path, _ := vectors.Split(text)
	path, _ = rasters.Split(path)
	if files.IsURL(path) {
		return []string{path}
	}
	if _, err := os.Stat(path); err == nil {
		return []string{path}
	}
	if strings.Contains(text, "{date}") {
		scenes, _ := job.Dated(text)
		var out []string
		for _, s := range scenes {
			out = append(out, s.Paths...)
		}
		return out
	}
	found, _ := filepath.Glob(path)
	return found
}

// given is the value of an option that the command has, "" or false for others.
func given[T any](options any, name string) (value T) {
	for _, o := range option.Of(options) {
		if o.Name == name {
			value, _ = o.Get(options).(T)
		}
	}
	return value
}

// claimOutputs declares what a command is to write, before it does any work.
func (s *session) claimOutputs() error {
	rules := output.Rules{Replace: given[bool](s.options, "force"), Book: book.IsBook}
	for _, o := range option.Of(s.options) {
		if o.Output == "" {
			continue
		}
		for _, path := range o.Texts(s.options) {
			if output.IsStandard(path) && s.plan == nil { // what is shown does not mix with it
				s.stdout = s.w
			}
			rules := rules
			rules.Maybe = s.name == "gather" // which leaves it to the job whose parts are gathered
			err := s.claim(o, path, rules)
			if conflict := new(output.ConflictError); errors.As(err, &conflict) {
				return usageError{err}
			}
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// claim declares what an option says is to be written.
func (s *session) claim(o option.Option, path string, rules output.Rules) error {
	switch o.Output {
	case "table":
		return s.claimTable(o.Name, path, rules)
	case "raster":
		return s.claimRaster(o.Name, path, rules)
	case "map":
		if err := s.claimRaster(o.Name, path, rules); err != nil {
			return err
		}
		return s.Claim(legendBeside(path), rules)
	case "features":
		return s.claimFeatures(path, rules)
	case "figure":
		if _, err := draw.FormatOf(named(path, "figure", ".png")); err != nil {
			return usageError{err}
		}
	case "report":
		if ext := endingOf(path, ".html"); ext != ".html" && ext != ".htm" {
			return usage("%s: reports are written as HTML: end the name with .html", path)
		}
	case "rasters":
		return s.claimRasters(path, rules)
	case "package":
		rules.Folder = true
		rules.Known = func(path string) error {
			if !pack.Is(path) {
				return fmt.Errorf("%s: it exists and is not a package, so --force does not replace it: choose another name", path)
			}
			return nil
		}
	}
	return s.Claim(path, rules)
}

// claimRaster declares a raster, whose name must end like one.
func (s *session) claimRaster(flag, path string, rules output.Rules) error {
	if ext := endingOf(path, ".tif"); ext != ".tif" && ext != ".tiff" {
		return usage("--%s %s: rasters are written as GeoTIFF: end the name with .tif", flag, path)
	}
	return s.Claim(path, rules)
}

// claimTable declares a table, with the description of a CSV beside it; or the zones of an export with their areas.
func (s *session) claimTable(flag, path string, rules output.Rules) error {
	if s.name == "book export" && given[string](s.options, "zones") != "" {
		return s.claimFeatures(path, rules)
	}
	o, err := s.destinationOf(flag, path)
	if err != nil {
		return err
	}
	if o.format == "gpkg" {
		path, layer := vectors.SplitOutput(o.path)
		return s.claimGeoPackage(path, layer, rules)
	}
	if err := s.Claim(o.path, rules); err != nil {
		return err
	}
	if o.hasMetadata() {
		return s.Claim(o.path+metadataEnding, rules)
	}
	return nil
}

// claimFeatures declares a file of features, which for a shapefile are several.
func (s *session) claimFeatures(where string, rules output.Rules) error {
	path, layer := vectors.SplitOutput(where)
	ending := endingOf(path, ".geojson")
	if !isStream(path) {
		if err := vectors.CanWrite(path); err != nil {
			return usageError{err}
		}
	}
	switch ending {
	case ".gpkg":
		return s.claimGeoPackage(path, layer, rules)
	case ".shp":
		rules.Seeks = true
	}
	if err := s.Claim(path, rules); err != nil {
		return err
	}
	for _, part := range vectors.PartsOf(path) {
		if part == path {
			continue
		}
		rules.Maybe = true
		if err := s.Claim(part, rules); err != nil {
			return fmt.Errorf("%w (it would be a part of %s)", err, path)
		}
	}
	return nil
}

// claimGeoPackage declares a layer of a GeoPackage. In a file that exists its other layers stay, and a new layer replaces nothing.
func (s *session) claimGeoPackage(path, layer string, rules output.Rules) error {
	rules.Keeps = true
	if there := geopackage.Contents(path); layer != "" && len(there) > 0 && !geopackage.Has(there, layer) {
		rules.Replace = true
	}
	return s.Claim(path, rules)
}

// claimRasters declares the rasters that go into a folder, which is made if need be.
func (s *session) claimRasters(dir string, rules output.Rules) error {
	o, ok := s.options.(*reclassifyOptions)
	if !ok {
		panic("a folder of rasters that no command writes")
	}
	paths, err := job.Rasters(s.system, o.Rasters, o.FromList)
	if err != nil || o.Check {
		return err
	}
	if err := s.Folder(dir); err != nil {
		return err
	}
	outs := intoFolder(dir, paths)
	for i, out := range outs {
		if k := slices.Index(outs, out); k < i {
			return usage("%s and %s have one name and would be written to one file: write them one by one with --out", paths[k], paths[i])
		}
		if err := s.Claim(out, rules); err != nil {
			return err
		}
	}
	return nil
}

// intoFolder are the names under which rasters go into a folder.
func intoFolder(dir string, paths []string) (out []string) {
	for _, p := range paths {
		file, _ := rasters.Split(p)
		base := filepath.Base(file)
		out = append(out, filepath.Join(dir, strings.TrimSuffix(base, filepath.Ext(base))+".tif"))
	}
	return out
}

// legendBeside is where the legend of a map of change goes.
func legendBeside(path string) string {
	return strings.TrimSuffix(path, filepath.Ext(path)) + ".legend.csv"
}

// urlAt is where a URL begins in the value of an option, which may have a label before it; -1 for none.
func urlAt(text string) int {
	if files.IsURL(text) {
		return 0
	}
	i := strings.IndexByte(text, '=')
	if i >= 0 && files.IsURL(text[i+1:]) {
		return i + 1
	}
	return -1
}

// listed are the rasters of a list on the disk.
func listed(path string) []string {
	if files.IsURL(path) {
		return nil // reading it for the work records them
	}
	list, _ := job.Listed(files.Disk, path) // reading it for the work reports what is wrong
	return list
}

// hideSecrets takes the secrets out of the addresses in options, for which requests are then made with them.
func hideSecrets(options any) (*remote.Secrets, error) {
	secrets := remote.NewSecrets(os.Getenv)
	for _, o := range option.Of(options) {
		texts := slices.Clone(o.Texts(options))
		changed := false
		for i, text := range texts {
			at := urlAt(text)
			if at < 0 {
				continue
			}
			if err := secrets.Load(); err != nil {
				return nil, usageError{err}
			}
			texts[i] = text[:at] + secrets.Hide(text[at:])
			changed = changed || texts[i] != text
		}
		switch {
		case !changed:
		case o.Type == reflect.TypeFor[string]():
			o.Set(options, texts[0])
		default:
			o.Set(options, texts)
		}
	}
	return secrets, nil
}

// lost stands for standard output that goes nowhere: what is written is gone, and a note says so once.
type lost struct {
	s    *session
	said bool
}

// Write implements [io.Writer].
func (l *lost) Write(b []byte) (int, error) {
	if !l.said {
		l.s.Note("standard output is closed, or the null device, so that the result is lost: write it with --out, or redirect it")
		l.said = true
	}
	return len(b), nil
}
