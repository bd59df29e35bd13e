package book

import (
	"database/sql"
	"fmt"
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The views answer for one account of a million rows by looking up that account alone: in less than 50 ms, and in about the time
// that they take where nothing else is in the book.
func TestViewsOfAMillionRows(t *testing.T) {
	if testing.Short() {
		t.Skip("makes books of a million rows")
	}
	views := map[string]string{
		"current_postings": "SELECT count(*), 0 FROM current_postings WHERE account = 'account 7'",
		"current_extents":  "SELECT count(*), sum(area_m2) FROM current_extents WHERE account = 'account 7'",
		"compositions":     "SELECT count(*), sum(pct_of_zone) FROM compositions WHERE account = 'account 7'",
		"change_matrices":  "SELECT count(*), 0 FROM change_matrices WHERE account = 'account 7'",
		"extent_accounts":  "SELECT count(*), 0 FROM extent_accounts WHERE account = 'account 7'",
	}
	onBoth(t, func(t *testing.T, where string) {
		b := create(t, where)
		fill := func(from, to int) {
			for a := from; a < to; a++ {
				var list []*Posting
				for e := range 10 {
					list = append(list, large(fmt.Sprintf("account %d", a), fmt.Sprint(2000+e), 100))
				}
				post(t, b, list...)
			}
		}
		type answer struct {
			rows int
			sum  float64
		}
		ask := func(query string) (best time.Duration, got answer) {
			best = time.Hour
			for range 15 {
				begin := time.Now()
				var sum sql.Null[float64]
				require.NoError(t, b.db.QueryRowContext(ctx, query).Scan(&got.rows, &sum))
				best, got.sum = min(best, time.Since(begin)), math.Round(sum.V*1e6)
			}
			return best, got
		}
		fill(7, 8)
		alone, before := map[string]answer{}, map[string]time.Duration{}
		for name, query := range views {
			before[name], alone[name] = ask(query)
		}
		assert.Equal(t, answer{10000, 1000 * 100e6}, alone["compositions"]) // 1,000 zones and epochs, 100 % each
		fill(8, 107)
		for name, query := range views {
			took, got := ask(query)
			t.Logf("%s: %v", name, took)
			assert.Equal(t, alone[name], got, name)
			// A machine that is busy with other tests is slow in both.
			assert.Less(t, took, max(50*time.Millisecond, 3*before[name]), name)
		}
	})
}
