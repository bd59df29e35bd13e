package job

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"

	"github.com/verdex-land/verdex/core/cover"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/text"
	"github.com/verdex-land/verdex/core/zone"
)

// Extents are measured on all cells of a raster. A reduced copy (an overview) is measured only where that is asked for, and then how far it is off is
// measured too: on a sample of tiles, of which all cells are read.

// ApproximateOption asks for extents of a reduced copy.
type ApproximateOption struct {
	Approximate int `opt:"approximate" least:"0" most:"30" help:"measure the reduced copy of a <LEVEL> instead of all cells: 1 is the first one, with half of the columns and rows; the error to expect is measured on a sample of tiles and stands beside each extent"`
}

// Approximation is how far the extents of a reduced copy are likely to be off.
type Approximation struct {
	Level int
	Times [2]int          // how many cells of the raster are one of the copy, across and down
	Tiles int             // of the sample
	Share float64         // of the ground of the sample that the copy gives to another class, at least
	tile  float64         // the area of a tile in m²
	bias  map[string]bias // by class
}

// bias is how far the shares of a class in the tiles of a sample are off: their mean and their standard deviation, as shares of a tile, and in how many tiles they are off at all.
type bias struct {
	mean, deviation float64
	tiles           int
}

// Error is the error to expect in the extent of a class (its code, or its name where it has none) in a zone, both in m²: the bias of the sample, and half of a 95 % interval, in percent of the
// extent. The error of n tiles varies by s²·n around n times the mean, which is itself known from m tiles of a sample only: by s²·n²/m. The errors of tiles are taken as independent, and the quantile is Student's
// with as many degrees of freedom as there are tiles that are off, less one. It is NaN where the sample says nothing: where fewer than two tiles of it are off.
func (a *Approximation) Error(class string, extent, zone float64) float64 {
	b, ok := a.bias[class]
	if !ok || !(extent > 0) || a.Tiles < 2 || a.tile == 0 || b.tiles < 2 {
		return math.NaN()
	}
	n := zone / a.tile
	return (math.Abs(b.mean)*n + student(b.tiles-1)*b.deviation*math.Sqrt(n+n*n/float64(a.Tiles))) * a.tile / extent * 100
}

// student is the quantile of Student's distribution that leaves 2.5 % above it: of Abramowitz and Stegun, Handbook of Mathematical Functions, 26.7.5, and of the closed forms for one and two degrees of freedom.
func student(freedom int) float64 {
	const z = 1.959963984540054
	switch n := float64(freedom); {
	case freedom == 1:
		return 12.706204736432095
	case freedom == 2:
		return 4.302652729911275
	default:
		return z + (z*z*z+z)/(4*n) + (5*z*z*z*z*z+16*z*z*z+3*z)/(96*n*n) + (3*z*z*z*z*z*z*z+19*z*z*z*z*z+17*z*z*z-15*z)/(384*n*n*n)
	}
}

// sampledTiles is how many tiles are compared.
const sampledTiles = 48

// reduce puts the reduced copy of a level in the place of a raster that is to be measured, and returns what it was before.
func (l *measured) reduce(level int) (whole raster.Source, err error) {
	all := raster.Overviews(l.source)
	if len(all) < level {
		if n := len(all); n > 0 {
			return nil, fault.Misusef("approximate", fmt.Sprint(level), "is a level that %s does not have: it has %s", l.name, text.Count(n, "reduced copy"))
		}
		return nil, fault.Misusef("approximate", fmt.Sprint(level), "needs a raster with reduced copies (overviews), and %s has none, or they cannot be used with what is done to its cells", l.name)
	}
	whole = l.source
	l.source = all[level-1]
	l.key = keyOf("overview", l.key, level)
	return whole, nil
}

