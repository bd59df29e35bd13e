package geotiff

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/earth/ellipsoid"
	"github.com/verdex-land/verdex/core/earth/projection"
)

// GeoKeys, from OGC GeoTIFF 1.1, annex B.
const (
	keyModelType        = 1024
	keyRasterType       = 1025
	keyCitation         = 1026
	keyGeodeticCRS      = 2048
	keyGeodeticCitation = 2049
	keyDatum            = 2050
	keyPrimeMeridian    = 2051
	keyAngularUnit      = 2054
	keyEllipsoid        = 2056
	keySemiMajor        = 2057
	keySemiMinor        = 2058
	keyInverseFlat      = 2059
	keyPrimeMeridianLon = 2061
	keyProjectedCRS     = 3072
	keyProjCitation     = 3073
	keyProjection       = 3074
	keyMethod           = 3075
	keyLinearUnit       = 3076
	keyLinearSize       = 3077
	keyParallel1        = 3078
	keyParallel2        = 3079
	keyOriginLon        = 3080
	keyOriginLat        = 3081
	keyFalseEasting     = 3082
	keyFalseNorthing    = 3083
	keyFalseOriginLon   = 3084
	keyFalseOriginLat   = 3085
	keyFalseOriginEast  = 3086
	keyFalseOriginNorth = 3087
	keyCenterLon        = 3088
	keyCenterLat        = 3089
	keyCenterEasting    = 3090
	keyCenterNorthing   = 3091
	keyScale            = 3092
	keyScaleAtCenter    = 3093
	keyAzimuth          = 3094
	keyPoleLon          = 3095
	keySkew             = 3096
	userDefined         = 32767
)

type geoKeys struct {
	short  map[uint16]uint64
	double map[uint16]float64
	ascii  map[uint16]string
}

func (k geoKeys) empty() bool {
	_, a := k.short[keyModelType]
	_, b := k.short[keyProjectedCRS]
	_, c := k.short[keyGeodeticCRS]
	return !a && !b && !c
}

func readGeoKeys(d *directory) (geoKeys, error) {
	k := geoKeys{map[uint16]uint64{}, map[uint16]float64{}, map[uint16]string{}}
	f, ok := d.fields[tagGeoKeys]
	if !ok {
		return k, nil
	}
	n, _ := d.at(f, 3)
	if f.kind != 3 || f.count < 4 || f.count < 4+4*n {
		return k, fmt.Errorf("its GeoKey directory is damaged (%d values for %d keys)", f.count, n)
	}
	doubles, text := d.doubles(tagGeoDoubles), d.text(tagGeoASCII)
	for i := range n {
		var e [4]uint64
		for j := range e {
			e[j], _ = d.at(f, 4+4*i+uint64(j))
		}
		key := uint16(e[0])
		switch e[1] {
		case 0:
			k.short[key] = e[3]
		case tagGeoDoubles:
			if e[3] < uint64(len(doubles)) {
				k.double[key] = doubles[e[3]]
			}
		case tagGeoASCII:
			if e[3]+e[2] <= uint64(len(text)) {
				k.ascii[key] = strings.TrimRight(text[e[3]:e[3]+e[2]], "|\x00")
			}
		}
	}
	return k, nil
}

// crs understands the keys: an EPSG code first, then parameters written out.
func (k geoKeys) crs() (*earth.CRS, error) {
	switch k.short[keyModelType] {
	case 2:
		return k.base()
	case 1, 0:
		if k.short[keyModelType] == 0 && k.short[keyProjectedCRS] == 0 {
			return k.base()
		}
		code := k.short[keyProjectedCRS]
		if code != 0 && code != userDefined {
			crs, err := earth.Lookup(int(code))
			if err == nil && crs.Geographic() {
				err = fmt.Errorf("its keys call EPSG:%d projected, but it is geographic", code)
			}
			if err == nil {
				if err := k.sameUnit(crs); err != nil {
					return nil, err
				}
				return crs, nil
			}
			if k.short[keyMethod] == 0 {
				return nil, err
			}
		}
		return k.projected()
	}
	return nil, fmt.Errorf("its model type is %d, neither projected nor geographic", k.short[keyModelType])
}

// base is the geographic CRS of the keys, in degrees.
func (k geoKeys) base() (*earth.CRS, error) {
	code := k.short[keyGeodeticCRS]
	if code != 0 && code != userDefined {
		crs, err := earth.Lookup(int(code))
		if err == nil && !crs.Geographic() {
			err = fmt.Errorf("its keys call EPSG:%d geographic, but it is projected", code)
		}
		return crs, err
	}
	unit := math.Pi / 180
	switch u := k.short[keyAngularUnit]; u {
	case 0, 9102, 9122:
	case 9105:
		unit = math.Pi / 200
	default:
		return nil, fmt.Errorf("its angular unit is EPSG:%d instead of degrees (9102), which is not read: convert it to degrees", u)
	}
	name := k.ascii[keyGeodeticCitation]
	if datum, e := earth.DatumByCode(int(k.short[keyDatum])); datum.Code != 0 {
		if name == "" {
			name = datum.Name
		}
		return k.onDatum(name, datum, e, unit), nil
	}
	e, err := k.ellipsoid()
	if err != nil {
		return nil, err
	}
	// Citations name the geographic CRS, or "Datum = …", one fact between bars.
	for _, part := range strings.Split(name, "|") {
		_, after, ok := strings.Cut(part, "=")
		if !ok {
			after = part
		}
		if datum, own := earth.DatumByName(strings.TrimPrefix(strings.TrimSpace(after), "GCS_")); datum.Code != 0 && math.Abs(own.A-e.A) < 0.01 && math.Abs(own.F-e.F) < 1e-8 {
			return k.onDatum(name, datum, own, unit), nil
		}
	}
	if name == "" {
		name = "unnamed geographic CRS"
	}
	return k.onDatum(name, earth.Datum{Name: "that of " + e.Name}, e, unit), nil
}

