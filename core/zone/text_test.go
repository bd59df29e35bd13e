package zone

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/verdex-land/verdex/core/earth"
	"github.com/verdex-land/verdex/core/raster"
)

func areaOf(t *testing.T, s *Set) (sum float64) {
	t.Helper()
	for _, p := range s.Zones[0].Polygons {
		for _, r := range p {
			a, ok := s.CRS.OutlineArea(r)
			require.True(t, ok)
			sum += a
		}
	}
	return sum
}

// On a sphere a circle of radius r has the area 2πR²(1-cos r/R); the ellipsoid differs from the sphere of its
// Gaussian curvature at the middle in fourth order only, which small circles do not notice.
func TestCirclesHaveTheirArea(t *testing.T) {
	for _, c := range []struct{ lat, lon, radius float64 }{{58.31, 12.52, 5000}, {0, 0, 1000}, {-33, 151, 20000}, {78, 15, 3000}, {10, 179.99, 8000}, {45, 7, 10}, {89.9, 0, 50000}, {90, 0, 5000}, {-89.99, 100, 1200}, {85, 20, 556000}} {
		s, err := Circle(c.lon, c.lat, c.radius)
		require.NoError(t, err)
		e := s.CRS.Ellipsoid
		n, m := e.GroundSpacing(c.lat * math.Pi / 180)
		n /= math.Cos(c.lat * math.Pi / 180)
		k := c.radius * c.radius / (m * n) // (r/R)²
		want := math.Pi * c.radius * c.radius * (1 - k/12 + k*k/360)
		assert.InEpsilon(t, want, areaOf(t, s), 1e-6, "%v", c)
	}
	for _, c := range [][3]float64{{91, 0, 5}, {0, 0, 0}, {0, 0, 1e9}, {math.NaN(), 0, 5}} {
		_, err := Circle(c[1], c[0], c[2])
		assert.Error(t, err, "%v", c)
	}
}

func TestZonesAsText(t *testing.T) {
	for text, is := range map[string]bool{"bbox:1,2,3,4": true, "geo:1,2;u=3": true, "POLYGON((0 0,1 0,0 1,0 0))": true, " multipolygon (((": true,
		"POINT Z (1 2 3)": true, "wards.geojson": false, "polygon.geojson": false, "geology.json": false, "": false} {
		assert.Equal(t, is, IsText(text), text)
	}
	s, err := FromText("POLYGON((12 58, 12.1 58, 12.1 58.1, 12 58.1, 12 58),(12.02 58.02,12.04 58.02,12.04 58.04,12.02 58.02))", nil)
	require.NoError(t, err)
	require.Len(t, s.Zones[0].Polygons[0], 2)
	assert.Less(t, areaOf(t, s), 5.9e3*11.2e3)
	s, err = FromText("geo:58.31,12.52,30;crs=wgs84;u=5000", nil)
	require.NoError(t, err)
	assert.InEpsilon(t, math.Pi*25e6, areaOf(t, s), 1e-5)
	local, err := earth.Lookup(32633)
	require.NoError(t, err)
	s, err = FromText("MULTIPOLYGON(((0 0,100 0,100 100,0 100,0 0)),((200 0,300 0,300 100,200 0)))", local)
	require.NoError(t, err)
	assert.Len(t, s.Zones[0].Polygons, 2)
	for text, want := range map[string]string{
		"POLYGON((0 0,1 0": "is not valid WKT", "POINT(1 2)": "for a circle around a point", "POLYGON EMPTY": "empty",
		"geo:58,12": "u=METRES", "geo:58;u=5": "u=METRES", "geo:58,x;u=5": "u=METRES", "geo:58,12;crs=moon;u=5": "not read", "bbox:1,2,3": "four numbers",
		"POLYGON((0 0,1 1,1 0,0 1,0 0))": "crosses itself", "geo:95,12;u=5": "the latitude comes first",
	} {
		_, err := FromText(text, nil)
		assert.ErrorContains(t, err, want, text)
	}
}

// Mask keeps exactly the cells whose centres lie inside, in windows of any kind.
func TestMaskKeepsCellsByTheirCentres(t *testing.T) {
	crs, err := earth.Lookup(32633)
	require.NoError(t, err)
	g := raster.Grid{Width: 90, Height: 70, X0: 500000, Y0: 6500000, DX: 10, DY: -10, CRS: crs}
	none := 0.0
	src := raster.NewFunc(raster.Header{Name: "a", Grid: g, Type: raster.Uint8, NoData: &none}, func(c, r int) float64 { return float64(c%9 + 1) })
	x, y := 500430.0, 6499650.0
	var ring Ring
	for k := range 360 {
		s, c := math.Sincos(float64(k) * math.Pi / 180)
		ring = append(ring, Point{x + 200*c, y + 200*s})
	}
	set := &Set{Source: "t", CRS: crs, Zones: []Zone{{ID: "1", Polygons: []Polygon{{ring}}}}}
	p, err := set.Place(g)
	require.NoError(t, err)
	m, err := Mask(src, p)
	require.NoError(t, err)
	r := m.NewReader()
	var c raster.Cells
	minC, minR, maxC, maxR := 99, 99, 0, 0
	for row := 0; row < 70; row += 23 {
		for col := 0; col < 90; col += 31 {
			w := raster.Window{Col: col, Row: row, Width: min(31, 90-col), Height: min(23, 70-row)}
			require.NoError(t, r.Read(w, &c))
			for i := range w.Height {
				for k := range w.Width {
					cx, cy := g.Point(float64(col+k)+0.5, float64(row+i)+0.5)
					far := math.Hypot(cx-x, cy-y)
					if math.Abs(far-200) < 0.05 {
						continue // between the circle and its chords
					}
					want := 0.0
					if far < 200 {
						want = float64((col+k)%9 + 1)
						minC, maxC, minR, maxR = min(minC, col+k), max(maxC, col+k+1), min(minR, row+i), max(maxR, row+i+1)
					}
					require.Equal(t, want, c.At(k, i), "%d, %d", col+k, row+i)
				}
			}
		}
	}
	assert.Equal(t, raster.Window{Col: minC, Row: minR, Width: maxC - minC, Height: maxR - minR}, p.Window())
	src.About.NoData = nil
	_, err = Mask(src, p)
	assert.ErrorContains(t, err, "the option nodata 255")
}

func FuzzText(f *testing.F) {
	for _, text := range []string{"bbox:1,2,3,4", "geo:58.31,12.52;u=5000", "POLYGON((12 58,12.1 58,12.1 58.1,12 58))", "MULTIPOLYGON(((0 0,1 0,1 1,0 0)),((2 2,3 2,3 3,2 2)))"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		IsText(text)
		s, err := FromText(text, nil)
		if err == nil && (len(s.Zones) != 1 || len(s.Zones[0].Polygons) == 0) {
			t.Fatalf("%q gives no outline and no error", text)
		}
	})
}
