package vector

import (
	"fmt"
	"runtime"
	"sync"
)

// Batches gathers features whose outlines are decoded on other processors while more of them are read. It is for one reader.
type Batches struct {
	decode func(raw []byte) (Geometry, error)
	list   []*batchOf
	room   chan struct{}
	wg     sync.WaitGroup
}

// batchFeatures is how many features are decoded at a time.
const batchFeatures = 1024

type batchOf struct {
	features []Feature
	raw      [][]byte
	err      error
	at       int // the feature that the error is about
}

// NewBatches begins to gather features. decode is called from several goroutines at once.
func NewBatches(decode func(raw []byte) (Geometry, error)) *Batches {
	return &Batches{decode: decode, room: make(chan struct{}, 2*runtime.GOMAXPROCS(0))}
}

// Len is how many features there are.
func (b *Batches) Len() int {
	if len(b.list) == 0 {
		return 0
	}
	return (len(b.list)-1)*batchFeatures + len(b.list[len(b.list)-1].features)
}

// Add adds a feature and the bytes of its outline, nil for none, which must not change any more.
func (b *Batches) Add(f Feature, raw []byte) {
	n := len(b.list)
	if n == 0 || len(b.list[n-1].features) == batchFeatures {
		b.list = append(b.list, &batchOf{features: make([]Feature, 0, batchFeatures), raw: make([][]byte, 0, batchFeatures)})
		n++
	}
	last := b.list[n-1]
	if last.features, last.raw = append(last.features, f), append(last.raw, raw); len(last.features) == batchFeatures {
		b.begin(last)
	}
}

// begin decodes a batch.
func (b *Batches) begin(one *batchOf) {
	b.room <- struct{}{}
	b.wg.Go(func() {
		defer func() { <-b.room }()
		for i, raw := range one.raw {
			if raw == nil {
				continue
			}
			if one.features[i].Geometry, one.err = b.decode(raw); one.err != nil {
				one.at = i
				return
			}
		}
		one.raw = nil
	})
}

// Features are all features, once their outlines are decoded. The error is that of the first one that is damaged.
func (b *Batches) Features() ([]Feature, error) {
	if n := len(b.list); n > 0 && len(b.list[n-1].features) < batchFeatures {
		b.begin(b.list[n-1])
	}
	b.wg.Wait()
	out := make([]Feature, 0, b.Len())
	for i, one := range b.list {
		if one.err != nil {
			return nil, fmt.Errorf("feature %d: %w", i*batchFeatures+one.at+1, one.err)
		}
		out = append(out, one.features...)
	}
	return out, nil
}
