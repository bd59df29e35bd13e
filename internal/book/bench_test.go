package book

import (
	"fmt"
	"math"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/postgrestest"
)

// large is a posting of n zones with ten classes each.
func large(account, epoch string, n int) *Posting {
	p := extents(account, epoch, 0, 0)
	p.Legend.Name, p.ZoneSet.Name = "ten", fmt.Sprintf("zones %d", n)
	p.Legend.Classes = nil
	for k := range 10 {
		p.Legend.Classes = append(p.Legend.Classes, Class{fmt.Sprint(k + 1), fmt.Sprintf("Class %d", k+1), "", ""})
	}
	p.Extents = nil
	for z := range n {
		p.ZoneSet.Zones = append(p.ZoneSet.Zones, Zone{ID: fmt.Sprintf("Z%05d", z)})
		for k := range 10 {
			p.Extents = append(p.Extents, Extent{z, "class", fmt.Sprint(k + 1), float64(z*k) + 0.125, float64(z * k), math.NaN()})
		}
	}
	return p
}

// BenchmarkTenMillionRows posts 100,000 rows to a book of ten million, and reads one account of 10,000. The aims are 3 s and
// 0.1 s. Making the book takes minutes.
func BenchmarkTenMillionRows(b *testing.B) {
	for _, kind := range []string{"SQLite", "PostgreSQL"} {
		b.Run(kind, func(b *testing.B) {
			where := filepath.Join(b.TempDir(), "large.book")
			if kind == "PostgreSQL" {
				where = postgrestest.Database(b)
			}
			k := create(b, where)
			begin := time.Now()
			for a := range 1000 {
				var list []*Posting
				for e := range 10 {
					list = append(list, large(fmt.Sprintf("account %d", a), fmt.Sprint(2000+e), 100))
				}
				post(b, k, list...)
			}
			b.ReportMetric(time.Since(begin).Seconds(), "s/making")
			var posting, showing []float64
			for i := range 5 {
				p := large("one more", fmt.Sprint(i), 10000)
				begin := time.Now()
				post(b, k, p)
				posting = append(posting, time.Since(begin).Seconds())
				begin = time.Now()
				list, err := k.Current(ctx, fmt.Sprintf("account %d", 100+200*i))
				require.NoError(b, err)
				require.Len(b, list, 10)
				showing = append(showing, time.Since(begin).Seconds())
			}
			b.ReportMetric(middle(posting), "s/post-100k-rows")
			b.ReportMetric(middle(showing)*1000, "ms/show-account")
		})
	}
}

func middle(of []float64) float64 {
	for range of {
		for i := 1; i < len(of); i++ {
			if of[i] < of[i-1] {
				of[i], of[i-1] = of[i-1], of[i]
			}
		}
	}
	return of[len(of)/2]
}
