// Package cover turns the values of rasters into the classes of a legend.
//
// A [Legend] names the classes; a [Crosswalk] says which source values become which class; a
// [Coder] is both together with the nodata value, and decides what a value counts as.
package cover

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/files"
	"github.com/verdex-land/verdex/core/rows"

	"github.com/verdex-land/verdex/core/decimal"
	"github.com/verdex-land/verdex/core/fault"
	"github.com/verdex-land/verdex/core/raster"
)

// Class is a class of a legend.
type Class struct {
	Code  int
	Name  string
	Color raster.Color
	Group string // a broader class, "" for none
	// Category is the land-use category of inventories of greenhouse gases, one of [Categories], "" for none.
	Category string
	// NoCode says that the name alone is what the class is known by: groups, and classes of polygons without a legend. Code is
	// then a number within one legend only, which no table has.
	NoCode bool
}

// ID is what the class is known by in tables: its code, or the name of one without.
func (c Class) ID() string {
	if c.NoCode {
		return c.Name
	}
	return strconv.Itoa(c.Code)
}

// Legend is the list of classes, in the order in which they are shown.
type Legend struct {
	Source  string
	Classes []Class
	Notes   []string // what had to be assumed when the file was read
	Shaded  []string // names of classes for which the file has no colour, and which were given one
	at      map[int]int
}

// NewLegend makes a legend of classes, whose codes and names must be distinct.
func NewLegend(source string, classes []Class) (*Legend, error) {
	l := &Legend{Source: source, Classes: classes, at: map[int]int{}}
	names := map[string]int{}
	for i, c := range classes {
		if c.Code >= decimal.Exact || c.Code <= -decimal.Exact {
			return nil, fmt.Errorf("%s: the code %d is so large that rasters do not tell it from its neighbours: give the class a smaller one", source, c.Code)
		}
		if j, ok := l.at[c.Code]; ok {
			return nil, fmt.Errorf("%s: code %d stands for both %q and %q: give each class a code of its own", source, c.Code, classes[j].Name, c.Name)
		}
		if code, ok := names[c.Name]; ok {
			return nil, fmt.Errorf("%s: codes %d and %d are both called %q: give each class a name of its own", source, code, c.Code, c.Name)
		}
		l.at[c.Code], names[c.Name] = i, c.Code
	}
	return l, nil
}

// Find gives the class with a code.
func (l *Legend) Find(code int) (Class, bool) {
	if l == nil {
		return Class{}, false
	}
	i, ok := l.at[code]
	if !ok {
		return Class{}, false
	}
	return l.Classes[i], true
}

// Groups gathers the classes of a legend into broader ones.
type Groups struct {
	Legend *Legend // of the groups, in the order in which they first appear; they have names and no codes
	of     map[int]int
}

// Group makes the groups of a legend; a class without a group is one of its own name. A group takes the
// colour of its first class. A legend without any group is an error.
func (l *Legend) Group() (*Groups, error) {
	g := &Groups{of: map[int]int{}}
	var classes []Class
	at := map[string]int{}
	named := false
	for _, c := range l.Classes {
		named = named || c.Group != ""
		name := c.Group
		if name == "" {
			name = c.Name
		}
		k, ok := at[name]
		if !ok {
			k = len(classes)
			at[name] = k
			classes = append(classes, Class{Code: k + 1, Name: name, Color: c.Color, NoCode: true})
		}
		g.of[c.Code] = k + 1
	}
	if !named {
		return nil, fault.Errorf("%s: none of its classes has a group", l.Source).Do("fill in the column group").By("report by class", "by", "class")
	}
	var err error
	g.Legend, err = NewLegend(l.Source, classes)
	return g, err
}

// Of gives the group of a class by the class's code.
func (g *Groups) Of(code int) (Class, bool) {
	k, ok := g.of[code]
	if !ok {
		return Class{}, false
	}
	return g.Legend.Find(k)
}

// Categories are the six land-use categories of the IPCC's guidelines for national inventories of greenhouse gases (2006, volume 4, chapter 3.2).
var Categories = []string{"forest land", "cropland", "grassland", "wetlands", "settlements", "other land"}

