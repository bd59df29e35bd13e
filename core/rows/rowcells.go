package rows

import (
	"fmt"
	"math"

	"github.com/verdex-land/verdex/core/area"
	"github.com/verdex-land/verdex/core/decimal"
)

// Line reads the cells of a row of a table that is Verdex's own.
type Line struct {
	Path string
	Row  Row
}

// Text is a cell of the row, "" where the table does not have the column.
func (c Line) Text(name string) string { return c.Row.Cell[name] }

// Wrong makes an error of the row, with its table and line.
func (c Line) Wrong(format string, args ...any) error {
	return fmt.Errorf("%s: line %d: %s", c.Path, c.Row.Line, fmt.Sprintf(format, args...))
}

// rounding is how many m² less than nothing an area may be, and is nothing then.
const rounding = 1e-6

// Area reads an area in m².
func (c Line) Area(name string) (float64, error) {
	if c.Text("unit") == "" {
		return 0, c.Wrong("the unit is missing: write ha, m2, km2, acre or mi2")
	}
	u, err := area.Find(c.Text("unit"))
	if err != nil {
		return 0, c.Wrong("%v", err)
	}
	v, err := decimal.Parse(c.Text(name))
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		return 0, c.Wrong("the %s %q is not a number", name, c.Text(name))
	}
	if v*u.M2 > -rounding && v < 0 { // a sliver of a cut cell, whose share and correction are rounded
		return 0, nil
	}
	if v < 0 {
		return 0, c.Wrong("the %s %q is negative, which no area is", name, c.Text(name))
	}
	return v * u.M2, nil
}
