package geotiff

import "github.com/verdex-land/verdex/core/raster"

// Weight implements [raster.Weighed] by the sizes of the blocks that a window needs, as the directory lists them.
func (s *Source) Weight(w raster.Window) int64 {
	l := s.layout
	sum := raster.CellWeight(w)
	if l.problem != "" || w.Check(s.header.Name, l.width, l.height) != nil {
		return sum
	}
	s.weighing.Do(func() { s.weigher = &reader{s: s} }) // a reader has room for tables, which takes longer to clear than to look up a block
	r := s.weigher
	samples, _ := l.interleaved()
	row := l.blockW * samples * l.cell.Bytes()
	for by := w.Row / l.blockH; by <= (w.Row+w.Height-1)/l.blockH; by++ {
		for bx := w.Col / l.blockW; bx <= (w.Col+w.Width-1)/l.blockW; bx++ {
			if _, count, _, err := r.locate(bx, by, row*l.rows(by)); err == nil {
				sum += int64(count)
			}
		}
	}
	return sum
}
