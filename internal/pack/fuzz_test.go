package pack

import (
	"errors"
	"os"
	"path/filepath"
	"testing"

	"github.com/verdex-land/verdex/core/area"

	"github.com/verdex-land/verdex/internal/book"
)

// Whatever the list of postings of a package says, it is refused, or its postings are of zones that it lists; nothing outside the folder is read.
func FuzzPackage(f *testing.F) {
	dir := f.TempDir()
	p := &book.Posting{Account: "a", Kind: book.OfExtents, Epoch: "2004", Command: "{}", Unit: "ha", Extents: []book.Extent{{Kind: "class", Code: "1", M2: 5}}}
	p.ZoneSet.Name, p.ZoneSet.Zones = "z", []book.Zone{{ID: "z1"}}
	p.Legend.Name, p.Legend.Classes = "l", []book.Class{{Code: "1", Name: "x"}}
	unit := area.Units[0]
	k := &Package{List: book.List{p}, Unit: unit, Digits: -1}
	where := filepath.Join(dir, "p")
	if err := errors.Join(os.Mkdir(where, 0o755), k.WriteInto(where)); err != nil {
		f.Fatal(err)
	}
	sound, err := os.ReadFile(filepath.Join(where, manifestName))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(sound)
	f.Add([]byte(`{"format":"verdex package","version":1,"files":[{"path":"../x"}]}`))
	f.Add([]byte(`{"format":"verdex package","version":1,"postings":[{"table":"a"}]}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(filepath.Join(where, manifestName), data, 0o644); err != nil {
			t.Fatal(err)
		}
		list, err := Read(where)
		if err != nil {
			return
		}
		for _, p := range list {
			for _, e := range p.Extents {
				if e.Zone >= len(p.ZoneSet.Zones) {
					t.Fatal("a row of no zone")
				}
			}
		}
	})
}
