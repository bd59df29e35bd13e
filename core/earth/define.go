package earth

import "fmt"

// Method is a projection method by its EPSG name.
type Method string

// The methods that a Definition can name.
const (
	MethodTransverseMercator        Method = "Transverse Mercator"
	MethodLambertAzimuthalEqualArea Method = "Lambert Azimuthal Equal Area"
	MethodAlbers                    Method = "Albers Equal Area"
	MethodCylindricalEqualArea      Method = "Lambert Cylindrical Equal Area"
	MethodMercator                  Method = "Mercator"
	MethodPseudoMercator            Method = "Popular Visualisation Pseudo Mercator"
)

// Definition is a projected CRS written out. Angles are in degrees; false easting and northing
// in metres; Unit is metres in a unit of the coordinates.
type Definition struct {
	Name         string
	Base         *CRS // geographic
	Method       Method
	Lat0, Lon0   float64
	Lat1, Lat2   float64 // standard parallels
	Scale        float64 // on the central meridian, or at the equator for Mercator; 0 when Lat1 is used
	FalseEast    float64
	FalseNorth   float64
	Unit         float64
	UnitName     string
	TrueScaleLat bool // Mercator: Lat1 is the latitude of true scale
}

// Define makes a CRS from its definition.
func Define(d Definition) (*CRS, error) {
	e := d.Base.Ellipsoid
	if d.Unit <= 0 {
		return nil, fmt.Errorf("its linear unit is %g metres", d.Unit)
	}
	for _, v := range []float64{d.Lat0, d.Lat1, d.Lat2} {
		if !(v >= -90 && v <= 90) {
			return nil, fmt.Errorf("its projection has a latitude of %g°", v)
		}
	}
	lat0, lon0, lat1, lat2 := d.Lat0*degree, d.Lon0*degree, d.Lat1*degree, d.Lat2*degree
	var p Projection
	var err error
	switch d.Method {
	case MethodTransverseMercator:
		if d.Scale <= 0 {
			return nil, fmt.Errorf("its transverse Mercator has a scale of %g", d.Scale)
		}
		p = NewTransverseMercator(e, lat0, lon0, d.Scale, d.FalseEast, d.FalseNorth)
	case MethodLambertAzimuthalEqualArea:
		p = NewLambertAzimuthalEqualArea(e, lat0, lon0, d.FalseEast, d.FalseNorth)
	case MethodAlbers:
		p, err = NewAlbers(e, lat0, lon0, lat1, lat2, d.FalseEast, d.FalseNorth)
	case MethodCylindricalEqualArea:
		p = NewCylindricalEqualArea(e, lat1, lon0, d.FalseEast, d.FalseNorth)
	case MethodMercator:
		switch {
		case d.TrueScaleLat:
			p = NewMercatorTrueScale(e, lat1, lon0, d.FalseEast, d.FalseNorth)
		case d.Scale > 0:
			p = NewMercator(e, lon0, d.Scale, d.FalseEast, d.FalseNorth)
		default:
			return nil, fmt.Errorf("its Mercator has a scale of %g", d.Scale)
		}
	case MethodPseudoMercator:
		p = NewPseudoMercator(e, lon0, d.FalseEast, d.FalseNorth)
	default:
		return nil, fmt.Errorf("the projection method %q is not known to this version", d.Method)
	}
	if err != nil {
		return nil, err
	}
	c := NewProjected(0, d.Name, d.Base, p)
	c.Unit, c.UnitName, c.Definition = d.Unit, d.UnitName, &d
	return c, nil
}
