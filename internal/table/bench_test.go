package table

import (
	"fmt"
	"io"
	"math"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/internal/model"
)

// manyZones are zones of twelve parts, as measuring many small zones gives them: nanoseconds for each row are what matters.
func manyZones(n int) (zones []*model.Zone) {
	for i := range n {
		z := &model.Zone{ID: fmt.Sprintf("%d-%d", i/300, i%300)}
		for k := range 12 {
			p := model.Part{Kind: "class", Code: fmt.Sprint(k), Name: fmt.Sprintf("class %d", k)}
			switch {
			case k > 8:
				p.Kind, p.Code, p.Name = "outside", "", "outside the raster"
			case (i+k)%3 == 0:
				p.Cells = float64(i % 40)
			default:
				p.Cells = 3000 * math.Abs(math.Sin(float64(i+k)))
			}
			p.Area, p.Nominal = p.Cells*0.09, p.Cells*0.09
			z.Parts = append(z.Parts, p)
		}
		zones = append(zones, z)
	}
	return zones
}

func BenchmarkCSV(b *testing.B) {
	unit, err := area.Find("ha")
	require.NoError(b, err)
	const zones = 2000
	all := manyZones(zones)
	for b.Loop() {
		t := model.Extents(unit, false, 12*zones, slices.Values(all))
		w := &Writer{Table: t, Digits: -1}
		require.NoError(b, w.Write(io.Discard, "csv"))
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/12/zones, "ns/row")
}
