package job_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/job"
)

// Classes and epochs whose names differ in signs and the case of letters only have columns of their own, the same in every zone.
func TestNamesThatLookAlikeHaveTheirOwnColumns(t *testing.T) {
	w := job.NewZoneColumns("t.csv")
	for _, zone := range []string{"a", "b"} {
		for i, class := range []string{"Heath/rough", "heath rough", "Wood"} {
			for k, epoch := range []string{"2004-a", "2004 A"} {
				require.NoError(t, w.Add(zone, class, epoch, "ha", float64(10*i+k), 0))
			}
		}
	}
	assert.Error(t, w.Add("a", "Wood", "2004-a", "ha", 1, 0), "one class twice")
	l := w.Layer()
	assert.Equal(t, []string{"zone_id", "heath_rough_ha_2004_a", "heath_rough_pct_2004_a", "heath_rough_ha_2004_a_2", "heath_rough_pct_2004_a_2", "heath_rough_2_ha_2004_a", "heath_rough_2_pct_2004_a",
		"heath_rough_2_ha_2004_a_2", "heath_rough_2_pct_2004_a_2", "wood_ha_2004_a", "wood_pct_2004_a", "wood_ha_2004_a_2", "wood_pct_2004_a_2"}, l.FieldNames())
	assert.Equal(t, 11.0, l.Features[1].Values[l.Field("heath_rough_2_ha_2004_a_2")])
}