// onDatum is the geographic CRS of the keys on a datum, with the keys' prime meridian.
func (k geoKeys) onDatum(name string, d earth.Datum, e ellipsoid.Ellipsoid, unit float64) *earth.CRS {
	c := &earth.CRS{Name: name, Datum: d, Ellipsoid: e, Unit: unit, UnitName: "degree", Meridian: k.double[keyPrimeMeridianLon] * unit}
	if unit != math.Pi/180 {
		c.UnitName = "grad"
	}
	return c.OnGround()
}

func (k geoKeys) ellipsoid() (ellipsoid.Ellipsoid, error) {
	switch k.short[keyEllipsoid] {
	case 7030:
		return ellipsoid.WGS84, nil
	case 7019:
		return ellipsoid.GRS80, nil
	case 7008:
		return ellipsoid.Clarke1866, nil
	case 7035, 7047, 7048: // spheres
		return ellipsoid.Ellipsoid{Name: "sphere", A: map[uint64]float64{7035: 6371000, 7047: 6370997, 7048: 6371007}[k.short[keyEllipsoid]]}, nil
	}
	a := k.double[keySemiMajor]
	if !(a > 1e6 && a < 1e8) {
		return ellipsoid.Ellipsoid{}, fmt.Errorf("its keys name no ellipsoid that is known (EPSG:%d, semi-major axis %g m): convert it to an EPSG-coded CRS", k.short[keyEllipsoid], a)
	}
	e := ellipsoid.Ellipsoid{Name: fmt.Sprintf("ellipsoid of %.3f m", a), A: a}
	if inv, ok := k.double[keyInverseFlat]; ok && inv != 0 {
		e.F = 1 / inv
	} else if b, ok := k.double[keySemiMinor]; ok {
		e.F = 1 - b/a
	}
	return e, e.Check()
}

func (k geoKeys) projected() (*earth.CRS, error) {
	if c, err := k.fromCitation(); c != nil || err != nil {
		return c, err
	}
	base, err := k.base()
	if err != nil {
		return nil, err
	}
	unit, unitName, err := k.linearUnit()
	if err != nil {
		return nil, err
	}
	name := k.ascii[keyProjCitation]
	if name == "" {
		name = "unnamed projected CRS"
	}
	d := earth.Definition{Name: name, Base: base, Unit: unit, UnitName: unitName}
	if p := k.short[keyProjection]; p > 16000 && p < 16161 && p%100 >= 1 && p%100 <= 60 { // UTM by its operation code
		d.Method = projection.TransverseMercator
		d.Params = projection.Params{projection.Lon0: float64(p%100)*6 - 183, projection.Scale: 0.9996, projection.East: 500000}
		if p > 16100 {
			d.Params[projection.North] = 1e7
		}
		return earth.Define(d)
	}
	d.Params = k.params(unit)
	if d.Method = projection.ByGeoKey(int(k.short[keyMethod]), d.Params); d.Method == nil {
		return nil, fmt.Errorf("its CRS (%s; EPSG:%d, projection method %d) is not known to this version, or its parameters are incomplete: convert it to an EPSG-coded CRS such as EPSG:3035 or a UTM zone",
			name, k.short[keyProjectedCRS], k.short[keyMethod])
	}
	return earth.Define(d)
}

// params are the parameters of the projection; unit is that of its lengths in metres.
func (k geoKeys) params(unit float64) projection.Params {
	out := projection.Params{}
	for role, keys := range roleKeys {
		for _, key := range keys {
			if v, ok := k.double[key]; ok {
				if role.Length() {
					v *= unit
				}
				out[role] = v
				break
			}
		}
	}
	if out[projection.Scale] == 0 { // written by some for none
		delete(out, projection.Scale)
	}
	return out
}

// fromCitation reads the WKT that some programs put into a citation, behind "ESRI PE String = " or alone.
func (k geoKeys) fromCitation() (*earth.CRS, error) {
	for _, key := range []uint16{keyProjCitation, keyCitation} {
		text := strings.TrimSpace(k.ascii[key])
		if _, after, ok := strings.Cut(text, "= "); ok {
			text = strings.TrimSpace(after)
		}
		if earth.LooksLikeWKT(text) {
			return earth.ParseWKT(text)
		}
	}
	return nil, nil
}

