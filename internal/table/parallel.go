package table

import (
	"bytes"
	"io"
	"runtime"
	"sync"
)

// batchRows is how many rows are formatted at a time.
const batchRows = 2048

// batch are rows that are formatted together, and what they become.
type batch struct {
	first  int // the number of the first row
	values []any
	rows   int
	text   bytes.Buffer
	err    error
	done   chan struct{}
}

// inOrder formats the rows on all processors, and writes them in their order. format writes rows of a batch, of which the first has a number; it is called from several
// goroutines at once.
func (t *Writer) inOrder(w io.Writer, format func(out *bytes.Buffer, first int, rows [][]any) error) error {
	width := len(t.Columns)
	free := make(chan *batch, 2*runtime.GOMAXPROCS(0)+1)
	for range cap(free) {
		free <- &batch{}
	}
	todo, ordered := make(chan *batch, cap(free)), make(chan *batch, cap(free))
	stop := make(chan struct{})
	var workers sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		workers.Go(func() {
			rows := make([][]any, 0, batchRows)
			for b := range todo {
				rows = rows[:0]
				for i := range b.rows {
					rows = append(rows, b.values[i*width:(i+1)*width])
				}
				b.text.Reset()
				b.err = format(&b.text, b.first, rows)
				close(b.done)
			}
		})
	}
	var failed error
	var written sync.WaitGroup
	written.Go(func() {
		for b := range ordered {
			<-b.done
			if failed == nil {
				if failed = b.err; failed == nil {
					_, failed = w.Write(b.text.Bytes())
				}
				if failed != nil {
					close(stop)
				}
			}
			free <- b
		}
	})
	n := 0
	next := func() *batch {
		b := <-free
		b.first, b.rows, b.values, b.done = n, 0, b.values[:0], make(chan struct{})
		return b
	}
	send := func(b *batch) {
		todo <- b
		ordered <- b
	}
	b := next()
	for row := range t.all() {
		b.values = append(b.values, row...)
		b.rows++
		if n++; b.rows < batchRows {
			continue
		}
		send(b)
		b = nil
		select {
		case <-stop:
		default:
			b = next()
		}
		if b == nil {
			break
		}
	}
	if b != nil && b.rows > 0 {
		send(b)
	}
	close(todo)
	close(ordered)
	workers.Wait()
	written.Wait()
	return failed
}
