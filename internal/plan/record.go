package plan

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/option"
)

// File is a file with its digest.
type File struct {
	Role   string `json:"role,omitempty"`
	Path   string `json:"path"` // relative to the folder of the record, with slashes
	Size   int64  `json:"size"`
	Digest string `json:"blake3,omitempty"`
	// Of a file of the web: what its server said of the state that was read, and the SHA-256 of the bytes that were read.
	Validator string `json:"validator,omitempty"`
	Read      string `json:"read_sha256,omitempty"`
}

// Check is the outcome of a check of a step.
type Check struct {
	Name    string `json:"name"`
	Outcome string `json:"outcome"`
	Text    string `json:"text,omitempty"`
}

// Done is what a step was made of, and what it wrote.
type Done struct {
	Name     string         `json:"name"`
	Command  string         `json:"command"`
	Options  map[string]any `json:"options"` // all of them, with defaults
	Inputs   []File         `json:"inputs"`
	Absent   []string       `json:"absent,omitempty"` // files that were looked for and are not there, such as a .prj file
	Outputs  []File         `json:"outputs"`
	Posted   string         `json:"posted_to,omitempty"`
	Postings []int64        `json:"postings,omitempty"`
	Checks   []Check        `json:"checks"`
	Notes    []string       `json:"notes"`
	Warnings []string       `json:"warnings"`
	Begun    time.Time      `json:"begun"`
	Finished time.Time      `json:"finished"`
	Key      string         `json:"key"` // of what it was made of
	Complete bool           `json:"complete"`
}

// Record is what a run leaves beside its outputs.
type Record struct {
	Kind     string          `json:"verdex_record"` // the version of the format of records
	Program  string          `json:"program"`
	Title    string          `json:"title,omitempty"`
	Contact  string          `json:"contact,omitempty"`
	Licence  string          `json:"licence,omitempty"`
	PlanPath string          `json:"plan_path"` // relative to the record
	Plan     string          `json:"plan"`      // its text
	Resolved json.RawMessage `json:"resolved"`  // the plan with all that is left out filled in
	Begun    time.Time       `json:"begun"`
	Ended    time.Time       `json:"ended"`
	Steps    []Done          `json:"steps"`
}

// recordVersion is the version of the format of records.
const recordVersion = "1"

// OptionsOf are the options of a step with their values.
func OptionsOf(options any) map[string]any {
	out := map[string]any{}
	for _, o := range option.Of(options) {
		if key := keyOf(options, o); key != "" && key != PartOption {
			if v := o.Get(options); reflect.ValueOf(v).Kind() != reflect.Slice || reflect.ValueOf(v).Len() > 0 {
				if d, ok := v.(time.Duration); ok {
					v = d.String()
				}
				out[key] = v
			}
		}
	}
	return out
}

// Clone copies the options that a struct points to.
func Clone(options any) any {
	v := reflect.ValueOf(options).Elem()
	out := reflect.New(v.Type())
	out.Elem().Set(v)
	return out.Interface()
}

// KeyOf is the key of a step: of its command, options and program, of what the plan defines, and of the files that its options name.
func (p *Plan) KeyOf(s *Step, program string, inputs []File) string {
	h := sha256.New()
	options, err := json.Marshal(OptionsOf(s.Options))
	if err != nil {
		panic(err) // texts, numbers and lists
	}
	local := func(text string) string { // the same wherever the program is run
		if p.Dir == "." {
			return text
		}
		return strings.ReplaceAll(text, strings.Trim(string(quotedJSON(p.Dir+string(filepath.Separator))), `"`), "")
	}
	fmt.Fprintln(h, program, s.Command, local(string(options)), local(p.definitions()))
	if exe, err := os.Executable(); err == nil { // a program that was built anew may have another result
		if info, err := os.Stat(exe); err == nil {
			fmt.Fprintln(h, info.Size(), info.ModTime().UnixNano())
		}
	}
	for _, f := range inputs {
		fmt.Fprintln(h, f.Role, Relative(p.Dir, f.Path), f.Digest+f.Validator)
	}
	return hex.EncodeToString(h.Sum(nil))
}

func quotedJSON(text string) []byte {
	b, err := json.Marshal(text)
	if err != nil {
		panic(err) // a text
	}
	return b
}

// done is where what is known of a step is kept.
func (s *Store) done(name string) string {
	sum := sha256.Sum256([]byte(name))
	return s.path("steps", hex.EncodeToString(sum[:12])+".json")
}

// Done is what is known of a step, nil for nothing.
func (s *Store) Done(name string) *Done {
	if d := s.readDone(s.done(name)); d != nil && d.Name == name {
		return d
	}
	return nil
}

// readDone reads what is known of a step. Paths are kept relative to the cache folder, so that it does not matter where the program is run, or whether the
// folder of the plan has been moved.
func (s *Store) readDone(path string) *Done {
	data, err := s.entry(path)
	d := new(Done)
	if err != nil || json.Unmarshal(data, d) != nil {
		return nil
	}
	for _, list := range [][]File{d.Inputs, d.Outputs} {
		for i := range list {
			if p := filepath.FromSlash(list[i].Path); !filepath.IsAbs(p) && !files.IsURL(list[i].Path) {
				list[i].Path = filepath.Join(s.dir, p)
			}
		}
	}
	for i, name := range d.Absent {
		if p := filepath.FromSlash(name); !filepath.IsAbs(p) {
			d.Absent[i] = filepath.Join(s.dir, p)
		}
	}
	return d
}

