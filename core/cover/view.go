package cover

import (
	"errors"
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
	"github.com/verdex-land/verdex/core/raster/view"
)

// ErrNoLine is the error of reading a cell whose value has no line in the crosswalk.
var ErrNoLine = errors.New("a value has no line")

// Measured is View for measuring, and the coder of its cells. A value without a line is not an error when it is read, which would hang on what
// else is read with it: it becomes a code of its own, which the coder has no meaning for, so that it matters where it is measured only.
func Measured(s raster.Source, c *Coder) (raster.Source, *Coder, error) {
	gap := 0.0
	v, err := coded(s, c, nil, &gap)
	if err != nil {
		return nil, nil, err
	}
	return v, &Coder{Legend: c.Legend, NoData: v.Header().NoData, Groups: c.Groups, gap: &gap}, nil
}

// View is a raster of the classes that a coder makes of a source: their codes, and nodata. Its type is the
// narrowest that holds all codes, or the one that is wanted; its nodata value is the source's where that is free,
// else 0 (which values that are kept may be), or the type's greatest or least. Colours are those of the legend. A value without a line is
// an error when it is read.
func View(s raster.Source, c *Coder, want *raster.CellType) (raster.Source, error) {
	return coded(s, c, want, nil)
}

func coded(s raster.Source, c *Coder, want *raster.CellType, gap *float64) (raster.Source, error) {
	h := s.Header()
	c = c.In(h.Type)
	codes, keeps := c.codes()
	if keeps && h.Type.Floating() {
		return nil, fmt.Errorf("%s: its cells are floating-point numbers, which cannot be kept as codes: give intervals for them", h.Name)
	}
	t, nodata, err := room(h, codes, keeps, want, gap)
	if err != nil {
		return nil, err
	}
	out := raster.Header{Name: h.Name, Type: t, NoData: &nodata, Format: h.Format, Bands: 1}
	if legend := c.Legend; legend != nil && (t == raster.Uint8 || t == raster.Uint16) {
		out.Palette = make([]raster.Color, 1<<(t.Bytes()*8))
		for _, class := range legend.Classes {
			if class.Code >= 0 && class.Code < len(out.Palette) {
				out.Palette[class.Code] = class.Color
			}
		}
	}
	return view.Map(s, out, func(v float64) (float64, error) {
		m, ok := c.Code(v)
		switch {
		case !ok && gap != nil:
			return *gap, nil
		case !ok:
			return 0, fmt.Errorf("%s: %w in %s: %v", h.Name, ErrNoLine, c.Crosswalk.Source, v)
		case m.Kind == NoData:
			return nodata, nil
		case m.Kind == Unlisted && m.Value != math.Trunc(m.Value):
			return 0, fmt.Errorf("%s: the value %v is kept, but is not a whole number and cannot be a code: give it a class", h.Name, v)
		case m.Kind == Unlisted:
			if !t.Holds(m.Value) || m.Value == nodata {
				return 0, fault.Errorf("%s: the value %v is kept, but %s has no room for it beside nodata %g", h.Name, v, t, nodata).Do("give it a class").By("choose a wider type", "type", "")
			}
			return m.Value, nil
		}
		if float64(m.Code) == nodata || !t.Holds(float64(m.Code)) {
			return 0, fault.Errorf("%s: the value %v is kept, but %s has no room for it beside nodata %g", h.Name, v, t, nodata).Do("give it a class").By("choose a wider type", "type", "")
		}
		return float64(m.Code), nil
	}), nil
}

// codes are the codes that a coder can give, and whether it also keeps values as they are.
func (c *Coder) codes() (codes []int, keeps bool) {
	keeps = c.Crosswalk == nil
	if c.Legend != nil {
		for _, class := range c.Legend.Classes {
			codes = append(codes, class.Code)
		}
	}
	if c.Crosswalk != nil {
		for _, l := range c.Crosswalk.Lines {
			keeps = keeps || l.To.Keep
			if !l.To.Keep && !l.To.NoData {
				codes = append(codes, l.To.Code)
			}
		}
	}
	return codes, keeps
}

// room chooses a type, a nodata value and, where it is wanted, a value for a gap.
func room(h raster.Header, codes []int, keeps bool, want *raster.CellType, gap *float64) (raster.CellType, float64, error) {
	taken := map[float64]bool{}
	for _, c := range codes {
		taken[float64(c)] = true
	}
	fits := func(t raster.CellType) bool {
		for v := range taken {
			if !t.Holds(v) {
				return false
			}
		}
		return !keeps || t.Contains(h.Type)
	}
	free := func(t raster.CellType) (float64, bool) {
		var candidates []float64
		if h.NoData != nil {
			candidates = append(candidates, *h.NoData)
		}
		least, most := t.Range()
		if !keeps { // values that are kept may be 0
			candidates = append(candidates, 0)
		}
		candidates = append(candidates, most, least)
		for _, v := range candidates {
			if !taken[v] && t.Holds(v) {
				return v, true
			}
		}
		return 0, false
	}
	types := []raster.CellType{raster.Uint8, raster.Int16, raster.Uint16, raster.Int32, raster.Uint32}
	if want != nil {
		types = []raster.CellType{*want}
	}
	for _, t := range types {
		if t.Floating() || !fits(t) {
			continue
		}
		v, ok := free(t)
		if ok && gap != nil { // any other value that no class has, from the greatest down
			least, most := t.Range()
			*gap = most
			for *gap >= least && (taken[*gap] || *gap == v) {
				*gap--
			}
			ok = *gap >= least && !keeps
			if keeps { // values that are kept may be anything of their own type
				ok = t.Bytes() > h.Type.Bytes() && *gap > least && !h.Type.Holds(*gap)
			}
		}
		if ok {
			return t, v, nil
		}
	}
	if want != nil {
		if len(codes) == 0 {
			return 0, 0, fault.Misusef("type", want.String(), "has no room for all values of %s, whose cells are %s, and a nodata value", h.Name, h.Type).Do("choose a wider one, or none")
		}
		least, most := codes[0], codes[0]
		for _, c := range codes {
			least, most = min(least, c), max(most, c)
		}
		return 0, 0, fault.Misusef("type", want.String(), "has no room for the codes %d to %d and a nodata value", least, most).Do("choose a wider one, or none")
	}
	if keeps {
		return 0, 0, fmt.Errorf("%s: its cells are %s, and no type has room for all values that are kept and a nodata value: give values classes in place of keep", h.Name, h.Type)
	}
	return 0, 0, fmt.Errorf("%s: no type has room for all codes and a nodata value: give classes codes between 0 and 65,534", h.Name)
}
