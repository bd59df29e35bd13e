package table

import (
	"bytes"
	"io"
	"iter"
	"slices"
	"sync"

	"github.com/verdex-land/verdex/core/spread"
)

// batchRows is how many rows are formatted at a time.
const batchRows = 2048

// batch are rows that are formatted together.
type batch struct {
	first  int // the number of the first row
	rows   iter.Seq[[]any]
	values *[]any // where the rows lie, if they do
}

// inOrder formats the rows on all processors, and writes them in their order. format writes rows of a batch, of which the first has a number; it is called from several
// goroutines at once.
func (t *Writer) inOrder(w io.Writer, format func(out *bytes.Buffer, first int, rows iter.Seq[[]any]) error) error {
	var room sync.Pool // of values that are formatted
	out := spread.NewInOrder(w, func() func(*bytes.Buffer, batch) error {
		return func(text *bytes.Buffer, b batch) error {
			if b.values != nil {
				defer room.Put(b.values)
			}
			return format(text, b.first, b.rows)
		}
	})
	if t.Stretches != nil {
		t.addStretches(out)
	} else {
		t.addRows(out, &room)
	}
	return out.Close()
}

// addStretches hands over rows that are still to be made.
func (t *Writer) addStretches(out *spread.InOrder[batch]) {
	t.written = 0
	for s := range t.Stretches {
		if t.Stop != nil {
			if t.stopped = t.Stop(); t.stopped != nil {
				return
			}
		}
		if !out.Add(batch{first: t.written, rows: s.Rows}) {
			return
		}
		t.written += s.Count
	}
}

// addRows makes the rows, and hands over copies of them.
func (t *Writer) addRows(out *spread.InOrder[batch], room *sync.Pool) {
	width := len(t.Columns)
	fresh := func() *[]any {
		if used, ok := room.Get().(*[]any); ok {
			*used = (*used)[:0]
			return used
		}
		values := make([]any, 0, batchRows*width)
		return &values
	}
	first, values := 0, new([]any) // of the first batch, which may have few rows, as many as there are
	add := func() bool {
		list := *values
		return out.Add(batch{first, func(yield func([]any) bool) {
			for row := range slices.Chunk(list, width) {
				if !yield(row) {
					return
				}
			}
		}, values})
	}
	n := 0
	for row := range t.all() {
		*values = append(*values, row...)
		if n++; n < batchRows {
			continue
		}
		if !add() {
			return
		}
		first, n, values = first+n, 0, fresh()
	}
	if n > 0 {
		add()
	}
}
