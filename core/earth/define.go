package earth

import (
	"fmt"
	"math"
)

// Method is a projection method by its EPSG code.
type Method int

// The methods that a Definition can name.
const (
	MethodPseudoMercator            Method = 1024
	MethodMercatorSpherical         Method = 1026
	MethodAzimuthalSpherical        Method = 1027
	MethodEquidistantCylindrical    Method = 1028
	MethodEquidistantSpherical      Method = 1029
	MethodKrovakNorth               Method = 1041
	MethodConicMichigan             Method = 1051
	MethodColombiaUrban             Method = 1052
	MethodEqualEarth                Method = 1078
	MethodTransverseMercator3D      Method = 1111
	MethodConic1                    Method = 9801
	MethodConic2                    Method = 9802
	MethodConicBelgium              Method = 9803
	MethodMercatorA                 Method = 9804
	MethodMercatorB                 Method = 9805
	MethodCassini                   Method = 9806
	MethodTransverseMercator        Method = 9807
	MethodTransverseMercatorSouth   Method = 9808
	MethodObliqueStereographic      Method = 9809
	MethodPolarStereographicA       Method = 9810
	MethodObliqueMercatorA          Method = 9812
	MethodObliqueMercatorB          Method = 9815
	MethodPolyconic                 Method = 9818
	MethodKrovak                    Method = 9819
	MethodLambertAzimuthalEqualArea Method = 9820
	MethodAlbers                    Method = 9822
	MethodConicWest                 Method = 9826
	MethodPolarStereographicB       Method = 9829
	MethodPolarStereographicC       Method = 9830
	MethodCylindricalSpherical      Method = 9834
	MethodCylindricalEqualArea      Method = 9835
	// EPSG has no code for these two.
	MethodSinusoidal Method = -1
	MethodMollweide  Method = -2
)

// Param is a parameter of a projection by its EPSG code.
type Param int

// The parameters of the methods.
const (
	ParamLatOrigin      Param = 8801
	ParamLonOrigin      Param = 8802
	ParamScale          Param = 8805
	ParamFalseEast      Param = 8806
	ParamFalseNorth     Param = 8807
	ParamLatCentre      Param = 8811
	ParamLonCentre      Param = 8812
	ParamAzimuth        Param = 8813
	ParamSkewAngle      Param = 8814
	ParamScaleCentre    Param = 8815
	ParamEastCentre     Param = 8816
	ParamNorthCentre    Param = 8817
	ParamPseudoParallel Param = 8818
	ParamPseudoScale    Param = 8819
	ParamLatFalse       Param = 8821
	ParamLonFalse       Param = 8822
	ParamParallel1      Param = 8823
	ParamParallel2      Param = 8824
	ParamEastFalse      Param = 8826
	ParamNorthFalse     Param = 8827
	ParamParallel       Param = 8832
	ParamLonDown        Param = 8833
	ParamConeColatitude Param = 1036
	ParamEllipsoidScale Param = 1038
	ParamPlaneHeight    Param = 1039
)

// angle reports whether a parameter is an angle, in degrees.
func (p Param) angle() bool {
	switch p {
	case ParamLatOrigin, ParamLonOrigin, ParamLatCentre, ParamLonCentre, ParamAzimuth, ParamSkewAngle, ParamPseudoParallel,
		ParamLatFalse, ParamLonFalse, ParamParallel1, ParamParallel2, ParamParallel, ParamLonDown, ParamConeColatitude:
		return true
	}
	return false
}

// Definition is a projected CRS written out. Angles are in degrees, lengths in metres; Unit is
// metres in a unit of the coordinates.
type Definition struct {
	Name     string
	Base     *CRS // geographic
	Method   Method
	Params   map[Param]float64
	Unit     float64
	UnitName string
}

// Define makes a CRS from its definition.
func Define(d Definition) (*CRS, error) {
	if !(d.Unit > 0) {
		return nil, fmt.Errorf("its linear unit is %g metres", d.Unit)
	}
	for param, v := range d.Params {
		if math.IsNaN(v) || math.IsInf(v, 0) || param.angle() && math.Abs(v) > 400 || math.Abs(v) > 1e9 {
			return nil, fmt.Errorf("its projection has a parameter of %g", v)
		}
	}
	for _, param := range []Param{ParamLatOrigin, ParamLatCentre, ParamLatFalse, ParamParallel, ParamParallel1, ParamParallel2} {
		if v := d.Params[param]; math.Abs(v) > 90 {
			return nil, fmt.Errorf("its projection has a latitude of %g°", v)
		}
	}
	for _, param := range []Param{ParamScale, ParamScaleCentre, ParamPseudoScale, ParamEllipsoidScale} {
		if v, ok := d.Params[param]; ok && !(v > 0) {
			return nil, fmt.Errorf("its projection has a scale of %g", v)
		}
	}
	p, err := d.projection()
	if err != nil {
		return nil, err
	}
	c := NewProjected(0, d.Name, d.Base.stated(), p)
	c.Unit, c.UnitName, c.Definition = d.Unit, d.UnitName, &d
	return c.OnGround(), nil
}

