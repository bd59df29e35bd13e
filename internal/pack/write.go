// Package pack publishes accounts of a book as a folder of tables that a stranger can use without Verdex, and reads such folders again.
package pack

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"unicode"

	"github.com/verdex-land/verdex/core/area"

	"github.com/verdex-land/verdex/internal/book"
	"github.com/verdex-land/verdex/internal/model"
	"github.com/verdex-land/verdex/internal/table"
)

// Package is what is published.
type Package struct {
	List                                book.List
	Unit                                area.Unit
	Title, Licence, Source, Fingerprint string
	Digits                              int    // decimals of numbers, -1 for full precision
	Outlines                            []byte // of the zones, as GeoJSON; nil for none

	files  []packFile
	tables []table.Description
}

type packFile struct {
	Path   string `json:"path"`
	About  string `json:"about"`
	Bytes  int    `json:"bytes"`
	SHA256 string `json:"sha256"`
	data   []byte
}

// manifest is postings.json: what was posted by whom from which inputs, and the checksums of the files.
type manifest struct {
	Format      string        `json:"format"`
	Version     int           `json:"version"`
	Title       string        `json:"title"`
	Licence     string        `json:"licence"`
	Source      string        `json:"source"`
	Fingerprint string        `json:"book_fingerprint"`
	Postings    []packPosting `json:"postings"`
	Files       []packFile    `json:"files"`
}

type packPosting struct {
	Account string          `json:"account"`
	Kind    string          `json:"kind"`
	From    string          `json:"from_epoch,omitempty"`
	Epoch   string          `json:"epoch"`
	ZoneSet packVersion     `json:"zone_set"`
	Legend  packVersion     `json:"legend"`
	Table   string          `json:"table"`
	Rows    int             `json:"rows"`
	Author  string          `json:"author"`
	At      string          `json:"posted_at"`
	Note    string          `json:"note"`
	Program string          `json:"program"`
	Command json.RawMessage `json:"parameters"`
	Content string          `json:"content_sha256"`
	Inputs  []packInput     `json:"inputs"`
}

type packVersion struct {
	Name    string `json:"name"`
	Version int    `json:"version"`
	File    string `json:"file"`
}

type packInput struct {
	Role     string `json:"role"`
	Name     string `json:"name"`
	Size     int64  `json:"size"`
	Modified string `json:"modified_at"`
	SHA256   string `json:"sha256"`
}

const packFormat = "verdex package"

const (
	manifestName = "postings.json"
	sumsName     = "SHA256SUMS"
)

// Is reports whether a path is the folder of a package.
func Is(path string) bool {
	_, err := os.Stat(filepath.Join(path, manifestName))
	return err == nil
}

// slug is a name as part of a file name.
func slug(name string) string {
	out := strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) || r == '-' || r == '_' || r == '.' {
			return unicode.ToLower(r)
		}
		return '-'
	}, name)
	if out = strings.Trim(out, "-."); out == "" {
		return "unnamed"
	}
	return out
}

func (p *Package) add(path, about string, data []byte) string {
	for n := 2; slices.ContainsFunc(p.files, func(f packFile) bool { return f.Path == path }); n++ { // names that differ in signs only
		ending := filepath.Ext(path)
		path = strings.TrimSuffix(strings.TrimSuffix(path, ending), fmt.Sprintf("-%d", n-1)) + fmt.Sprintf("-%d", n) + ending
	}
	sum := sha256.Sum256(data)
	p.files = append(p.files, packFile{path, about, len(data), hex.EncodeToString(sum[:]), data})
	return path
}

func (p *Package) addTable(path string, m *model.Table) (string, error) {
	t := &table.Writer{Table: m, Digits: p.Digits}
	var b bytes.Buffer
	if err := t.Write(&b, "csv"); err != nil {
		return "", err
	}
	path = p.add(path, t.Title, b.Bytes())
	p.tables = append(p.tables, t.Describe(path))
	return path, nil
}

// version is one of a legend or zone set.
type version struct {
	name   string
	number int
}

