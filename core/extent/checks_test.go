package extent

import (
	"testing"

	"github.com/verdex-land/verdex/core/check"

	"github.com/stretchr/testify/assert"

	"github.com/verdex-land/verdex/core/cover"
)

// Classes are compared by code: one that only cut cells have is missing among centres, where there is no legend.
func TestEdgesAreComparedClassByClass(t *testing.T) {
	made := func(shares map[string]float64) *Composition {
		c := &Composition{Legend: &cover.Legend{}}
		z := ZoneSum{ID: "z", of: c}
		for i, code := range []string{"1", "2", "3"} {
			if v, ok := shares[code]; ok {
				z.parts = append(z.parts, part{class: int32(len(c.Legend.Classes)), area: v})
				c.Legend.Classes = append(c.Legend.Classes, cover.Class{Code: i + 1, Name: "class " + code})
			}
		}
		z.parts = append(z.parts, part{class: noDataPart})
		c.Zones = []ZoneSum{z}
		return c
	}
	split := made(map[string]float64{"1": 0.5, "2": 60, "3": 39.5})
	got := split.CheckEdges(made(map[string]float64{"2": 60.4, "3": 39.6}), check.Defaults)
	assert.Equal(t, check.Holds, got.Outcome, got.Text)
	assert.Equal(t, "split and centre differ by no more than 0.5 % of a zone", got.Text)
	got = split.CheckEdges(made(map[string]float64{"2": 62, "3": 38}), check.Defaults)
	assert.Equal(t, check.FallsShort, got.Outcome)
	assert.Contains(t, got.Text, "z 2.00 % of it (class 2)")
}
