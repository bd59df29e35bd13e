package earth

import (
	_ "embed" // the tables
	"fmt"
	"strconv"
	"strings"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

//go:generate go run ../../internal/registry /usr/share/proj/proj.db

// The registry is a set of tables in text, sorted by code, which look-ups search where they stand: a
// program that needs one CRS reads a dozen lines, and its start is not slowed.
var (
	//go:embed registry/crs.tsv
	crsTable string
	//go:embed registry/conversions.tsv
	conversionTable string
	//go:embed registry/datums.tsv
	datumTable string
	//go:embed registry/units.tsv
	unitTable string
	//go:embed registry/shifts.tsv
	shiftTable string
)

// find gives the cells of the line of a table that begins with a code, nil when there is none.
func find(table string, code int) []string {
	if code <= 0 { // none has such a code, but the comment at the head of a table sorts as -1
		return nil
	}
	lo, hi := 0, len(table)
	for lo < hi {
		mid := lo + (hi-lo)/2
		start := strings.LastIndexByte(table[lo:mid], '\n') + lo + 1
		end := len(table)
		if n := strings.IndexByte(table[start:], '\n'); n >= 0 {
			end = start + n
		}
		line := table[start:end]
		at := -1 // the comment comes first
		if !strings.HasPrefix(line, "#") {
			cell, _, _ := strings.Cut(line, "\t")
			at, _ = strconv.Atoi(cell)
		}
		switch {
		case at == code:
			return strings.Split(line, "\t")
		case at < code:
			lo = end + 1
		default:
			hi = start
		}
	}
	return nil
}

// numbers reads numbers of a generated table.
func numbers(cells ...string) []float64 {
	out := make([]float64, len(cells))
	for i, c := range cells {
		out[i], _ = strconv.ParseFloat(c, 64)
	}
	return out
}

// Lookup finds a geographic 2D or projected CRS by its EPSG code.
func Lookup(code int) (*CRS, error) {
	r := find(crsTable, code)
	if r == nil {
		return nil, fmt.Errorf("EPSG:%d is neither a geographic nor a projected CRS of the registry that Verdex carries: check the number, or convert the file to a current CRS", code)
	}
	unit, err := lookupUnit(r[4])
	if err != nil {
		return nil, err
	}
	at, _ := strconv.Atoi(r[3])
	if r[2] == "" {
		return lookupGeographic(code, r[1], at, unit)
	}
	baseCode, _ := strconv.Atoi(r[2])
	base, err := Lookup(baseCode)
	if err != nil {
		return nil, err
	}
	conversion := find(conversionTable, at)
	if conversion == nil {
		return nil, fmt.Errorf("EPSG:%d %s has no conversion in the registry", code, r[1])
	}
	methodCode, _ := strconv.Atoi(conversion[1])
	method := projection.ByCode(methodCode)
	if method == nil {
		return nil, fmt.Errorf("EPSG:%d %s: the projection method EPSG:%d is not known to this version: convert the file to another CRS", code, r[1], methodCode)
	}
	d := Definition{Name: r[1], Base: base, Method: method, Params: projection.Params{}, Unit: unit.size, UnitName: unit.name}
	for _, item := range strings.Fields(conversion[2]) {
		name, value, _ := strings.Cut(item, "=")
		param, _ := strconv.Atoi(name)
		for _, p := range method.Params {
			if p.Code == param {
				d.Params[p.Role] = numbers(value)[0]
			}
		}
	}
	c, err := Define(d)
	if err != nil {
		return nil, fmt.Errorf("EPSG:%d %s: %w: convert the file to another CRS", code, r[1], err)
	}
	c.Code = code
	if c.Stated != nil {
		c.Stated.Code = code
	}
	return c, nil
}

type unitOfMeasure struct {
	name string
	size float64
}

func lookupUnit(code string) (unitOfMeasure, error) {
	n, _ := strconv.Atoi(code)
	r := find(unitTable, n)
	if r == nil {
		return unitOfMeasure{}, fmt.Errorf("the unit EPSG:%s is not known", code)
	}
	return unitOfMeasure{r[1], numbers(r[2])[0]}, nil
}

// LinearUnit gives the size in metres and the name of a unit of length by its EPSG code.
func LinearUnit(code int) (float64, string, error) {
	u, err := lookupUnit(strconv.Itoa(code))
	return u.size, u.name, err
}

func lookupGeographic(code int, name string, datum int, unit unitOfMeasure) (*CRS, error) {
	r := find(datumTable, datum)
	if r == nil {
		return nil, fmt.Errorf("EPSG:%d %s has no datum in the registry", code, name)
	}
	v := numbers(r[3:]...)
	c := &CRS{Code: code, Name: name, Datum: Datum{datum, r[1]}, Ellipsoid: ellipsoid.Ellipsoid{Name: r[2], A: v[0], F: v[1]}, Meridian: v[2] * degree,
		Unit: unit.size, UnitName: unit.name}
	return c.OnGround(), nil
}

// DatumByCode finds a datum of the registry and its ellipsoid; its code is 0 when there is none.
func DatumByCode(code int) (Datum, ellipsoid.Ellipsoid) {
	r := find(datumTable, code)
	if r == nil {
		return Datum{}, ellipsoid.Ellipsoid{}
	}
	v := numbers(r[3:5]...)
	return Datum{code, r[1]}, ellipsoid.Ellipsoid{Name: r[2], A: v[0], F: v[1]}
}

// DatumByName finds a datum by a name or another name that it goes by, whatever the case and the
// characters between the words, with or without the D_ before it that .prj files have.
func DatumByName(name string) (Datum, ellipsoid.Ellipsoid) {
	want := strings.TrimSuffix(plainName(strings.TrimPrefix(name, "D_")), "ensemble")
	if want == "" {
		return Datum{}, ellipsoid.Ellipsoid{}
	}
	for line := range strings.SplitSeq(datumTable, "\n") {
		cells := strings.Split(line, "\t")
		if len(cells) < 7 {
			continue
		}
		for _, n := range append(strings.Split(cells[6], "|"), cells[1]) {
			if plainName(strings.TrimPrefix(n, "D_")) == want {
				code, _ := strconv.Atoi(cells[0])
				return DatumByCode(code)
			}
		}
	}
	return Datum{}, ellipsoid.Ellipsoid{}
}
