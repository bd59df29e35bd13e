package raster

// Weighed is a source that knows what reading a window of it takes.
type Weighed interface {
	// Weight is about how many bytes have to be read and decoded for a window.
	Weight(w Window) int64
}

// Weight is about what reading a window of a source takes, in the time of a byte that is decoded: the stored bytes where the source knows them, and something for each cell.
func Weight(s Source, w Window) int64 {
	if v, ok := s.(Weighed); ok {
		return v.Weight(w)
	}
	if of := beneath(s); of != nil {
		return Weight(of, w)
	}
	return CellWeight(w)
}

// beneath is the source of a view that has the same cells in the same places, nil for any other source.
func beneath(s Source) Source {
	switch v := s.(type) {
	case noDataView:
		return v.Source
	case gridView:
		return v.Source
	case *cached:
		return v.Source
	}
	return nil
}

// CellWeight is what the cells of a window take beside decoding them.
func CellWeight(w Window) int64 { return 1 + int64(w.Width)*int64(w.Height)/16 }
