package zone

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/raster"
)

// star is a ring around (x, y) that does not cross itself. With grid set its corners are moved to halves of cells, so
// that they meet borders and corners of cells, and edges run along these.
func star(r *rand.Rand, x, y, size float64, corners int, grid bool) Ring {
	ring := make(Ring, corners)
	for i := range ring {
		angle, far := -2*math.Pi*float64(i)/float64(corners), size*(0.3+0.7*r.Float64())
		ring[i] = Point{x + far*math.Cos(angle), y + far*math.Sin(angle)}
		if grid {
			ring[i][0], ring[i][1] = math.Round(2*ring[i][0])/2, math.Round(2*ring[i][1])/2
		}
	}
	return ring
}

func outlineOf(g raster.Grid, rings ...Ring) Outline {
	o := Outline{Rings: rings, RowFrom: g.Height, ColFrom: g.Width}
	for _, r := range rings {
		at, each, _ := reachOf(r)
		o.ColFrom, o.ColTo = min(o.ColFrom, max(0, int(math.Floor(at.x0)))), max(o.ColTo, min(g.Width, int(math.Floor(at.x1))+1))
		o.RowFrom, o.RowTo = min(o.RowFrom, max(0, int(math.Floor(at.y0)))), max(o.RowTo, min(g.Height, int(math.Floor(at.y1))+1))
		o.reach = append(o.reach, each)
	}
	return o
}

// sharesOf are the shares of all cells of a window in spans.
func sharesOf(s *Spans, w raster.Window, stride int) []int64 {
	all := make([]int64, stride*w.Height)
	for row := range w.Height {
		full, edge := s.Row(w.Row + row)
		for _, f := range full {
			for col := max(int(f.From)-w.Col, 0); col < min(int(f.To)-w.Col, w.Width); col++ {
				all[row*stride+col] = WholeCell
			}
		}
		for _, e := range edge {
			if col := int(e.Col) - w.Col; col >= 0 && col < w.Width {
				all[row*stride+col] = e.Share
			}
		}
	}
	return all
}

// The sums of pieces are the shares of spans, cell by cell and to the last unit, wherever the window lies to the outline. The shares that are
// computed beside moments, in floating point and by another way through the cells, are the same but for rounding.
func TestPiecesSumToSpans(t *testing.T) {
	g := raster.Grid{Width: 60, Height: 50}
	r := rand.New(rand.NewPCG(5, 1))
	suspects := 0
	for n := range 6000 {
		o := outlineOf(g, star(r, 60*r.Float64(), 50*r.Float64(), 1+30*r.Float64()*r.Float64(), 3+r.IntN(30)*(1+n%7), n%2 == 0))
		c := Cutter{Width: g.Width, Down: n%3 != 0}
		spans := c.Cut(&o, 0, 0, g.Height)
		w := raster.Window{Col: r.IntN(30), Row: r.IntN(25), Width: 1 + r.IntN(30), Height: 1 + r.IntN(25)}
		if n%4 == 0 {
			w = raster.Window{Width: g.Width, Height: g.Height}
		}
		stride := w.Width + n%3
		p, ok := c.Pieces(&o, w, stride)
		if !ok {
			require.True(t, n%2 == 0 || !c.Down, "outline %v", o.Rings)
			suspects++
			continue
		}
		for _, s := range p.Whole {
			require.Positive(t, s.N)
			require.LessOrEqual(t, int(s.At)%stride+int(s.N), w.Width)
		}
		for _, q := range p.Cut {
			require.Less(t, int(q.At)%stride, w.Width)
		}
		got := p.shares(stride * w.Height)
		want := sharesOf(spans, w, stride)
		require.Equal(t, want, got, "outline %v, window %v, down %v", o.Rings, w, c.Down)
		spans.Free()
		c.Moments = true
		for i, share := range sharesOf(c.Cut(&o, 0, 0, g.Height), w, stride) {
			if d := share - got[i]; d > 1000 || d < -1000 { // of 2⁴⁰
				require.Equal(t, share, got[i], "outline %v", o.Rings)
			}
		}
	}
	assert.Positive(t, suspects, "stars moved to halves of cells cover ground twice now and then, and all do where rows count with y")
	assert.Less(t, suspects, 3000)
	c := Cutter{Width: maxColumns + 1, Down: true}
	_, ok := c.Pieces(&Outline{}, raster.Window{Width: 10, Height: 10}, 10)
	assert.False(t, ok, "a grid too wide")
}

// An outline that covers ground twice, or less than never, is not described as pieces.
func TestPiecesOfDoubtfulOutlines(t *testing.T) {
	square := Ring{{2, 2}, {2, 8}, {8, 8}, {8, 2}}
	var back Ring
	for _, p := range square {
		back = append(Ring{p}, back...)
	}
	g := raster.Grid{Width: 20, Height: 20}
	c := Cutter{Width: 20, Down: true}
	w := raster.Window{Width: 20, Height: 20}
	for name, rings := range map[string][]Ring{
		"twice":      {square, {{4, 4}, {4, 12}, {12, 12}, {12, 4}}},
		"turned":     {back},
		"eight":      {{{2, 2}, {12, 12}, {2, 12}, {12, 2}}},
		"same twice": {square, square},
	} {
		o := outlineOf(g, rings...)
		_, ok := c.Pieces(&o, w, 20)
		assert.False(t, ok, name)
	}
	o := outlineOf(g, square, Ring{{3, 3}, {6, 3}, {6, 6}, {3, 6}})
	p, ok := c.Pieces(&o, w, 20)
	require.True(t, ok)
	cells := 0
	for _, share := range p.shares(20 * 20) {
		cells += int(share / WholeCell)
	}
	assert.Equal(t, 36-9, cells, "a square with a hole")
}

// shares are the sums of pieces, by cell.
func (p *Pieces) shares(cells int) []int64 {
	all := make([]int64, cells)
	for _, s := range p.Whole {
		for k := range s.N {
			all[s.At+k] += WholeCell
		}
	}
	for _, q := range p.Cut {
		all[q.At] += q.Share
	}
	return all
}
