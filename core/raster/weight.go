package raster

// Weighed is a source that knows what reading a window of it takes.
type Weighed interface {
	// Weight is about how many bytes have to be read and decoded for a window.
	Weight(w Window) int64
}

// Weight is about what reading a window of a source takes, in the time of a byte that is decoded: the stored bytes where the source knows them, and something for each cell.
func Weight(s Source, w Window) int64 {
	switch v := s.(type) {
	case Weighed:
		return v.Weight(w)
	case noDataView:
		return Weight(v.Source, w)
	case gridView:
		return Weight(v.Source, w)
	case *cached:
		return Weight(v.Source, w)
	}
	return CellWeight(w)
}

// CellWeight is what the cells of a window take beside decoding them.
func CellWeight(w Window) int64 { return 1 + int64(w.Width)*int64(w.Height)/16 }
