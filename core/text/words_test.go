package text

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestCountsAreEnglish(t *testing.T) {
	for _, c := range []struct {
		n          int
		noun, want string
	}{{1, "zone", "1 zone"}, {0, "zone", "0 zones"}, {5, "class", "5 classes"}, {1200, "patch", "1,200 patches"}, {2, "country", "2 countries"}, {2, "key", "2 keys"}, {3, "US survey foot", "3 US survey feet"}} {
		assert.Equal(t, c.want, Count(c.n, c.noun))
	}
}

func TestNumbersForPeople(t *testing.T) {
	assert.Equal(t, "1,234,567.50", Number(1234567.5, 2))
	assert.Equal(t, "−1,000", Number(-1000, 0))
	assert.Equal(t, "0.0", Number(-0.01, 1), "what rounds to nothing has no sign")
	assert.Equal(t, "–", Number(math.NaN(), 1))
	assert.Equal(t, "+2.0", Signed(2, 1))
	assert.Equal(t, "0.0", Signed(0.01, 1))
	assert.Equal(t, "-123,456", Grouped("-123456"))
}

func TestListsAreCutShort(t *testing.T) {
	assert.Equal(t, "a, b", List([]string{"a", "b"}, 2))
	assert.Equal(t, "a, b and 2 more", List([]string{"a", "b", "c", "d"}, 2))
	assert.Empty(t, List(nil, 2))
}
