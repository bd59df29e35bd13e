package earth

// Roles are the parameters of a projection by what they do, as CRS texts and GeoKeys name them under
// many names: lat0, lon0, lat1, lat2, scale, fe, fn, azimuth, skew, pseudo and escale. Angles are in
// degrees, lengths in metres.
type Roles map[string]float64

// Params turns roles into the parameters that a method knows.
func (m Method) Params(r Roles) map[Param]float64 {
	names := map[string]Param{"lat0": ParamLatOrigin, "lon0": ParamLonOrigin, "lat1": ParamParallel1, "scale": ParamScale,
		"fe": ParamFalseEast, "fn": ParamFalseNorth}
	switch m {
	case MethodConic2, MethodConicBelgium, MethodConicMichigan, MethodAlbers:
		names = map[string]Param{"lat0": ParamLatFalse, "lon0": ParamLonFalse, "lat1": ParamParallel1, "lat2": ParamParallel2,
			"fe": ParamEastFalse, "fn": ParamNorthFalse, "escale": ParamEllipsoidScale}
	case MethodPolarStereographicB:
		names = map[string]Param{"lat1": ParamParallel, "lon0": ParamLonDown, "fe": ParamFalseEast, "fn": ParamFalseNorth}
	case MethodPolarStereographicC:
		names = map[string]Param{"lat1": ParamParallel, "lon0": ParamLonDown, "fe": ParamEastFalse, "fn": ParamNorthFalse}
	case MethodObliqueMercatorA, MethodObliqueMercatorB:
		names = map[string]Param{"lat0": ParamLatCentre, "lon0": ParamLonCentre, "azimuth": ParamAzimuth, "skew": ParamSkewAngle,
			"scale": ParamScaleCentre, "fe": ParamFalseEast, "fn": ParamFalseNorth}
		if m == MethodObliqueMercatorB {
			names["fe"], names["fn"] = ParamEastCentre, ParamNorthCentre
		}
	case MethodKrovak, MethodKrovakNorth:
		names = map[string]Param{"lat0": ParamLatCentre, "lon0": ParamLonDown, "azimuth": ParamConeColatitude, "pseudo": ParamPseudoParallel,
			"scale": ParamPseudoScale, "fe": ParamFalseEast, "fn": ParamFalseNorth}
	case MethodColombiaUrban:
		names["height"] = ParamPlaneHeight
	}
	out := map[Param]float64{}
	for role, v := range r {
		if p, ok := names[role]; ok {
			out[p] = v
		}
	}
	if _, ok := r["skew"]; !ok && names["skew"] != 0 {
		out[ParamSkewAngle] = r["azimuth"]
	}
	return out
}

// Roles is the reverse of Params.
func (d *Definition) Roles() Roles {
	out := Roles{}
	for p, v := range d.Params {
		for role, known := range roleOf {
			for _, k := range known {
				if k == p {
					out[role] = v
				}
			}
		}
	}
	return out
}

var roleOf = map[string][]Param{
	"lat0": {ParamLatOrigin, ParamLatFalse, ParamLatCentre}, "lon0": {ParamLonOrigin, ParamLonFalse, ParamLonCentre, ParamLonDown},
	"lat1": {ParamParallel1, ParamParallel}, "lat2": {ParamParallel2}, "scale": {ParamScale, ParamScaleCentre, ParamPseudoScale},
	"fe": {ParamFalseEast, ParamEastFalse, ParamEastCentre}, "fn": {ParamFalseNorth, ParamNorthFalse, ParamNorthCentre},
	"azimuth": {ParamAzimuth, ParamConeColatitude}, "skew": {ParamSkewAngle}, "pseudo": {ParamPseudoParallel},
	"escale": {ParamEllipsoidScale}, "height": {ParamPlaneHeight},
}
