package vector

import (
	"encoding/binary"
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Features stay in their order, and the first one that is damaged is named.
func TestBatchesKeepTheOrder(t *testing.T) {
	damaged := errors.New("damaged")
	decode := func(raw []byte) (Geometry, error) {
		n := binary.LittleEndian.Uint32(raw)
		if n >= 5000 {
			return Geometry{}, damaged
		}
		return Geometry{Points: []Point{{float64(n), 0}}}, nil
	}
	raw := func(n int) []byte { return binary.LittleEndian.AppendUint32(nil, uint32(n)) }
	for _, n := range []int{0, 1, batchFeatures - 1, batchFeatures, batchFeatures + 1, 4*batchFeatures + 5} {
		b := NewBatches(decode)
		for i := range n {
			if i%7 == 3 {
				b.Add(Feature{Values: []any{i}}, nil)
			} else {
				b.Add(Feature{Values: []any{i}}, raw(i))
			}
			require.Equal(t, i+1, b.Len())
		}
		list, err := b.Features()
		require.NoError(t, err)
		require.Len(t, list, n)
		for i, f := range list {
			require.Equal(t, []any{i}, f.Values)
			if i%7 == 3 {
				require.Empty(t, f.Geometry.Points)
			} else {
				require.Equal(t, float64(i), f.Geometry.Points[0][0])
			}
		}
	}
	b := NewBatches(decode)
	for i := range 9000 {
		b.Add(Feature{}, raw(i))
	}
	_, err := b.Features()
	assert.ErrorIs(t, err, damaged)
	assert.ErrorContains(t, err, "feature 5001: ")
}
