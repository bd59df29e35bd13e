package rows

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A sliver that was rounded to less than nothing is nothing; every other negative area is a mistake.
func TestNegativeAreas(t *testing.T) {
	read := func(area, unit string) (float64, error) {
		return Line{Path: "t.csv", Row: Row{Line: 2, Cell: map[string]string{"area": area, "unit": unit}}}.Area("area")
	}
	for _, c := range [][2]string{{"-0.00000000000000001155942058087126", "ha"}, {"-0.0", "km2"}, {"-1e-7", "m2"}, {"0", "m2"}} {
		v, err := read(c[0], c[1])
		require.NoError(t, err)
		assert.Equal(t, 0.0, v)
	}
	for _, c := range [][2]string{{"-1e-9", "ha"}, {"-1", "m2"}, {"-1e-12", "km2"}} {
		_, err := read(c[0], c[1])
		assert.ErrorContains(t, err, "is negative, which no area is")
	}
	v, err := read("1e-7", "m2")
	require.NoError(t, err)
	assert.Equal(t, 1e-7, v)
}