// roleKeys are the keys that hold a parameter, the likeliest first.
var roleKeys = map[projection.Role][]uint16{
	projection.Lat0:       {keyOriginLat, keyFalseOriginLat, keyCenterLat},
	projection.Lon0:       {keyOriginLon, keyFalseOriginLon, keyCenterLon, keyPoleLon},
	projection.Lat1:       {keyParallel1},
	projection.Lat2:       {keyParallel2},
	projection.Scale:      {keyScale, keyScaleAtCenter},
	projection.East:       {keyFalseEasting, keyFalseOriginEast, keyCenterEasting},
	projection.North:      {keyFalseNorthing, keyFalseOriginNorth, keyCenterNorthing},
	projection.CentreEast: {keyCenterEasting}, projection.CentreNorth: {keyCenterNorthing},
	projection.Azimuth: {keyAzimuth},
	projection.Skew:    {keySkew},
}

// sameUnit refuses a linear unit that is not that of the CRS which the keys name by its code: one of them is wrong.
func (k geoKeys) sameUnit(crs *earth.CRS) error {
	if k.short[keyLinearUnit] == 0 {
		return nil
	}
	size, name, err := k.linearUnit()
	if err != nil || math.Abs(size/crs.Unit-1) < 1e-9 {
		return err
	}
	return fmt.Errorf("its keys name %v, whose unit is the %s, beside the unit %s: one of them is wrong", crs, crs.UnitName, name)
}

func (k geoKeys) linearUnit() (float64, string, error) {
	switch u := k.short[keyLinearUnit]; u {
	case 0, 9001:
		return 1, "metre", nil
	case 9002:
		return 0.3048, "foot", nil
	case 9003:
		return 1200. / 3937, "US survey foot", nil
	case userDefined:
		if s := k.double[keyLinearSize]; s > 0 && s < 1e6 {
			return s, fmt.Sprintf("unit of %g m", s), nil
		}
		return 0, "", fmt.Errorf("its linear unit has a size of %g m: the file is damaged", k.double[keyLinearSize])
	default:
		size, name, err := earth.LinearUnit(int(u))
		if err != nil {
			return 0, "", fmt.Errorf("its linear unit EPSG:%d is not known: convert it to metres", u)
		}
		return size, name, nil
	}
}

// keysOf writes a CRS as keys, the counterpart of crs.
func keysOf(c *earth.CRS) (geoKeys, error) {
	k := geoKeys{map[uint16]uint64{keyRasterType: 1}, map[uint16]float64{}, map[uint16]string{}}
	if c.Geographic() {
		k.short[keyModelType] = 2
		k.putBase(c)
		return k, nil
	}
	k.short[keyModelType] = 1
	if c.Code != 0 {
		k.short[keyProjectedCRS] = uint64(c.Code)
		k.ascii[keyProjCitation] = c.Name
		return k, nil
	}
	d := c.Definition
	if d == nil {
		return k, fmt.Errorf("the CRS %s has neither code nor definition", c.Name)
	}
	k.putBase(d.Base)
	k.short[keyProjectedCRS], k.short[keyProjection] = userDefined, userDefined
	k.ascii[keyProjCitation] = d.Name
	k.short[keyLinearUnit], k.double[keyLinearSize] = userDefined, d.Unit
	if d.Unit == 1 {
		k.short[keyLinearUnit] = 9001
		delete(k.double, keyLinearSize)
	}
	unwritten := fmt.Errorf("the CRS %s cannot be written to a GeoTIFF without an EPSG code", c.Name)
	if len(d.Method.GeoKeys) == 0 {
		return k, unwritten
	}
	k.short[keyMethod] = uint64(d.Method.GeoKeys[0])
	for _, p := range d.Method.Params {
		v, ok := d.Params[p.Role]
		if !ok {
			continue
		}
		key := p.GeoKey
		if key == 0 {
			if len(roleKeys[p.Role]) == 0 {
				return k, unwritten
			}
			key = roleKeys[p.Role][0]
		}
		if p.Role.Length() {
			v /= d.Unit
		}
		k.double[key] = v
	}
	return k, nil
}

func (k geoKeys) putBase(c *earth.CRS) {
	if c.Stated != nil {
		c = c.Stated
	}
	k.ascii[keyGeodeticCitation] = c.Name
	k.short[keyAngularUnit] = 9102
	if c.Code != 0 {
		k.short[keyGeodeticCRS] = uint64(c.Code)
		return
	}
	k.short[keyGeodeticCRS], k.short[keyEllipsoid] = userDefined, userDefined
	if c.Datum.Code != 0 {
		k.short[keyDatum] = uint64(c.Datum.Code)
	}
	if c.Meridian != 0 {
		k.short[keyPrimeMeridian], k.double[keyPrimeMeridianLon] = userDefined, c.Meridian/c.Unit
	}
	if c.UnitName == "grad" {
		k.short[keyAngularUnit] = 9105
	}
	k.double[keySemiMajor] = c.Ellipsoid.A
	k.double[keySemiMinor] = c.Ellipsoid.B()
}
