package ellipsoid

import (
	"math"
	"math/big"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestWholeEarthInCellsSumsToTheEllipsoid(t *testing.T) {
	// Independent value: 4π times the square of the authalic radius 6371007.1809184 m of WGS 84.
	want := 4 * math.Pi * 6371007.1809184747 * 6371007.1809184747
	assert.InEpsilon(t, want, WGS84.Area(), 1e-12)
	for _, rows := range []int{18, 180, 1800, 43200} {
		step := math.Pi / float64(rows)
		sum := new(big.Float).SetPrec(200)
		for r := range rows {
			lat := -math.Pi/2 + float64(r)*step
			sum.Add(sum, big.NewFloat(WGS84.ZoneArea(lat, lat+step, step)*2*float64(rows)))
		}
		total, _ := sum.Float64()
		assert.InEpsilon(t, WGS84.Area(), total, 1e-12, "%d rows", rows)
	}
}

func TestCellAreaOnTheSphere(t *testing.T) {
	sphere := Ellipsoid{Name: "sphere", A: 6371000, F: 0}
	want := 6371000.0 * 6371000 * (math.Sin(0.6) - math.Sin(0.5)) * 0.2
	assert.InEpsilon(t, want, sphere.ZoneArea(0.5, 0.6, 0.2), 1e-14)
}

// A cell of a centimetre must be as precise as a hemisphere.
func TestSmallCellsKeepTheirPrecision(t *testing.T) {
	for _, lat := range []float64{0, 0.3, 1, 1.5} {
		d := 1e-9
		n, m := WGS84.GroundSpacing(lat)
		south, north := lat-d/2, lat+d/2
		assert.InEpsilon(t, m*n*(north-south)*d, WGS84.ZoneArea(south, north, d), 1e-12, "lat %g", lat)
	}
}

// Geodesics by GeodSolve of Debian's geographiclib-tools (lat lon azimuth distance: lat lon).
func TestDirectGeodesics(t *testing.T) {
	const deg = math.Pi / 180
	for _, v := range [][6]float64{
		{58.31, 12.52, 33, 5000, 58.347639461951, 12.566503705948},
		{-10, 170, 80, 2000000, -6.432730698377, -172.200759548962},
		{0, 0, 90, 100000, 0.000000000000, 0.898315284120},
		{45, 7, 200, 1e6, 36.469330297140, 3.196768340785},
		{78, 15, 359, 30000, 78.268663982442, 14.976942108086},
	} {
		lon, lat := WGS84.Direct(v[1]*deg, v[0]*deg, v[2]*deg, v[3])
		assert.InDelta(t, v[4], lat/deg, 1e-9)
		assert.InDelta(t, 0, math.Remainder(v[5]-lon/deg, 360), 1e-9)
	}
}