// fill makes the files of the package, the same for the same content.
func (p *Package) fill() error {
	slices.SortStableFunc(p.List, func(a, b *book.Posting) int {
		return cmp.Or(strings.Compare(a.Account, b.Account), strings.Compare(a.ZoneSet.Name, b.ZoneSet.Name), strings.Compare(b.Kind, a.Kind), strings.Compare(a.From, b.From), strings.Compare(a.Epoch, b.Epoch))
	})
	tables, err := p.addRows()
	if err != nil {
		return err
	}
	legends, zones, err := p.addVersions()
	if err != nil {
		return err
	}
	if p.Outlines != nil {
		p.add("zones-"+slug(p.List[0].ZoneSet.Name)+".geojson", "Outlines of the zones, in longitude and latitude on WGS 84", p.Outlines)
	}
	if p.Title == "" {
		p.Title = "Accounts of land: " + strings.Join(p.List.Accounts(), ", ")
	}
	m := manifest{Format: packFormat, Version: 1, Title: p.Title, Licence: p.Licence, Source: p.Source, Fingerprint: p.Fingerprint}
	for _, q := range p.List {
		n := packPosting{Account: q.Account, Kind: q.Kind, From: q.From, Epoch: q.Epoch, Table: tables[q], Rows: q.RowCount, Author: q.Author, At: q.At, Note: q.Note, Program: q.Program, Content: q.Content,
			ZoneSet: packVersion{q.ZoneSet.Name, q.ZoneSet.Version, zones[version{q.ZoneSet.Name, q.ZoneSet.Version}]},
			Legend:  packVersion{q.Legend.Name, q.Legend.Version, legends[version{q.Legend.Name, q.Legend.Version}]}, Command: json.RawMessage(`{}`)}
		if json.Valid([]byte(q.Command)) {
			n.Command = json.RawMessage(q.Command)
		}
		for _, in := range q.Inputs { // the folder that it lay in stays private
			n.Inputs = append(n.Inputs, packInput{in.Role, filepath.Base(in.Path), in.Size, in.Modified, in.SHA256})
		}
		m.Postings = append(m.Postings, n)
	}
	p.refer(tables, legends, zones)
	var about bytes.Buffer
	licence, rights := licenceOf(p.Licence)
	if err := (table.Group{Title: p.Title, Licence: licence, Rights: rights, Source: p.Source, About: methodText(p.Unit), Tables: p.tables}).Write(&about); err != nil {
		return err
	}
	p.add("csv-metadata.json", "what the tables and their columns hold, as the W3C's CSV on the Web", about.Bytes())
	p.add("README.md", "what this is, and how to read it", []byte(p.readme()))
	m.Files = p.files
	data, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return err
	}
	p.add(manifestName, "", append(data, '\n'))
	p.add(sumsName, "", sumsOf(p.files))
	return nil
}

// sumsOf lists checksums as sha256sum does.
func sumsOf(files []packFile) []byte {
	var b bytes.Buffer
	for _, f := range files {
		fmt.Fprintf(&b, "%s  %s\n", f.SHA256, f.Path)
	}
	return b.Bytes()
}

// refer says in the descriptions of the tables of rows which table has their zones, where that is one, and their classes, where none is outside the legend.
func (p *Package) refer(tables map[*book.Posting]string, legends, zones map[version]string) {
	for i := range p.tables {
		d := &p.tables[i]
		of := map[string]map[string]bool{"zones": {}, "legends": {}}
		classes := "class_code"
		plain := true // every row's code is one of the legend
		for _, q := range p.List {
			if tables[q] != d.URL {
				continue
			}
			of["zones"][zones[version{q.ZoneSet.Name, q.ZoneSet.Version}]] = true
			of["legends"][legends[version{q.Legend.Name, q.Legend.Version}]] = true
			if q.Kind == book.OfChange {
				classes = "from_code"
			}
			for _, e := range q.Extents {
				plain = plain && e.Kind != "unlisted"
			}
		}
		for name := range of["zones"] {
			if len(of["zones"]) == 1 {
				d.Refer("zone_id", name, "zone_id")
			}
		}
		for name := range of["legends"] {
			if len(of["legends"]) != 1 || !plain {
				continue
			}
			d.Refer(classes, name, "code")
			if classes == "from_code" {
				d.Refer("to_code", name, "code")
			}
		}
	}
}

// licenceOf is the address of a licence that is stated by one, or by the short name that the SPDX list has for licences of data; other terms are text.
func licenceOf(text string) (address any, rights string) {
	at := func(url string) any { return map[string]string{"@id": url} }
	if u, err := url.Parse(text); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" {
		return at(text), ""
	}
	if m := creativeCommons.FindStringSubmatch(text); m != nil {
		return at("https://creativecommons.org/licenses/" + strings.ToLower(m[1]) + "/" + m[2] + "/"), ""
	}
	switch text {
	case "":
		return nil, ""
	case "CC0-1.0":
		return at("https://creativecommons.org/publicdomain/zero/1.0/"), ""
	case "ODbL-1.0", "ODC-By-1.0", "PDDL-1.0", "OGL-UK-1.0", "OGL-UK-2.0", "OGL-UK-3.0", "OGL-Canada-2.0", "DL-DE-BY-2.0", "DL-DE-ZERO-2.0", "etalab-2.0", "CDLA-Permissive-1.0", "CDLA-Permissive-2.0", "CDLA-Sharing-1.0":
		return at("https://spdx.org/licenses/" + text + ".html"), ""
	}
	return nil, text
}

var creativeCommons = regexp.MustCompile(`^CC-(BY(?:-NC)?(?:-SA|-ND)?)-([1-4]\.[05])$`)

