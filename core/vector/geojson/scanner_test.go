package geojson

import (
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Short numbers are those that strconv reads, to the last bit, wherever in the text they stand.
func TestShortNumbers(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	read, usually := 0, 0
	for range 200000 {
		text := strconv.FormatUint(r.Uint64()>>r.IntN(64), 10)
		if r.IntN(4) > 0 {
			text += "." + fmt.Sprintf("%0*d", 1+r.IntN(9), r.IntN(1000))
		}
		if r.IntN(3) == 0 {
			text = "-" + text
		}
		whole := text + [...]string{"", ",", "]", ",1234567890", "]]]]]]]]", " ", "e5", "."}[r.IntN(8)]
		s := scanner{text: []byte(whole)}
		usual := digits{r.IntN(8), 1 + r.IntN(7)} // as if another number had been read
		if dot := strings.IndexByte(strings.Trim(text, "-"), '.'); dot > 0 && dot < 8 && r.IntN(2) == 0 {
			usual.before = dot
			if n := len(strings.Trim(text, "-")) - dot - 1; n < 8 && r.IntN(2) == 0 {
				usual.behind = n
			}
		}
		quick, end := usual.usual(s.text, 0)
		v, ok := s.short(0)
		if digits := len(strings.Trim(strings.Replace(text, ".", "", 1), "-")); digits > 15 || strings.HasSuffix(whole, "e5") || strings.HasSuffix(whole, ".") && !strings.Contains(text, ".") {
			require.False(t, ok, whole)
			require.Zero(t, end, whole)
			continue
		}
		require.True(t, ok, whole)
		want, err := strconv.ParseFloat(text, 64)
		require.NoError(t, err)
		require.Equal(t, want, v, whole)
		require.Equal(t, len(text), s.at, whole)
		if end > 0 {
			require.Equal(t, want, quick, whole)
			require.Equal(t, len(text), end, whole)
			usually++
		}
		read++
	}
	assert.Greater(t, read, 50000)
	assert.Greater(t, usually, 1000)
	for _, text := range []string{"-", ".5", "5.", "-.5", "x", "-x1234567890", "5.,12345678", "1e5", "1.5E-3,000000"} {
		s := scanner{text: []byte(text)}
		_, ok := s.short(0)
		assert.False(t, ok, text)
	}
}
