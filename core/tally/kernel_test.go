package tally

import (
	"math/bits"
	"slices"
	"testing"

	"github.com/verdex-land/verdex/core/raster"
)

// BenchmarkKernel counts a tile in memory with runs of 14 cells on average.
func BenchmarkKernel(b *testing.B) {
	src := patches(512)
	l := newLayer(src, maxValues)
	k := newKernel([]*layer{l}, &raster.Areas{})
	w := raster.Window{Width: 512, Height: 512}
	if err := l.reader.Read(w, &l.cells); err != nil {
		b.Fatal(err)
	}
	segment := raster.Segment{A: 1 << 50, B: 1 << 20, C: 1}
	for _, c := range []struct {
		name    string
		moments bool
	}{{"lengths", false}, {"moments", true}} {
		b.Run(c.name, func(b *testing.B) {
			b.SetBytes(512 * 512)
			for range b.N {
				k.begin(w)
				for row := range 512 {
					k.prepare(row)
					if err := k.runs(row, 0, 512, c.moments, 0); err != nil {
						b.Fatal(err)
					}
					if c.moments {
						k.flush(&segment, true)
					}
				}
				k.takeWhole()
			}
		})
	}
	b.Run("prepare", func(b *testing.B) {
		b.SetBytes(512 * 512)
		for range b.N {
			k.begin(w)
			for row := range 512 {
				k.prepare(row)
			}
		}
	})
}

// patches is a square of cells in runs of 1 to 27 cells.
func patches(n int) *raster.Memory {
	m := raster.NewMemory("patches", raster.Grid{Width: n, Height: n, DX: 1, DY: -1}, raster.Uint8, n, n)
	state := uint64(1)
	left, v := 0, 0.0
	for r := range n {
		for c := range n {
			if left == 0 {
				state = state*6364136223846793005 + 1442695040888963407
				left, v = int(state>>33%27)+1, float64(state>>50%9+1)
			}
			m.Set(c, r, v)
			left--
		}
	}
	return m
}

// Where layers differ and where their runs end, against comparing cell by cell.
func TestRowsTogetherAgainstPlain(t *testing.T) {
	state := uint64(7)
	next := func(n int) int {
		state = state*6364136223846793005 + 1442695040888963407
		return int(state>>33) % n
	}
	for range 200 {
		n := 64 * (1 + next(9))
		rows := make([][]uint8, 2+next(7))
		for i := range rows {
			rows[i] = make([]uint8, n+1)
			for c := range rows[i] {
				if rows[i][c] = uint8(next(3)); c > 0 && next(4) > 0 {
					rows[i][c] = rows[i][c-1]
				}
			}
		}
		if next(2) == 0 {
			rows[len(rows)-1] = rows[1]
		}
		var got, want [2][]uint64
		for i := range got {
			got[i], want[i] = make([]uint64, n/64), make([]uint64, n/64+1)
		}
		columns, all, differing := differ8(got[0], got[1], rows)
		if columns == 0 {
			t.Log("this processor compares column by column")
			return
		}
		if columns != n {
			t.Fatalf("%d of %d columns", columns, n)
		}
		differPlain(want[0], want[1], rows, 0, n+1)
		ends, both := 0, 0
		for w := range got[0] {
			if want[0][w] != got[0][w] || want[1][w] != got[1][w] {
				t.Fatalf("%d cells, word %d: %x and %x, not %x and %x", n, w, got[0][w], got[1][w], want[0][w], want[1][w])
			}
			ends, both = ends+bits.OnesCount64(got[1][w]), both+bits.OnesCount64(got[0][w]&got[1][w])
		}
		if ends != all || both != differing {
			t.Fatalf("%d and %d, not %d and %d", all, differing, ends, both)
		}
	}
}

// The bytes of some columns of two to eight rows as words, against shifting them one after another.
func TestColumnsAsWords(t *testing.T) {
	state := uint64(11)
	next := func(n int) int {
		state = state*6364136223846793005 + 1442695040888963407
		return int(state>>33) % n
	}
	for range 300 {
		n, first := 1+next(200), 64*next(3)
		rows := make([][]uint8, 2+next(7))
		for i := range rows {
			rows[i] = make([]uint8, first+n)
			for c := range rows[i] {
				rows[i][c] = uint8(next(256))
			}
		}
		var ends []int32
		for c := range n {
			if next(3) == 0 || c == n-1 {
				ends = append(ends, int32(c+1))
			}
		}
		got, want := make([]uint64, len(ends)), make([]uint64, len(ends))
		combine(got, ends, rows, first)
		combinePlain(want, ends, rows, first)
		if !slices.Equal(got, want) {
			t.Fatalf("%d rows, %v: %x, not %x", len(rows), ends, got, want)
		}
	}
}