// addRows adds the tables of extents and transitions, and returns which one each posting is in.
func (p *Package) addRows() (map[*book.Posting]string, error) {
	tables := map[*book.Posting]string{}
	for _, name := range p.List.Accounts() {
		of := p.List.OfAccount(name)
		for _, set := range of.ZoneSets() {
			in := of.OnSet(set)
			for _, kind := range []string{book.OfExtents, book.OfChange} {
				rows := in.OfKind(kind)
				if len(rows) == 0 {
					continue
				}
				t, end := rows.Extents(p.Unit), "extents"
				if kind == book.OfChange {
					t, end = rows.Transitions(p.Unit), "transitions"
				}
				t.Title = fmt.Sprintf("%s: account %s, zones %s", t.Title, name, set)
				path, err := p.addTable(slug(name)+"-"+slug(set)+"-"+end+".csv", t)
				if err != nil {
					return nil, err
				}
				for _, q := range rows {
					tables[q] = path
				}
			}
		}
	}
	return tables, nil
}

// addVersions adds the legends and zone sets, and returns which file holds which.
func (p *Package) addVersions() (legends, zones map[version]string, err error) {
	legends, zones = map[version]string{}, map[version]string{}
	for _, q := range p.List {
		if v := (version{q.Legend.Name, q.Legend.Version}); legends[v] == "" {
			if legends[v], err = p.addTable(fmt.Sprintf("legend-%s-v%d.csv", slug(v.name), v.number), legendTable(&q.Legend)); err != nil {
				return nil, nil, err
			}
		}
		if v := (version{q.ZoneSet.Name, q.ZoneSet.Version}); zones[v] == "" {
			if zones[v], err = p.addTable(fmt.Sprintf("zones-%s-v%d.csv", slug(v.name), v.number), zonesTable(&q.ZoneSet)); err != nil {
				return nil, nil, err
			}
		}
	}
	return legends, zones, nil
}

// legendTable is a legend as a table.
func legendTable(l *book.Legend) *model.Table {
	var rows [][]any
	for _, c := range l.Classes {
		rows = append(rows, []any{c.Code, c.Name, c.Color, c.Group})
	}
	return model.Legend(fmt.Sprintf("Legend %s, version %d", l.Name, l.Version), rows)
}

// zonesTable is a zone set as a table.
func zonesTable(z *book.ZoneSet) *model.Table {
	var rows [][]any
	for _, z := range z.Zones {
		rows = append(rows, []any{z.ID, z.Name, z.WithinID, z.WithinName})
	}
	return model.Zones(fmt.Sprintf("Zones %s, version %d", z.Name, z.Version), rows)
}

func methodText(unit area.Unit) string {
	return "Areas are in " + unit.Label + " of true ground: the area of each cell's outline on the ellipsoid of its CRS, cells that the outline of a zone cuts counted by their exact share. " +
		"For each zone the classes, ground without data, values of no class and ground outside the raster sum to the whole zone. In the transitions, opening extent + additions - reductions = closing extent, on the ground that both epochs map."
}

func (p *Package) readme() string {
	var b strings.Builder
	or := func(text string) string {
		if text == "" {
			return "not stated"
		}
		return text
	}
	fmt.Fprintf(&b, "# %s\n\n- Licence: %s\n- Source: %s\n- Unit: %s (column `unit`)\n\n## Method\n\n%s\n\n## Files\n\n| file | what it holds |\n| --- | --- |\n", p.Title, or(p.Licence), or(p.Source), p.Unit.Label, methodText(p.Unit))
	for _, f := range p.files {
		fmt.Fprintf(&b, "| `%s` | %s |\n", f.Path, f.About)
	}
	fmt.Fprintf(&b, "| `%s` | who posted what, when and from which inputs, and the checksums of these files |\n", manifestName)
	fmt.Fprintf(&b, "| `%s` | the checksums of all other files, for `sha256sum -c %s` |\n", sumsName, sumsName)
	b.WriteString("\nThe tables are CSV in UTF-8 with a head, a full stop as decimal mark, and empty cells for what is not known. A text that a spreadsheet would take for a formula has an apostrophe before it.\n\n## Postings\n\n| account | kind | epoch | zones | posted by | at | note |\n| --- | --- | --- | --- | --- | --- | --- |\n")
	clean := strings.NewReplacer("|", "\\|", "\n", " ")
	for _, q := range p.List {
		fmt.Fprintf(&b, "| %s | %s | %s | %s | %s | %s | %s |\n", clean.Replace(q.Account), q.Kind, clean.Replace(q.Period()), clean.Replace(q.ZoneSet.Name), clean.Replace(q.Author), q.At, clean.Replace(q.Note))
	}
	b.WriteString("\n`verdex book import BOOK FOLDER` posts it to a book of your own; `verdex account extent` and `verdex account series` read the tables as they are.\n")
	return b.String()
}

// WriteInto makes the files of the package and writes them into a folder, the same for the same content.
func (p *Package) WriteInto(dir string) error {
	if err := p.fill(); err != nil {
		return err
	}
	for _, f := range p.files {
		if err := os.WriteFile(filepath.Join(dir, f.Path), f.data, 0o644); err != nil {
			return err
		}
	}
	return nil
}
