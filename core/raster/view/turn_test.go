package view

import (
	"math"
	"testing"

	"github.com/verdex-land/verdex/core/raster"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// byPlace is a value that depends on where on the Earth a cell of a raster in degrees lies, the same however longitudes count.
func byPlace(g raster.Grid) func(c, r int) float64 {
	return func(c, r int) float64 {
		x, y := g.Point(float64(c)+0.5, float64(r)+0.5)
		return placed(x, y)
	}
}

func placed(lon, lat float64) float64 {
	lon = math.Mod(math.Mod(lon, 360)+360, 360)
	return 1 + math.Mod(math.Floor(lon/2)+3*math.Floor((lat+90)/3), 250)
}

func degreesGrid(t testing.TB, west, north, width, height, size float64) raster.Grid {
	return raster.Grid{Width: int(math.Round(width / size)), Height: int(math.Round(height / size)), X0: west, Y0: north, DX: size, DY: -size, CRS: byCode(t, 4326)}
}

func inPlace(t testing.TB, name string, g raster.Grid, nodata *float64) raster.Source {
	s := raster.NewFunc(raster.Header{Name: name, Grid: g, Type: raster.Uint8, NoData: nodata}, byPlace(g))
	s.Block = 64
	return s
}

// Rasters that count longitude from other meridians are one raster, which holds the Earth once.
func TestMosaicsAroundTheEarth(t *testing.T) {
	none := 0.0
	for name, grids := range map[string][]raster.Grid{
		"two globes":                   {degreesGrid(t, -180, 90, 360, 180, 1), degreesGrid(t, 0, 90, 360, 180, 1)},
		"two halves":                   {degreesGrid(t, -180, 90, 180, 180, 1), degreesGrid(t, 0, 90, 180, 180, 1)},
		"over the antimeridian":        {degreesGrid(t, 170, 60, 10, 30, 1), degreesGrid(t, -180, 60, 15, 30, 1)},
		"over it, named the other way": {degreesGrid(t, -180, 60, 15, 30, 1), degreesGrid(t, 170, 60, 10, 30, 1)},
		"a tile of a globe":            {degreesGrid(t, 0, 90, 360, 180, 1), degreesGrid(t, -10, 40, 20, 20, 1)},
		"far apart":                    {degreesGrid(t, -120, 40, 20, 20, 1), degreesGrid(t, 100, 40, 30, 20, 1)},
	} {
		var sources []raster.Source
		covered := map[int]bool{}
		for _, g := range grids {
			sources = append(sources, inPlace(t, "t", g, &none))
			for c := range g.Width {
				covered[raster.Mod(int(g.X0)+c, 360)] = true
			}
		}
		m, err := Mosaic(sources, MosaicOptions{})
		require.NoError(t, err, name)
		g := m.Header().Grid
		assert.LessOrEqual(t, g.Width, 360, name)
		got := all(t, m, 41)
		seen := map[int]bool{}
		for r := range got {
			for c := range got[r] {
				x, y := g.Point(float64(c)+0.5, float64(r)+0.5)
				if got[r][c] == none {
					continue
				}
				require.Equal(t, placed(x, y), got[r][c], "%s at %d, %d", name, c, r)
				seen[raster.Mod(int(math.Floor(x)), 360)] = true
			}
		}
		assert.Equal(t, covered, seen, name)
		if name == "over the antimeridian" {
			assert.Equal(t, 25, g.Width)
		}
		both, _, err := Together(sources, false)
		require.NoError(t, err, name)
		for i, s := range both {
			bg := s.Header().Grid
			assert.LessOrEqual(t, bg.Width, 360, name)
			n := 0
			for r, row := range all(t, s, 37) {
				for c, v := range row {
					if x, y := bg.Point(float64(c)+0.5, float64(r)+0.5); v != none {
						require.Equal(t, placed(x, y), v, name)
						n++
					}
				}
			}
			assert.Equal(t, grids[i].Width*grids[i].Height, n, "%s: every cell of both comes once", name)
		}
	}
	// A turn that is not a whole number of cells cannot close.
	_, err := Mosaic([]raster.Source{inPlace(t, "a", degreesGrid(t, -180, 40, 357, 70, 7), nil), inPlace(t, "b", degreesGrid(t, 2, 40, 357, 70, 7), nil)}, MosaicOptions{})
	assert.ErrorContains(t, err, "more than 360°")
}

// A globe in degrees is brought onto maps that are cut open elsewhere, over its seam and over the poles, without a gap.
func TestAlignOverTheSeam(t *testing.T) {
	for name, target := range map[string]raster.Grid{
		"from 0 to 360":           degreesGrid(t, 0, 90, 360, 180, 1),
		"Pacific Mercator":        {Width: 200, Height: 100, X0: -20037508 + 1e5, Y0: 10e6, DX: 199e3, DY: -199e3, CRS: byCode(t, 3832)},
		"polar":                   {Width: 130, Height: 130, X0: -6.5e6, Y0: 6.5e6, DX: 1e5, DY: -1e5, CRS: byCode(t, 3413)},
		"equal-area, Pacific":     {Width: 170, Height: 70, X0: -17e6, Y0: 7e6, DX: 2e5, DY: -2e5, CRS: byCode(t, 8859)},
		"over the seam, in 0.25°": degreesGrid(t, 170, 60, 40, 30, 0.25),
	} {
		for _, west := range []float64{-180, 0, -30} {
			for _, how := range []Resample{Nearest, Heaviest, Bilinear} {
				g := degreesGrid(t, west, 90, 360, 180, 1)
				a, err := Align(inPlace(t, "globe", g, nil), target, how)
				require.NoError(t, err, name)
				beyond := int64(0)
				for r, row := range all(t, a, 47) {
					for c, v := range row {
						x, y := target.Point(float64(c)+0.5, float64(r)+0.5)
						if !target.CRS.OnEarth(x, y) {
							beyond++
							continue
						}
						lon, lat, _ := target.CRS.ToGeographic(x, y)
						lon, lat = lon*180/math.Pi, lat*180/math.Pi
						switch {
						case how == Nearest && math.Abs(lon-math.Round(lon)) > 1e-4 && math.Abs(lat-math.Round(lat)) > 1e-4:
							require.Equal(t, placed(lon, lat), v, "%s from %g at %d, %d (%g, %g)", name, west, c, r, lon, lat)
						default:
							require.NotZero(t, v, "%s from %g, %v at %d, %d (%g, %g)", name, west, how, c, r, lon, lat)
						}
					}
				}
				assert.Equal(t, beyond, a.Moves().Empty, name)
			}
		}
	}
}

// The result does not depend on how longitudes count, also where values are interpolated over the seam.
func TestAlignIsTheSameFromAnyMeridian(t *testing.T) {
	target := degreesGrid(t, 170, 60, 40, 30, 0.3)
	for _, how := range []Resample{Nearest, Heaviest, Bilinear} {
		var want [][]float64
		for _, west := range []float64{-180, 0, -30, 175} {
			g := degreesGrid(t, west, 90, 360, 180, 1)
			f := byPlace(g)
			s := raster.NewFunc(raster.Header{Name: "globe", Grid: g, Type: raster.Float64}, func(c, r int) float64 { return f(c, r) })
			a, err := Align(s, target, how)
			require.NoError(t, err)
			got := all(t, a, 33)
			if want == nil {
				want = got
			}
			for r := range got {
				for c := range got[r] {
					require.InDelta(t, want[r][c], got[r][c], 1e-6, "%v from %g at %d, %d", how, west, c, r)
				}
			}
		}
	}
}

// Slope is right where the axes of the map are not at right angles on the ground: of a plane it is the length of the
// ground's own gradient, here found by tilting the ground in geographic coordinates.
func TestSlopeWhereAxesAreOblique(t *testing.T) {
	for name, m := range map[string]struct {
		code     int
		lon, lat float64
	}{"Canaries in LAEA Europe": {3035, -16, 28.2}, "Iceland in LAEA Europe": {3035, -19, 65}, "Siberia in Equal Earth": {8857, 100, 62}, "UTM": {32633, 13, 58}} {
		c := byCode(t, m.code)
		x, y, ok := c.FromGeographic(m.lon*math.Pi/180, m.lat*math.Pi/180)
		require.True(t, ok)
		g := raster.Grid{Width: 65, Height: 65, X0: x - 65*15, Y0: y + 65*15, DX: 30, DY: -30, CRS: c}
		for _, tilt := range [][2]float64{{1, 0}, {0, 1}, {0.6, 0.8}, {-0.3, 0.95}} {
			// Heights rise by tilt for each metre to the east and the north.
			east, north := c.Ellipsoid.GroundSpacing(m.lat * math.Pi / 180)
			z := raster.NewFunc(raster.Header{Name: "z", Grid: g, Type: raster.Float64}, func(col, row int) float64 {
				lon, lat, _ := c.ToGeographic(g.Point(float64(col)+0.5, float64(row)+0.5))
				return 0.2 * (tilt[0]*(lon-m.lon*math.Pi/180)*east + tilt[1]*(lat-m.lat*math.Pi/180)*north)
			})
			s, err := Slope(z, false)
			require.NoError(t, err)
			got := all(t, s, 65)[32][32]
			assert.InEpsilon(t, 20*math.Hypot(tilt[0], tilt[1]), got, 1e-4, "%s, tilt %v", name, tilt)
		}
	}
}
