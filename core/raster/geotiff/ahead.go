package geotiff

import (
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

// Ahead implements [raster.Announced]: it finds the stored bytes of the blocks of windows.
func (s *Source) Ahead(windows []raster.Window) bool {
	far, ok := s.file.r.(files.Announced)
	if !ok || s.layout.problem != "" {
		return false
	}
	l := s.layout
	r := reader{s: s}
	samples, _ := l.interleaved()
	row := l.blockW * samples * l.cell.Bytes()
	seen := map[[2]int]bool{}
	var spans []files.Span
	for _, w := range windows {
		if w.Check(s.header.Name, l.width, l.height) != nil {
			continue
		}
		for by := w.Row / l.blockH; by <= (w.Row+w.Height-1)/l.blockH; by++ {
			for bx := w.Col / l.blockW; bx <= (w.Col+w.Width-1)/l.blockW; bx++ {
				if seen[[2]int{bx, by}] {
					continue
				}
				seen[[2]int{bx, by}] = true
				offset, count, beyond, err := r.locate(bx, by, row*l.rows(by))
				if err != nil || beyond > 0 || count == 0 || count > s.file.size || offset > s.file.size-count {
					continue // reading it reports what is wrong
				}
				spans = append(spans, files.Span{Offset: int64(offset), Size: int64(count)})
			}
		}
	}
	far.Ahead(spans)
	return true
}

// Ahead implements [raster.Announced].
func (m *bitMask) Ahead(windows []raster.Window) bool {
	var of []raster.Window
	for _, w := range windows {
		first, last := w.Col/8, (w.Col+w.Width-1)/8
		of = append(of, raster.Window{Col: first, Row: w.Row, Width: last - first + 1, Height: w.Height})
	}
	return m.Source.Ahead(of)
}
