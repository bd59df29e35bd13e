package raster

// A file that lies far away is read fast when it is known what will be read: what lies side by side is then fetched together, and before it is needed. Whoever
// reads many windows announces them with [Ahead]; views hand on what that means for the rasters that they are made of.

// Announced is a source that can make use of knowing which windows will be read.
type Announced interface {
	// Ahead takes windows in the order in which they will be read. It does not wait, and reports whether the source makes use of them; without windows
	// it only reports that.
	Ahead(windows []Window) bool
}

// Ahead announces windows of a source, and reports whether that is of use.
func Ahead(s Source, windows []Window) bool {
	if v, ok := s.(Announced); ok {
		return v.Ahead(windows)
	}
	of := beneath(s)
	return of != nil && Ahead(of, windows)
}

// AheadOf announces windows of several sources on the same cells.
func AheadOf(windows []Window, sources ...Source) (useful bool) {
	for _, s := range sources {
		useful = Ahead(s, windows) || useful
	}
	return useful
}