// compare measures on a sample of tiles how far a reduced copy is off.
func (w *work) compare(level int, whole, copy raster.Source, coder *cover.Coder, legend *cover.Legend, place *zone.Placement) (*Approximation, error) {
	g, small := whole.Header().Grid, copy.Header().Grid
	fx, fy := int(math.Round(float64(g.Width)/float64(small.Width))), int(math.Round(float64(g.Height)/float64(small.Height)))
	out := &Approximation{Level: level, Times: [2]int{fx, fy}, bias: map[string]bias{}}
	bw, bh := raster.WorkSize(whole)
	bw, bh = (bw+fx-1)/fx*fx, (bh+fy-1)/fy*fy
	var tiles []raster.Window // of the raster
	for row := 0; row+bh <= g.Height && row/fy+bh/fy <= small.Height; row += bh {
		for col := 0; col+bw <= g.Width && col/fx+bw/fx <= small.Width; col += bw {
			if slices.ContainsFunc(place.Outlines, func(o zone.Outline) bool {
				return len(o.Rings) > 0 && o.ColFrom*fx < col+bw && o.ColTo*fx > col && o.RowFrom*fy < row+bh && o.RowTo*fy > row
			}) {
				tiles = append(tiles, raster.Window{Col: col, Row: row, Width: bw, Height: bh})
			}
		}
	}
	r := rand.New(rand.NewPCG(1, uint64(len(tiles)))) // the same sample for the same job
	r.Shuffle(len(tiles), func(i, j int) { tiles[i], tiles[j] = tiles[j], tiles[i] })
	tiles = tiles[:min(len(tiles), sampledTiles)]
	slices.SortFunc(tiles, func(a, b raster.Window) int { return (a.Row-b.Row)*g.Width + a.Col - b.Col })
	if len(tiles) == 0 {
		return out, nil
	}
	raster.Ahead(whole, tiles)
	big, little := whole.NewReader(), copy.NewReader()
	sums, squares, off := map[string]float64{}, map[string]float64{}, map[string]int{}
	moved := 0.0
	for _, t := range tiles {
		if err := w.ctx.Err(); err != nil {
			return nil, err
		}
		all, err := shares(big, t, coder, legend)
		if err != nil {
			return nil, err
		}
		some, err := shares(little, raster.Window{Col: t.Col / fx, Row: t.Row / fy, Width: t.Width / fx, Height: t.Height / fy}, coder, legend)
		if err != nil {
			return nil, err
		}
		for name := range some {
			if _, ok := all[name]; !ok {
				all[name] = 0
			}
		}
		for name, v := range all {
			d := some[name] - v
			sums[name] += d
			squares[name] += d * d
			if d != 0 {
				off[name]++
			}
			moved += math.Abs(d) / 2
		}
	}
	n := float64(len(tiles))
	for name, sum := range sums {
		mean := sum / n
		variance := math.Max(0, squares[name]-n*mean*mean) / math.Max(1, n-1)
		out.bias[name] = bias{mean, math.Sqrt(variance), off[name]}
	}
	out.Tiles, out.Share = len(tiles), moved/n
	if ew, ns, ok := small.GroundSize(); ok { // in the middle of the raster, which is near enough for an error
		out.tile = ew * ns * float64(bw/fx*(bh/fy))
	}
	return out, nil
}

// shares are the shares of a window that classes have, by their identity; what is no class goes by its kind.
func shares(r raster.Reader, w raster.Window, coder *cover.Coder, legend *cover.Legend) (map[string]float64, error) {
	var c raster.Cells
	if err := r.Read(w, &c); err != nil {
		return nil, err
	}
	counts := map[float64]int{}
	missing := 0
	for row := range w.Height {
		for col := range w.Width {
			if v := c.At(col, row); v == v {
				counts[v]++
			} else {
				missing++
			}
			if len(counts) > 1<<16 {
				return nil, fault.Errorf("its reduced copy has more than 65,536 different values, so it was not made of classes: measure all cells")
			}
		}
	}
	out := map[string]float64{}
	total := float64(w.Width * w.Height)
	for v, n := range counts {
		name := "\x00" + cover.ValueText(v)
		if m, ok := coder.Code(v); ok && m.Kind == cover.Classified {
			name = fmt.Sprint(m.Code)
			if k := slices.IndexFunc(legend.Classes, func(c cover.Class) bool { return c.Code == m.Code }); k >= 0 {
				name = legend.Classes[k].ID()
			}
		} else if ok && m.Kind == cover.NoData {
			name = "\x00"
		}
		out[name] += float64(n) / total
	}
	if missing > 0 {
		out["\x00"] += float64(missing) / total
	}
	return out, nil
}

// warning says that extents are approximate.
func (a *Approximation) warning(name string) string {
	out := fmt.Sprintf("%s: its reduced copy %d was measured, in which a cell stands for %d × %d, so that all extents are approximate", name, a.Level, a.Times[0], a.Times[1])
	if a.Tiles < 2 {
		return out + "; it has too few tiles for a sample to say how far they are off"
	}
	return out + fmt.Sprintf("; in a sample of %s it counts %.2g %% of the ground for another class", text.Count(a.Tiles, "tile"), a.Share*100)
}
