package area

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestUnits(t *testing.T) {
	acre, err := Find("acre")
	require.NoError(t, err)
	assert.InDelta(t, 640*acre.M2, Units[4].M2, 1e-6, "a square mile has 640 acres")
	_, err = Find("furlong")
	assert.ErrorContains(t, err, "choose ha")
}
