package projection

import (
	"math"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth/ellipsoid"
)

// sample are parameters with which every method is defined; each takes those that it has.
var sample = Params{Lat0: 47, Lon0: 11, Lat1: 44, Lat2: 51, Scale: 0.9996, East: 3e5, North: -2e5, CentreEast: 4e5, CentreNorth: 1e5,
	Azimuth: 30, Skew: 29, Pseudo: 78.5, EllipsoidK: 1.0000382, OriginHeight: 500}

func (m *Method) sample() Params {
	p := m.Take(sample)
	switch m {
	case MercatorA:
		p[Lat0] = 0
	case PolarStereographicA:
		p[Lat0] = 90
	case PolarStereographicB, PolarStereographicC:
		p[Lat1] = 71
	}
	return p
}

// Anywhere in its domain, near the origin of the methods that are made for a country, a method is undone by its inverse and its
// areal scale is the determinant of its derivatives.
func TestEveryMethodInItsDomain(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 47))
	for _, m := range Methods() {
		for _, e := range []ellipsoid.Ellipsoid{ellipsoid.WGS84, {Name: "sphere", A: 6371000}} {
			if m == CylindricalSpherical && e.F != 0 {
				continue
			}
			p, err := m.New(e, m.sample())
			require.NoError(t, err, m.Name)
			d := p.Domain()
			tried := 0
			for range 200 {
				b := d.Boxes[rng.IntN(len(d.Boxes))]
				lon, lat := b.West+(b.East-b.West)*rng.Float64(), b.South+(b.North-b.South)*rng.Float64()
				if slices.Contains([]*Method{Cassini, Polyconic, ColombiaUrban, ObliqueMercatorA, ObliqueMercatorB, Krovak, KrovakNorth}, m) {
					lon, lat = (11+6*(rng.Float64()-0.5))*degree, (47+6*(rng.Float64()-0.5))*degree
				}
				if math.Abs(lat) > 1.5 || math.Abs(lat+47*degree) < 0.2 && math.Abs(ellipsoid.WrapLongitude(lon+169*degree)) < 0.3 {
					continue // at a pole longitudes mean little, and opposite to the centre azimuthal maps have no scale
				}
				x, y, ok := p.Forward(lon, lat)
				require.True(t, ok, "%s: %g, %g", m.Name, lon, lat)
				lon2, lat2, ok := p.Inverse(x, y)
				require.True(t, ok, "%s: %g, %g", m.Name, lon, lat)
				require.InDelta(t, 0, ellipsoid.WrapLongitude(lon2-lon), 2e-9, "%s: longitude of %g, %g", m.Name, lon, lat)
				require.InDelta(t, lat, lat2, 2e-9, "%s: latitude of %g, %g", m.Name, lon, lat)
				// Away from the seam, over which differences are not taken, and from where a map grows without end.
				if want := ArealByDifference(p, e, lon, lat); want < 4 && math.Abs(ellipsoid.WrapLongitude(lon-11*degree)) < 3 && math.Abs(lat) < 1.4 {
					require.InEpsilon(t, want, p.ArealScale(lon, lat), 1e-8, "%s: areal scale at %g, %g", m.Name, lon, lat)
					tried++
				}
			}
			assert.Greater(t, tried, 15, m.Name)
		}
	}
}

// No code and no name leads to two methods, unless they say which of them is meant.
func TestNamesAreDistinct(t *testing.T) {
	named := map[any][]*Method{}
	for _, m := range Methods() {
		for _, c := range m.Codes {
			assert.Empty(t, named[c], "%d", c)
			named[c] = append(named[c], m)
		}
		for _, text := range strings.Fields(m.Texts) {
			named[text] = append(named[text], m)
		}
		for _, key := range m.GeoKeys {
			named[[1]int{key}] = append(named[[1]int{key}], m)
		}
		roles := map[Role]bool{}
		for _, p := range m.Params {
			assert.False(t, roles[p.Role], "%s takes %s twice", m.Name, p.Role)
			roles[p.Role] = true
		}
	}
	for name, list := range named {
		for i, m := range list[:len(list)-1] {
			assert.NotNil(t, m.Fits, "%v names %s before %s", name, m.Name, list[i+1].Name)
		}
	}
}

// Where texts and GeoKeys use one name for several methods, the parameters decide.
func TestParametersDecide(t *testing.T) {
	for _, of := range []struct {
		text string
		key  int
		p    Params
		want *Method
	}{
		{"mercator", 7, Params{Lon0: 3}, MercatorA},
		{"mercator", 7, Params{Lat1: 40}, MercatorB},
		{"lambertconformalconic", 8, Params{Lat1: 40, Lat2: 50, Scale: 1}, LambertConformal2},
		{"lambertconformalconic", 8, Params{Lat1: 40, Lat0: 45}, LambertConformal2},
		{"lambertconformalconic", 8, Params{Lat1: 40}, LambertConformal1},
		{"lambertconformalconic", 8, Params{Lat0: 40, Scale: 0.99}, LambertConformal1},
		{"lambertconformalconic", 8, Params{Lat0: 40}, nil},
		{"polarstereographic", 15, Params{Lat0: -90, Scale: 0.994}, PolarStereographicA},
		{"polarstereographic", 15, Params{Lat0: 90}, PolarStereographicA},
		{"polarstereographic", 15, Params{Lat0: 90, Lat1: 71}, PolarStereographicB},
		{"polarstereographic", 15, Params{Lat0: 71}, PolarStereographicB},
		{"", 3, Params{Lat0: 40, Azimuth: 30, East: 1}, ObliqueMercatorA},
		{"", 3, Params{Lat0: 40, Azimuth: 30, CentreEast: 1}, ObliqueMercatorB},
		{"", 99, nil, nil},
	} {
		if of.text != "" {
			assert.Same(t, of.want, ByText(of.text, of.p), "%s %v", of.text, of.p)
		}
		assert.Same(t, of.want, ByGeoKey(of.key, of.p), "%d %v", of.key, of.p)
	}
	assert.Equal(t, Params{Lat1: 71, Lon0: 3}, PolarStereographicB.Take(Params{Lat0: 71, Lon0: 3, Scale: 1}))
	assert.Equal(t, Params{Azimuth: 30, Skew: 30}, ObliqueMercatorA.Take(Params{Azimuth: 30}))
}

// Parameters that leave no projection are refused, and say which is wrong.
func TestImpossibleParameters(t *testing.T) {
	for m, of := range map[*Method]struct {
		p    Params
		want string
	}{
		Albers:               {Params{Lat1: 40, Lat2: -40}, "opposite (40° and -40°)"},
		LambertConformal2:    {Params{Lat1: 40, Lat2: -40}, "opposite"},
		LambertConformal1:    {Params{Lat0: 0}, "has no cone"},
		MercatorA:            {Params{Lat0: 3}, "instead of the equator"},
		PolarStereographicA:  {Params{Lat0: 71}, "instead of a pole"},
		ObliqueStereographic: {Params{Lat0: 89.5}, "its centre at latitude 89.5°"},
		ObliqueMercatorA:     {Params{Lat0: 89.5, Azimuth: 12}, "azimuth 12° is not defined"},
		CylindricalSpherical: {Params{}, "that of a sphere"},
	} {
		_, err := m.New(ellipsoid.WGS84, of.p)
		assert.ErrorContains(t, err, of.want, m.Name)
	}
	for _, p := range []Params{{Lon0: math.NaN()}, {East: math.Inf(1)}, {Lat0: 91}, {Scale: 0}, {Azimuth: 500}} {
		assert.Error(t, p.Check(), "%v", p)
	}
}