// SetDone keeps what is known of a step.
func (s *Store) SetDone(d *Done) error {
	kept := *d
	for _, list := range []*[]File{&kept.Inputs, &kept.Outputs} {
		*list = slices.Clone(*list)
		for i := range *list {
			(*list)[i].Path = Relative(s.dir, (*list)[i].Path)
		}
	}
	kept.Absent = relatives(s.dir, kept.Absent)
	data, err := json.Marshal(kept)
	if err == nil {
		err = s.write(s.done(d.Name), seal(data))
	}
	if err != nil {
		return fmt.Errorf("%s: the cache folder cannot be written to (%w): make room there", s.dir, err)
	}
	return nil
}

// Same reports whether files have the digests that they had.
func (s *Store) Same(files []File) bool {
	return !slices.ContainsFunc(files, func(f File) bool {
		d, err := s.digest(f.Path)
		return err != nil || d.Digest != f.Digest+f.Validator
	})
}

// Wrote reports whether a file is one that the plan wrote and that nobody has changed since.
func (s *Store) Wrote(path string) bool {
	list, err := os.ReadDir(s.path("steps"))
	if err != nil {
		return false
	}
	for _, e := range list {
		d := s.readDone(s.path("steps", e.Name()))
		if d == nil {
			continue
		}
		var within []File // of a folder
		for _, f := range d.Outputs {
			switch {
			case SamePath(f.Path, path) && s.Same([]File{f}):
				return true
			case strings.HasPrefix(f.Path, filepath.Clean(path)+string(filepath.Separator)):
				within = append(within, f)
			}
		}
		if len(within) > 0 && d.Complete && s.Same(within) && filesIn(path) == len(within) {
			return true
		}
	}
	return false
}

// filesIn counts the files in a folder and below it.
func filesIn(dir string) (n int) {
	filepath.WalkDir(dir, func(_ string, e os.DirEntry, err error) error {
		if err == nil && !e.IsDir() {
			n++
		}
		return nil
	})
	return n
}

// SamePath reports whether two paths are the same place.
func SamePath(a, b string) bool {
	if files.IsURL(a) || files.IsURL(b) {
		return a == b
	}
	x, err1 := filepath.Abs(a)
	y, err2 := filepath.Abs(b)
	return err1 == nil && err2 == nil && x == y
}

// FileOf describes a file.
func (s *Store) FileOf(role, path string) (File, error) {
	d, err := s.digest(path)
	if files.IsURL(path) {
		return File{Role: role, Path: path, Size: d.Size, Validator: d.Digest}, err
	}
	return File{Role: role, Path: path, Size: d.Size, Digest: d.Digest}, err
}

// Relative is a path as it is named in a folder, with slashes, so that it is the same wherever the program is run and when both are moved together.
func Relative(dir, path string) string {
	if files.IsURL(path) {
		return path
	}
	full, err := filepath.Abs(path)
	base, err2 := filepath.Abs(dir)
	if err != nil || err2 != nil {
		return filepath.ToSlash(path)
	}
	rel, err := filepath.Rel(base, full)
	if err != nil {
		return filepath.ToSlash(full)
	}
	return filepath.ToSlash(rel)
}

// RecordOf makes the record of a run.
func (p *Plan) RecordOf(program string, begun time.Time, steps []Done) ([]byte, error) {
	dir := filepath.Dir(p.Record)
	text, err := p.YAML()
	if err != nil {
		return nil, err
	}
	resolved, err := yaml.YAMLToJSON(text)
	if err != nil {
		return nil, err
	}
	r := Record{Kind: recordVersion, Program: program, Title: p.Title, Contact: p.Contact, Licence: p.Licence, PlanPath: Relative(dir, p.Path), Plan: string(p.Text),
		Resolved: resolved, Begun: begun.UTC().Truncate(time.Second), Ended: time.Now().UTC().Truncate(time.Second)}
	for _, d := range steps {
		for _, list := range []*[]File{&d.Inputs, &d.Outputs} {
			*list = slices.Clone(*list)
			for i := range *list {
				(*list)[i].Path = Relative(dir, (*list)[i].Path)
			}
		}
		d.Absent = relatives(dir, d.Absent)
		r.Steps = append(r.Steps, d)
	}
	b, err := json.MarshalIndent(r, "", "  ")
	return append(b, '\n'), err
}

// relatives are paths relative to a folder.
func relatives(dir string, paths []string) (out []string) {
	for _, p := range paths {
		out = append(out, Relative(dir, p))
	}
	return out
}

// IsRecord reports whether a file is the record of a run.
func IsRecord(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 64)
	n, _ := f.Read(head)
	return strings.HasPrefix(strings.TrimSpace(string(head[:n])), "{") && strings.Contains(string(head[:n]), `"verdex_record"`)
}

// ReadRecord reads the record of a run.
func ReadRecord(path string) (*Record, error) {
	info, err := os.Stat(path)
	if err == nil && info.Size() > 64<<20 {
		return nil, fmt.Errorf("%s: it is larger than any record: is it the right file?", path)
	}
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	r := new(Record)
	if err := json.Unmarshal(data, r); err != nil || r.Kind == "" {
		return nil, fmt.Errorf("%s: it is not the record of a run: it was cut off or changed", path)
	}
	if r.Kind != recordVersion {
		return nil, fmt.Errorf("%s: it is a record of version %s, and this program reads version %s: use a newer program", path, r.Kind, recordVersion)
	}
	return r, nil
}

// At makes a path of a record one from the folder of the program.
func At(record, path string) string {
	if files.IsURL(path) {
		return path
	}
	if filepath.IsAbs(filepath.FromSlash(path)) {
		return filepath.FromSlash(path)
	}
	return filepath.Join(filepath.Dir(record), filepath.FromSlash(path))
}
