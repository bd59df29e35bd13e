package account

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"github.com/verdex-land/verdex/core/cover"
)

// Classes are compared by code: one that only cut cells have is missing among centres, where there is no legend.
func TestEdgesAreComparedClassByClass(t *testing.T) {
	made := func(shares map[string]float64) *Composition {
		z := ZoneSum{ID: "z"}
		for _, code := range []string{"1", "2", "3"} {
			if v, ok := shares[code]; ok {
				z.Rows = append(z.Rows, Row{Kind: cover.Classified, Code: code, Name: "class " + code, PctOfZone: v})
			}
		}
		z.Rows = append(z.Rows, Row{Kind: cover.NoData, PctOfZone: 7})
		return &Composition{Zones: []ZoneSum{z}}
	}
	split := made(map[string]float64{"1": 0.5, "2": 60, "3": 39.5})
	got := split.CheckEdges(made(map[string]float64{"2": 60.4, "3": 39.6}), DefaultBounds)
	assert.Equal(t, Holds, got.Outcome, got.Text)
	assert.Equal(t, "split and centre differ by no more than 0.5 % of a zone", got.Text)
	got = split.CheckEdges(made(map[string]float64{"2": 62, "3": 38}), DefaultBounds)
	assert.Equal(t, FallsShort, got.Outcome)
	assert.Contains(t, got.Text, "z 2.00 % of it (class 2)")
}
