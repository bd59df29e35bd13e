package spread

import (
	"bytes"
	"io"
	"runtime"
	"sync"
)

// InOrder writes texts in the order in which what they are made of was added, while they are made on all processors. It serves one goroutine, which has to
// close it.
type InOrder[T any] struct {
	w             io.Writer
	todo, ordered chan *written[T]
	free          chan *written[T]
	workers       sync.WaitGroup
	writer        sync.WaitGroup
	stop          chan struct{} // closed when something has failed
	failed        error         // then what
}

// written is a thing and its text.
type written[T any] struct {
	of   T
	text bytes.Buffer
	err  error
	done chan struct{}
}

// NewInOrder begins. begin is called once for each thread and gives what makes the text of a thing, so that a thread can keep room of its own.
func NewInOrder[T any](w io.Writer, begin func() func(out *bytes.Buffer, of T) error) *InOrder[T] {
	n := 2*runtime.GOMAXPROCS(0) + 1
	p := &InOrder[T]{w: w, todo: make(chan *written[T], n), ordered: make(chan *written[T], n), free: make(chan *written[T], n), stop: make(chan struct{})}
	for range n {
		p.free <- &written[T]{}
	}
	for range runtime.GOMAXPROCS(0) {
		p.workers.Go(func() {
			do := begin()
			for t := range p.todo {
				t.text.Reset()
				t.err = do(&t.text, t.of)
				close(t.done)
			}
		})
	}
	p.writer.Go(p.write)
	return p
}

func (p *InOrder[T]) write() {
	for t := range p.ordered {
		<-t.done
		if p.failed == nil {
			if p.failed = t.err; p.failed == nil {
				_, p.failed = p.w.Write(t.text.Bytes())
			}
			if p.failed != nil {
				close(p.stop)
			}
		}
		var none T
		t.of = none
		p.free <- t
	}
}

// Add adds a thing. It waits while many others wait for their texts, and is false once something has failed: nothing more is written then.
func (p *InOrder[T]) Add(of T) bool {
	select {
	case <-p.stop:
		return false
	case t := <-p.free:
		t.of, t.done = of, make(chan struct{})
		p.todo <- t
		p.ordered <- t
		return true
	}
}

// Wait returns when everything that was added is written, or something has failed.
func (p *InOrder[T]) Wait() error {
	n := cap(p.free)
	all := make([]*written[T], 0, n)
	for range n {
		all = append(all, <-p.free)
	}
	for _, t := range all {
		p.free <- t
	}
	select {
	case <-p.stop:
		return p.failed
	default:
		return nil
	}
}

// Close waits for everything and says what has failed.
func (p *InOrder[T]) Close() error {
	close(p.todo)
	close(p.ordered)
	p.workers.Wait()
	p.writer.Wait()
	return p.failed
}
