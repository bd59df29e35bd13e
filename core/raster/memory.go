package raster

// Memory is a raster held in memory, read in blocks of any size.
type Memory struct {
	header Header
	cells  Cells
	blockW int
	blockH int
}

// NewMemory makes a raster of zeros on a grid, to be filled with Set.
func NewMemory(name string, g Grid, t CellType, blockW, blockH int) *Memory {
	m := &Memory{header: Header{Name: name, Grid: g, Type: t, Format: "memory", Bands: 1}, blockW: blockW, blockH: blockH}
	m.cells.Resize(t, g.Width, g.Height, g.Width)
	return m
}

// Set stores the value of a cell, which the type must hold.
func (m *Memory) Set(col, row int, v float64) { m.cells.Set(col, row, v) }

// At is the value of a cell.
func (m *Memory) At(col, row int) float64 { return m.cells.At(col, row) }

// SetNoData declares a nodata value, nil for none.
func (m *Memory) SetNoData(v *float64) { m.header.NoData = v }

// Header implements [Source].
func (m *Memory) Header() Header { return m.header }

// BlockSize implements [Source].
func (m *Memory) BlockSize() (width, height int) { return m.blockW, m.blockH }

// NewReader implements [Source].
func (m *Memory) NewReader() Reader { return m }

// Read implements [Reader].
func (m *Memory) Read(w Window, dst *Cells) error {
	g := m.header.Grid
	if err := w.Check(m.header.Name, g.Width, g.Height); err != nil {
		return err
	}
	dst.Resize(m.cells.Type, w.Width, w.Height, w.Width)
	dst.Copy(0, 0, &m.cells, w.Col, w.Row, w.Width, w.Height)
	return nil
}
