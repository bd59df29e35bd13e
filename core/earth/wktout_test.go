package earth

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is written is read again as the same CRS: by its code, and without codes by its numbers.
func TestWKT1AndBack(t *testing.T) {
	rng := rand.New(rand.NewPCG(4, 4))
	for _, code := range []int{4326, 4258, 4807, 3035, 32633, 32733, 5070, 6933, 3395, 27700, 2154, 31370, 2193, 3413, 3031, 28992, 2263, 26986, 3006, 5880, 9377, 3857, 2056, 21781, 8857, 29873} {
		c, err := Lookup(code)
		require.NoError(t, err)
		text, ok := c.WKT1()
		if !ok {
			assert.Contains(t, []int{31370}, code)
			continue
		}
		same, err := ParseWKT(text)
		require.NoError(t, err, text)
		assert.Equal(t, code, same.Code)
		for strings.Contains(text, ",AUTHORITY") {
			i := strings.Index(text, ",AUTHORITY")
			text = text[:i] + text[i+strings.IndexByte(text[i:], ']')+1:]
		}
		plain, err := ParseWKT(text)
		require.NoError(t, err, text)
		require.Zero(t, plain.Code)
		for range 20 {
			x, y := rng.Float64()*2e5+3e5, rng.Float64()*2e5+2e5
			if c.Geographic() {
				x, y = rng.Float64()*100, rng.Float64()*80
			}
			lon, lat, ok := c.ToGeographic(x, y)
			lon2, lat2, ok2 := plain.ToGeographic(x, y)
			require.Equal(t, ok, ok2)
			assert.InDelta(t, lon, lon2, 1e-13, text)
			assert.InDelta(t, lat, lat2, 1e-13, text)
		}
	}
}
