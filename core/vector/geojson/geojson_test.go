package geojson

import (
	"math"
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbersAreThoseOfTheLibrary(t *testing.T) {
	rng := rand.New(rand.NewPCG(2, 3))
	texts := []string{"0", "-0.5", "1e3", "-1.5E-3", "123456789012345.5", "0.1", "12.3456789", "9007199254740993", "-180.0000000"}
	for range 2000 {
		texts = append(texts, strconv.FormatFloat((rng.Float64()-0.5)*math.Pow(10, float64(rng.IntN(8))), 'f', rng.IntN(17), 64))
	}
	for _, text := range texts {
		want, err := strconv.ParseFloat(text, 64)
		require.NoError(t, err)
		s := scanner{text: []byte(text + "]")}
		got, err := s.number(0)
		require.NoError(t, err)
		assert.Equal(t, want, got, text)
		assert.Equal(t, len(text), s.at)
	}
}

func TestDegreesAreWrittenAsStrconvDoes(t *testing.T) {
	for _, v := range []float64{0, 0.5, -0.5, 12.3456789014, 179.9999999999, -180, 359.999999999, 1e-9, -1e-9} {
		assert.Equal(t, strconv.FormatFloat(v, 'f', 9, 64), string(appendDegrees(nil, v, 9)))
		assert.Equal(t, strconv.FormatFloat(v, 'f', 12, 64), string(appendDegrees(nil, v, 12)))
	}
	rng := rand.New(rand.NewPCG(1, 9))
	for range 1000 {
		v := math.Trunc((rng.Float64()*720-360)*1e9) / 1e9
		assert.Equal(t, strconv.FormatFloat(v, 'f', 9, 64), string(appendDegrees(nil, v, 9)))
	}
}
