package raster

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestMajority(t *testing.T) {
	for _, of := range []struct {
		values []float64
		rank   map[float64]int
		want   float64
		tied   bool
	}{
		{[]float64{7}, nil, 7, false},
		{[]float64{1, 2, 2}, nil, 2, false},
		{[]float64{2, 2, 1}, nil, 2, false},
		{[]float64{2, 1}, nil, 1, true},          // the last
		{[]float64{1, 2, 2, 1, 3}, nil, 1, true}, // whose last stands last
		{[]float64{1, 2, 3}, map[float64]int{1: 0, 2: 1}, 1, true},
		{[]float64{3, 1, 2}, map[float64]int{2: 1, 1: 0}, 1, true},
		{[]float64{3, 3, 1}, map[float64]int{1: 0}, 3, false}, // ranks decide ties only
	} {
		v, tied := Majority(of.values, of.rank)
		assert.Equal(t, of.want, v, "%v", of)
		assert.Equal(t, of.tied, tied, "%v", of)
	}
}

func TestDominant(t *testing.T) {
	v, w, ok := Dominant(map[float64]float64{4: 0.5, 2: 0.5 - 1e-12, 1: 0.1})
	assert.Equal(t, []any{2.0, 0.5, true}, []any{v, w, ok}) // in a tie the lowest
	v, _, _ = Dominant(map[float64]float64{4: 0.5, 2: 0.4})
	assert.Equal(t, 4.0, v)
	for _, none := range []map[float64]float64{nil, {3: 0}} {
		_, _, ok = Dominant(none)
		assert.False(t, ok)
	}
}
