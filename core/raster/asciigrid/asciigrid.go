// Package asciigrid reads rasters from text: a header of ncols, nrows, xllcorner or xllcenter, yllcorner or
// yllcenter, cellsize (or dx and dy) and optionally nodata_value, then the values row by row from
// the north, separated by white space.
//
// The file is read once when it is opened: that checks it, notes where rows begin and finds the narrowest
// type that holds its values. A CRS is taken from the .prj file beside it, when there is one.
package asciigrid

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/raster"
)

const (
	maxCells   = 1 << 34
	maxToken   = 64
	blockCells = 1 << 18
)

// Source is an ASCII grid.
type Source struct {
	r      io.ReaderAt
	size   int64
	header raster.Header
	rows   []int64 // where every blockH-th row begins
	blockH int
	closer io.Closer
}

// Sniff reports whether a file that begins with these bytes may be an ASCII grid.
func Sniff(head []byte) bool {
	word := strings.ToLower(string(head[:min(5, len(head))]))
	return strings.HasPrefix(strings.TrimLeft(strings.ToLower(string(head)), " \t\r\n\ufeff"), "ncols") || word == "nrows"
}

// Open opens the file at path. The caller closes it.
func Open(from files.System, path string) (*Source, error) {
	f, err := from.Open(path)
	if err != nil {
		return nil, err
	}
	s, err := New(f, f.Size(), path)
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	s.closer = f
	for _, prj := range []string{files.Beside(path, ".prj"), files.Beside(path, ".PRJ")} {
		text, err := from.ReadFile(prj)
		if err != nil {
			continue
		}
		crs, err := earth.ParseCRS(string(text))
		if err != nil {
			s.header.CRSProblem = fmt.Sprintf("the CRS in %s is not understood (%v)", prj, err)
			break
		}
		s.header.Grid.CRS, s.header.CRSProblem = crs, ""
		if err := s.header.Grid.Check(); err != nil {
			f.Close()
			return nil, fmt.Errorf("%s: %w: is %s its CRS?", path, err, prj)
		}
		break
	}
	return s, nil
}

// tokens reads words separated by white space and knows where they begin.
type tokens struct {
	b    *bufio.Reader
	at   int64 // of the next byte
	word [maxToken]byte
}

func newTokens(r io.Reader, at int64) *tokens {
	return &tokens{b: bufio.NewReaderSize(r, 1<<16), at: at}
}

func space(c byte) bool {
	return c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == '\f' || c == '\v'
}

// next gives the next word and where it begins; it stays valid until the next call.
func (t *tokens) next() ([]byte, int64, error) {
	for {
		c, err := t.b.ReadByte()
		if err != nil {
			return nil, t.at, err
		}
		t.at++
		if space(c) {
			continue
		}
		t.word[0] = c
		break
	}
	begin, n := t.at-1, 1
	for {
		c, err := t.b.ReadByte()
		if errors.Is(err, io.EOF) {
			return t.word[:n], begin, nil
		}
		if err != nil {
			return nil, begin, err
		}
		t.at++
		if space(c) {
			return t.word[:n], begin, nil
		}
		if n == maxToken {
			return nil, begin, fmt.Errorf("at byte %d: a word of more than %d characters is not a number", begin, maxToken)
		}
		t.word[n] = c
		n++
	}
}

// New reads an ASCII grid of size bytes; name is for messages.
func New(r io.ReaderAt, size int64, name string) (*Source, error) {
	s := &Source{r: r, size: size}
	t := newTokens(io.NewSectionReader(r, 0, size), 0)
	h := raster.Header{Name: name, Bands: 1, Format: "ASCII grid",
		CRSProblem: "it has no CRS and no .prj file beside it, so nothing says where its cells lie"}
	first, begin, err := s.readHeader(t, &h)
	if err != nil {
		return nil, err
	}
	if err := h.Grid.Check(); err != nil {
		return nil, err
	}
	s.blockH = max(1, min(h.Grid.Height, blockCells/h.Grid.Width))
	if err := s.scan(t, first, begin, &h); err != nil {
		return nil, err
	}
	s.header = h
	return s, nil
}

