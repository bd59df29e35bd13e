package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/tally"
)

// Whatever a part holds behind a digest that is right, reading it is an error or a part that agrees with its head.
func FuzzPart(f *testing.F) {
	body, err := (&tally.Tally{Quantum: 1, Groups: [][]tally.Zone{{}}, Numbers: [][]float64{{0}}, Members: [][]int{{0}}}).AppendBinary(nil)
	if err != nil {
		f.Fatal(err)
	}
	for _, head := range []*partHead{{I: 1, N: 2, Sizes: []int{len(body)}, Groups: []int{1}}, {I: 3, N: 2, Sizes: []int{len(body)}}, {I: 1, N: 1, Sizes: []int{-1}}, {I: 1, N: 1, Sizes: []int{1 << 40}}, {I: 1, N: 1}} {
		data, err := sealPart(head, body)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(data[len(partKind)+65:])
	}
	f.Add([]byte("\xff\xff\xff\xff\xff\xff\xff\xff{}"))
	f.Fuzz(func(t *testing.T, rest []byte) {
		var p jobPart
		if p.decode(rest) == nil {
			assert.Len(t, p.tallies, len(p.Sizes))
			assert.LessOrEqual(t, p.I, p.N)
		}
	})
}

func TestPartsSayWhatTheyAre(t *testing.T) {
	body, err := (&tally.Tally{Quantum: 1, Groups: [][]tally.Zone{{}}, Numbers: [][]float64{{0}}, Members: [][]int{{0}}}).AppendBinary(nil)
	require.NoError(t, err)
	data, err := sealPart(&partHead{I: 1, N: 2, Sizes: []int{len(body)}, Groups: []int{1}}, body)
	require.NoError(t, err)
	var p jobPart
	require.NoError(t, p.decode(data[len(partKind)+65:]))
	assert.Equal(t, 2, p.N)
	for _, head := range []partHead{{I: 0, N: 2}, {I: 1, N: 1 << 30}, {I: 1, N: 1, Sizes: []int{len(body) + 1}}, {I: 1, N: 1, Sizes: []int{len(body)}, Groups: []int{2}}, {I: 1, N: 1, Sizes: []int{len(body)}, Keys: []string{"a", "b"}}} {
		data, err := sealPart(&head, body)
		require.NoError(t, err)
		assert.Error(t, new(jobPart).decode(data[len(partKind)+65:]), "%+v", head)
	}
}

// A change to a large input is noticed, unless it lies between two samples and the time of change was set back.
func TestStampOfALargeInput(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.tif")
	data := make([]byte, wholeBelow+1)
	s := &session{system: files.Disk}
	stamp := func(at int, when time.Time) string {
		data[at]++
		require.NoError(t, os.WriteFile(path, data, 0o600))
		require.NoError(t, os.Chtimes(path, when, when))
		out, err := s.stampOf(path)
		require.NoError(t, err)
		return out
	}
	begun := time.Now()
	first := stamp(0, begun)
	assert.Equal(t, first, stamp(wholeBelow/2+5, begun), "between two samples, with the time set back: the one case that is not seen")
	assert.NotEqual(t, first, stamp(wholeBelow/2+5, begun.Add(time.Millisecond)))
	assert.NotEqual(t, first, stamp(wholeBelow, begun), "its end")
}

func TestPartsOfTwoKindsOfProcessors(t *testing.T) {
	part := func(i int, processor string) *jobPart {
		return &jobPart{path: fmt.Sprint("p", i), partHead: partHead{Program: "verdex 1", Processor: processor, I: i, N: 2}}
	}
	assert.NoError(t, checkParts([]*jobPart{part(1, "amd64"), part(2, "amd64")}, "verdex 1"))
	assert.ErrorContains(t, checkParts([]*jobPart{part(1, "amd64"), part(2, "arm64")}, "verdex 1"), "p2 was measured on a processor of the kind arm64, and p1 on amd64")
	assert.ErrorContains(t, checkParts([]*jobPart{part(1, ""), part(2, "arm64")}, "verdex 1"), "one that is not stated")
}
