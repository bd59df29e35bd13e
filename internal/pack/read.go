package pack

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/internal/book"
)

// Read reads the postings of a package, whose files must be as they were published.
func Read(dir string) (book.List, error) {
	path := filepath.Join(dir, manifestName)
	data, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Opening(path, err)
	}
	var m manifest
	if err := json.Unmarshal(data, &m); err != nil || m.Format != packFormat {
		return nil, fmt.Errorf("%s: it is not the list of postings of a package", path)
	}
	if m.Version != 1 {
		return nil, fmt.Errorf("%s: the package has version %d, and this program knows 1: use a newer Verdex", path, m.Version)
	}
	known := map[string]string{}
	for _, f := range m.Files {
		if !filepath.IsLocal(f.Path) {
			return nil, fmt.Errorf("%s: it names the file %q outside the package", path, f.Path)
		}
		data, err := os.ReadFile(filepath.Join(dir, f.Path))
		if err != nil {
			return nil, fault.Opening(filepath.Join(dir, f.Path), err)
		}
		if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != f.SHA256 {
			return nil, fmt.Errorf("%s: it was changed since the package was published: get the package anew", filepath.Join(dir, f.Path))
		}
		known[f.Path] = f.SHA256
	}
	if err := checkSums(dir, &m); err != nil {
		return nil, err
	}
	read := map[string][]*book.Posting{}
	var out book.List
	for _, n := range m.Postings {
		for _, f := range []string{n.Table, n.Legend.File, n.ZoneSet.File} {
			if known[f] == "" {
				return nil, fmt.Errorf("%s: it names the file %q, whose checksum it does not list", path, f)
			}
		}
		of, ok := read[n.Table]
		if !ok {
			if of, _, err = book.ReadTable(files.Disk, filepath.Join(dir, n.Table), "", nil); err != nil {
				return nil, err
			}
			read[n.Table] = of
		}
		i := slices.IndexFunc(of, func(p *book.Posting) bool { return p.Kind == n.Kind && p.From == n.From && p.Epoch == n.Epoch })
		if i < 0 {
			return nil, fmt.Errorf("%s: it has no rows of %s for %s", filepath.Join(dir, n.Table), n.Kind, n.Epoch)
		}
		p := *of[i]
		p.Account, p.Note = n.Account, ImportNote(dir, n.Author, n.At, n.Note)
		if p.Legend, err = packLegend(filepath.Join(dir, n.Legend.File), n.Legend.Name); err != nil {
			return nil, err
		}
		if err := packZones(filepath.Join(dir, n.ZoneSet.File), n.ZoneSet.Name, &p); err != nil {
			return nil, err
		}
		p.Inputs = []book.Input{{Role: "package", Path: filepath.Join(dir, n.Table), SHA256: known[n.Table]}}
		for _, in := range n.Inputs {
			p.Inputs = append(p.Inputs, book.Input{Role: "published from " + in.Role, Path: in.Name, Size: in.Size, Modified: in.Modified, SHA256: in.SHA256})
		}
		out = append(out, &p)
	}
	return out, nil
}

// checkSums holds the list of checksums, which older packages lack, to what the package lists.
func checkSums(dir string, m *manifest) error {
	path := filepath.Join(dir, sumsName)
	got, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fault.Opening(path, err)
	}
	own, err := os.ReadFile(filepath.Join(dir, manifestName))
	if err != nil {
		return fault.Opening(filepath.Join(dir, manifestName), err)
	}
	sum := sha256.Sum256(own)
	want := sumsOf(append(slices.Clone(m.Files), packFile{Path: manifestName, SHA256: hex.EncodeToString(sum[:])}))
	if string(want) != string(got) {
		return fmt.Errorf("%s: it was changed since the package was published, or %s was: get the package anew", path, manifestName)
	}
	return nil
}

// ImportNote says where a posting comes from that is posted anew.
func ImportNote(from, author, at, note string) string {
	return strings.TrimSuffix(fmt.Sprintf("from %s, posted there by %s on %s: %s", from, author, at, note), ": ")
}

func packLegend(path, name string) (book.Legend, error) {
	rows, _, err := rows.Read(files.Disk, path, []string{"code", "name", "color", "group"}, nil)
	l := book.Legend{Name: name}
	for _, r := range rows {
		l.Classes = append(l.Classes, book.Class{Code: r.Cell["code"], Name: r.Cell["name"], Color: r.Cell["color"], Group: r.Cell["group"]})
	}
	return l, err
}

// packZones gives a posting the zones of a package in their order.
func packZones(path, name string, p *book.Posting) error {
	rows, _, err := rows.Read(files.Disk, path, []string{"zone_id", "zone_name", "within_id", "within_name"}, nil)
	if err != nil {
		return err
	}
	set := book.ZoneSet{Name: name}
	at := map[string]int{}
	for i, r := range rows {
		at[r.Cell["zone_id"]] = i
		set.Zones = append(set.Zones, book.Zone{ID: r.Cell["zone_id"], Name: r.Cell["zone_name"], WithinID: r.Cell["within_id"], WithinName: r.Cell["within_name"]})
	}
	place := make([]int, len(p.ZoneSet.Zones))
	for i, z := range p.ZoneSet.Zones {
		k, ok := at[z.ID]
		if !ok {
			return fmt.Errorf("%s: zone %s of the tables is not in it", path, z.ID)
		}
		place[i] = k
	}
	p.Extents, p.Moves = slices.Clone(p.Extents), slices.Clone(p.Moves)
	for i := range p.Extents {
		p.Extents[i].Zone = place[p.Extents[i].Zone]
	}
	for i := range p.Moves {
		p.Moves[i].Zone = place[p.Moves[i].Zone]
	}
	p.ZoneSet = set
	return nil
}
