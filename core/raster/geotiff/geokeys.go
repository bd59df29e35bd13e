package geotiff

import (
	"fmt"
	"math"
	"strings"

	"github.com/verdex-land/verdex/core/earth"
)

// GeoKeys, from OGC GeoTIFF 1.1, annex B.
const (
	keyModelType        = 1024
	keyRasterType       = 1025
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
	userDefined         = 32767
)

// Projection methods of ProjMethodGeoKey.
const (
	ctTransverseMercator = 1
	ctMercator           = 7
	ctLambertAzimuthal   = 10
	ctAlbers             = 11
	ctCylindrical        = 28
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
			if err == nil || k.short[keyMethod] == 0 {
				return crs, err
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
	if lon := k.double[keyPrimeMeridianLon]; lon != 0 || k.short[keyPrimeMeridian] != 0 && k.short[keyPrimeMeridian] != 8901 {
		return nil, fmt.Errorf("its longitudes do not count from Greenwich, which is not read: convert it to an EPSG-coded CRS")
	}
	if u := k.short[keyAngularUnit]; u != 0 && u != 9102 && u != 9122 {
		return nil, fmt.Errorf("its angular unit is EPSG:%d instead of degrees (9102), which is not read: convert it to degrees", u)
	}
	for _, known := range []struct {
		datum uint64
		code  int
	}{{6326, 4326}, {6258, 4258}, {6269, 4269}} {
		if k.short[keyDatum] == known.datum {
			return earth.Lookup(known.code)
		}
	}
	e, err := k.ellipsoid()
	if err != nil {
		return nil, err
	}
	name := k.ascii[keyGeodeticCitation]
	for _, datum := range []struct {
		marks string
		code  int
	}{{"WGS 84|WGS84|WGS_1984", 4326}, {"ETRS89|ETRS_1989|European Terrestrial Reference System 1989", 4258}, {"NAD83|North_American_1983|North American Datum 1983", 4269}} {
		for _, mark := range strings.Split(datum.marks, "|") {
			if strings.Contains(name, mark) {
				return earth.Lookup(datum.code)
			}
		}
	}
	if name == "" {
		name = "unnamed geographic CRS"
	}
	return &earth.CRS{Name: name, Datum: "that of " + e.Name, Ellipsoid: e, Unit: math.Pi / 180, UnitName: "degree"}, nil
}

func (k geoKeys) ellipsoid() (earth.Ellipsoid, error) {
	switch k.short[keyEllipsoid] {
	case 7030:
		return earth.WGS84, nil
	case 7019:
		return earth.GRS80, nil
	case 7008:
		return earth.Clarke1866, nil
	}
	a := k.double[keySemiMajor]
	if !(a > 1e6 && a < 1e8) {
		return earth.Ellipsoid{}, fmt.Errorf("its keys name no ellipsoid that is known (EPSG:%d, semi-major axis %g m): convert it to an EPSG-coded CRS", k.short[keyEllipsoid], a)
	}
	e := earth.Ellipsoid{Name: fmt.Sprintf("ellipsoid of %.3f m", a), A: a}
	if inv, ok := k.double[keyInverseFlat]; ok && inv != 0 {
		e.F = 1 / inv
	} else if b, ok := k.double[keySemiMinor]; ok {
		e.F = 1 - b/a
	}
	if !(e.F >= 0 && e.F < 0.1) {
		return e, fmt.Errorf("its ellipsoid has a flattening of %g: the file is damaged", e.F)
	}
	return e, nil
}

// either is the first of the keys that is present.
func (k geoKeys) either(keys ...uint16) float64 {
	for _, key := range keys {
		if v, ok := k.double[key]; ok {
			return v
		}
	}
	return 0
}

func (k geoKeys) projected() (*earth.CRS, error) {
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
		d.Method, d.Lon0, d.Scale, d.FalseEast = earth.MethodTransverseMercator, float64(p%100)*6-183, 0.9996, 500000
		if p > 16100 {
			d.FalseNorth = 1e7
		}
		return earth.Define(d)
	}
	d.Lat0 = k.either(keyOriginLat, keyFalseOriginLat, keyCenterLat)
	d.Lon0 = k.either(keyOriginLon, keyFalseOriginLon, keyCenterLon)
	d.Lat1, d.Lat2 = k.double[keyParallel1], k.double[keyParallel2]
	d.Scale = k.either(keyScale, keyScaleAtCenter)
	d.FalseEast = k.either(keyFalseEasting, keyFalseOriginEast, keyCenterEasting) * unit
	d.FalseNorth = k.either(keyFalseNorthing, keyFalseOriginNorth, keyCenterNorthing) * unit
	for _, v := range []float64{d.Lat0, d.Lon0, d.Lat1, d.Lat2, d.Scale, d.FalseEast, d.FalseNorth} {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return nil, fmt.Errorf("its projection parameters are not finite: the file is damaged")
		}
	}
	switch k.short[keyMethod] {
	case ctTransverseMercator:
		d.Method = earth.MethodTransverseMercator
		if d.Scale == 0 {
			d.Scale = 1
		}
	case ctLambertAzimuthal:
		d.Method = earth.MethodLambertAzimuthalEqualArea
	case ctAlbers:
		d.Method = earth.MethodAlbers
	case ctCylindrical:
		d.Method = earth.MethodCylindricalEqualArea
	case ctMercator:
		d.Method = earth.MethodMercator
		_, d.TrueScaleLat = k.double[keyParallel1]
		if d.Scale == 0 {
			d.Scale = 1
		}
		if d.Lat0 != 0 {
			return nil, fmt.Errorf("its Mercator has its origin at latitude %g°, which is not read: convert it to an EPSG-coded CRS", d.Lat0)
		}
	default:
		return nil, fmt.Errorf("its CRS (%s; EPSG:%d, projection method %d) is not known to this version: convert it to an EPSG-coded CRS such as EPSG:3035 or a UTM zone",
			name, k.short[keyProjectedCRS], k.short[keyMethod])
	}
	return earth.Define(d)
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
		return 0, "", fmt.Errorf("its linear unit EPSG:%d is not known: convert it to metres", u)
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
	east, north := d.FalseEast/d.Unit, d.FalseNorth/d.Unit
	k.double[keyFalseEasting], k.double[keyFalseNorthing] = east, north
	switch d.Method {
	case earth.MethodTransverseMercator:
		k.short[keyMethod] = ctTransverseMercator
		k.double[keyOriginLat], k.double[keyOriginLon], k.double[keyScale] = d.Lat0, d.Lon0, d.Scale
	case earth.MethodLambertAzimuthalEqualArea:
		k.short[keyMethod] = ctLambertAzimuthal
		k.double[keyCenterLat], k.double[keyCenterLon] = d.Lat0, d.Lon0
	case earth.MethodAlbers:
		k.short[keyMethod] = ctAlbers
		k.double[keyOriginLat], k.double[keyOriginLon], k.double[keyParallel1], k.double[keyParallel2] = d.Lat0, d.Lon0, d.Lat1, d.Lat2
	case earth.MethodCylindricalEqualArea:
		k.short[keyMethod] = ctCylindrical
		k.double[keyOriginLon], k.double[keyParallel1] = d.Lon0, d.Lat1
	case earth.MethodMercator:
		k.short[keyMethod] = ctMercator
		k.double[keyOriginLat], k.double[keyOriginLon] = 0, d.Lon0
		if d.TrueScaleLat {
			k.double[keyParallel1] = d.Lat1
		} else {
			k.double[keyScale] = d.Scale
		}
	default:
		return k, fmt.Errorf("the CRS %s cannot be written to a GeoTIFF without an EPSG code", c.Name)
	}
	return k, nil
}

func (k geoKeys) putBase(c *earth.CRS) {
	k.ascii[keyGeodeticCitation] = c.Name
	k.short[keyAngularUnit] = 9102
	if c.Code != 0 {
		k.short[keyGeodeticCRS] = uint64(c.Code)
		return
	}
	k.short[keyGeodeticCRS], k.short[keyEllipsoid] = userDefined, userDefined
	k.double[keySemiMajor] = c.Ellipsoid.A
	k.double[keySemiMinor] = c.Ellipsoid.B()
}
