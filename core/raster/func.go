package raster

// Func is a raster whose cells a function computes.
type Func struct {
	About  Header
	Block  int // side of the blocks in which it is read
	ValueF func(col, row int) float64
}

// NewFunc makes a raster of values that the type of the header must hold.
func NewFunc(h Header, value func(col, row int) float64) *Func {
	h.Bands = 1
	return &Func{About: h, Block: 256, ValueF: value}
}

// Header implements [Source].
func (f *Func) Header() Header { return f.About }

// BlockSize implements [Source].
func (f *Func) BlockSize() (width, height int) { return f.Block, f.Block }

// NewReader implements [Source].
func (f *Func) NewReader() Reader { return f }

// Read implements [Reader].
func (f *Func) Read(w Window, dst *Cells) error {
	g := f.About.Grid
	if err := w.Check(f.About.Name, g.Width, g.Height); err != nil {
		return err
	}
	dst.Resize(f.About.Type, w.Width, w.Height, w.Width)
	for r := range w.Height {
		for c := range w.Width {
			dst.Set(c, r, f.ValueF(w.Col+c, w.Row+r))
		}
	}
	return nil
}