// readHeader reads keys and values up to the first number that stands where a key could.
func (s *Source) readHeader(t *tokens, h *raster.Header) (first []byte, begin int64, err error) {
	keys := map[string]float64{}
	for {
		word, at, err := t.next()
		if err != nil && !errors.Is(err, io.EOF) {
			return nil, 0, err
		}
		if err != nil {
			return nil, 0, fmt.Errorf("it ends within its header: it was cut short")
		}
		key := strings.ToLower(strings.TrimPrefix(string(word), "\ufeff"))
		if key == "" {
			return nil, 0, fmt.Errorf("it begins with a mark of its encoding and nothing else")
		}
		if c := key[0]; len(keys) > 0 && (c >= '0' && c <= '9' || c == '-' || c == '+' || c == '.' || key == "nan") {
			first, begin = word, at
			break
		}
		switch key {
		case "ncols", "nrows", "xllcorner", "xllcenter", "yllcorner", "yllcenter", "cellsize", "dx", "dy", "nodata_value":
		default:
			return nil, 0, fmt.Errorf("its header has the line %q, which is not one of ncols, nrows, xllcorner, xllcenter, yllcorner, yllcenter, cellsize, nodata_value", word)
		}
		if _, twice := keys[key]; twice {
			return nil, 0, fmt.Errorf("its header states %s twice", key)
		}
		value, _, err := t.next()
		if err != nil {
			return nil, 0, fmt.Errorf("it ends within its header: it was cut short")
		}
		v, err := decimal.Parse(string(value))
		if err != nil {
			return nil, 0, fmt.Errorf("its header states %s as %q, which is not a number", key, value)
		}
		keys[key] = v
	}
	g := &h.Grid
	dx, dy := keys["cellsize"], keys["cellsize"]
	if v, ok := keys["dx"]; ok {
		dx = v
	}
	if v, ok := keys["dy"]; ok {
		dy = v
	}
	cols, rows := keys["ncols"], keys["nrows"]
	if !(cols >= 1 && rows >= 1 && cols == math.Trunc(cols) && rows == math.Trunc(rows) && cols < math.MaxInt32 && rows < math.MaxInt32 && cols*rows <= maxCells) {
		return nil, 0, fmt.Errorf("its header claims %g × %g cells", cols, rows)
	}
	// Every value takes a character and a separator.
	if cols*rows > float64(s.size) {
		return nil, 0, fmt.Errorf("its header claims %g × %g cells, more than its %d bytes can hold: it was cut short, copy it again", cols, rows, s.size)
	}
	if !(dx > 0 && dy > 0) {
		return nil, 0, fmt.Errorf("its header states no cellsize above 0")
	}
	x, okx := keys["xllcorner"]
	if v, ok := keys["xllcenter"]; ok {
		x, okx = v-dx/2, true
	}
	y, oky := keys["yllcorner"]
	if v, ok := keys["yllcenter"]; ok {
		y, oky = v-dy/2, true
	}
	if !okx || !oky {
		return nil, 0, fmt.Errorf("its header does not state the lower left corner (xllcorner and yllcorner, or xllcenter and yllcenter)")
	}
	g.Width, g.Height, g.X0, g.DX, g.DY = int(cols), int(rows), x, dx, -dy
	g.Y0 = y + rows*dy
	if v, ok := keys["nodata_value"]; ok {
		h.NoData = &v
	}
	return first, begin, nil
}

