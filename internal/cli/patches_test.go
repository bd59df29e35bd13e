package cli

import (
	"math"
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestDegreesAreWrittenAsStrconvDoes(t *testing.T) {
	for _, v := range []float64{0, 0.5, -0.5, 12.3456789014, 179.9999999999, -180, 359.999999999, 1e-9, -1e-9} {
		assert.Equal(t, strconv.FormatFloat(v, 'f', 9, 64), string(appendDegrees(nil, v)))
	}
	rng := rand.New(rand.NewPCG(1, 9))
	for range 1000 {
		v := math.Trunc((rng.Float64()*720-360)*1e9) / 1e9
		assert.Equal(t, strconv.FormatFloat(v, 'f', 9, 64), string(appendDegrees(nil, v)))
	}
}
