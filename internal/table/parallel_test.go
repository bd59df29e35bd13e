package table

import (
	"bytes"
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/internal/model"
)

// numbered has n rows, which are made as they are asked for.
func numbered(n int, made *int) *Writer {
	return &Writer{Table: &model.Table{Name: "numbers", Columns: []model.Column{{Name: "n", Type: model.Whole}, {Name: "text"}}, Count: n, Rows: func(yield func([]any) bool) {
		row := make([]any, 2) // the same for all
		for i := range n {
			*made = i + 1
			row[0], row[1] = i, fmt.Sprint("row ", i)
			if !yield(row) {
				return
			}
		}
	}}}
}

// full is a disk with room for some bytes.
type full struct {
	bytes.Buffer
	room int
}

var errFull = errors.New("the disk is full")

func (f *full) Write(b []byte) (int, error) {
	if f.Len()+len(b) > f.room {
		return 0, errFull
	}
	return f.Buffer.Write(b)
}

// Rows stay in their order, however many processors format them; what cannot be written ends the making of rows.
func TestRowsAreWrittenInOrder(t *testing.T) {
	for _, n := range []int{0, 1, batchRows - 1, batchRows, batchRows + 1, 20*batchRows + 7} {
		made := 0
		var b bytes.Buffer
		w := numbered(n, &made)
		require.NoError(t, w.Write(&b, "csv"))
		lines := strings.Split(strings.TrimSuffix(b.String(), "\n"), "\n")
		require.Len(t, lines, n+1)
		for i, l := range lines[1:] {
			require.Equal(t, fmt.Sprintf("%d,row %d", i, i), l)
		}
		assert.Equal(t, n, w.Written())
		b.Reset()
		require.NoError(t, numbered(n, &made).Write(&b, "jsonl"))
		assert.Equal(t, n, strings.Count(b.String(), "\n"))
	}
	made := 0
	const many = 1 << 20
	f := &full{room: 100000}
	assert.ErrorIs(t, numbered(many, &made).Write(f, "csv"), errFull)
	assert.Less(t, made, many/2)
	stop := errors.New("stop")
	w := numbered(many, &made)
	w.Stop = func() error {
		if made > 50000 {
			return stop
		}
		return nil
	}
	assert.ErrorIs(t, w.Write(&bytes.Buffer{}, "csv"), stop)
	assert.Less(t, made, 60000)
}
