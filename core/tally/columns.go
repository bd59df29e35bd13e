package tally

import (
	"math/bits"

	"github.com/verdex-land/verdex/core/raster"
)

// Where areas vary along a row, cells of bytes are counted by comparing, too. For each value, the cells of a block and the first and second moments of their
// columns are what a segment needs. A block is a few vectors of 32 cells: of a cell in vector j (of n) and column c = 32j+e, the moments come from sums over all
// columns e of a vector,
//
//	N = Σ 1, P = Σ (n-j), Q = Σ (n-j)(n-j+1)/2
//
// which are running sums of how many cells a column has, so that a value takes four instructions for 32 cells; and of N and P weighted by e.

// blockVectors is how many vectors a block has at most: Q of a column is a byte.
const blockVectors = 10

// atOnce is how many values sumColumns compares in one go through the cells.
const atOnce = 4

// blockSums are the sums of a block for one value, f being e-16: Σ f, Σ (n-j)·f, Σ f(f+1)/2 and Q, N and P.
type blockSums struct {
	f, pf, triangle, q int32
	n, p               int32
	_, _               int32
}

// moments are the number of cells, and the sums of their columns, from the first of the block on, and of the squares of these; vectors is how many the block has.
func (b *blockSums) moments(vectors int64) (cells, sum, squares int64) {
	n, p, f := int64(b.n), int64(b.p), int64(b.f)
	j := vectors*n - p                               // Σ j
	jj := vectors*(vectors*n-2*p) + 2*int64(b.q) - p // Σ j²
	e := f + 16*n
	je := vectors*f - int64(b.pf) + 16*j
	ee := 2*int64(b.triangle) + 31*f + 256*n
	return n, 32*j + e, 1024*jj + 64*je + ee
}

const (
	// blocksOfSegment is how many blocks a segment has at most.
	blocksOfSegment = 2
	// fewCells is how many cells a stretch of a row has at least that is counted by columns: below, runs are as fast.
	fewCells = 96
	// sampledRows is one of how many rows shows how ragged a window is.
	sampledRows = 16
)

// columns is what counts cells by the columns they are in.
type columns struct {
	decided, use bool // whether it is worth it in the window at hand
	sums         [blocksOfSegment][maxCounted]blockSums
}

// countColumns counts cells from column from to to-1 of a row of the window, which lie in a segment that begins in column origin, and adds them to wholes. It is not ok, and
// nothing is added, where some cells have values that the counter does not know.
func (k *kernel) countColumns(row, from, to, origin int, seg *raster.Segment) (ok bool) {
	c := &k.layers[0].cells
	all := c.U8[:cap(c.U8)]
	at := row*c.Stride + from
	known := k.counter.values[:k.counter.known]
	vectors := (to - from + 31) / 32
	blocks := (vectors + blockVectors - 1) / blockVectors
	if at+32*vectors > len(all) || blocks > blocksOfSegment || len(known) == 0 {
		return false
	}
	var size [blocksOfSegment]int
	var present [blocksOfSegment]uint32
	found := 0
	for i, begin := 0, 0; i < blocks; i++ {
		size[i] = (vectors - begin + blocks - i - 1) / (blocks - i) // the rest, divided evenly
		begun := begin
		begin += size[i]
		values, n := sumColumns(&k.counter.wide[0][0], (len(known)+atOnce-1)/atOnce, &all[at+32*begun], size[i], min(to-from-32*(begin-1), 32), &k.byColumns.sums[i][0])
		present[i] = values & (1<<len(known) - 1)
		found += int(n)
		for m := values &^ present[i]; m != 0; m &= m - 1 { // the room behind the last one holds any value
			found -= int(k.byColumns.sums[i][bits.TrailingZeros32(m)].n)
		}
	}
	if found != to-from {
		return false
	}
	begin := int64(from - origin)
	for i := range blocks {
		sums := &k.byColumns.sums[i]
		for m := present[i]; m != 0; m &= m - 1 {
			v := bits.TrailingZeros32(m)
			n, sum, squares := sums[v].moments(int64(size[i]))
			squares += begin * (2*sum + begin*n)
			sum += begin * n
			value := known[v]
			w := &k.wholes[value]
			w.n += n
			w.area.AddInt(n*seg.A + sum*seg.B + squares*seg.C)
			k.seenWhole |= 1 << (value >> 2)
		}
		begin += 32 * int64(size[i])
	}
	return true
}

// byColumn is countColumns where that is worth it. Values that are new are learnt.
func (k *kernel) byColumn(row, from, to, origin int, seg *raster.Segment) bool {
	if to-from < fewCells || k.counter.off {
		return false
	}
	if c := &k.byColumns; !c.decided {
		c.decided, c.use = true, k.ragged()
	}
	if !k.byColumns.use {
		return false
	}
	if k.countColumns(row, from, to, origin, seg) {
		return true
	}
	k.learn()
	return !k.counter.off && k.countColumns(row, from, to, origin, seg)
}

// ragged reports whether the window at hand has so many runs that going through them takes longer than comparing its cells with every value that is known: a run costs
// about as much as comparing 64 cells with a value.
func (k *kernel) ragged() bool {
	if k.counter.known == 0 {
		k.learn()
	}
	runs, cells := 0, 0
	for row := 0; row < len(k.rows); row += sampledRows {
		k.prepare(row)
		runs, cells = runs+len(k.at.list), cells+k.width
	}
	return 64*runs > (k.counter.known+atOnce)*cells
}