// projection builds the projection of a definition.
func (d *Definition) projection() (Projection, error) {
	e := d.Base.stated().Ellipsoid
	rad := func(p Param) float64 { return d.Params[p] * degree }
	m := func(p Param) float64 { return d.Params[p] }
	k := func(p Param) float64 {
		if v, ok := d.Params[p]; ok {
			return v
		}
		return 1
	}
	lat0, lon0, fe, fn := rad(ParamLatOrigin), rad(ParamLonOrigin), m(ParamFalseEast), m(ParamFalseNorth)
	switch d.Method {
	case MethodTransverseMercator, MethodTransverseMercator3D:
		return NewTransverseMercator(e, lat0, lon0, k(ParamScale), fe, fn), nil
	case MethodTransverseMercatorSouth:
		return reversed{NewTransverseMercator(e, lat0, lon0, k(ParamScale), 0, 0), fe, fn}, nil
	case MethodLambertAzimuthalEqualArea:
		return NewLambertAzimuthalEqualArea(e, lat0, lon0, fe, fn), nil
	case MethodAzimuthalSpherical:
		return NewAzimuthalSpherical(e, lat0, lon0, fe, fn), nil
	case MethodAlbers:
		return NewAlbers(e, rad(ParamLatFalse), rad(ParamLonFalse), rad(ParamParallel1), rad(ParamParallel2), m(ParamEastFalse), m(ParamNorthFalse))
	case MethodCylindricalEqualArea:
		return NewCylindricalEqualArea(e, rad(ParamParallel1), lon0, fe, fn), nil
	case MethodCylindricalSpherical:
		if e.F != 0 {
			return nil, fmt.Errorf("its projection is that of a sphere, but %s is none", e.Name)
		}
		return NewCylindricalEqualArea(e, rad(ParamParallel1), lon0, fe, fn), nil
	case MethodMercatorA:
		if lat0 != 0 {
			return nil, fmt.Errorf("its Mercator has its origin at latitude %g° instead of the equator", lat0/degree)
		}
		return NewMercator(e, lon0, k(ParamScale), fe, fn), nil
	case MethodMercatorB:
		return NewMercatorTrueScale(e, rad(ParamParallel1), lon0, fe, fn), nil
	case MethodPseudoMercator, MethodMercatorSpherical:
		return NewPseudoMercator(e, lon0, fe, fn), nil
	case MethodConic1:
		return NewLambertConformal1(e, lat0, lon0, k(ParamScale), fe, fn)
	case MethodConicWest:
		p, err := NewLambertConformal1(e, lat0, lon0, k(ParamScale), fe, fn)
		if err == nil {
			p.to = -1
		}
		return p, err
	case MethodConic2, MethodConicBelgium, MethodConicMichigan:
		p, err := NewLambertConformal2(e, rad(ParamLatFalse), rad(ParamLonFalse), rad(ParamParallel1), rad(ParamParallel2), m(ParamEastFalse), m(ParamNorthFalse))
		if err == nil && d.Method == MethodConicBelgium {
			p.tilt = 29.2985 / 3600 * degree
		}
		if err == nil && d.Method == MethodConicMichigan {
			p.scale *= k(ParamEllipsoidScale)
			p.rho0 *= k(ParamEllipsoidScale)
		}
		return p, err
	case MethodPolarStereographicA:
		if math.Abs(math.Abs(lat0)-math.Pi/2) > 1e-9 {
			return nil, fmt.Errorf("its polar stereographic has its origin at latitude %g° instead of a pole", lat0/degree)
		}
		return NewPolarStereographic(e, lat0 > 0, lon0, k(ParamScale), fe, fn), nil
	case MethodPolarStereographicB:
		return NewPolarStereographicTrueScale(e, rad(ParamParallel), rad(ParamLonDown), fe, fn), nil
	case MethodPolarStereographicC:
		p := NewPolarStereographicTrueScale(e, rad(ParamParallel), rad(ParamLonDown), m(ParamEastFalse), 0)
		_, y, _ := p.Forward(rad(ParamParallel), rad(ParamLonDown))
		p.fn = m(ParamNorthFalse) - y
		return p, nil
	case MethodObliqueStereographic:
		if math.Abs(lat0) > 89*degree {
			return nil, fmt.Errorf("its oblique stereographic has its centre at latitude %g°", lat0/degree)
		}
		return NewObliqueStereographic(e, lat0, lon0, k(ParamScale), fe, fn), nil
	case MethodObliqueMercatorA:
		return NewObliqueMercator(e, rad(ParamLatCentre), rad(ParamLonCentre), rad(ParamAzimuth), rad(ParamSkewAngle), k(ParamScaleCentre), fe, fn, false)
	case MethodObliqueMercatorB:
		return NewObliqueMercator(e, rad(ParamLatCentre), rad(ParamLonCentre), rad(ParamAzimuth), rad(ParamSkewAngle), k(ParamScaleCentre),
			m(ParamEastCentre), m(ParamNorthCentre), true)
	case MethodKrovak, MethodKrovakNorth:
		return NewKrovak(e, rad(ParamLatCentre), rad(ParamLonDown), rad(ParamConeColatitude), rad(ParamPseudoParallel), k(ParamPseudoScale),
			fe, fn, d.Method == MethodKrovakNorth), nil
	case MethodCassini:
		return NewCassiniSoldner(e, lat0, lon0, fe, fn), nil
	case MethodPolyconic:
		return NewPolyconic(e, lat0, lon0, fe, fn), nil
	case MethodEquidistantCylindrical, MethodEquidistantSpherical:
		return NewEquidistantCylindrical(e, rad(ParamParallel1), lon0, fe, fn, d.Method == MethodEquidistantSpherical), nil
	case MethodEqualEarth:
		return NewEqualEarth(e, lon0, fe, fn), nil
	case MethodSinusoidal:
		return NewSinusoidal(e, lon0, fe, fn), nil
	case MethodMollweide:
		return NewMollweide(e, lon0, fe, fn), nil
	case MethodColombiaUrban:
		return NewColombiaUrban(e, lat0, lon0, m(ParamPlaneHeight), fe, fn), nil
	}
	return nil, fmt.Errorf("the projection method EPSG:%d is not known to this version", d.Method)
}
