package table

import (
	"bytes"
	"io"
	"sync"

	"github.com/verdex-land/verdex/core/spread"
)

// batchRows is how many rows are formatted at a time.
const batchRows = 2048

// batch are rows that are formatted together.
type batch struct {
	first  int // the number of the first row
	rows   int
	values []any
}

// inOrder formats the rows on all processors, and writes them in their order. format writes rows of a batch, of which the first has a number; it is called from several
// goroutines at once.
func (t *Writer) inOrder(w io.Writer, format func(out *bytes.Buffer, first int, rows [][]any) error) error {
	width := len(t.Columns)
	var room sync.Pool // of values that are formatted
	out := spread.NewInOrder(w, func() func(*bytes.Buffer, batch) error {
		rows := make([][]any, 0, batchRows)
		return func(text *bytes.Buffer, b batch) error {
			rows = rows[:0]
			for i := range b.rows {
				rows = append(rows, b.values[i*width:(i+1)*width])
			}
			defer func() { room.Put(&b.values) }()
			return format(text, b.first, rows)
		}
	})
	var b batch
	for row := range t.all() {
		b.values = append(b.values, row...)
		if b.rows++; b.rows < batchRows {
			continue
		}
		if !out.Add(b) {
			break
		}
		b = batch{first: b.first + b.rows}
		if used, ok := room.Get().(*[]any); ok {
			b.values = (*used)[:0]
		} else {
			b.values = make([]any, 0, batchRows*width)
		}
	}
	if b.rows > 0 {
		out.Add(b)
	}
	return out.Close()
}
