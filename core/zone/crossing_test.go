package zone

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// crossingsOfAllPairs are the pairs of edges of a polygon that cross, found by comparing each with each.
func crossingsOfAllPairs(p Polygon) map[[2]int]bool {
	var edges [][2]Point
	for _, ring := range p {
		for i := range ring {
			a, b := edge(ring, i)
			edges = append(edges, [2]Point{a, b})
		}
	}
	found := map[[2]int]bool{}
	for i, e := range edges {
		for j := i + 1; j < len(edges); j++ {
			if _, ok, _ := cross(e[0], e[1], edges[j][0], edges[j][1]); ok {
				found[[2]int{i, j}] = true
			}
		}
	}
	return found
}

// Chains are a way not to compare every edge with every other; they find what that finds, on a grid of few points too, where
// edges are level, upright, on one another and end on one another.
func TestChainsFindEveryCrossing(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 3))
	var f crossingFinder
	all := 0
	for n := range 4000 {
		p := Polygon{make(Ring, 3+r.IntN(12))}
		if n%5 == 0 {
			p = append(p, make(Ring, 3+r.IntN(4)))
		}
		if n%50 == 0 {
			p[0] = make(Ring, 300) // dealt into strips
		}
		for _, ring := range p {
			for i := range ring {
				ring[i] = Point{float64(r.IntN(8)), float64(r.IntN(8))}
				if n%2 == 0 {
					ring[i] = Point{r.NormFloat64(), r.NormFloat64()}
				}
			}
		}
		got := map[[2]int]bool{}
		for _, c := range f.find(p, math.MaxInt) {
			require.False(t, got[[2]int{c.a, c.b}], "told twice")
			got[[2]int{c.a, c.b}] = true
		}
		require.Equal(t, crossingsOfAllPairs(p), got, "%v", p)
		all += len(got)
	}
	assert.Greater(t, all, 20000)
}

// The finder against comparing every edge with every other.
func TestCrossingsAgainstAllPairs(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 1))
	var f crossingFinder
	for n := 3; n < 2000; n += 7 + n/5 {
		r := make(Ring, n)
		for i := range r {
			s, c := math.Sincos(2 * math.Pi * float64(i) / float64(n))
			reach := 1 + 0.02*float64(min(n, 200))*(rng.Float64()-0.5)*0.3
			r[i] = Point{c * reach, s*reach + 0.05*rng.Float64()}
		}
		assert.Len(t, f.find(Polygon{r}, math.MaxInt), len(crossingsOfAllPairs(Polygon{r})), "%d points", n)
	}
}

// An outline that crosses itself everywhere is refused at the first crossings: all of them would take the memory of the machine.
func TestOutlineThatCrossesItselfEverywhere(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	ring := make(Ring, 20_000)
	for i := range ring {
		ring[i] = Point{r.Float64(), r.Float64()}
	}
	var f crossingFinder
	begin := time.Now()
	found := f.find(Polygon{ring}, 100)
	assert.Greater(t, len(found), 100)
	assert.Less(t, len(found), 200)
	assert.Less(t, time.Since(begin), 5*time.Second)
	_, _, _, ok := mend(Polygon{ring}, &f)
	assert.False(t, ok)
}
