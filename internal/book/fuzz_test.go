package book

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/verdex-land/verdex/core/files"
)

// Whatever a table holds, it is refused or its postings are sound: every row is of a zone of the set, and of a class of the legend.
func FuzzReadTable(f *testing.F) {
	f.Add([]byte("epoch,zone_id,zone_name,kind,class_code,class_name,area,unit\n2004,a,A,class,1,x,1.5,ha\n2004,a,A,nodata,,,2,ha\n"))
	f.Add([]byte("zone_id,zone_name,from_epoch,to_epoch,from_code,from_name,to_code,to_name,area,unit\na,A,1,2,1,x,,not mapped,3,km2\n"))
	f.Add([]byte(`[{"epoch":"2004","zone_id":"a","kind":"class","class_code":1,"area":1e3,"unit":"acre"}]`))
	f.Add([]byte("{\"epoch\":\"2004\",\"zone_id\":\"a\",\"kind\":\"class\",\"class_code\":1,\"area\":1e3,\"unit\":\"m2\"}\n{}"))
	path := filepath.Join(f.TempDir(), "table.csv")
	f.Fuzz(func(t *testing.T, data []byte) {
		if err := os.WriteFile(path, data, 0o644); err != nil {
			t.Fatal(err)
		}
		list, _, err := ReadTable(files.Disk, path, "2000", nil)
		if err != nil {
			return
		}
		for _, p := range list {
			known := map[string]bool{"": true}
			for _, c := range p.Legend.Classes {
				known[c.Code] = true
			}
			for _, e := range p.Extents {
				if e.Zone >= len(p.ZoneSet.Zones) || e.Kind == "class" && !known[e.Code] {
					t.Fatalf("a row of no zone or class: %+v", e)
				}
			}
			for _, m := range p.Moves {
				if m.Zone >= len(p.ZoneSet.Zones) || !known[m.From] || !known[m.To] {
					t.Fatalf("a row of no zone or class: %+v", m)
				}
			}
			p.Account = "a"
			if p.check() != nil {
				continue
			}
			p.sort()
			p.Content, p.RowCount = p.digest(p.ZoneSet.digest(), p.Legend.digest()), len(p.Extents)+len(p.Moves)
			p.ChecksumVersion, p.set = checksumVersion, p.ZoneSet.Name
			p.Checksum = p.seal()
			if faults := p.faults(); len(faults) > 0 {
				t.Fatal(faults)
			}
		}
	})
}
