package plan

import (
	"context"
	"fmt"
	"io/fs"
	"math"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/epoch"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/job"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/open"
	"github.com/verdex-land/verdex/core/rows"
	vectors "github.com/verdex-land/verdex/core/vector/open"
)

// Draft is a plan for what lies in a folder, to be filled in.
type Draft struct {
	Files    []DraftFile // the plan first
	Found    []string    // what was found, for people
	Decide   []string    // what has to be decided
	problems []string
}

// DraftFile is a file of a draft.
type DraftFile struct {
	Name string
	Data []byte
}

// SchemaName is the name of the schema that a new plan names.
const SchemaName = "plan.schema.json"

// found is a raster of a folder.
type found struct {
	name   string // in the folder
	date   string
	header raster.Header
	look   *job.RasterLook
}

// scaffold is a draft while it is made.
type scaffold struct {
	Draft
	ctx     context.Context
	env     job.Env
	dir     string
	covers  []found
	scenes  []found // with bands
	values  []found
	zones   []*job.ZonesLook
	legend  string
	flows   string
	control string
	walks   map[string]string // by date, "" for none
	samples map[string]string
	known   map[int]bool // codes of the legend
	body    strings.Builder
}

// lookedAt is how many cells a raster may have to be read whole.
const lookedAt = 1 << 26

// NewDraft looks at the files in a folder and makes a plan for them.
func NewDraft(ctx context.Context, env job.Env, dir string) (*Draft, error) {
	s := &scaffold{ctx: ctx, env: env, dir: dir, walks: map[string]string{}, samples: map[string]string{}}
	list, err := os.ReadDir(dir)
	if err != nil {
		return nil, fault.Opening(dir, err)
	}
	for _, e := range list {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if e.Type().IsRegular() || e.Type()&fs.ModeSymlink != 0 {
			if err := s.file(e.Name()); err != nil {
				s.problems = append(s.problems, Message(err))
			}
		}
	}
	if len(s.covers)+len(s.scenes)+len(s.values) == 0 {
		why := "name the folder that has them"
		if len(s.problems) > 0 {
			why = "what was found cannot be read: " + strings.Join(s.problems, "; ")
		}
		return nil, fmt.Errorf("%s: there is no raster in it that can be read: %s", dir, why)
	}
	s.write()
	return &s.Draft, nil
}

// file finds out what a file is.
func (s *scaffold) file(name string) error {
	path := filepath.Join(s.dir, name)
	switch strings.ToLower(filepath.Ext(name)) {
	case ".tif", ".tiff", ".asc":
		return s.raster(name)
	case ".csv":
		return s.table(name)
	case ".yaml", ".yml", ".json", ".prj", ".dbf", ".shx", ".cpg", ".txt", ".md":
		return nil
	}
	if kind, err := vectors.Kind(files.Disk, path); err != nil || kind == "" || kind == "table" {
		return nil
	}
	z, err := job.LookZones(s.ctx, s.env, job.LookOptions{Files: []string{path}})
	if err != nil {
		return err
	}
	if z.Kinds["Polygon"]+z.Kinds["MultiPolygon"] > 0 {
		s.zones = append(s.zones, z)
	}
	return nil
}

// raster looks at a raster.
func (s *scaffold) raster(name string) error {
	path := filepath.Join(s.dir, name)
	f, err := open.Raster(files.Disk, path, 1)
	if err != nil {
		return err
	}
	h := f.Header()
	f.Close()
	one := found{name: name, date: dateIn(name), header: h}
	if h.Bands-min(1, h.Alpha) > 1 {
		s.scenes = append(s.scenes, one)
		return nil
	}
	quick := int64(h.Grid.Width)*int64(h.Grid.Height) > lookedAt
	r, err := job.LookRasters(s.ctx, s.env, job.LookOptions{Files: []string{path}, Quick: quick})
	if err != nil {
		return err
	}
	one.look = r.Rasters[0]
	if h.Type.Floating() || one.look.Measurements != nil || len(one.look.Values) > 100 {
		s.values = append(s.values, one)
	} else {
		s.covers = append(s.covers, one)
	}
	return nil
}

