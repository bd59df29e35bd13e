package rows

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
)

// A list, such as a legend, may not be endless; a table of results may have any number of rows.
func TestListsEnd(t *testing.T) {
	from := files.Memory{"a.csv": []byte("code\n1\n2\n3\n")}
	_, _, err := read(from, "a.csv", []string{"code"}, nil, 2)
	assert.ErrorContains(t, err, "a.csv: it has more than 2 rows: look whether it is the right file")
	_, _, err = read(from, "a.csv", []string{"name"}, nil, 2)
	assert.ErrorIs(t, err, ErrNoColumn)
	for _, most := range []int{0, 3} {
		list, _, err := read(from, "a.csv", []string{"code"}, nil, most)
		require.NoError(t, err)
		assert.Len(t, list, 3)
	}
}