// scan reads all values once.
func (s *Source) scan(t *tokens, word []byte, begin int64, h *raster.Header) error {
	least, most, whole, single := math.Inf(1), math.Inf(-1), true, true
	g := h.Grid
	var err error
	for row := range g.Height {
		for col := range g.Width {
			if row > 0 || col > 0 {
				if word, begin, err = t.next(); err != nil {
					if errors.Is(err, io.EOF) {
						return fmt.Errorf("it ends after %d of %d values: it was cut short, copy it again", row*g.Width+col, g.Width*g.Height)
					}
					return err
				}
			}
			if col == 0 && row%s.blockH == 0 {
				s.rows = append(s.rows, begin)
			}
			v, ok := parse(word)
			if !ok {
				return fmt.Errorf("at byte %d: %q is not a number", begin, word)
			}
			if math.IsNaN(v) {
				whole = false
				continue
			}
			least, most = math.Min(least, v), math.Max(most, v)
			whole = whole && v == math.Trunc(v)
			single = single && float64(float32(v)) == v
		}
	}
	if _, at, err := t.next(); err == nil {
		return fmt.Errorf("at byte %d: something follows its %d values", at, g.Width*g.Height)
	}
	if h.NoData != nil {
		least, most = math.Min(least, *h.NoData), math.Max(most, *h.NoData)
		whole = whole && *h.NoData == math.Trunc(*h.NoData)
	}
	h.Type = raster.Float64
	if whole {
		for _, t := range []raster.CellType{raster.Uint8, raster.Int16, raster.Int32} {
			if t.Holds(least) && t.Holds(most) {
				h.Type = t
				break
			}
		}
	} else if single {
		h.Type = raster.Float32
	}
	return nil
}

// parse reads a number; short whole numbers, the rule in maps of classes, without a call.
func parse(word []byte) (float64, bool) {
	if len(word) <= 9 {
		n, i := 0, 0
		if word[0] == '-' && len(word) > 1 {
			i = 1
		}
		for ; i < len(word) && word[i] >= '0' && word[i] <= '9'; i++ {
			n = n*10 + int(word[i]-'0')
		}
		if i == len(word) && word[i-1] != '-' {
			if word[0] == '-' {
				n = -n
			}
			return float64(n), true
		}
	}
	v, err := decimal.Parse(string(word))
	return v, err == nil && !math.IsInf(v, 0)
}

// Close closes the file.
func (s *Source) Close() error {
	if s.closer == nil {
		return nil
	}
	return s.closer.Close()
}

// Header implements [raster.Source].
func (s *Source) Header() raster.Header { return s.header }

// BlockSize implements [raster.Source].
func (s *Source) BlockSize() (width, height int) { return s.header.Grid.Width, s.blockH }

// NewReader implements [raster.Source].
func (s *Source) NewReader() raster.Reader { return &reader{s} }

type reader struct{ s *Source }

// Read implements [raster.Reader].
func (r *reader) Read(w raster.Window, dst *raster.Cells) error {
	s := r.s
	g := s.header.Grid
	if err := w.Check(s.header.Name, g.Width, g.Height); err != nil {
		return err
	}
	dst.Resize(s.header.Type, w.Width, w.Height, w.Width)
	block := w.Row / s.blockH
	from := s.rows[block]
	to := s.size
	if last := (w.Row+w.Height-1)/s.blockH + 1; last < len(s.rows) {
		to = s.rows[last]
	}
	t := newTokens(io.NewSectionReader(s.r, from, to-from), from)
	for row := block * s.blockH; row < w.Row+w.Height; row++ {
		for col := range g.Width {
			word, at, err := t.next()
			if err != nil {
				return fmt.Errorf("%s: it ends too early at byte %d (%w): it was changed while it was read", s.header.Name, at, err)
			}
			if row < w.Row || col < w.Col || col >= w.Col+w.Width {
				continue
			}
			v, ok := parse(word)
			if !ok || !s.header.Type.Holds(v) && !math.IsNaN(v) {
				return fmt.Errorf("%s: at byte %d: %q was not there before: the file was changed while it was read", s.header.Name, at, word)
			}
			dst.Set(col-w.Col, row-w.Row, v)
		}
	}
	return nil
}