// dated finds a year or a date in a name.
var dated = regexp.MustCompile(`(?:^|[^0-9])((?:19|20)[0-9]{2}(?:-?(?:0[1-9]|1[0-2])(?:-?(?:0[1-9]|[12][0-9]|3[01]))?)?)(?:[^0-9]|$)`)

// table finds out what a CSV is by its columns.
func (s *scaffold) table(name string) error {
	path := filepath.Join(s.dir, name)
	has := func(columns ...string) bool {
		_, _, err := rows.Read(files.Disk, path, columns, nil)
		return err == nil
	}
	switch {
	case has("from", "to", "flow"):
		s.flows = name
	case has("from", "to"):
		s.walks[dateIn(name)] = name
	case has("code", "name"):
		if s.legend == "" || strings.Contains(name, "legend") && (!strings.Contains(s.legend, "legend") || len(name) < len(s.legend)) {
			s.legend = name
		}
	case has("reference"):
		s.samples[dateIn(name)] = name
	case has("zone_id", "class_code", "epoch", "area") && !has("kind"):
		s.control = name
	}
	return nil
}

func dateIn(name string) string {
	if m := dated.FindStringSubmatch(name); m != nil {
		return m[1]
	}
	return ""
}

func (s *scaffold) line(format string, args ...any) { fmt.Fprintf(&s.body, format+"\n", args...) }

// comment writes a comment, broken into lines.
func (s *scaffold) comment(indent int, format string, args ...any) {
	words := strings.Fields(strings.ReplaceAll(fmt.Sprintf(format, args...), "\n", " "))
	line := ""
	flush := func() {
		if line != "" {
			s.line("%s# %s", strings.Repeat(" ", indent), line)
		}
		line = ""
	}
	for _, w := range words {
		if len(line)+len(w)+1 > 104-indent {
			flush()
		}
		if line != "" {
			line += " "
		}
		line += w
	}
	flush()
}

// decide writes a comment about what has to be decided, and notes it.
func (s *scaffold) decide(indent int, format string, args ...any) {
	s.comment(indent, "DECIDE: "+format, args...)
	s.Decide = append(s.Decide, fmt.Sprintf(format, args...))
}

// dateCovers are the covers of an epoch.
type dateCovers struct {
	label, date string
	of          []found
	left        []found // rasters of the same date that lie elsewhere
}

// sameGrid reports whether two rasters have a CRS and a cell size in common.
func sameGrid(a, b raster.Header) bool {
	return a.Grid.CRS != nil && b.Grid.CRS != nil && a.Grid.CRS.Same(b.Grid.CRS) && math.Abs(a.Grid.DX/b.Grid.DX-1) < 1e-6 && math.Abs(a.Grid.DY/b.Grid.DY-1) < 1e-6
}

// epochs groups the covers by date.
func (s *scaffold) epochs() (out []dateCovers) {
	if len(s.covers) == 0 {
		return nil
	}
	usual := s.covers[0] // whose grid most have
	most := 0
	for _, c := range s.covers {
		n := 0
		for _, d := range s.covers {
			if sameGrid(c.header, d.header) {
				n++
			}
		}
		if n > most {
			usual, most = c, n
		}
	}
	for _, c := range s.covers {
		k := slices.IndexFunc(out, func(d dateCovers) bool { return d.date == c.date })
		if k < 0 {
			k = len(out)
			label := labelOf(c.date)
			if c.date == "" {
				label = "undated"
			}
			out = append(out, dateCovers{label: label, date: c.date})
		}
		if sameGrid(c.header, usual.header) {
			out[k].of = append(out[k].of, c)
		} else {
			out[k].left = append(out[k].left, c)
		}
	}
	for i := range out {
		if len(out[i].of) == 0 { // all of the date lie elsewhere
			out[i].of, out[i].left = out[i].left, nil
		}
	}
	slices.SortFunc(out, func(a, b dateCovers) int {
		x, _, _ := epoch.When(a.label)
		y, _, _ := epoch.When(b.label)
		return x.Compare(y)
	})
	return out
}

func idLike(name string) bool {
	name = strings.ToLower(name)
	return strings.Contains(name, "id") || strings.Contains(name, "code") || strings.HasSuffix(name, "no")
}