func categoryOf(text string) (string, error) {
	name := strings.ToLower(strings.Join(strings.Fields(text), " "))
	if name == "other" {
		name = "other land"
	}
	if name != "" && !slices.Contains(Categories, name) {
		return "", fmt.Errorf("the category %q is not one of %s", text, strings.Join(Categories, ", "))
	}
	return name, nil
}

// ReadLegend reads a legend from CSV with the columns code, name, color (#rrggbb) and optionally
// group and category, in any order. Classes without a colour get one.
func ReadLegend(from files.System, path string) (*Legend, error) {
	t, notes, err := rows.Read(from, path, []string{"code", "name"}, []string{"color", "group", "category"})
	if err != nil {
		return nil, err
	}
	var classes []Class
	var shaded []string
	for _, r := range t {
		code, err := strconv.Atoi(r.Cell["code"])
		if err != nil {
			return nil, fmt.Errorf("%s: line %d: the code %q is not a whole number", path, r.Line, r.Cell["code"])
		}
		c := Class{Code: code, Name: r.Cell["name"], Group: r.Cell["group"], Color: Shade(len(classes))}
		if c.Category, err = categoryOf(r.Cell["category"]); err != nil {
			return nil, fmt.Errorf("%s: line %d: %w", path, r.Line, err)
		}
		if c.Name == "" {
			return nil, fmt.Errorf("%s: line %d: class %d has no name", path, r.Line, code)
		}
		if text := r.Cell["color"]; text != "" {
			if c.Color, err = ParseColor(text); err != nil {
				return nil, fmt.Errorf("%s: line %d: %w", path, r.Line, err)
			}
		} else {
			shaded = append(shaded, c.Name)
		}
		classes = append(classes, c)
	}
	if len(classes) == 0 {
		return nil, fmt.Errorf("%s: it lists no classes", path)
	}
	l, err := NewLegend(path, classes)
	if err == nil {
		l.Notes, l.Shaded = notes, shaded
	}
	return l, err
}

// LegendOfValues makes a legend of the values that occur, with the colours of a palette.
func LegendOfValues(values []float64, palette []raster.Color) *Legend {
	l := &Legend{Source: "the raster", at: map[int]int{}}
	for _, v := range values {
		code := int(v)
		if _, ok := l.at[code]; ok || float64(code) != v {
			continue
		}
		c := Class{Code: code, Name: fmt.Sprintf("class %d", code), Color: Shade(len(l.Classes))}
		if code >= 0 && code < len(palette) {
			c.Color = palette[code]
		}
		l.at[code] = len(l.Classes)
		l.Classes = append(l.Classes, c)
	}
	return l
}

// shades are calm colours that also differ in lightness, so that they stay apart for people who
// see colours differently.
var shades = []raster.Color{
	{R: 0x3b, G: 0x6e, B: 0xa8}, {R: 0xd9, G: 0xa4, B: 0x41}, {R: 0x2f, G: 0x7d, B: 0x5b}, {R: 0xb8, G: 0x50, B: 0x42},
	{R: 0x8f, G: 0xb9, B: 0xd6}, {R: 0x6d, G: 0x5a, B: 0x8c}, {R: 0xc9, G: 0xcf, B: 0x7a}, {R: 0x7a, G: 0x4a, B: 0x2b},
	{R: 0xa3, G: 0xc9, B: 0xa8}, {R: 0x4a, G: 0x4e, B: 0x57}, {R: 0xe3, G: 0xc5, B: 0xb3}, {R: 0x1f, G: 0x9a, B: 0x9a},
}

// Shade is the i-th of the colours given to classes that have none.
func Shade(i int) raster.Color { return shades[i%len(shades)] }

// ParseColor reads a colour of the form #rrggbb or #rgb, with or without the sign.
func ParseColor(s string) (raster.Color, error) {
	digits := strings.TrimPrefix(s, "#")
	if len(digits) == 3 {
		digits = string([]byte{digits[0], digits[0], digits[1], digits[1], digits[2], digits[2]})
	}
	v, err := strconv.ParseUint(digits, 16, 32)
	if err != nil || len(digits) != 6 {
		return raster.Color{}, fmt.Errorf("the colour %q is not of the form #rrggbb or #rgb", s)
	}
	return raster.Color{R: uint8(v >> 16), G: uint8(v >> 8), B: uint8(v)}, nil
}
