package raster

import (
	"fmt"
)

// Color is a palette entry.
type Color struct{ R, G, B uint8 }

// String is the colour as #rrggbb.
func (c Color) String() string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// Header is what a raster says of itself.
type Header struct {
	Name    string // the file, for messages
	Grid    Grid
	Type    CellType
	NoData  *float64 // the declared nodata value, nil when none is declared
	Palette []Color  // by value, empty when there is none

	Format     string // for people: "GeoTIFF, Deflate, tiles of 512 × 512"
	Bands      int    // in the file; a Source is one of them
	Alpha      int    // the band that says how transparent cells are; 0 for none
	Mask       string // what says that cells are without data besides the nodata value; "" for nothing
	Scaled     string // how stored numbers were turned into measurements; "" where cells are as they are stored
	Overviews  int    // reduced copies in the file
	COG        bool   // laid out as a cloud-optimised GeoTIFF
	Lossy      bool   // the compression changes values
	CRSProblem string // why Grid.CRS is nil
	Unplaced   bool   // nothing says where the cells lie and how large they are
	// CellsProblem is why the cells cannot be read; the rest of the header holds.
	CellsProblem string
	Notes        []string
}

// Missing reports whether a value of a cell is no data: NaN always, and the declared nodata value. What a cell of a raster
// counts as is decided here and nowhere else; masks and bands of transparency are applied by those who read files, so that masked cells
// have the nodata value too.
func (h *Header) Missing(v float64) bool {
	return v != v || h.NoData != nil && v == *h.NoData
}

// Source gives cells by window. It is safe for concurrent use; its Readers are not.
type Source interface {
	Header() Header
	// BlockSize is the window size that reads without waste, aligned at cell 0, 0.
	BlockSize() (width, height int)
	NewReader() Reader
}

// Reader reads windows that lie within the grid. The cells it returns stay valid until the
// next call of Read with the same destination.
type Reader interface {
	Read(w Window, dst *Cells) error
}

// WithNoData returns the source with another declared nodata value.
func WithNoData(s Source, v float64) Source { return noDataView{s, v} }

type noDataView struct {
	Source
	v float64
}

// Header implements [Source], with the nodata value.
func (n noDataView) Header() Header {
	h := n.Source.Header()
	h.NoData = &n.v
	return h
}

// WithGrid returns the source on the grid g, which has the same cells.
func WithGrid(s Source, g Grid) Source { return gridView{s, g} }

type gridView struct {
	Source
	g Grid
}

// Header implements [Source], with the grid.
func (v gridView) Header() Header {
	h := v.Source.Header()
	h.Grid = v.g
	return h
}

// Tiling is where the windows of a source begin that is read without waste in windows of uneven size only,
// such as a mosaic; nil for others, whose BlockSize says it all.
func Tiling(s Source) (cols, rows []int) {
	switch v := s.(type) {
	case interface{ Tiling() (cols, rows []int) }:
		return v.Tiling()
	case noDataView:
		return Tiling(v.Source)
	case gridView:
		return Tiling(v.Source)
	}
	return nil, nil
}

// WorkSize is the size of the windows by which a source is read whole: its blocks, of which low ones, such as strips of a few rows, are
// taken several at a time.
func WorkSize(s Source) (width, height int) {
	width, height = s.BlockSize()
	if height < 64 {
		height *= (63 + height) / height
	}
	return width, height
}
