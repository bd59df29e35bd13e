package earth

import (
	"fmt"

	"github.com/verdex-land/verdex/core/earth/projection"
)

// Definition is a projected CRS written out. Unit is metres in a unit of the coordinates.
type Definition struct {
	Name     string
	Base     *CRS // geographic
	Method   *projection.Method
	Params   projection.Params // in degrees and metres
	Unit     float64
	UnitName string
}

// Define makes a CRS from its definition. Parameters that the method does not have are left out.
func Define(d Definition) (*CRS, error) {
	if !(d.Unit > 0) {
		return nil, fmt.Errorf("its linear unit is %g metres", d.Unit)
	}
	if err := d.Params.Check(); err != nil {
		return nil, err
	}
	base := d.Base.stated()
	d.Params = d.Method.Take(d.Params)
	p, err := d.Method.New(base.Ellipsoid, d.Params)
	if err != nil {
		return nil, err
	}
	domain := p.Domain()
	c := &CRS{Name: d.Name, Datum: base.Datum, Ellipsoid: base.Ellipsoid, Meridian: base.Meridian, Projection: p, domain: &domain,
		Unit: d.Unit, UnitName: d.UnitName, Definition: &d}
	return c.OnGround(), nil
}
